"""A run in a terminal: what one connection carried, then the rest."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.cli.screen import grid, rate
from eager_kestrel.core.run import Run
from eager_kestrel.core.summary import (
    PhaseSummary,
    phase_summary,
    round_trip_summary,
    run_uplink,
    verdicts,
)
from eager_kestrel.core.units import DataSize

if TYPE_CHECKING:
    from rich.console import Console


def show_run(screen: Console, run: Run) -> None:
    """What a measurement found, the one-connection figures first."""
    from rich.panel import Panel
    from rich.text import Text

    one, several = phase_summary(run.one_connection), phase_summary(run.several_connections)
    uplink = run_uplink(run)
    if one is None or uplink is None:
        screen.print("[red]too little was learned to say anything[/]")
        return
    card = grid(0, 0, 1)
    low, high = uplink.floor_low_kbps, uplink.floor_high_kbps
    between = f"; between {rate(low)} and {rate(high)}" if low is not None and high else ""
    card.add_row("typical", f"[bold]{rate(one.typical_kbps)}[/]", "median of two-second windows")
    card.add_row("floor", f"[bold]{rate(one.floor_kbps)}[/]",
                 f"nine windows in ten did at least this{between}")  # fmt: skip
    card.add_row("spread", f"{one.spread:.0%}", _windows(one))
    if several is not None and run.several_connections is not None:
        count = run.several_connections.connections
        card.add_row(f"{count} connections", rate(several.typical_kbps),
                     f"floor {rate(several.floor_kbps)}")  # fmt: skip
    idle, loaded = round_trip_summary(run.idle), round_trip_summary(run.one_connection)
    if idle is not None:
        full = f"; {loaded.median_ms:.0f} ms while the line is full" if loaded else ""
        card.add_row("round trip", f"{idle.median_ms:.0f} ms",
                     f"jitter {idle.jitter_ms:.1f} ms{full}")  # fmt: skip
    used = DataSize(run.data_used_bytes)
    card.add_row("data used", str(used), f"counted by {run.counted_by}")
    title = f"One connection to {run.endpoint.url}{' (cut short)' if run.partial else ''}"
    screen.print(
        Panel(card, title=Text(title), title_align="left", border_style="green", padding=(0, 1))
    )
    for line in (*verdicts(run), *run.notes):
        screen.print(f"[yellow]![/] {line}")


def _windows(figures: PhaseSummary) -> str:
    return (
        f"{figures.windows} windows over {figures.steady_seconds:.1f} steady seconds, "
        f"ramp of {figures.ramp_seconds:.1f} s left out"
    )
