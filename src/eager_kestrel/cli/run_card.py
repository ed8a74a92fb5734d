"""A run in a terminal: what one connection carried, then the rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from eager_kestrel.cli.terminal import grid, rate, remark
from eager_kestrel.core.connection.hours import Hours, HourUplink
from eager_kestrel.core.connection.pooling import QuarterOfRuns
from eager_kestrel.core.connection.run import PhaseSummary, RoundTripSummary, Run, RunSummary
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.units import DataSize
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from rich.console import Console

BAR_CELLS = 20


def show_run(screen: Console, run: Run, found: RunSummary) -> None:
    """What a measurement found, the one-connection figures first."""
    from rich.panel import Panel
    from rich.text import Text

    if run.reading_kbps is not None:
        screen.print(f"{rate(run.reading_kbps)}, read elsewhere on {run.taken_at[:16]}")
        return
    one, several, uplink = found.one, found.several, found.uplink
    if one is None or uplink is None:
        screen.print(Text(run.failed or words.TOO_LITTLE, style="red"))
        return
    card = grid(0, 0, 1)
    low, high = uplink.floor_low_kbps, uplink.floor_high_kbps
    between = f"; between {rate(low)} and {rate(high)}" if low is not None and high else ""
    card.add_row("typical", f"[bold]{rate(one.typical_kbps)}[/]", _typical(run))
    card.add_row("floor", f"[bold]{rate(one.floor_kbps)}[/]", f"{words.FLOOR}{between}")
    card.add_row("spread", f"{one.spread:.0%}", _windows(run, one))
    if several is not None and run.several_connections is not None:
        count = run.several_connections.connections
        card.add_row(
            f"{count} connections", rate(several.typical_kbps), f"floor {rate(several.floor_kbps)}"
        )
    idle, loaded = found.idle, found.loaded
    if idle is not None:
        full = f"; {loaded.median_ms:.0f} ms while the connection is full" if loaded else ""
        card.add_row(
            "round trip", f"{idle.median_ms:.0f} ms", f"jitter {idle.jitter_ms:.1f} ms{full}"
        )
    used = DataSize(run.data_used_bytes)
    card.add_row("data used", str(used), f"counted by {run.counted_by}")
    where = f"{run.endpoint.name}, {run.endpoint.url}" if run.endpoint.name else run.endpoint.url
    when = run.taken_at[:16].replace("T", " ")
    title = f"One connection to {where}, {when}{' (cut short)' if run.partial else ''}"
    screen.print(
        Panel(card, title=Text(title), title_align="left", border_style="green", padding=(0, 1))
    )
    for line in (*found.verdicts, *run.notes):
        remark(screen, line)


def _typical(run: Run) -> str:
    """How typical was taken."""
    phase = run.one_connection
    if phase is None or phase.method == "flooding":
        return words.WINDOWS
    return words.STRETCHES if phase.most_kbps is None else words.HELD


def _windows(run: Run, figures: PhaseSummary) -> str:
    phase = run.one_connection
    if phase is not None and phase.method == "climbing":
        count = len(phase.samples.stretches)
        return words.stretches(count, figures.steady_seconds, figures.ramp_seconds)
    return words.windows(figures.windows, figures.steady_seconds, figures.ramp_seconds)


def show_hours(screen: Console, hours: Hours) -> None:
    """Typical and floor by hour of day, with a bar for each."""
    _show_times(
        screen,
        "hour",
        [
            (f"{hour.hour:02d}:00", hour.typical_kbps, hour.floor_kbps, _counts(hour))
            for hour in hours.hours
        ],
        [one.platform for one in next((h.gets for h in hours.hours if h.gets), ())],
        [[one.settings for one in hour.gets] for hour in hours.hours],
    )


def show_quarters(screen: Console, quarters: Sequence[QuarterOfRuns]) -> None:
    """The same by quarter of an hour."""
    _show_times(
        screen,
        "quarter",
        [
            (
                quarter.begins[11:],
                quarter.typical_kbps,
                quarter.floor_kbps,
                _times(quarter.runs, quarter.failed),
            )
            for quarter in quarters
        ],
    )


def _show_times(
    screen: Console,
    heading: str,
    rows: list[tuple[str, float | None, float | None, str]],
    more: Sequence[str] = (),
    cells: Sequence[Sequence[str]] = (),
) -> None:
    """A row for each time, with a bar, or with more columns in place of it."""
    from rich.table import Table
    from rich.text import Text

    highest = max((typical or 0.0 for _, typical, _, _ in rows), default=0.0) or 1.0
    table = Table(box=None, padding=(0, 1 if more else 2), header_style="dim")
    for name in (heading, "typical", "floor", *(more or ("",)), "from"):
        table.add_column(
            name, justify="right" if name in ("typical", "floor") else "left", no_wrap=len(more) < 2
        )
    for number, (name, typical, floor, said) in enumerate(rows):
        full = round(BAR_CELLS * (typical or 0.0) / highest)
        sure = min(full, round(BAR_CELLS * (floor or 0.0) / highest))
        bar = Text("█" * sure, style="green") + Text("░" * (full - sure), style="green")
        table.add_row(
            name,
            "-" if typical is None else rate(typical),
            "-" if floor is None else rate(floor),
            *(cells[number] if more else (bar,)),
            said,
        )
    screen.print(table)
    if not more:
        screen.print("[dim]█ up to the floor   ░ up to typical[/]")


def _times(runs: int, failed: int) -> str:
    """``3 runs, 1 failed``."""
    said = [f"{runs} run{'' if runs == 1 else 's'}"] if runs else []
    return ", ".join([*said, *([f"{failed} failed"] if failed else [])])


def _counts(hour: HourUplink) -> str:
    """``3 runs, 1 failed``."""
    many = hour.runs if hour.measured else hour.readings
    what = "run" if hour.measured else "reading"
    said = [f"{many} {what}{'' if many == 1 else 's'}"] if many else []
    if many and not hour.measured:
        said.append("floor assumed")
    if hour.failed:
        said.append(f"{hour.failed} failed")
    return ", ".join(said)


def show_uplink(screen: Console, uplink: Uplink) -> None:
    """What several runs say together."""
    from rich.panel import Panel

    low, high = uplink.floor_low_kbps, uplink.floor_high_kbps
    between = f"between {rate(low)} and {rate(high)}" if low is not None and high else ""
    card = grid(0, 0, 1)
    card.add_row("typical", f"[bold]{rate(uplink.typical_kbps)}[/]", uplink.said)
    card.add_row("floor", f"[bold]{rate(uplink.floor_kbps)}[/]", between)
    card.add_row("spread", f"{uplink.spread:.0%}", "")
    screen.print(
        Panel(card, title="All runs", title_align="left", border_style="green", padding=(0, 1))
    )


def show_compared(screen: Console, found: list[tuple[Run, RunSummary]]) -> None:
    """Runs in columns."""
    from rich.table import Table

    from eager_kestrel.cli.terminal import rate

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    table.add_column("", no_wrap=True)
    for run, _ in found:
        table.add_column(run.id, justify="right", overflow="fold")

    def kbps(value: float | None) -> str:
        return "-" if value is None else rate(value)

    def trip(value: RoundTripSummary | None) -> str:
        return "-" if value is None else f"{value.median_ms:.0f} ms"

    def between(uplink: Uplink | None) -> str:
        if uplink is None or uplink.floor_low_kbps is None or uplink.floor_high_kbps is None:
            return "-"
        return f"{rate(uplink.floor_low_kbps)} to {rate(uplink.floor_high_kbps)}"

    def of_one(read: Callable[[PhaseSummary], str]) -> list[str]:
        return ["-" if said.one is None else read(said.one) for _, said in found]

    rows = [
        ("taken", [run.taken_at[:16].replace("T", " ") for run, _ in found]),
        ("towards", [run.endpoint_name or run.kind for run, _ in found]),
        ("typical", [kbps(s.one.typical_kbps if s.one else r.reading_kbps) for r, s in found]),
        ("floor", of_one(lambda one: rate(one.floor_kbps))),
        ("floor, 95 % within", [between(said.uplink) for _, said in found]),
        ("spread", of_one(lambda one: f"{one.spread:.0%}")),
        ("stalled", of_one(lambda one: f"{one.stalled_share:.0%}")),
        (
            "several connections",
            [kbps(s.several.typical_kbps if s.several else None) for _, s in found],
        ),
        ("idle round trip", [trip(said.idle) for _, said in found]),
        ("under load", [trip(said.loaded) for _, said in found]),
    ]
    for name, cells in rows:
        table.add_row(name, *cells)
    screen.print(table)
