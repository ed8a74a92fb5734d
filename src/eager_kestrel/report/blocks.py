"""Results as blocks: headings, rows, tables, bars, notes and figures.

A function in :mod:`eager_kestrel.report.plan_blocks` and its neighbours turns a result into blocks
once; the terminal, Markdown and HTML each render blocks once. A new kind of result is one such
function and a line in :data:`BLOCKS`; a new kind of output is one renderer.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final, Literal, NamedTuple, TypeAlias

from eager_kestrel.core.errors import InputError
from eager_kestrel.core.units import Bitrate

State = Literal["", "strong", "good", "mind", "bad", "dim", "name"]
"""What a text is, for a renderer to show as it can."""


class Styled(NamedTuple):
    """A text with what it is."""

    text: str
    state: State = ""


@dataclass(frozen=True, slots=True)
class Bar:
    """A bar of two lengths, as shares of a full bar: certain, and likely."""

    certain: float
    likely: float


Cell: TypeAlias = str | Styled | Bar


@dataclass(frozen=True, slots=True)
class Heading:
    """A title of what follows."""

    text: str
    level: int = 2
    extra: bool = False
    """Whether the section is for screens only: on paper it is left out."""


@dataclass(frozen=True, slots=True)
class Note:
    """A paragraph; ``mark`` stands before it, such as ``!`` before a problem."""

    text: str
    state: State = ""
    mark: str = ""
    keep: bool = False
    """Whether it is one long word, such as a path, and must not be wrapped."""


@dataclass(frozen=True, slots=True)
class Rows:
    """Names with values, and perhaps a note behind each; a card where there is a title."""

    rows: tuple[tuple[Cell, ...], ...]
    title: str = ""
    subtitle: str = ""
    notes: str = ""
    """What the notes are, as a heading over them."""
    state: State = "good"
    """Of the card."""
    below: tuple[tuple[Cell, ...], ...] = ()
    """Names with long texts that belong to the card."""


@dataclass(frozen=True, slots=True)
class Table:
    """Rows under headings; a heading that begins with ``>`` is of a column of numbers."""

    headings: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]


class Part(NamedTuple):
    """A part of a whole."""

    name: str
    kbps: float
    said: str
    state: State


@dataclass(frozen=True, slots=True)
class Parts:
    """A bitrate divided into parts, from left to right."""

    parts: tuple[Part, ...]

    @property
    def whole_kbps(self) -> float:
        """All of it."""
        return sum(part.kbps for part in self.parts)


@dataclass(frozen=True, slots=True)
class Figure:
    """A figure, drawn into a file by ``draw``; terminals leave it out."""

    draw: Callable[[Path], None]


Block: TypeAlias = Heading | Note | Rows | Table | Parts | Figure

BLOCKS: Final = {
    "Plan": "plan_blocks:plan_blocks",
    "Sweep": "what_if_blocks:sweep_blocks",
    "Comparison": "what_if_blocks:comparison_blocks",
    "Needs": "what_if_blocks:need_blocks",
    "Forecast": "what_if_blocks:forecast_blocks",
    "GuideList": "guide_blocks:guide_list_blocks",
    "GuideCheck": "guide_blocks:guide_check_blocks",
    "GuideDiff": "guide_blocks:guide_diff_blocks",
    "Guide": "guide_blocks:guide_blocks",
    "TermList": "guide_blocks:terms_blocks",
    "Explained": "guide_blocks:explained_blocks",
    "RunDocument": "connection_blocks:run_blocks",
    "RunList": "connection_blocks:run_list_blocks",
    "RunComparison": "connection_blocks:comparison_blocks",
    "ImportResult": "connection_blocks:import_blocks",
    "Hours": "connection_blocks:hours_blocks",
    "Schedule": "connection_blocks:schedule_blocks",
    "Rankings": "connection_blocks:ranking_blocks",
    "NamedEndpoints": "connection_blocks:endpoints_blocks",
    "Findings": "stream_blocks:findings_blocks",
    "TonightCheck": "stream_blocks:tonight_blocks",
    "Rehearsals": "stream_blocks:rehearsals_blocks",
    "Broadcast": "stream_blocks:broadcast_blocks",
    "Review": "stream_blocks:review_blocks",
    "ReceivedList": "stream_blocks:received_blocks",
    "MeasuredMachine": "stream_blocks:machine_blocks",
    "TrialReport": "stream_blocks:trial_blocks",
}
"""By the type of a result, the function that turns it into blocks."""
FIGURES: Final = {
    "Plan": "plan_figures:save_budget_figure",
    "Sweep": "plan_figures:save_sweep_figure",
    "Needs": "plan_figures:save_need_figure",
    "MeasuredMachine": "plan_figures:save_encoders_figure",
    "Forecast": "connection_figures:save_forecast_figure",
    "RunDocument": "connection_figures:save_run_figure",
    "Hours": "connection_figures:save_hours_figure",
    "Review": "broadcast_figures:save_review_figure",
    "Rehearsals": "broadcast_figures:save_rehearsals_figure",
}
"""By the type of a result, the function that draws it."""


def _found(table: dict[str, str], result: object) -> Callable[..., Any]:
    module, _, name = table[type(result).__name__].partition(":")
    function: Callable[..., Any] = getattr(
        importlib.import_module(f"eager_kestrel.report.{module}"), name
    )
    return function


def blocks_of(result: object, **how: bool) -> list[Block]:
    """A result as blocks.

    Args:
        how: what its function takes, such as ``why`` for a plan.
    """
    return list(_found(BLOCKS, result)(result, **how))


def draw(result: object, path: Path) -> None:
    """Draw a result into a file.

    Raises:
        InputError: there is no figure of it, or the extension is no figure's.
        StorageError: it could not be saved.
    """
    if type(result).__name__ not in FIGURES:
        raise InputError("there is no figure of this result", "leave --figure out")
    _found(FIGURES, result)(result, path)


def rate(kbps: float | None) -> str:
    """A rate, or a dash."""
    return "-" if kbps is None else str(Bitrate.from_kbps(kbps))


def named(rows: Iterable[tuple[str, str]], first: State = "strong") -> tuple[tuple[Cell, ...], ...]:
    """Names with values, the first value in a state of its own."""
    return tuple(
        (name, Styled(value, first if number == 0 else "strong"))
        for number, (name, value) in enumerate(rows)
    )


def text_of(cell: Cell) -> str:
    """A cell as plain text."""
    if isinstance(cell, Styled):
        return cell.text
    return cell if isinstance(cell, str) else "█" * round(20 * cell.certain)
