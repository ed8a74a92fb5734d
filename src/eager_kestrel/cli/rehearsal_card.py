"""A rehearsal in a terminal: while it goes, and what came of it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.core.checks.rehearsal import Moment, Rehearsal


def line_of(written: str) -> tuple[str | None, str | None]:
    """A bundled line's name, or a rate."""
    return (None, written) if re.match(r"\s*[\d.]", written) else (written, None)


@contextmanager
def live(*, quiet: bool) -> Iterator[Callable[[Moment], None]]:
    """A teller of how it goes; says nothing in a pipe."""
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


def show_rehearsal(screen: Console, one: Rehearsal) -> None:
    """The verdict on top, what was noted under it."""
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.cli.screen import grid
    from eager_kestrel.core.words.forecasts import stutters_said

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
        ("stutter", stutters_said([stutter.lasted_seconds for stutter in one.stutters])),
        ("delivered", f"{one.delivered_kbps:,.0f} of {one.total_kbps:,.0f} kbit/s"),
        ("encoder", f"{one.encode_ms_typical:.1f} ms a frame, {one.encode_ms_slowest:.1f} ms the "
                    "slowest of a hundred"),
        ("round trips", trips),
    ]  # fmt: skip
    if one.reconnects:
        rows.append(("connected again", f"{one.reconnects} times"))
    if one.verdict.would_hold is not None:
        rows.append(("would hold", words.step_down(one.verdict.would_hold + 1, one.would_hold)))
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
