"""``rehearse``: send a stand-in stream as planned and see whether it holds."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, GuideFolder, Json, Quiet, asker, single
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.actions.rehearsing import RehearsalOutcome, RehearseOptions
    from eager_kestrel.core.checks.rehearsal import Moment, Rehearsal
    from eager_kestrel.core.plan.plan import Plan


@dataclass(frozen=True, slots=True)
class TogetherOptions:
    """How, as said on the command line."""

    to: tuple[str, ...]
    practice: str | None
    wish: RehearseOptions
    out: Path | None
    figure: Path | None


def rehearse_all(plan: Plan, asked: TogetherOptions, guides: Path | None, *, json: bool) -> None:
    """Send every destination's stand-in at once, and say of each and of all whether it held.

    Raises:
        InputError: what is asked for is of one destination only.
    """
    from eager_kestrel.actions.export import write_plan
    from eager_kestrel.actions.rehearsing_together import (
        parts_at,
        rehearse_together,
        rehearse_together_in_practice,
    )
    from eager_kestrel.actions.reporting import keep_rehearsals
    from eager_kestrel.cli.terminal import warn

    _require_all(plan, asked)
    with live(quiet=json) as tell:
        if asked.practice is not None:
            name, rate = line_of(asked.practice)
            found = rehearse_together_in_practice(plan, asked.wish, name, rate, guides, tell)
        else:
            parts = parts_at(plan, asked.to, asker())
            found = rehearse_together(plan, parts, asked.wish, tell)
    keep_rehearsals(found)
    held = all(one.verdict.held for one in found)
    if asked.out is not None and held:
        write_plan(plan, asked.out)
        warn(f"wrote the plan that held to {asked.out}")
    _show_together(found, held=held, json=json)
    raise typer.Exit(0 if held else 1)


def _require_all(plan: Plan, asked: TogetherOptions) -> None:
    """Refuse what would leave destinations out."""
    from eager_kestrel.core.errors import InputError

    names = [there.platform for there in plan.destinations if there.feasible]
    one = f"choose one with --for {names[0]}"
    several = " and ".join(names)
    if asked.wish.settle:
        raise InputError(f"--settle closes in on one destination, and the plan has {several}", one)
    if asked.figure is not None:
        raise InputError(f"a figure shows one destination, and the plan has {several}", one)
    if asked.to and not any("=" in address for address in asked.to):
        raise InputError(
            f"one address, and the plan has {several}",
            f"{one}, or give --to {names[0]}=rtmp://HOST/APP for each",
        )


def _show_together(found: tuple[Rehearsal, ...], *, held: bool, json: bool) -> None:
    from eager_kestrel.cli.terminal import console, print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.words.runs import all_together

    if json:
        print_json(
            {
                "format": format_name("rehearsals"),
                "held": held,
                "rehearsals": [one.model_dump(mode="json") for one in found],
            }
        )
        return
    for one in found:
        show_rehearsal(console(), one)
    failed = [one.platform for one in found if not one.verdict.held]
    console().print(all_together([one.platform for one in found], failed), style="bold")


def line_of(written: str) -> tuple[str | None, str | None]:
    """A bundled connection's name, or a rate."""
    return (None, written) if re.match(r"\s*[\d.]", written) else (written, None)


@contextmanager
def live(*, quiet: bool) -> Iterator[Callable[[Moment], None]]:
    """A teller of how it goes; says nothing in a pipe."""
    from eager_kestrel.cli.terminal import console

    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield lambda _: None
        return
    with screen.status("connecting", spinner="dots") as status:

        def told(moment: Moment) -> None:
            sent = moment.delivered_bytes * 8e-3 / max(moment.seconds, 0.1)
            status.update(
                words.going(moment.seconds, sent, moment.queued_seconds, moment.encoder_seconds)
            )

        yield told


def show_rehearsal(screen: Console, one: Rehearsal) -> None:
    """The verdict on top, what was noted under it."""
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.cli.terminal import grid
    from eager_kestrel.core.words.runs import stutters_said

    good = one.verdict.held
    card = grid(0, 1)
    trips = "-"
    if one.round_trip_ms is not None and one.round_trip_ms_worst is not None:
        trips = f"{one.round_trip_ms:.0f} ms, at worst {one.round_trip_ms_worst:.0f} ms"
    lost = f", {one.lost_frames} lost" if one.lost_frames else ""
    rows = [
        ("verdict", words.verdict(one.verdict.text, one.verdict.limited_by, held=good)),
        ("sent", one.planned),
        (
            "frames",
            f"{one.frames:,}, {one.late_frames:,} late{lost}; waited "
            f"{one.worst_queue_seconds:.2f} s at worst",
        ),
        ("stutter", stutters_said([stutter.lasted_seconds for stutter in one.stutters])),
        ("delivered", f"{one.delivered_kbps:,.0f} of {one.total_kbps:,.0f} kbit/s"),
        (
            "encoder",
            f"{one.encode_ms_typical:.1f} ms a frame, {one.encode_ms_slowest:.1f} ms the "
            "slowest of a hundred",
        ),
        ("round trips", trips),
    ]
    if one.reconnects:
        rows.append(("connected again", f"{one.reconnects} times"))
    if one.verdict.would_hold is not None:
        rows.append(("would hold", words.fallback_said(one.verdict.would_hold + 1, one.would_hold)))
    for number, (name, value) in enumerate(rows):
        style = ("bold green" if good else "bold red") if number == 0 else "bold"
        card.add_row(Text(name, style="dim"), Text(value, style=style))
    screen.print(
        Panel(
            card,
            title=Text(f"Rehearsal of {one.platform}, {one.seconds:.0f} s, to {one.target}"),
            title_align="left",
            border_style="green" if good else "red",
            padding=(0, 1),
        )
    )


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
            help='A simulated platform behind a simulated connection: "5 Mbit/s" or wet-evening.',
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
        plan_or_settings,
        rehearse_at,
        rehearse_in_practice,
        wish_of,
    )
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.errors import InputError

    if (not to) == (practice is None):
        raise InputError("one place to send to is needed", "give --to URL or --practice connection")
    read = plan_or_settings(plan, platform, guides)
    wish = wish_of(seconds, unsent, settle=settle, guides=guides)
    if platform is None and sum(there.feasible for there in read.destinations) > 1:
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
    from eager_kestrel.cli.terminal import warn

    keep_rehearsals([outcome.best])
    if figure is not None:
        from eager_kestrel.report.broadcast_figures import save_rehearsal_figure

        save_rehearsal_figure(outcome.best, figure)
    if out is not None and outcome.settled is not None:
        write_plan(outcome.settled, out)
        warn(f"wrote the plan that held to {out}")


def _show(outcome: RehearsalOutcome, name: str) -> None:
    """Every rehearsal, and the most that held."""
    from eager_kestrel.actions.rehearsing import destination_of
    from eager_kestrel.cli.terminal import console

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
