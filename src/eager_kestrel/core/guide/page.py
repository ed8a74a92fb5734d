"""A guideline page as text, what it was understood to say, and what has to be asked about it."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING, Any, Literal

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import Codec
    from eager_kestrel.core.picture import Picture
    from eager_kestrel.core.units import Bitrate

Role = Literal["picture", "frame_rate", "floor", "advised", "ceiling", "bitrate", "keyframes",
               "codec", "audio", "standing", "left out"]  # fmt: skip
Bound = Literal["floor", "advised", "ceiling"]
BOUNDS: tuple[Bound, ...] = ("floor", "advised", "ceiling")
ROLES: tuple[Role, ...] = ("picture", "frame_rate", "floor", "advised", "ceiling", "bitrate",
                           "keyframes", "codec", "audio", "standing", "left out")  # fmt: skip


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell of a table."""

    text: str
    marks: tuple[str, ...] = ()
    """Footnotes that stand at it."""


@dataclass(frozen=True, slots=True)
class Grid:
    """A table with every span written out, so that all rows are as wide."""

    rows: tuple[tuple[Cell, ...], ...]
    headings: int = 1
    """Rows at the top that name the columns."""
    title: str = ""
    """Its caption and the heading it stands under."""


@dataclass(frozen=True, slots=True)
class Page:
    """A guideline page."""

    grids: tuple[Grid, ...] = ()
    lines: tuple[str, ...] = ()
    """Sentences, list items and ``Key: value`` lines outside of tables."""


@dataclass(frozen=True, slots=True)
class Answers:
    """What the person says where a page does not."""

    unit: str | None = None
    """``kbit/s`` or ``Mbit/s`` for bare numbers."""
    means: Bound | None = None
    """What a bitrate is of which the page does not say."""
    frame_rate: str | None = None
    """For rows without one, where nothing on the page says how fast it goes."""
    shape: str = "16:9"
    """For pictures given by their lines only."""
    ordinary: str | None = None
    """Of several standings, the one every account has."""
    roles: dict[str, Role] = field(default_factory=dict)
    """Columns by heading, where the heading misleads."""
    cells: dict[tuple[int, str], str] = field(default_factory=dict)
    """What a cell means, by row (counted from 1 with the headings) and heading."""
    leave_rest: bool = False
    """Whether to go on with what was understood, and keep the rest as comments."""


@dataclass(frozen=True, slots=True)
class TableRung:
    """A row as understood."""

    picture: Picture
    frame_rate: Fraction | None
    """None for any rate the guide takes."""
    codec: Codec | None
    standing: str | None
    floor: Bitrate | None
    advised: Bitrate | None
    ceiling: Bitrate | None
    text: str = ""
    """What it was read from."""


@dataclass(frozen=True, slots=True)
class Taken:
    """A value and where it stands on the page."""

    where: str
    key: str
    value: Any
    text: str
    """As it stands there."""


@dataclass
class Understood:
    """What became of a page."""

    columns: dict[str, Role] = field(default_factory=dict)
    rungs: list[TableRung] = field(default_factory=list)
    taken: list[Taken] = field(default_factory=list)
    unplaced: list[str] = field(default_factory=list)
    """Cells, rows and sentences that could not be taken whole, one line each."""
    questions: list[str] = field(default_factory=list)
    """Keys of ``Answers`` still needed, in the order to ask."""
    notes: dict[str, str] = field(default_factory=dict)
    """Footnotes of the page by their mark."""

    def ask(self, key: str) -> None:
        """Note a question once."""
        if key not in self.questions:
            self.questions.append(key)

    def take(self, taken: Taken) -> None:
        """Keep a value; one that contradicts what was read before is told, not kept."""
        before = next((t for t in self.taken if t.key == taken.key), None)
        if before is None:
            self.taken.append(taken)
        elif before.value != taken.value:
            self.unplaced.append(
                f'{taken.where}: "{taken.text}" contradicts {before.where}: "{before.text}"'
            )

    def said(self, key: str, otherwise: Any = None) -> Any:
        """What the page says of a key."""
        return next((t.value for t in self.taken if t.key == key), otherwise)
