"""What is at fault when frames are late: the causes, what tells them apart, and from which values.

Frames wait where the cause is. The table is the same for a rehearsal, a stream that is watched from
outside, and one that passes through; the first row that holds is the cause.

| cause | where frames wait | what tells |
| --- | --- | --- |
| connection, ingest | nowhere: it is refused or breaks | the other end says so, or is gone |
| machine | before the connection | encoder or program are late, or hand nothing over |
| ingest | in the send buffer, the other end's window being closed | :func:`small_window` |
| program | in the send buffer, more being carried than is planned | it sends faster than planned |
| upload | in the send buffer, all else being well | the queue grows, or nothing is carried |

All of it is read from one sample type, and all thresholds stand here.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import fmean
from typing import TypeAlias

import numpy as np

from eager_kestrel.core.connection.broadcast import STANDING_SECONDS
from eager_kestrel.core.stutter import LATE_SECONDS

# How far back is looked

LATELY_SECONDS = 1.0
SPAN_SECONDS = 2.0
"""Over which a queue's minimum is taken, or longer: keyframes come so often."""
PROGRAM_SECONDS = 8.0
"""Over which the program's own rate is taken."""
MOST_PROGRAM_SECONDS = 24.0

# The start

START_SECONDS, START_ROUND_TRIPS = 2.0, 10.0
"""A connection may take the longer of both to get up to speed (slow start, RFC 5681)."""

# Queues

SLOPE = 0.02
"""Seconds of stream a second: a queue that grows more slowly is no news yet."""
SIGHT_SECONDS = 20.0
"""How far ahead a late frame is told."""
RISING_LOOKS, RISING_SECONDS = 5, 0.28
RISING_EVENLY = 0.4
"""A queue that rises at every one of so many looks, by so much in all, and at none by less than
this share of an even rise, is no keyframe's."""
STALL_SECONDS = 0.75
STALL_SHARE = 0.05

# A rehearsal

GIVE_UP_SECONDS = 1.2
"""A queue that does not come back from here."""
HOLDS_SHARE = 0.9
"""A step holds when it takes no more of what was delivered than this."""
STILL_BYTES = 2_000
CUT_SHORT_SECONDS = 0.5
"""A rehearsal that ends so much earlier than asked was stopped."""

OVERDUE_SECONDS, OVERDUE_TIMES = 0.4, 4.0
"""A look that comes so late, and so many times later than usual, means a busy machine."""

# A stream on the air

KEPT_SECONDS = 30.0
CLOSED_SHARE, SMALL_SHARE = 0.7, 0.25
"""Of the time, for a window that is shut, and for one that is too small: a sender that paces itself
waits for both."""
LITTLE_SHARE = 0.3
CALM_SECONDS = 2.0
"""Without a wait, before a line that was late is said to carry it."""
BACK_SECONDS = 5.0
"""How long it is said that a connection is back."""
LESS_SHARE, MORE_SHARE = 0.85, 1.05
"""Of the planned rate; a constant bitrate lawfully exceeds the latter by the encoder's buffer."""
BUFFER_SECONDS = 1.0
BACK_SHARE = 0.05
"""A rate that was off the plan has to come this much nearer, to be on it again."""
FREE_LOOKS = 8
"""Without a queue, to know what a program sends."""
PAUSE_SECONDS = 1.0
"""Audio alone comes more often than that."""
WAITING_MS, WAITING_SHARE = 10.0, 0.25
"""More than the least round trip, beyond which packets wait on the way."""
AFTER_SECONDS = 5.0
"""That a program may take to make up for a queue."""
HALTS_SHARE = 0.3
"""Of the time without a byte, beyond which a program sends by fits and starts."""
HURRY_SHARE = 1.05
"""Of the plan: where more is carried, a queue is not the connection's."""
SPELL_LOOKS = 5
RESUME_SECONDS = 1.5
"""After a pause of the program, in which what waits is the pause's."""
MEDIA_LATE_SECONDS = 0.4
FPS_SHARE = 0.93
MOST_HIDDEN_SECONDS = 10.0


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

    @property
    def waits(self) -> float:
        """Seconds that the oldest frame has waited, as far as frames are seen."""
        return self.queued_seconds or 0.0

    @property
    def behind(self) -> float:
        """Seconds that the program or the encoder is late."""
        return self.media_late_seconds or 0.0


Looks: TypeAlias = Sequence[tuple[StreamSample, float]]
"""Each with the seconds of stream that waited."""


def rising(looks: Looks) -> tuple[float, float, float] | None:
    """A queue that rises fast, at every look: by how much a second, to what, over how long."""
    lately = list(looks)[-RISING_LOOKS:]
    waits = [wait for _, wait in lately]
    rise, took = waits[-1] - waits[0], lately[-1][0].seconds - lately[0][0].seconds
    least = min((after - before for before, after in pairwise(waits)), default=0.0)
    steady = least > RISING_EVENLY * rise / (RISING_LOOKS - 1)
    if len(lately) < RISING_LOOKS or not steady or rise < RISING_SECONDS or took <= 0:
        return None
    return rise / took, waits[-1], took


