"""``rehearse``: send a stand-in stream as planned and see whether it holds."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, GuideFolder, Json, asker, single
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.actions.rehearsing import Outcome
    from eager_kestrel.core.checks.rehearsal import Moment, Rehearsal


def rehearse(
    plan: Annotated[
        str, typer.Argument(metavar="[PLAN]", help="A plan's JSON file; else the latest plan.")
    ] = "latest",
    to: Annotated[
        str | None, typer.Option(metavar="URL", help="The ingest: rtmp://HOST/APP, without key.")
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
        Path | None, typer.Option(metavar="FILE", help="Write the plan that held: .json, .toml.")
    ] = None,
    figure: Figure = None,
    guides: GuideFolder = None,
    json: Json = False,
) -> None:
    """Send a stand-in stream exactly as planned and see whether it holds."""
    from eager_kestrel.actions import read_plan
    from eager_kestrel.actions.export import write_plan
    from eager_kestrel.actions.rehearsing import (
        destination_of,
        rehearse_at,
        rehearse_in_practice,
        wish_of,
    )
    from eager_kestrel.cli.screen import print_json, warn
    from eager_kestrel.core.errors import InputError

    if (to is None) == (practice is None):
        raise InputError("one place to send to is needed", "give --to URL or --practice LINE")
    read = read_plan(plan)
    chosen = destination_of(read, platform)
    wish = wish_of(seconds, unsent, settle=settle, guides=guides)
    with _live(quiet=json) as tell:
        if practice is not None:
            name, rate = _line(practice)
            outcome = rehearse_in_practice(read, chosen, wish, name, rate, guides, tell)
        else:
            assert to is not None
            outcome = rehearse_at(read, chosen, to, wish, asker(), tell)
    last = outcome.best
    if figure is not None:
        from eager_kestrel.report.rehearsal_figure import save_rehearsal_figure

        save_rehearsal_figure(last, figure)
    if out is not None and outcome.settled is not None:
        write_plan(outcome.settled, out)
        warn(f"wrote the plan that held to {out}")
    if json:
        print_json(_document(outcome))
    else:
        _show(outcome, chosen.name)
    raise typer.Exit(0 if outcome.settled is not None else 1)


def _show(outcome: Outcome, name: str) -> None:
    """Every rehearsal, and the most that held."""
    from eager_kestrel.actions.rehearsing import destination_of
    from eager_kestrel.cli.screen import console

    for one in outcome.rehearsals:
        show_rehearsal(console(), one)
    if outcome.settled is not None and len(outcome.rehearsals) > 1:
        there = destination_of(outcome.settled, name)
        assert there.video is not None
        console().print(words.settled(there.video.words, there.total_kbps))


def _line(written: str) -> tuple[str | None, str | None]:
    """A bundled line's name, or a rate."""
    return (None, written) if re.match(r"\s*[\d.]", written) else (written, None)


@contextmanager
def _live(*, quiet: bool) -> Iterator[Callable[[Moment], None]]:
    from eager_kestrel.cli.screen import console

    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield lambda _: None
        return
    with screen.status("connecting", spinner="dots") as status:

        def told(moment: Moment) -> None:
            sent = moment.delivered_bytes * 8e-3 / max(moment.seconds, 0.1)
            status.update(
                words.going(moment.seconds, sent, moment.backlog_seconds, moment.encoder_seconds)
            )

        yield told


def _document(outcome: Outcome) -> dict[str, object]:
    others = [r.model_dump(mode="json") for r in outcome.rehearsals if r is not outcome.best]
    return outcome.best.model_dump(mode="json") | {
        "before": others,
        "settled": outcome.settled.model_dump(mode="json") if outcome.settled else None,
    }


def show_rehearsal(screen: Console, one: Rehearsal) -> None:
    """The verdict on top, what was noted under it."""
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.cli.screen import grid

    good = one.verdict.held
    card = grid(0, 1)
    trips = "-"
    if one.round_trip_ms is not None and one.round_trip_ms_worst is not None:
        trips = f"{one.round_trip_ms:.0f} ms, at worst {one.round_trip_ms_worst:.0f} ms"
    lost = f", {one.lost_frames} lost" if one.lost_frames else ""
    rows = [
        ("verdict", words.verdict(one.verdict.text, one.verdict.limited_by, held=good)),
        ("sent", one.planned),
        ("frames", f"{one.frames:,}, {one.late_frames:,} late{lost}; waited "
                   f"{one.worst_backlog_seconds:.2f} s at worst"),
        ("delivered", f"{one.delivered_kbps:,.0f} of {one.total_kbps:,.0f} kbit/s"),
        ("encoder", f"{one.encode_ms_typical:.1f} ms a frame, {one.encode_ms_slowest:.1f} ms the "
                    "slowest of a hundred"),
        ("round trips", trips),
    ]  # fmt: skip
    if one.reconnects:
        rows.append(("connected again", f"{one.reconnects} times"))
    if one.verdict.would_hold is not None:
        rows.append(("would hold", words.step_down(one.verdict.would_hold + 1)))
    for number, (name, value) in enumerate(rows):
        style = ("bold green" if good else "bold red") if number == 0 else "bold"
        card.add_row(Text(name, style="dim"), Text(value, style=style))
    screen.print(
        Panel(
            card,
            title=Text(f"Rehearsal of {one.platform}, {one.seconds:.0f} s, to {one.target}"),
            title_align="left", border_style="green" if good else "red", padding=(0, 1),
        )
    )  # fmt: skip


app = single("rehearse", rehearse)
