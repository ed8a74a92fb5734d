"""One sample of a stream on the air, seen from outside or as it passes through."""

from __future__ import annotations

from dataclasses import dataclass

from eager_kestrel.core.connection.broadcast import Cause
from eager_kestrel.core.document import Frozen, format_name


@dataclass(frozen=True, slots=True)
class StreamSample:
    """How things stand at a moment. Counts go over all connections since watching began."""

    seconds: float
    """Since watching began, on a clock that cannot jump."""
    connected: bool
    handed_bytes: int
    """By the program, to its connection."""
    carried_bytes: int
    """That the other end has."""
    queued_bytes: int = 0
    """Handed over and not sent yet."""
    unacknowledged_bytes: int = 0
    """Sent; one round trip's worth of them is on its way, and the rest waits, too."""
    queued_seconds: float | None = None
    """How long the oldest frame has waited, where frames are seen; else it is reckoned."""
    round_trip_ms: float | None = None
    min_round_trip_ms: float | None = None
    resent_bytes: int = 0
    window_closed_seconds: float | None = None
    """How long so far the other end took nothing because its receive window was closed."""
    cores: float | None = None
    """That the sending program takes."""
    memory_mb: float | None = None
    media_late_seconds: float | None = None
    """How much later than the quickest the latest frame came from the program, by its own time."""
    fps: float | None = None
    """Frames a second, by the frames' own times."""
    frames: int | None = None
    late_frames: int | None = None
    lost_frames: int | None = None
    said: str = ""
    """What the other end said as it broke the connection."""
    program_ended: bool = False
    """Whether the sending program is gone, where that is seen."""


class WatchVerdict(Frozen):
    """What a look means."""

    cause: Cause | None
    """Who is at fault; none when it is carried."""
    text: str
    late: bool = False
    """Whether frames are late."""
    late_in_seconds: float | None = None
    """When they will be, if it goes on so."""
    fallback: int | None = None
    """Which step down holds, 0 being the first."""
    carried_kbps: float | None = None
    """By the connection, where it is the limit."""


class Now(Frozen):
    """How a broadcast stands, for a live view and for programs: one document a second."""

    format: str = format_name("watch")
    server: str
    """Host and port, or the address without key."""
    seconds: float
    """Since watching began."""
    sent_kbps: float
    """Handed over by the program in the last second."""
    planned_kbps: float | None
    carried_kbps: float
    """Taken by the other end in the last second."""
    queued_seconds: float
    """Of stream, in the queue."""
    round_trip_ms: float | None
    min_round_trip_ms: float | None
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
