"""A rehearsal: what happened while a stand-in stream was sent, as a document."""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.stutter import Stutter

Limited = Literal["line", "machine", "ingest"]


class Moment(Frozen):
    """One look at how it stands."""

    seconds: float
    backlog_seconds: float
    """How long the oldest frame on its way has waited."""
    encoder_seconds: float
    """How late the encoder is."""
    delivered_bytes: int
    """Since the rehearsal began, over all connections."""
    round_trip_ms: float | None
    window_closed_seconds: float | None = None
    """How long so far the other end took nothing because its receive window was closed."""


class Sent(Frozen):
    """Everything noted while sending."""

    seconds: float
    frames: int
    late_frames: int
    lost_frames: int
    """Not sent, because there was no connection."""
    encode_ms: tuple[float, ...]
    """Of each frame."""
    moments: tuple[Moment, ...]
    reconnects: int
    broken: tuple[tuple[float, str], ...]
    """When the connection was refused or broke, and what was said."""
    counted_by: str
    """How delivered bytes were counted."""


class RehearsalVerdict(Frozen):
    """Whether it held, and if not, why."""

    held: bool
    limited_by: Limited | None = None
    at_seconds: float | None = None
    """When it first failed."""
    late_seconds: float | None = None
    """The worst wait: of frames on the line, or of the encoder behind its time."""
    breaks: int = 0
    """How often the ingest refused or broke the connection."""
    would_hold: int | None = None
    """Which step down would have held, 0 being the first; none when none would or none need."""
    text: str


class Rehearsal(Frozen):
    """The report."""

    format: str = format_name("rehearsal")
    target: str
    """Without key."""
    platform: str
    planned: str
    """What was sent, in words."""
    total_kbps: float
    asked_seconds: float
    seconds: float
    frames: int
    late_frames: int
    lost_frames: int
    stutters: tuple[Stutter, ...] = ()
    """Runs of late frames, by what was at fault."""
    worst_backlog_seconds: float
    delivered_kbps: float
    """Over the whole rehearsal, or the last seconds where a backlog stood."""
    counted_by: str
    encode_ms_typical: float
    encode_ms_slowest: float
    """The 99th percentile."""
    round_trip_ms: float | None
    round_trip_ms_worst: float | None
    reconnects: int
    verdict: RehearsalVerdict
    would_hold: str | None = None
    """The step down that would have held, in words."""
    moments: tuple[Moment, ...]
