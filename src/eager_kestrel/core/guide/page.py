"""What a guideline page was understood to say, and what has to be asked about it."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.units import Bitrate

Role = Literal["picture", "frame_rate", "floor", "advised", "ceiling", "bitrate", "keyframes",
               "codec", "audio", "left out"]  # fmt: skip
Bound = Literal["floor", "advised", "ceiling"]
BOUNDS: tuple[Bound, ...] = ("floor", "advised", "ceiling")
ROLES: tuple[Role, ...] = ("picture", "frame_rate", "floor", "advised", "ceiling", "bitrate",
                           "keyframes", "codec", "audio", "left out")  # fmt: skip


@dataclass(frozen=True, slots=True)
class Answers:
    """What the person says where a table does not."""

    unit: str | None = None
    """``kbit/s`` or ``Mbit/s`` for bare numbers."""
    means: Bound | None = None
    """What a bitrate is of which the table does not say."""
    frame_rate: str | None = None
    """For rows without one."""
    shape: str = "16:9"
    """For pictures given by their lines only."""
    roles: dict[str, Role] = field(default_factory=dict)
    """Columns by heading, where the heading misleads."""


@dataclass(frozen=True, slots=True)
class TableRung:
    """A row as understood."""

    picture: Picture
    frame_rate: Fraction
    codec: Codec | None
    floor: Bitrate | None
    advised: Bitrate | None
    ceiling: Bitrate | None
    keyframes_seconds: float | None
    audio: Bitrate | None


@dataclass
class Understood:
    """What became of a table."""

    columns: dict[str, Role] = field(default_factory=dict)
    rungs: list[TableRung] = field(default_factory=list)
    unplaced: list[str] = field(default_factory=list)
    """Cells and rows that could not be taken, one line each."""
    questions: list[str] = field(default_factory=list)
    """Keys of ``Answers`` still needed, in the order to ask."""