def growing(looks: Looks, keyframe_seconds: float) -> tuple[float, float, float] | None:
    """A queue whose least rises from one keyframe interval to the next; as :func:`rising` has it.

    One second with more than usual makes it rise once; so it has to rise twice, or to have gone
    half the way to a late frame.
    """
    span, end = max(SPAN_SECONDS, keyframe_seconds), looks[-1][0].seconds
    now, before, earlier = (_waits(looks, end - back * span, span) for back in range(3))
    if not before or looks[0][0].seconds > end - 2 * span + 1:
        return None
    slope = (min(now) - min(before)) / span
    if min(now) < STANDING_SECONDS / 2 or slope < SLOPE or now[-1] < max(now) / 2:
        return None
    twice = bool(earlier) and (min(before) - min(earlier)) / span >= SLOPE
    if not twice and max(now) < LATE_SECONDS / 2:
        return None
    if (LATE_SECONDS - max(now)) / slope > SIGHT_SECONDS:
        return None
    return slope, max(now), span


def _waits(looks: Looks, end: float, span: float) -> list[float]:
    """What waited at the looks of an interval."""
    return [wait for seen, wait in looks if end - span < seen.seconds <= end]


def pauses_of(looks: Looks) -> tuple[float, float] | None:
    """For how many seconds a program handed nothing over, in all and at a stretch.

    Frames and audio come far more often than we look. None if a queue stood for longer than a
    keyframe makes one stand: then the connection may have held the program up.
    """
    silent = longest = still = standing = 0.0
    for (before, _), (after, waits) in pairwise(looks):
        took = after.seconds - before.seconds
        gained = after.carried_bytes > before.carried_bytes
        standing = standing + took if waits > STANDING_SECONDS else 0.0
        quiet = after.handed_bytes == before.handed_bytes and (gained or not standing)
        still = still + took if quiet else 0.0
        silent, longest = silent + (took if quiet else 0.0), max(longest, still)
        if standing > SPAN_SECONDS:
            return None
    return silent, longest


def program_kbps(looks: Looks, keyframe_seconds: float, since: float) -> float | None:
    """The program's own rate since a moment; None while there is too little of it.

    Bytes handed over are averaged over one keyframe interval at both ends, so that a keyframe more
    or less at an end changes nothing.
    """
    begin, end = max(looks[0][0].seconds, since), looks[-1][0].seconds
    interval = max(SPAN_SECONDS, keyframe_seconds)
    apart = min(end - begin - interval, MOST_PROGRAM_SECONDS)
    if apart < PROGRAM_SECONDS - interval:
        return None
    at = [look.seconds for look, _ in looks]
    handed = [look.handed_bytes for look, _ in looks]
    steps = np.linspace(0, interval, 41)
    last = np.interp(end - steps, at, handed).mean()
    first = np.interp(end - apart - steps, at, handed).mean()
    return float(last - first) * 8e-3 / apart


def stalled_seconds(looks: Looks, usual_kbps: float) -> float | None:
    """How long hardly anything was taken; None when something was, or it was not long."""
    last = looks[-1][0]
    since = last.seconds
    for look, _ in reversed(looks):
        took = last.seconds - look.seconds
        share = (last.carried_bytes - look.carried_bytes) * 8e-3
        if share > STALL_SHARE * usual_kbps * max(took, LATELY_SECONDS / 2):
            break
        since = look.seconds
    stalled = last.seconds - since
    return stalled if stalled >= STALL_SECONDS else None


def rate_of(looks: Sequence[StreamSample], column: str) -> float:
    """kbit/s between the first and the last look."""
    if len(looks) < 2 or looks[-1].seconds <= looks[0].seconds:
        return 0.0
    count = getattr(looks[-1], column) - getattr(looks[0], column)
    return float(count) * 8e-3 / (looks[-1].seconds - looks[0].seconds)


def closed_share(before: StreamSample, after: StreamSample) -> float:
    """The share of the time between two looks in which the other end's window was closed."""
    first, last = before.window_closed_seconds, after.window_closed_seconds
    took = after.seconds - before.seconds
    return (last - first) / took if first is not None and last is not None and took > 0 else 0.0


def small_window(closed: float, trip_ms: float | None, least_ms: float | None) -> bool:
    """Whether a window is closed again and again, and nothing waits on the way: it is too small.

    Where the upload is the limit a window may be closed as well, but then packets wait.

    Args:
        closed: the share of the time.
        least_ms: the least round trip lately.
    """
    if trip_ms is None or least_ms is None or closed < SMALL_SHARE:
        return False
    return trip_ms <= least_ms + max(WAITING_MS, WAITING_SHARE * least_ms)


def mean_of(values: Sequence[float | None]) -> float | None:
    """Of those that are known."""
    known = [value for value in values if value is not None]
    return fmean(known) if known else None
