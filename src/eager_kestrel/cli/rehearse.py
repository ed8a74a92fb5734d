"""``rehearse``: send a stand-in stream as planned and see whether it holds."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, GuideFolder, Json, Quiet, asker, single
from eager_kestrel.cli.rehearsal_card import line_of, live, show_rehearsal
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from eager_kestrel.actions.rehearsing import RehearsalOutcome


def rehearse(
    plan: Annotated[
        str,
        typer.Argument(
            metavar="[PLAN]", help="A plan's JSON file, or settings; else the latest plan."
        ),
    ] = "latest",
    to: Annotated[
        list[str] | None,
        typer.Option(
            metavar="URL",
            help="The ingest: rtmp://HOST/APP, without key; of several PLATFORM=rtmp://HOST/APP.",
        ),
    ] = None,
    practice: Annotated[
        str | None,
        typer.Option(
            metavar="LINE",
            help='A simulated platform behind a simulated line: "5 Mbit/s" or wet-evening.',
        ),
    ] = None,
    platform: Annotated[
        str | None, typer.Option("--for", metavar="PLATFORM", help="Which one of the plan.")
    ] = None,
    seconds: Annotated[str, typer.Option(metavar="TIME", help="How long it has to hold.")] = "30 s",
    settle: Annotated[
        bool, typer.Option("--settle", help="Close in on the most that holds.")
    ] = False,
    unsent: Annotated[
        str, typer.Option(metavar="SIZE", help="What may sit in the system's send buffer.")
    ] = "64 KiB",
    out: Annotated[
        Path | None,
        typer.Option("--out", "-o", metavar="FILE", help="Write the plan that held: .json, .toml."),
    ] = None,
    figure: Figure = None,
    guides: GuideFolder = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Send a stand-in stream exactly as planned and see whether it holds.

    Of a plan with several destinations all are sent at once, unless --for names one.
    """
    from eager_kestrel.actions.rehearsing import (
        destination_of,
        rehearse_at,
        rehearse_in_practice,
        wish_of,
    )
    from eager_kestrel.actions.rehearsing_settings import plan_or_settings
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.errors import InputError

    if (not to) == (practice is None):
        raise InputError("one place to send to is needed", "give --to URL or --practice LINE")
    read = plan_or_settings(plan, platform, guides)
    wish = wish_of(seconds, unsent, settle=settle, guides=guides)
    if platform is None and sum(there.feasible for there in read.destinations) > 1:
        from eager_kestrel.cli.rehearse_together import TogetherOptions, rehearse_all

        rehearse_all(
            read, TogetherOptions(tuple(to or ()), practice, wish, out, figure), guides, json=json
        )
        return
    chosen = destination_of(read, platform)
    with live(quiet=json) as tell:
        if practice is not None:
            name, rate = line_of(practice)
            outcome = rehearse_in_practice(read, chosen, wish, name, rate, guides, tell)
        else:
            assert to
            url = _address(to, chosen.platform)
            outcome = rehearse_at(read, chosen, url, wish, asker(), tell)
    _keep(outcome, figure, out)
    if json:
        print_json(_document(outcome))
    else:
        _show(outcome, chosen.name)
    raise typer.Exit(0 if outcome.settled is not None else 1)


def _keep(outcome: RehearsalOutcome, figure: Path | None, out: Path | None) -> None:
    """Keep it for a report, draw it, and write the plan that held, where asked."""
    from eager_kestrel.actions.export import write_plan
    from eager_kestrel.actions.reporting import keep_rehearsals
    from eager_kestrel.cli.screen import warn

    keep_rehearsals([outcome.best])
    if figure is not None:
        from eager_kestrel.report.rehearsal_figure import save_rehearsal_figure

        save_rehearsal_figure(outcome.best, figure)
    if out is not None and outcome.settled is not None:
        write_plan(outcome.settled, out)
        warn(f"wrote the plan that held to {out}")


def _show(outcome: RehearsalOutcome, name: str) -> None:
    """Every rehearsal, and the most that held."""
    from eager_kestrel.actions.rehearsing import destination_of
    from eager_kestrel.cli.screen import console

    for one in outcome.rehearsals:
        show_rehearsal(console(), one)
    if outcome.settled is not None and len(outcome.rehearsals) > 1:
        there = destination_of(outcome.settled, name)
        assert there.video is not None
        console().print(words.settled(there.video.words, there.total_kbps))


def _address(written: list[str], platform: str) -> str:
    """The one address that is meant."""
    from eager_kestrel.core.errors import InputError

    if len(written) > 1:
        raise InputError("one destination has one ingest", "give --to once")
    name, equals, address = written[0].partition("=")
    return address if equals and name == platform else written[0]


def _document(outcome: RehearsalOutcome) -> dict[str, object]:
    others = [r.model_dump(mode="json") for r in outcome.rehearsals if r is not outcome.best]
    return outcome.best.model_dump(mode="json") | {
        "before": others,
        "settled": outcome.settled.model_dump(mode="json") if outcome.settled else None,
    }


app = single("rehearse", rehearse)
