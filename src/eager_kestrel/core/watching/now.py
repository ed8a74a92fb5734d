"""How a stream that is watched stands, as documents."""

from __future__ import annotations

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.line.airing import Cause


class WatchVerdict(Frozen):
    """What a look means."""

    cause: Cause | None
    """Who is at fault; none when it is carried."""
    text: str
    late: bool = False
    """Whether frames are late."""
    late_in_seconds: float | None = None
    """When they will be, if it goes on so."""
    step: int | None = None
    """Which step down holds, 0 being the first."""
    carried_kbps: float | None = None
    """By the line, where it is the limit."""


class Now(Frozen):
    """How an airing stands, for a live view and for programs: one document a second."""

    format: str = format_name("watch")
    to: str
    """Host and port, or the address without key."""
    seconds: float
    """Since watching began."""
    sent_kbps: float
    """Handed over by the program in the last second."""
    planned_kbps: float | None
    carried_kbps: float
    """Taken by the other end in the last second."""
    waiting_seconds: float
    """Of stream, in the queue."""
    round_trip_ms: float | None
    least_round_trip_ms: float | None
    resent_bytes: int
    """In all."""
    cores: float | None
    """That the sending program takes."""
    memory_mb: float | None
    fps: float | None
    frames: int | None
    late_frames: int | None
    lost_frames: int | None
    verdict: WatchVerdict
    breaches: tuple[str, ...] = ()
    """Of guide and plan by what passed so far, in words."""
