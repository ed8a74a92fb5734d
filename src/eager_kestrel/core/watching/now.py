"""How a stream on the air stands: a verdict, and the document of a second."""

from __future__ import annotations

from eager_kestrel.core.connection.broadcast import Cause
from eager_kestrel.core.document import Frozen, format_name


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
