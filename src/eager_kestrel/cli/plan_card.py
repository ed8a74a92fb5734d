"""A plan in a terminal: the settings card on top, the waterfall and reasons under it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from eager_kestrel.cli.terminal import grid, remark
from eager_kestrel.core.choice.what_if import Comparison
from eager_kestrel.core.plan.card_text import (
    beside,
    budget_sums,
    card_rows,
    copy_said,
    data_said,
    source_of,
    title_of,
)
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.resolution import resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import kbit, looks, rate

if TYPE_CHECKING:
    from rich.console import Console
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.core.choice.what_if import Point, Sweep


SHORT_REASONS = ("bitrate", "resolution", "frame rate", "keyframes", "audio")
BAR_CELLS = 12
NARROW = 64
"""Columns under which what bound a value stands behind it."""


def show_plan(screen: Console, plan: Plan, *, why: bool = False) -> None:
    """The card on top, the budget under it, then reasons and warnings."""
    several = plan.split is not None
    for destination in plan.destinations:
        _show_destination(screen, plan, destination, why=why, brief=several and not why)
    if several:
        show_split(screen, plan, why=why)
    if plan.feasible or plan.total_kbps > 0:
        _show_data(screen, plan, why=why)
    _show_budget(screen, plan)
    if plan.inputs.machine:
        screen.print(f"\n[dim]machine[/]  {plan.inputs.machine}", highlight=False)
    for warning in plan.warnings:
        remark(screen, warning)


def _show_destination(
    screen: Console, plan: Plan, destination: DestinationPlan, *, why: bool, brief: bool
) -> None:
    from rich.text import Text

    if destination.video is None or destination.audio is None:
        title = Text(title_of(plan, destination), style="bold")
        screen.print(title.append(": no settings", style="red"))
        screen.print(Text(f"  {destination.infeasible_because}\n"))
        return
    screen.print(_card(plan, destination, narrow=screen.width < NARROW))
    if brief:
        return
    _show_reasons(screen, destination, why=why)
    if why:
        _show_beside(screen, destination)
    screen.print()


def _card(plan: Plan, destination: DestinationPlan, *, narrow: bool) -> Panel:
    """What to type, and what bound it."""
    from rich.panel import Panel
    from rich.text import Text

    card = grid(0, 1) if narrow else grid(0, 1, 0)
    if not narrow:
        card.add_row("", "", Text("limited by", style="dim"))
    for row in card_rows(plan, destination):
        value, bound = Text(row.value, style="bold"), Text(row.bound, style="cyan")
        if narrow and row.bound:
            value.append(f" ({row.bound})", style="cyan")
        card.add_row(Text(row.name, style="dim"), value, *([] if narrow else [bound]))
    return Panel(
        card,
        title=Text(title_of(plan, destination)),
        title_align="left",
        border_style="green",
        padding=(0, 1),
        subtitle=f"from {source_of(plan)}",
        subtitle_align="right",
    )


def _show_reasons(screen: Console, destination: DestinationPlan, *, why: bool) -> None:
    """Reasons, what more would give, and where to step down to."""
    from rich.text import Text

    reasons = grid(0, 1)
    for reason in destination.reasons:
        if why or reason.about in SHORT_REASONS:
            reasons.add_row(
                Text(reason.about, style="cyan"), Text(f"{reason.value}: {reason.text}")
            )
    screen.print(reasons)
    for offer in destination.offers:
        screen.print(Text("↑ ", style="green").append(offer.text, style="default"))
    if destination.fallbacks:
        steps = [*destination.fallbacks] if why else destination.fallbacks[:3]
        said = words.struggling([step.video.words for step in steps])
        screen.print(Text("↓ ", style="yellow").append(said, "default"))
    if why and destination.runners_up:
        others = [(o.resolution, o.frame_rate, o.quality) for o in destination.runners_up]
        screen.print(words.next_best(others))


def _show_beside(screen: Console, destination: DestinationPlan) -> None:
    """How far to adapt and when to come back."""
    from rich.text import Text

    lines = grid(0, 1)
    for name, said in beside(destination):
        lines.add_row(Text(name, style="cyan"), said)
    screen.print(lines)


def _show_data(screen: Console, plan: Plan, *, why: bool) -> None:
    """What the stream sends in an hour and a month, and what a local copy takes."""
    from rich.text import Text

    lines = grid(0, 1)
    lines.add_row(Text("data", style="cyan"), data_said(plan))
    if why or plan.local_copy.free_hours is not None:
        lines.add_row(Text("local copy", style="cyan"), copy_said(plan))
    screen.print(lines)
    screen.print()


def _show_budget(screen: Console, plan: Plan) -> None:
    from rich.text import Text

    typical = max(plan.uplink.typical_kbps, 1.0)
    table = grid(0, 0, 0, 1)
    for step in budget_sums(plan):
        cells = round(BAR_CELLS * step.after_kbps / typical)
        bar = Text("█" * cells, style="green") + Text("·" * (BAR_CELLS - cells), style="dim")
        amount = Text(step.after, style="bold" if step.mark else "", justify="right")
        said = f"{step.why} → {step.mark}" if step.mark else step.why
        table.add_row(
            Text(_shortened(step.name), style="dim"), amount, bar, Text(said, style="dim")
        )
    screen.print("[bold]Budget[/]")
    screen.print(table)
    screen.print()


def _shortened(name: str, most: int = 22) -> str:
    return name if len(name) <= most else name[: most - 1].rstrip() + "…"


def show_sweep(screen: Console, found: Sweep) -> None:
    """A line wherever the choice of resolution or frame rate changes, with the range it holds for."""
    _show_series(screen, found)
    for other in found.beside:
        points = tuple(
            point.model_copy(update={"chosen": option})
            for point, option in zip(found.points, other.chosen, strict=True)
        )
        _show_series(
            screen, found.model_copy(update={"platform": other.platform, "points": points})
        )


def _show_series(screen: Console, found: Sweep) -> None:
    from rich.table import Table

    if found.beside:
        screen.print(f"[bold]{found.platform}[/]")

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in (found.over, "resolution", "video", "looks"):
        table.add_column(heading, justify="left" if heading == "resolution" else "right")
    points = list(found.points)
    start = 0
    for index in range(1, len(points) + 1):
        if index < len(points) and _choice(points[index]) == _choice(points[start]):
            continue
        first, last = points[start], points[index - 1]
        span = first.at if first.at == last.at else f"{first.at} to {last.at}"
        if first.chosen is None or last.chosen is None:
            table.add_row(span, "[dim]no settings[/]", "-", "-")
        else:
            table.add_row(
                span,
                f"[bold]{_choice(first)}[/]",
                _ends(first.chosen.bitrate_kbps, last.chosen.bitrate_kbps, "{:,.0f}") + " kbit/s",
                _looks(first.chosen.quality, last.chosen.quality),
            )
        start = index
    screen.print(table)


def _choice(point: Point) -> str:
    chosen = point.chosen
    return "" if chosen is None else resolution_at(chosen.resolution, chosen.frame_rate)


def _looks(first: float, last: float) -> str:
    begin, end = looks(first), looks(last)
    return begin if begin == end else f"{begin} to {end}"


def _ends(first: float, last: float, form: str) -> str:
    begin, end = form.format(first), form.format(last)
    return begin if begin == end else f"{begin} to {end}"


FILLS = "█▓▒▚▞▤▥▦"
"""One for each destination, so that the bar reads without colour."""
COLOURS = (
    "green",
    "cyan",
    "magenta",
    "blue",
    "bright_green",
    "bright_cyan",
    "bright_magenta",
    "bright_blue",
)


@dataclass(frozen=True, slots=True)
class BarPart:
    """A piece of the uplink."""

    name: str
    kbps: float
    fill: str
    colour: str
    said: str


def parts_of(plan: Plan) -> list[BarPart]:
    """The uplink from left to right: destinations, what is unused, reserves, and the margin."""
    parts = []
    for number, there in enumerate(plan.destinations):
        video = there.video
        if video is None:
            continue
        said = words.part(
            video.resolution, video.frame_rate, video.bitrate_kbps, there.quality or 0.0
        )
        look = number % len(FILLS)
        name = there.title + (f" ({there.tier})" if there.tier else "")
        parts.append(BarPart(name, there.total_kbps, FILLS[look], COLOURS[look], said))
    unused = plan.budget.safe_kbps - plan.total_kbps
    parts.append(BarPart("unused", unused, "░", "white", words.UNUSED))
    kept = min(plan.budget.reserved_kbps, plan.uplink.typical_kbps)
    names = ", ".join(reserve.name for reserve in plan.inputs.reserves)
    parts.append(BarPart("reserves", kept, "╱", "yellow", names))
    capped = plan.budget.steps[-1] if plan.budget.capped else None
    cut = 0.0 if capped is None else capped.before_kbps - capped.after_kbps
    parts.append(BarPart("data cap", cut, "×", "red", "" if capped is None else capped.why))
    margin = plan.uplink.typical_kbps - plan.budget.safe_kbps - kept - cut
    parts.append(BarPart("headroom", margin, "·", "bright_black", words.HEADROOM))
    return [part for part in parts if part.kbps > 0]


def bar(parts: list[BarPart], cells: int) -> Text:
    """The parts side by side; the cells add up, and every part has at least one."""
    from rich.text import Text

    whole = sum(part.kbps for part in parts)
    drawn = Text()
    done, left = 0, 0.0
    for number, part in enumerate(parts):
        left += part.kbps
        end = round(cells * left / whole)
        width = max(1, min(end, cells - (len(parts) - number - 1)) - done)
        drawn.append(part.fill * width, style=part.colour)
        done += width
    return drawn


def show_split(screen: Console, plan: Plan, *, why: bool) -> None:
    """The bar, the parts, and how else it could be divided."""
    from rich.text import Text

    split = plan.split
    assert split is not None
    parts = parts_of(plan)
    screen.print("[bold]The connection, divided[/]")
    screen.print(bar(parts, screen.width))
    table = grid(0, 0, 0, 1)
    for part in parts:
        table.add_row(
            Text(part.fill * 2, style=part.colour),
            Text(part.name),
            Text(Bitrate.from_kbps(part.kbps).in_kbps(), justify="right"),
            Text(part.said, style="dim"),
        )
    screen.print(table)
    screen.print(Text("way  ", style="cyan").append(split.text, style="default"))
    for name in split.left_out:
        said = f"{name} is left out: {split.left_out_because}"
        screen.print(Text("✗ ", style="red").append(said, style="default"))
    missed = split.leave_out_first if why else split.leave_out_first[:1]
    for entry in missed:
        screen.print(Text("− ", style="yellow").append(entry.text, style="default"))
    if split.relay is not None and (why or split.relay.possible):
        screen.print(Text("⇉ ", style="green").append(split.relay.text, style="default"))
    screen.print()


def show_comparison(screen: Console, found: Comparison) -> None:
    """A column a resolution, the one a plan takes marked."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, padding=(0, 2, 0, 0))
    table.add_column("", style="dim")
    for one in found.finalists:
        name = resolution_at(one.resolution, one.frame_rate)
        style = "bold green" if one.chosen else "bold"
        table.add_column(Text(name + (" (planned)" if one.chosen else ""), style=style))
    rows = {
        "video bitrate": [kbit(one.bitrate_kbps) for one in found.finalists],
        "quality": [looks(one.quality) for one in found.finalists],
        "smoothness": [f"{one.smoothness:.0%}" for one in found.finalists],
        "limited by": [str(one.limited_by) for one in found.finalists],
        "sent in all": [kbit(one.total_kbps) for one in found.finalists],
        "upload it needs": [rate(one.upload_kbps) for one in found.finalists],
        "cannot be sent": [one.refused for one in found.finalists],
    }
    for name, cells in rows.items():
        if any(cells):
            table.add_row(name, *cells)
    screen.print(table)
