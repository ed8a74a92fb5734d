"""The result of a rehearsal, and the cause if it did not hold.

Three things look alike to somebody who streams, and call for three different fixes: the *line* does
not carry what is sent, the *machine* does not encode it in time, the *ingest* does not take it.
They are told apart by where frames wait: before the encoder is done, between encoder and the other
end's acknowledgement, or because the connection was refused or broke.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np

from eager_kestrel.core.checks import causes
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.plan.plan import Fallback, Plan
from eager_kestrel.core.stutter import LATE_SECONDS, Stutter, stutters
from eager_kestrel.core.words import broadcasts, plans, runs as words

Limited = Literal["upload", "machine", "ingest"]


class Sent(Frozen):
    """Everything noted while sending."""

    seconds: float
    frames: int
    late_frames: int
    lost_frames: int
    """Not sent, because there was no connection."""
    encode_ms: tuple[float, ...]
    """Of each frame."""
    moments: tuple[StreamSample, ...]
    reconnects: int
    broken: tuple[tuple[float, str], ...]
    """When the connection was refused or broke, and what was said."""
    went_over: tuple[tuple[float, str], ...] = ()
    """When it went over to another server, and to which."""
    counted_by: str
    """How delivered bytes were counted."""
    start_seconds: float = 0.0
    """In which a connection gets up to speed; what was late until then is not counted."""


class RehearsalVerdict(Frozen):
    """Whether it held, and if not, why."""

    held: bool
    limited_by: Limited | None = None
    at_seconds: float | None = None
    """When it first failed."""
    late_seconds: float | None = None
    """The worst wait: of frames on the connection, or of the encoder behind its time."""
    breaks: int = 0
    """How often the ingest server refused or broke the connection."""
    fallback: int | None = None
    """Which step down would have held, 0 being the first; none when none would or none need."""
    text: str


class Rehearsal(Frozen):
    """The report."""

    format: str = format_name("rehearsal")
    server: str
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
    worst_queue_seconds: float
    delivered_kbps: float
    """Over the whole rehearsal, or the last seconds where a queue stood."""
    counted_by: str
    encode_ms_typical: float
    encode_ms_slowest: float
    """The 99th percentile."""
    round_trip_ms: float | None
    round_trip_ms_worst: float | None
    reconnects: int
    went_over: tuple[tuple[float, str], ...] = ()
    """When it went over to a backup server, in seconds, and to which."""
    verdict: RehearsalVerdict
    fallback: str | None = None
    """The step down that would have held, in words."""
    moments: tuple[StreamSample, ...]


class Rehearsals(Frozen):
    """Rehearsals of a plan (``rehearse``): of one destination in a row, or of several together."""

    format: str = format_name("rehearsals")
    held: bool
    """Whether what was asked for held, or something below it."""
    together: bool
    """Whether they were sent at the same time, each to its own destination."""
    rehearsals: tuple[Rehearsal, ...]
    settled: Plan | None = None
    """The plan with the settings that held; None if none did."""

    @property
    def best(self) -> Rehearsal:
        """The one that held at the highest bitrate; else the last."""
        held = [one for one in self.rehearsals if one.verdict.held]
        return max(held, key=lambda one: one.total_kbps, default=self.rehearsals[-1])


Steps = tuple[Fallback, ...]


def delivered_kbps(sent: Sent) -> float:
    """What the connection delivered: while a queue stood, else over all."""
    moments = [m for m in sent.moments if m.carried_bytes > 0]
    if len(moments) < 2:
        return 0.0
    seconds = np.array([m.seconds for m in moments])
    count = np.array([m.carried_bytes for m in moments], dtype=np.float64)
    standing = np.flatnonzero(np.array([m.waits for m in moments]) > LATE_SECONDS / 2)
    first = int(standing[0]) if standing.size > len(moments) // 10 else 0
    span = seconds[-1] - seconds[first]
    return float((count[-1] - count[first]) * 8e-3 / span) if span > 0 else 0.0


def verdict(sent: Sent, step: Fallback, below: Steps, asked_seconds: float) -> RehearsalVerdict:
    """Whose fault it was, when, by how much, and which step would have held.

    Args:
        below: steps down from it, in order.
        asked_seconds: it had to hold for.
    """
    if sent.broken:
        return _of_ingest(sent)
    slow = _first(sent, lambda m: m.behind)
    late = _first(sent, lambda m: m.waits)
    if slow is not None and (late is None or slow.seconds <= late.seconds):
        return _of_machine(sent, slow, step, below)
    if late is None and sent.late_frames and (unseen := _between(sent)):
        late, held_up = unseen
    else:
        held_up = 0.0 if late is None else _held_up(sent, late)
    if late is not None and held_up:
        return RehearsalVerdict(
            held=False,
            limited_by="machine",
            at_seconds=round(late.seconds, 2),
            late_seconds=round(held_up, 2),
            text=words.held_up(late.seconds, held_up),
        )
    if late is not None or sent.late_frames:
        frozen = _frozen(sent)
        return _of_line(sent, late, below) if frozen is None else frozen
    whole = sent.seconds >= asked_seconds - causes.CUT_SHORT_SECONDS
    text = words.nothing_late(sent.seconds, whole=whole)
    if began := _started_after(sent):
        text = words.slow_start(text, began)
    return RehearsalVerdict(held=whole, text=text)


def start_seconds(round_trip_ms: float | None, asked_seconds: float) -> float:
    """How long a connection may take until what is late counts: at most a third of all."""
    wanted = max(causes.START_SECONDS, causes.START_ROUND_TRIPS * (round_trip_ms or 0.0) / 1000)
    return min(wanted, asked_seconds / 3)


def _first(sent: Sent, waited: Callable[[StreamSample], float]) -> StreamSample | None:
    """The first moment after the start at which something was seen to be late."""
    began = sent.start_seconds
    return next((m for m in sent.moments if m.seconds > began and waited(m) > LATE_SECONDS), None)


def _started_after(sent: Sent) -> float:
    """Until when frames were late at the start; 0 if none was."""
    slow = [m for m in sent.moments if m.seconds <= sent.start_seconds]
    return max((m.seconds for m in slow if m.waits > LATE_SECONDS), default=0.0)


def _between(sent: Sent) -> tuple[StreamSample, float] | None:
    """When this machine was held up, and for how long at least, if no moment saw a queue.

    A queue on the connection is seen as it grows, at every moment. Frames that were late although
    hardly anything ever waited were held up here: by an encoder or a sender that was not run.
    """
    at = [moment.seconds for moment in sent.moments]
    if len(at) < 2 or max(m.waits for m in sent.moments) > LATE_SECONDS / 2:
        return None
    gaps = np.diff(at)
    number = int(np.argmax(gaps))
    return sent.moments[number + 1], max(LATE_SECONDS, float(gaps[number]))


def _held_up(sent: Sent, late: StreamSample) -> float:
    """How long this machine did not get round to sending, where that is why frames were late.

    Looks come at even intervals; one that is far overdue means that the program itself was not
    run, and what piled up meanwhile says nothing of the connection.
    """
    at = [moment.seconds for moment in sent.moments]
    number = at.index(late.seconds)
    if not number:
        return 0.0
    gap = at[number] - at[number - 1]
    overdue = gap > max(
        causes.OVERDUE_SECONDS, causes.OVERDUE_TIMES * float(np.median(np.diff(at)))
    )
    return gap if overdue and late.waits - gap <= LATE_SECONDS else 0.0


def _of_ingest(sent: Sent) -> RehearsalVerdict:
    at, why = sent.broken[0]
    return RehearsalVerdict(
        held=False,
        limited_by="ingest",
        at_seconds=round(at, 2),
        breaks=len(sent.broken),
        text=words.broke(why, at),
    )


def _frozen(sent: Sent) -> RehearsalVerdict | None:
    """The ingest no longer reads: its window is closed and nothing is taken; None otherwise."""
    last = sent.moments[-1]
    still = next(
        m for m in sent.moments if m.carried_bytes >= last.carried_bytes - causes.STILL_BYTES
    )
    if last.seconds - still.seconds < LATE_SECONDS:
        return None
    if causes.closed_share(still, last) < causes.CLOSED_SHARE:
        return None
    return RehearsalVerdict(
        held=False,
        limited_by="ingest",
        at_seconds=round(still.seconds, 2),
        late_seconds=round(last.waits, 2),
        text=words.stopped_reading(still.seconds),
    )


def _of_machine(sent: Sent, slow: StreamSample, step: Fallback, below: Steps) -> RehearsalVerdict:
    worst = max(m.behind for m in sent.moments)
    usual = float(np.median(sent.encode_ms)) if sent.encode_ms else 0.0
    frame_seconds = float(1 / step.video.frame_rate)
    most = frame_seconds * 1000 / max(usual, 1e-3) * step.video.pixels_per_second
    return RehearsalVerdict(
        held=False,
        limited_by="machine",
        at_seconds=round(slow.seconds, 2),
        late_seconds=round(worst, 2),
        fallback=_which(below, lambda s: s.video.pixels_per_second <= most),
        text=words.encoder_late(slow.seconds, worst, usual, frame_seconds),
    )


def _of_line(sent: Sent, late: StreamSample | None, below: Steps) -> RehearsalVerdict:
    worst = max((m.waits for m in sent.moments), default=0.0)
    carried = delivered_kbps(sent)
    at = late.seconds if late is not None else sent.seconds
    since = [m for m in sent.moments if m.seconds >= at - causes.SPAN_SECONDS]
    last, small = since[-1] if since else None, False
    if last is not None and last.round_trip_ms is not None:
        closed = causes.closed_share(since[0], last)
        small = causes.small_window(closed, last.round_trip_ms, last.min_round_trip_ms)
    text = words.frames_queued(at, worst, carried)
    if small and last is not None and last.round_trip_ms is not None:
        text = broadcasts.small_window(carried, last.round_trip_ms)
    elif _closed_meanwhile(sent):
        text = words.perhaps_the_ingest(text)
    return RehearsalVerdict(
        held=False,
        limited_by="ingest" if small else "upload",
        at_seconds=round(at, 2),
        late_seconds=round(worst, 2),
        fallback=_which(below, lambda s: s.total_kbps <= causes.HOLDS_SHARE * carried),
        text=text,
    )


def _closed_meanwhile(sent: Sent) -> bool:
    """Whether for a while nothing was taken, and the other end's window was closed.

    It may not have read, or whatever stands between may have passed on what the connection takes.
    """
    last = sent.moments[0] if sent.moments else None
    for moment in sent.moments:
        if last is None or moment.carried_bytes - last.carried_bytes > causes.STILL_BYTES:
            last = moment
        if moment.seconds - last.seconds > LATE_SECONDS:
            return causes.closed_share(last, moment) > causes.CLOSED_SHARE
    return False


def _which(below: Steps, fits: Callable[[Fallback], bool]) -> int | None:
    """The first step down that fits, counted from 0."""
    return next((i for i, step in enumerate(below) if fits(step)), None)


def _stutters(sent: Sent, cause: str) -> tuple[Stutter, ...]:
    """Stutters of what was sent, as far as a queue or a late encoder was seen."""
    at = np.array([moment.seconds for moment in sent.moments])
    if at.size < 2:
        return ()
    late = [
        m.seconds > sent.start_seconds and max(m.waits, m.behind) > LATE_SECONDS
        for m in sent.moments
    ]
    return stutters(late, at, float(np.median(np.diff(at))), [cause] * at.size)


def rehearsal_of(
    sent: Sent, step: Fallback, below: Steps, *, server: str, platform: str, asked_seconds: float
) -> Rehearsal:
    """The report of what was noted.

    Args:
        below: steps down from it, in order.
        server: where to, without key.
        asked_seconds: it had to hold for.
    """
    encode = np.array(sent.encode_ms) if sent.encode_ms else np.zeros(1)
    trips = [m.round_trip_ms for m in sent.moments if m.round_trip_ms is not None]
    video, audio = step.video, step.audio
    found = verdict(sent, step, below, asked_seconds)
    holds = None if found.fallback is None else below[found.fallback].video.text
    return Rehearsal(
        server=server,
        platform=platform,
        planned=plans.rehearsed(
            video.resolution,
            video.frame_rate,
            video.bitrate_kbps,
            video.keyframe_seconds,
            audio.bitrate_kbps,
        ),
        total_kbps=round(step.total_kbps, 1),
        asked_seconds=asked_seconds,
        seconds=round(sent.seconds, 2),
        frames=sent.frames,
        late_frames=sent.late_frames,
        lost_frames=sent.lost_frames,
        stutters=_stutters(sent, found.limited_by or ""),
        worst_queue_seconds=round(max((m.waits for m in sent.moments), default=0.0), 3),
        delivered_kbps=round(delivered_kbps(sent), 1),
        counted_by=sent.counted_by,
        encode_ms_typical=round(float(np.median(encode)), 2),
        encode_ms_slowest=round(float(np.percentile(encode, 99)), 2),
        round_trip_ms=round(float(np.median(trips)), 1) if trips else None,
        round_trip_ms_worst=round(max(trips), 1) if trips else None,
        reconnects=sent.reconnects,
        went_over=sent.went_over,
        verdict=found,
        fallback=holds,
        moments=sent.moments,
    )
