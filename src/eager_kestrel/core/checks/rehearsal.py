"""A rehearsal: what happened while a stand-in stream was sent, and whose fault it was.

Three things look alike to somebody who streams, and call for three different fixes: the *line* does
not carry what is sent, the *machine* does not encode it in time, the *ingest* does not take it.
They are told apart by where frames wait: before the encoder is done, between encoder and the other
end's acknowledgement, or because the connection was refused or broke.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.plan.plan import Fallback

LATE_SECONDS = 0.7
"""A frame that is so late is seen to be; as in the forecast."""
GIVE_UP_SECONDS = 1.2
"""A backlog that does not come back from here."""
HOLDS_SHARE = 0.9
"""A step holds when it takes no more of what was delivered than this."""

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


class Verdict(Frozen):
    """Whether it held, and if not, why."""

    held: bool
    limited_by: Limited | None
    at_seconds: float | None
    """When it first failed."""
    by: float
    """Line: seconds of backlog; machine: seconds behind; ingest: times it broke."""
    would_hold: int | None
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
    verdict: Verdict
    moments: tuple[Moment, ...]


def delivered_kbps(sent: Sent) -> float:
    """What the line delivered: while a backlog stood, else over all."""
    moments = [m for m in sent.moments if m.delivered_bytes > 0]
    if len(moments) < 2:
        return 0.0
    seconds = np.array([m.seconds for m in moments])
    count = np.array([m.delivered_bytes for m in moments], dtype=np.float64)
    standing = np.flatnonzero(np.array([m.backlog_seconds for m in moments]) > LATE_SECONDS / 2)
    first = int(standing[0]) if standing.size > len(moments) // 10 else 0
    span = seconds[-1] - seconds[first]
    return float((count[-1] - count[first]) * 8e-3 / span) if span > 0 else 0.0


def verdict(
    sent: Sent, asked_seconds: float, frame_seconds: float, steps: tuple[Fallback, ...],
    pixels_per_second: float,
) -> Verdict:  # fmt: skip
    """Whose fault it was, when, by how much, and which step would have held.

    Args:
        sent: what was noted.
        asked_seconds: it had to hold for.
        frame_seconds: between two frames as planned.
        steps: down from what was sent, in order.
        pixels_per_second: of what was sent.
    """
    slow = next((m for m in sent.moments if m.encoder_seconds > LATE_SECONDS), None)
    late = next((m for m in sent.moments if m.backlog_seconds > LATE_SECONDS), None)
    if sent.broken:
        at, why = sent.broken[0]
        return Verdict(held=False, limited_by="ingest", at_seconds=round(at, 2),
                       by=float(len(sent.broken)), would_hold=None,
                       text=f"{why}, after {at:.1f} s")  # fmt: skip
    if slow is not None and (late is None or slow.seconds <= late.seconds):
        worst = max(m.encoder_seconds for m in sent.moments)
        usual = float(np.median(sent.encode_ms)) if sent.encode_ms else 0.0
        able = frame_seconds * 1000 / max(usual, 1e-3)
        most = able * pixels_per_second
        fits = [i for i, step in enumerate(steps) if _pixels(step) <= most]
        return Verdict(
            held=False, limited_by="machine", at_seconds=round(slow.seconds, 2),
            by=round(worst, 2), would_hold=fits[0] if fits else None,
            text=f"after {slow.seconds:.1f} s it was {worst:.1f} s behind; a frame "
                 f"takes {usual:.1f} ms and has {frame_seconds * 1000:.1f}",
        )  # fmt: skip
    if late is not None or sent.late_frames:
        worst = max((m.backlog_seconds for m in sent.moments), default=0.0)
        carried = delivered_kbps(sent)
        fits = [i for i, s in enumerate(steps) if s.total_kbps <= HOLDS_SHARE * carried]
        at = late.seconds if late is not None else sent.seconds
        return Verdict(
            held=False, limited_by="line", at_seconds=round(at, 2), by=round(worst, 2),
            would_hold=fits[0] if fits else None,
            text=f"after {at:.1f} s frames waited {worst:.1f} s; it delivered "
                 f"{carried:,.0f} kbit/s",
        )  # fmt: skip
    enough = sent.seconds >= asked_seconds - 0.5
    text = f"it held for {sent.seconds:.0f} s, no frame was late"
    if not enough:
        text = f"stopped after {sent.seconds:.0f} s; no frame was late"
    return Verdict(
        held=enough, limited_by=None, at_seconds=None, by=0.0, would_hold=None, text=text
    )


def _pixels(step: Fallback) -> float:
    return step.video.width * step.video.height * step.video.fps


def rehearsal_of(
    sent: Sent, *, target: str, platform: str, planned: str, total_kbps: float,
    asked_seconds: float, frame_seconds: float, steps: tuple[Fallback, ...],
    pixels_per_second: float,
) -> Rehearsal:  # fmt: skip
    """The report of what was noted."""
    encode = np.array(sent.encode_ms) if sent.encode_ms else np.zeros(1)
    trips = [m.round_trip_ms for m in sent.moments if m.round_trip_ms is not None]
    return Rehearsal(
        target=target,
        platform=platform,
        planned=planned,
        total_kbps=round(total_kbps, 1),
        asked_seconds=asked_seconds,
        seconds=round(sent.seconds, 2),
        frames=sent.frames,
        late_frames=sent.late_frames,
        lost_frames=sent.lost_frames,
        worst_backlog_seconds=round(max((m.backlog_seconds for m in sent.moments), default=0.0), 3),
        delivered_kbps=round(delivered_kbps(sent), 1),
        counted_by=sent.counted_by,
        encode_ms_typical=round(float(np.median(encode)), 2),
        encode_ms_slowest=round(float(np.percentile(encode, 99)), 2),
        round_trip_ms=round(float(np.median(trips)), 1) if trips else None,
        round_trip_ms_worst=round(max(trips), 1) if trips else None,
        reconnects=sent.reconnects,
        verdict=verdict(sent, asked_seconds, frame_seconds, steps, pixels_per_second),
        moments=sent.moments,
    )
