"""A run in figures, as documents: what a person reads first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.line.uplink import Uplink

if TYPE_CHECKING:
    from eager_kestrel.core.line.run import Kind


class RoundTripSummary(Frozen):
    """Round trips of one phase in ms."""

    median_ms: float
    p95_ms: float
    jitter_ms: float
    """Mean absolute difference of successive ones (as RFC 3550 section 6.4.1)."""
    count: int
    lost: int


class PhaseSummary(Frozen):
    """A load phase in figures; kbit/s of delivered payload."""

    typical_kbps: float
    floor_kbps: float
    high_kbps: float
    spread: float
    stalled_share: float
    ramp_seconds: float
    steady_seconds: float
    windows: int


class RunSummary(Frozen):
    """Everything a run says, computed from its samples."""

    idle: RoundTripSummary | None
    """Round trips without load."""
    loaded: RoundTripSummary | None
    """The same while one connection fills the line."""
    one: PhaseSummary | None
    """One connection."""
    several: PhaseSummary | None
    uplink: Uplink | None
    """What this run alone speaks for; none when it learned too little."""
    verdicts: tuple[str, ...]
    """What a careful person would remark on, most important first."""


@dataclass(frozen=True, slots=True)
class RunRow:
    """A kept run in a line."""

    id: str
    taken_at: str
    endpoint: str
    typical_kbps: float | None
    floor_kbps: float | None
    partial: bool
    kind: Kind
