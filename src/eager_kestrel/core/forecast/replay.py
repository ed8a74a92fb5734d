"""Replay: a stream's own frames go through everything observed of a connection.

Queue and lateness are those of :mod:`eager_kestrel.core.stutter`, on steps of 50 ms. Reserves are
part of what is sent, and in proportion: a stream whose total rate is T sends T times the pattern,
so that a higher rate is never less late.

Standstills (:mod:`eager_kestrel.core.stutter`) are cut out of the evidence, for every rate alike:
from where the queue of the lowest total begins to grow until it is empty again. A stream goes on
behind one with the queue it had before, since programs drop frames or connect again there. What is
left is the stutter that a bitrate can avoid, and it never falls as the rate rises.

The rate of what was seen gets an interval by resampling: days with replacement, and blocks of two
seconds within each run (bootstrap of clusters; Davison and Hinkley, Bootstrap Methods and their
Application, 1997, section 3.8). It says nothing of what was not seen: of a kind of stutter that did
not happen in t hours, up to 3 / t an hour cannot be excluded at 95 % (Hanley and Lippman-Hand,
JAMA 249(13), 1983).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.throughput import GRID_SECONDS
from eager_kestrel.core.forecast.evidence import BLOCK_STEPS, Evidence
from eager_kestrel.core.stutter import (
    LATE_SECONDS,
    TINY_SECONDS,
    Standstills,
    StutterSeen,
    bridged,
    left_queued,
    queued_kbit,
    standstills,
    within,
)

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats, Indices
    from eager_kestrel.core.show.show import Motion


REPLICATES = 200
SURE = (5.0, 95.0)
"""Percentiles that nine of ten resamples lie between."""
RULE_OF_THREE = 3.0
HEADROOM, HALVED_SECONDS = 0.42, 900.0
"""For what was not seen: with next to no evidence a steady connection is used up to 1 / 1.42, the
customary 70 %; a quarter of an hour of evidence halves the headroom, two hours leave a ninth."""
MOST_TOLD = 5
"""Standstills whose time is told."""
PRECISION = 1.002
"""How closely the highest rate within a limit is known."""


@dataclass(frozen=True, slots=True)
class _Sums:
    """Seconds of stutter at one rate."""

    by_block: Floats
    """Shape (blocks,)."""
    number: Floats
    """Shape (stretches,): stutters."""
    worst_seconds: float


@dataclass(frozen=True)
class Replay:
    """Sends one pattern of frames through evidence, at any total rate."""

    evidence: Evidence
    sending: Sending
    lowest_kbps: float
    """The lowest total worth sending; what makes even that late is a standstill."""
    seed: int = 0

    @cached_property
    def _whole_pattern(self) -> Floats:
        """Shape (steps of evidence,): seconds of stream sent in each step; none in open steps."""
        steps = self.sending.by_step(GRID_SECONDS)
        return np.where(self.evidence.real, steps[self.evidence.phase % steps.size], 0.0)

    @cached_property
    def _spans(self) -> tuple[Indices, Indices]:
        """Where each standstill begins and ends, shapes (standstills,)."""
        return standstills(self._whole_pattern, self.evidence.carried_kbit, self.lowest_kbps)

    @cached_property
    def _standing(self) -> Flags:
        """Shape (steps,): what is cut out, since even the lowest total is late there."""
        return within(*self._spans, self.evidence.carried_kbit.size) & self.evidence.real

    @cached_property
    def _going_on(self) -> Indices:
        """Shape (steps,): steps since its piece began, standstills left out."""
        known = self.evidence
        stood = np.cumsum(self._standing)
        begins = np.flatnonzero(known.phase == 0)
        before = np.concatenate([[0], stood])[begins][known.piece]
        return np.asarray(np.maximum(known.phase - (stood - before), 0), dtype=np.intp)

    @cached_property
    def _pattern(self) -> Floats:
        """What is sent outside of standstills; the stream goes on behind one where it was."""
        steps = self.sending.by_step(GRID_SECONDS)
        sent = np.where(self.evidence.real, steps[self._going_on % steps.size], 0.0)
        return np.where(self._standing, 0.0, sent)

    @cached_property
    def _block(self) -> Indices:
        """Shape (steps,): resampled together; a standstill moves nothing from one to another."""
        known = self.evidence
        begins = np.flatnonzero(known.phase == 0)
        sizes = np.diff(np.append(begins, known.phase.size))
        last = np.minimum(self._going_on, (sizes - 2).clip(0)[known.piece])
        return np.asarray(known.block[begins][known.piece] + last // BLOCK_STEPS, dtype=np.intp)

    @cached_property
    def _carried_kbit(self) -> Floats:
        """What is carried outside of standstills."""
        return np.where(self._standing, 0.0, self.evidence.carried_kbit)

    @cached_property
    def _weights(self) -> tuple[Floats, Floats]:
        """How often each block and each stretch is drawn, shapes (replicates + 1, ...).

        The first row is the evidence itself.
        """
        rng = np.random.default_rng(self.seed)
        known = self.evidence
        clusters = int(known.cluster.max(initial=-1)) + 1
        drawn = rng.multinomial(clusters, np.full(clusters, 1 / clusters), REPLICATES)
        stretch = np.vstack([np.ones(known.seconds.size), drawn[:, known.cluster]])
        within = [  # of each stretch by itself, so that one does not change what another draws
            np.random.default_rng((self.seed, number)).poisson(1.0, (count, REPLICATES))
            for number, count in enumerate(
                np.bincount(known.stretch_of_block, minlength=known.seconds.size)
            )
        ]
        block = np.vstack([np.ones(known.stretch_of_block.size), np.concatenate(within).T])
        return block * stretch[:, known.stretch_of_block], stretch

    @cached_property
    def _summed(self) -> dict[float, _Sums]:
        return {}

    def _sums(self, total_kbps: float) -> _Sums:
        """Sums at a rate, reckoned once: those at each reach are asked for again and again."""
        if total_kbps not in self._summed:
            self._summed[total_kbps] = self._sums_anew(total_kbps)
        return self._summed[total_kbps]

    def _sums_anew(self, total_kbps: float) -> _Sums:
        known = self.evidence
        queue = queued_kbit(self._pattern * total_kbps, self._carried_kbit) / total_kbps
        queue[~known.real | self._standing] = 0.0
        late = bridged(queue > LATE_SECONDS, known.piece, GRID_SECONDS)
        begins = late & ~np.concatenate([[False], late[:-1]])
        of_block = known.stretch_of_block
        blocks = np.bincount(self._block, late, of_block.size) * GRID_SECONDS
        number = np.bincount(of_block[known.block], begins, known.seconds.size)
        return _Sums(
            blocks.astype(np.float64), number.astype(np.float64), float(queue.max(initial=0.0))
        )

    def _share(self, total_kbps: float) -> Floats:
        """Share of the time in a stutter, shape (replicates + 1,); nan where nothing is known.

        Evidence counts up to its reach, so a rate above some of it is judged in steps: up to the
        lowest reach by everything, from there to the next by what reaches so far.
        """
        known = self.evidence
        by_block, by_stretch = self._weights
        share = np.zeros(REPLICATES + 1)
        below: Floats | None = None
        for level, reach in enumerate(known.reaches_kbps):
            counts = known.level >= level
            seconds = by_stretch @ (known.seconds * counts)
            blocks = self._sums(min(total_kbps, reach)).by_block
            gained = blocks if below is None else blocks - below
            late = by_block @ (gained * counts[known.stretch_of_block])
            share += np.divide(late, seconds, out=np.zeros_like(late), where=seconds > 0)
            if total_kbps <= reach:
                return np.minimum(share, 1.0)
            below = blocks
        return np.full(REPLICATES + 1, np.nan)

    def seen(self, total_kbps: float) -> StutterSeen | None:
        """Return how much a stream would have stuttered, or None if no evidence reaches it."""
        known = self.evidence
        if not known.seconds.size:
            return None
        share = self._share(total_kbps)
        if not np.isfinite(share).all():
            return None
        reached = self._reach >= total_kbps
        if not reached.any():
            reached = known.level == known.level.max()
        sums = self._sums(total_kbps)
        observed = float(known.seconds[reached].sum())
        seconds = float(sums.by_block[reached[known.stretch_of_block]].sum())
        number = int(sums.number[reached].sum())
        low, high = np.percentile(share[1:], SURE)
        hourly = float(share[0]) * 3600
        return StutterSeen(
            observed_seconds=round(observed, 2),
            seconds=round(seconds, 2),
            number=number,
            worst_queue_seconds=round(sums.worst_seconds, 3),
            seconds_per_hour=round(hourly, 2),
            low_seconds_per_hour=round(min(float(low) * 3600, hourly), 2),
            high_seconds_per_hour=round(max(float(high) * 3600, hourly), 2),
            number_per_hour=round(number / observed * 3600, 2),
            unseen_per_hour=round(RULE_OF_THREE / (observed / 3600), 2),
            standstills=self._standstills(total_kbps),
        )

    def _standstills(self, total_kbps: float) -> Standstills | None:
        """What no bitrate avoids, and for how long a stream is late after each."""
        known, (begins, ends) = self.evidence, self._spans
        if not begins.size:
            return None
        left, _ = left_queued(self._whole_pattern, known.carried_kbit, self.lowest_kbps)
        lasted = [
            (int(np.argmax(left[begin:end])) + 1) * GRID_SECONDS
            for begin, end in zip(begins, ends, strict=True)
        ]
        owners = {int(n) for n in known.stretch_of_block[known.block[begins]]}
        at = sorted((known.stretches[n].began for n in owners), reverse=True)
        return Standstills(
            number=len(lasted),
            seconds=round(sum(lasted), 2),
            longest_seconds=round(max(lasted), 2),
            late_seconds=round(self._late_behind(begins, total_kbps), 2),
            late_at_half_seconds=round(self._late_behind(begins, total_kbps / 2), 2),
            at=tuple(f"{moment:%Y-%m-%dT%H:%M}" for moment in at[:MOST_TOLD]),
        )

    def _late_behind(self, begins: Indices, total_kbps: float) -> float:
        """Seconds for which a stream is late from each of these on, on average."""
        left, late = left_queued(self._whole_pattern, self.evidence.carried_kbit, total_kbps)
        empty = np.append(np.flatnonzero(left <= TINY_SECONDS), left.size)
        ends = empty[np.searchsorted(empty, begins + 1)]
        late &= within(begins, ends, left.size)
        return float(late.sum()) * GRID_SECONDS / begins.size

    def max_kbps(self, limit: float) -> float | None:
        """The highest total rate whose stutter keeps a limit at the cautious end.

        Args:
            limit: seconds of stutter an hour.

        Returns:
            None where no rate does, or nothing was observed.
        """
        return self._highest(lambda kbps: self._keeps(kbps, limit))

    def safe_kbps(self, limit: float) -> float | None:
        """The seen-safe rate: as :meth:`max_kbps`, with headroom for what was not seen.

        A rate is safe when a stream higher by the headroom keeps the limit, too; where nothing is
        known of so high a rate, the highest that something is known of.
        """
        reach = float(self.evidence.reaches_kbps[-1]) if self.evidence.reaches_kbps.size else 0.0

        def safe(kbps: float) -> bool:
            if kbps > reach:
                return False
            higher = kbps * (1 + self.headroom(kbps))
            return self._keeps(min(higher, reach), limit)

        return self._highest(safe)

    def headroom(self, kbps: float) -> float:
        """Share of a rate that is added for what the evidence is too short to show."""
        reaching = self._reach >= kbps
        return HEADROOM / (1 + float(self.evidence.seconds[reaching].sum()) / HALVED_SECONDS)

    @cached_property
    def _reach(self) -> Floats:
        return np.array([stretch.reach_kbps for stretch in self.evidence.stretches])

    def _keeps(self, kbps: float, limit: float) -> bool:
        share = self._share(kbps)
        return bool(np.isfinite(share).all()) and self._high(share) * 3600 <= limit

    def _highest(self, keeps: Callable[[float], bool]) -> float | None:
        """The highest rate, where every lower one keeps what it keeps."""
        top = self.evidence.highest_kbps
        if not top:
            return None
        if keeps(top):
            return top
        low, high = top / 4096, top
        if not keeps(low):
            return None
        while high > low * PRECISION:
            middle = float(np.sqrt(low * high))
            low, high = (middle, high) if keeps(middle) else (low, middle)
        return low

    @staticmethod
    def _high(share: Floats) -> float:
        return max(float(np.percentile(share[1:], SURE[1])), float(share[0]))


KEYFRAME_TO_P: dict[Motion, float] = {"still": 12.0, "calm": 8.0, "lively": 5.0, "hectic": 3.0}
"""How much longer a keyframe is than a P-frame; the less moves, the more."""
B_TO_P = 0.5
MOST_ROUNDS = 20
"""Repetitions of a pattern at the most, until it ends with a step."""


@dataclass(frozen=True, slots=True)
class Sending:
    """A stream as the connection carries it, in seconds of stream; an average frame has 1/fps."""

    kbps: float
    """Everything sent, on average."""
    fps: float
    pattern: Floats
    """Shape (frames,), seconds of stream in each frame, in the order sent; then from the start."""

    def by_step(self, step_seconds: float) -> Floats:
        """Seconds of stream sent in each step, of about as long as the pattern lasts.

        A frame is sent when it is due, as a whole.

        Args:
            step_seconds: how long a step is.

        Returns:
            Shape (steps,), the length of a step on average.
        """
        lasts = self.pattern.size / self.fps
        rounds = 1
        while abs(rounds * lasts / step_seconds - round(rounds * lasts / step_seconds)) > 0.01:
            rounds += 1
            if rounds == MOST_ROUNDS:
                break
        count = max(1, round(rounds * lasts / step_seconds))
        frames = np.tile(self.pattern, rounds)
        at = np.floor(np.arange(frames.size) / self.fps / step_seconds + 1e-9).astype(np.intp)
        sent = np.bincount(np.minimum(at, count - 1), frames, count)
        return np.asarray(sent * (count * step_seconds / sent.sum()), dtype=np.float64)


def group_of_frames(keyframe_frames: int, b_frames: int, motion: Motion) -> Floats:
    """How long each frame of a keyframe interval is, as a multiple of their mean."""
    order = [1.0] + [B_TO_P] * b_frames  # a P-frame is sent before the B-frames that need it
    video = np.resize(np.array(order), max(1, keyframe_frames))
    video = np.roll(video, 1) if keyframe_frames > 1 else video
    video[0] = KEYFRAME_TO_P[motion]
    return np.asarray(video / video.mean(), dtype=np.float64)


def planned(
    group: Floats, kbps: float, video_kbps: float, fps: float, buffer_kbit: float
) -> Sending:
    """The frames of a plan: constant bitrate, a keyframe every interval, the rest spread evenly.

    Args:
        group: :func:`group_of_frames`.
        kbps: video, audio and what the transport adds.
        buffer_kbit: the encoder's; no frame is longer.
    """
    video = group.copy()
    longest = buffer_kbit * fps / max(video_kbps, 1e-9)
    if video[0] > longest > 1 and video.size > 1:
        video[1:] *= (video.size - longest) / video[1:].sum()
        video[0] = longest
    share = min(1.0, video_kbps / kbps)
    return Sending(kbps, fps, np.asarray((share * video + 1 - share) / fps, dtype=np.float64))


def recorded(seconds: Floats, sizes_bytes: Floats) -> Sending:
    """The frames of a recording, sent again and again.

    Args:
        seconds: shape (frames,), when each was sent, rising.
        sizes_bytes: shape (frames,), audio and headers with the frame they follow.
    """
    fps = (seconds.size - 1) / float(seconds[-1] - seconds[0])
    edges = seconds[0] + np.arange(seconds.size + 1) / fps
    sent = np.concatenate([[0.0], np.cumsum(sizes_bytes)])
    begun = np.append(seconds, edges[-1])  # a late frame leaves a gap, and what follows is a burst
    kbit = np.diff(np.interp(edges, begun, sent)) * 8e-3
    kbps = float(kbit.mean()) * fps
    return Sending(kbps, fps, np.asarray(kbit / kbps, dtype=np.float64))


def together(streams: tuple[Sending, ...]) -> Sending:
    """Several streams over one line, at the first one's frame rate, keyframes at the same time."""
    if len(streams) == 1:
        return streams[0]
    kbps = sum(stream.kbps for stream in streams)
    first = max(streams, key=lambda stream: stream.kbps)
    count = max(round(stream.pattern.size / stream.fps * first.fps) for stream in streams)
    edges = np.arange(count + 1) / first.fps
    total = np.zeros(count + 1)
    for stream in streams:
        sent = np.concatenate([[0.0], np.cumsum(np.resize(stream.pattern, 2 * count + 2))])
        at = np.arange(sent.size) / stream.fps
        total += np.interp(edges, at, sent) * stream.kbps / kbps
    pattern = np.diff(total)
    return Sending(kbps, first.fps, np.asarray(pattern / (pattern.mean() * first.fps)))
