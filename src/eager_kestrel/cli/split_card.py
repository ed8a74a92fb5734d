"""Several destinations in a terminal: a bar of the uplink, who gets what, and the other ways."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from eager_kestrel.cli.screen import grid
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

FILLS = "█▓▒▚▞▤▥▦"
"""One for each destination, so that the bar reads without colour."""
COLOURS = ("green", "cyan", "magenta", "blue", "bright_green", "bright_cyan", "bright_magenta",
           "bright_blue")  # fmt: skip


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
        said = words.part(video.picture, video.frame_rate, video.bitrate_kbps, there.quality or 0.0)
        look = number % len(FILLS)
        name = there.title + (f" ({there.standing})" if there.standing else "")
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
    parts.append(BarPart("kept back", margin, "·", "bright_black", words.KEPT_BACK))
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
    screen.print("[bold]The line, divided[/]")
    screen.print(bar(parts, screen.width))
    table = grid(0, 0, 0, 1)
    for part in parts:
        table.add_row(
            Text(part.fill * 2, style=part.colour), Text(part.name),
            Text(Bitrate.from_kbps(part.kbps).in_kbps(), justify="right"),
            Text(part.said, style="dim"),
        )  # fmt: skip
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
