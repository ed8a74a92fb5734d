"""What a long action tells while it works: values for a renderer, never text for a screen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeAlias

from eager_kestrel.core.line.run import PhaseName


@dataclass(frozen=True, slots=True)
class Beginning:
    """A phase begins."""

    phase: PhaseName
    at_most_seconds: float


@dataclass(frozen=True, slots=True)
class Learned:
    """What is known so far in a phase."""

    phase: PhaseName
    seconds: float
    now_kbps: float
    """Over the last second."""
    typical_kbps: float | None = None
    floor_kbps: float | None = None
    round_trip_ms: float | None = None


@dataclass(frozen=True, slots=True)
class Said:
    """Something worth a line."""

    text: str


Event: TypeAlias = Beginning | Learned | Said
Tell: TypeAlias = Callable[[Event], None]


def tell_nobody(_: Event) -> None:
    """For callers that do not listen."""
