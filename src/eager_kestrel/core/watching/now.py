"""How a stream on the air stands: a verdict, and the document of a second."""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.connection.broadcast import BroadcastTrouble, Cause
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.stutter import LATE_SECONDS

State = Literal["fine", "warned", "late", "stopped"]
"""Carried; something is the matter and no frame is late; frames are late; nothing is sent."""


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
    platform: str = ""
    """Its title; empty where it is not known."""
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
    state: State
    headline: str
    """The verdict in a few words, to be read from afar."""
    since_seconds: float
    """When this state and its cause began, since watching began."""
    step: str | None = None
    """What to set now: the settings of the fallback that holds."""
    late_after_seconds: float = LATE_SECONDS
    """Of stream in the queue, from which on frames are late."""
    troubles: tuple[BroadcastTrouble, ...] = ()
    """The last, oldest first; the last of all may not be over."""
    breaches: tuple[str, ...] = ()
    """Of guide and plan by what passed so far, in words."""
