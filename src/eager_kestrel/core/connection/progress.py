"""Progress of a long action, as values for a renderer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeAlias

if TYPE_CHECKING:
    from eager_kestrel.core.connection.run import PhaseName


@dataclass(frozen=True, slots=True)
class PhaseBegun:
    """A phase begins."""

    phase: PhaseName
    at_most_seconds: float


@dataclass(frozen=True, slots=True)
class PartialResult:
    """What is known so far in a phase."""

    phase: PhaseName
    seconds: float
    now_kbps: float
    """Over the last second."""
    typical_kbps: float | None = None
    floor_kbps: float | None = None
    round_trip_ms: float | None = None


@dataclass(frozen=True, slots=True)
class Remark:
    """Something worth a line."""

    text: str


@dataclass(frozen=True, slots=True)
class WaitingFor:
    """Between two runs of a schedule."""

    number: int
    """Of the run that comes next, from 1."""
    of: int | None
    """How many there will be, if that is known."""
    seconds: float
    so_far_kbps: tuple[float | None, ...]
    """What each run found to be typical; None for one that failed."""


Event: TypeAlias = PhaseBegun | PartialResult | Remark | WaitingFor
Tell: TypeAlias = Callable[[Event], None]


def tell_nobody(_: Event) -> None:
    """No-op progress callback."""
