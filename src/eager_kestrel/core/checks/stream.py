"""Counts of a stream as its packets arrive, and the description they lead to."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.guide.rules import CUSTOMARY_RATES
from eager_kestrel.core.resolution import MOST_RATE, Resolution
from eager_kestrel.core.settings.recording import AudioSeen, KeyframesSeen, Recording, VideoSeen
from eager_kestrel.core.stutter import LATE_SECONDS

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from eager_kestrel.core.arrays import Flags, Floats


LONGEST_GAP_SECONDS = 60.0
LONGEST_BACK_SECONDS = 2.0
"""Further back than any codec reorders."""
MOST_JUMPS = 20


@dataclass(slots=True)
class SteadyClock:
    """Takes jumps out of times that come in the order they were sent."""

    jumps: list[tuple[float, float]] = field(default_factory=list)
    """When, by the steady clock, and how far; seconds. The first few."""
    _last: float | None = None
    _offset: float = 0.0

    def correction(self, sent: Floats) -> Floats:
        """What to take off each of some times, in seconds; an array of the same length."""
        if not sent.size:
            return np.zeros(0)
        before = sent[0] if self._last is None else self._last
        steps = np.diff(np.concatenate([[before], sent]))
        jumping = (steps > LONGEST_GAP_SECONDS) | (steps < -LONGEST_BACK_SECONDS)
        self._last = float(sent[-1])
        if not jumping.any():
            return np.full(sent.size, self._offset)
        taken = self._offset + np.cumsum(np.where(jumping, steps, 0.0))
        for at in np.flatnonzero(jumping)[: max(0, MOST_JUMPS - len(self.jumps))]:
            self.jumps.append((float(sent[at] - taken[at]), float(steps[at])))
        self._offset = float(taken[-1])
        return np.asarray(taken, dtype=np.float64)

    def steady(self, sent: float) -> float:
        """One time without the jumps before it."""
        return sent - float(self.correction(np.array([sent]))[0])


BIN_SECONDS, MOST_BINS = 0.02, 2**22
"""A day; of a longer stream, and of one that only claims to be, bins become twice as wide."""
FINE = 100_000
"""Spacings are counted in so many parts of a second."""
REORDER = 32
"""Frames that may still come in front of those seen; more than any codec reorders."""
NEAR = 0.25
"""A spacing this near to the usual one, relative, is regular; containers round to milliseconds."""
REGULAR = 0.98
"""The least share of frames that come when they are due, of a constant frame rate."""
LOOSE = 0.01
"""How near to a customary rate, relative, where frames are left out and times are rounded."""
MOSTLY = 2 / 3
"""From this share on, frames that are left out do not count for the frame rate."""
GAP_FRAMES = 3.0
GAP_SECONDS = 0.3
"""A spacing longer than both is a gap."""
MOST_GAPS = 100


@dataclass(slots=True)
class VideoTally:
    """Counts of video packets; :meth:`add` in the order they were sent."""

    sizes: NDArray[np.uint32] = field(default_factory=lambda: np.zeros(4096, np.uint32))
    used: int = 0
    bin_seconds: float = BIN_SECONDS
    frames: int = 0
    total_bytes: int = 0
    first: float | None = None
    last: float = 0.0
    keyframes: list[float] = field(default_factory=list)
    spacings: dict[int, int] = field(default_factory=dict)
    """Hundredths of a millisecond between frames as shown, and how often."""
    gaps: list[tuple[float, float]] = field(default_factory=list)
    most_b: int = 0
    clock: SteadyClock = field(default_factory=SteadyClock)
    _run: int = 0
    _highest: float = -np.inf
    _waiting: Floats = field(default_factory=lambda: np.empty(0))
    _base: float | None = None

    def add(self, shown: Floats, sent: Floats, sizes: Floats, keys: Flags) -> None:
        """Count packets; times in seconds when each is shown and sent, sizes in bytes."""
        if not shown.size:
            return
        jumped = self.clock.correction(sent)
        sent, shown = sent - jumped, shown - jumped
        if self._base is None:
            self._base = float(sent[0])
        self._count_sizes(sent - self._base, sizes)
        self.frames += shown.size
        self.total_bytes += int(sizes.sum())
        self.first = float(shown.min()) if self.first is None else min(self.first, shown.min())
        self.last = max(self.last, float(shown.max()))
        self.keyframes += shown[keys].tolist()
        self._count_b_frames(shown)
        self._waiting = np.sort(np.concatenate([self._waiting, shown]))
        self._settle(REORDER)

    def _count_sizes(self, at: Floats, sizes: Floats) -> None:
        while at.max() / self.bin_seconds >= MOST_BINS:
            self.sizes = self.sizes.reshape(-1, 2).sum(axis=1, dtype=np.uint32)
            self.used, self.bin_seconds = (self.used + 1) // 2, 2 * self.bin_seconds
        bins = np.maximum((at / self.bin_seconds + 1e-6).astype(np.int64), 0)
        end = int(bins.max()) + 1
        if end > self.sizes.size:
            most = max(end + end % 2, 2 * self.sizes.size)
            self.sizes = np.concatenate([self.sizes, np.zeros(most - self.sizes.size, np.uint32)])
        np.add.at(self.sizes, bins, sizes.astype(np.uint32))
        self.used = max(self.used, end)

    def _count_b_frames(self, shown: Floats) -> None:
        """A frame shown before one already sent refers to it; the longest run of such."""
        highest = np.maximum.accumulate(np.concatenate([[self._highest], shown]))
        referring = shown < highest[:-1]
        self._highest = float(highest[-1])
        ends = np.flatnonzero(~referring)
        if not ends.size:
            self._run += shown.size
        else:
            runs = np.diff(np.concatenate([[-1], ends])) - 1
            self.most_b = max(self.most_b, int(self._run + runs[0]), int(runs[1:].max(initial=0)))
            self._run = shown.size - 1 - int(ends[-1])
        self.most_b = max(self.most_b, self._run)

    def _settle(self, keep: int) -> None:
        """Count the spacings of all frames but the last few, which others may still precede."""
        ready = self._waiting[: max(0, self._waiting.size - keep)]
        if ready.size < 2:
            return
        steps = np.round(np.diff(ready) * FINE).astype(np.int64)
        for step, count in zip(*np.unique(steps, return_counts=True), strict=True):
            self.spacings[int(step)] = self.spacings.get(int(step), 0) + int(count)
        usual = self._usual()
        long = np.flatnonzero((steps > GAP_FRAMES * usual) & (steps > GAP_SECONDS * FINE))
        for at in long[: MOST_GAPS - len(self.gaps)]:
            self.gaps.append((float(ready[at]), float(steps[at] / FINE)))
        self._waiting = self._waiting[ready.size - 1 :]

    def usual_seconds(self) -> float:
        """The median spacing."""
        return self._usual() / FINE

    def _usual(self) -> float:
        steps = np.array(sorted(self.spacings))
        counts = np.cumsum([self.spacings[int(s)] for s in steps])
        return float(steps[np.searchsorted(counts, counts[-1] / 2)]) if counts.size else 0.0

    def finish(self) -> None:
        """Count what is still waiting."""
        self._settle(0)

    def frame_rate(self) -> Fraction:
        """Frames a second, as the nearest customary rate where one is near enough.

        Gaps do not count: the rate is that of the frames that follow one another.
        """
        steady = self.regular_share() >= MOSTLY  # else two spacings take turns, as of film at 60
        most = (1 + NEAR if steady else 1.6) * self._usual() + FINE / 1000
        least = (1 - NEAR) * self._usual() - FINE / 1000 if steady else 0
        regular = {s: n for s, n in self.spacings.items() if max(0, least) < s <= most}
        count = sum(regular.values())
        if not count:
            return Fraction(0)
        mean = sum(s * n for s, n in regular.items()) / count / FINE
        slack = max(0.0004 if self.regular_share() >= REGULAR else LOOSE, 0.002 / (count * mean))
        near = min(CUSTOMARY_RATES, key=lambda rate: abs(float(rate) * mean - 1))
        if abs(float(near) * mean - 1) <= slack:
            return near
        found = Fraction(1 / mean).limit_denominator(1001)
        return found if found <= MOST_RATE else Fraction(0)

    def regular_share(self) -> float:
        """Share of frames that came when they were due."""
        usual, count = self._usual(), sum(self.spacings.values())
        within = max(FINE / 1000, NEAR * usual) + 1
        on_time = sum(n for s, n in self.spacings.items() if abs(s - usual) <= within)
        return on_time / count if count else 1.0

    def windows_kbps(self, seconds: float) -> Floats:
        """Every window of that length, sliding by one bin; the whole where it is shorter."""
        bins = self.sizes[: self.used].astype(np.float64)
        width = max(1, min(round(seconds / self.bin_seconds), self.used))
        sums = np.cumsum(np.concatenate([[0.0], bins]))
        return np.asarray(
            (sums[width:] - sums[:-width]) * 8e-3 / (width * self.bin_seconds), dtype=np.float64
        )

    def swing_kbit(self) -> float:
        """How far what was sent strays from the average rate, up and down together.

        A stream at constant bitrate strays by no more than its encoder's buffer.
        """
        bins = self.sizes[: self.used].astype(np.float64)
        level = np.cumsum(np.concatenate([[0.0], bins - bins.mean()]))
        return float((level.max() - level.min()) * 8e-3)

    def buffer_needed_kbit(self) -> float:
        """The highest and the lowest fullness of a bucket drained at the average rate, apart."""
        bins = self.sizes[: self.used].astype(np.float64)
        level = np.cumsum(np.concatenate([[0.0], bins - bins.mean()]))
        rising = level - np.minimum.accumulate(level)
        return float(rising.max() * 8e-3)


CONSTANT_SPREAD = 0.25
"""One-second windows that differ by less than this are constant bitrate ..."""
CONSTANT_SECONDS = 1.25
"""... and so is what never strays further from its average than a buffer of so many seconds lets it
(ITU-T H.264 annex C: constant bitrate fills the buffer at one rate all along)."""
DRAWN_POINTS = 1200


@dataclass(frozen=True, slots=True)
class VideoFacts:
    """What the container says of its video."""

    codec: str
    profile: str | None
    level: str | None
    resolution: Resolution
    pixel_format: str | None = None
    colour: str | None = None
    colour_range: str | None = None


def video_seen(facts: VideoFacts, tally: VideoTally, buffer_seconds: float = 1.0) -> VideoSeen:
    """Everything about the video of a finished tally."""
    tally.finish()
    rate = tally.frame_rate()
    one, two = tally.windows_kbps(1.0), tally.windows_kbps(2.0)
    mean = float(tally.windows_kbps(tally.used * tally.bin_seconds)[0])
    low, high = np.percentile(one, [10, 90])
    spread = float((high - low) / mean) if mean else 0.0
    first = tally.first or 0.0
    constant = spread <= CONSTANT_SPREAD or tally.swing_kbit() <= CONSTANT_SECONDS * mean
    return VideoSeen(
        codec=facts.codec,
        profile=facts.profile,
        level=facts.level,
        resolution=facts.resolution,
        shape=facts.resolution.shape,
        pixel_format=facts.pixel_format,
        colour=facts.colour,
        colour_range=facts.colour_range,
        frame_rate=rate,
        regular_share=round(tally.regular_share(), 4),
        frames=tally.frames,
        b_frames=tally.most_b,
        average_kbps=round(mean, 1),
        peak_1s_kbps=round(float(one.max()), 1),
        peak_2s_kbps=round(float(two.max()), 1),
        peak_buffer_kbps=round(float(tally.windows_kbps(buffer_seconds).max()), 1),
        lowest_2s_kbps=round(float(two.min()), 1),
        spread=round(spread, 4),
        rate_control="constant" if constant else "variable",
        buffer_needed_kbit=round(tally.buffer_needed_kbit(), 1),
        keyframes=_keyframes(tally, first),
        gaps=tuple((round(at - first, 3), round(long, 3)) for at, long in tally.gaps),
        jumps=tuple((round(at - first, 3), round(far, 3)) for at, far in tally.clock.jumps),
    )


def _keyframes(tally: VideoTally, first: float) -> KeyframesSeen:
    """Spacings of the keyframes."""
    at = np.sort(np.array(tally.keyframes)) - first
    apart = np.diff(at)
    usual = float(np.median(apart)) if apart.size else None
    frame = tally.usual_seconds()
    return KeyframesSeen(
        count=int(at.size),
        shortest_seconds=round(float(apart.min()), 4) if apart.size else None,
        longest_seconds=round(float(apart.max()), 4) if apart.size else None,
        typical_seconds=None if usual is None else round(usual, 4),
        regular=usual is None or bool((abs(apart - usual) <= frame + 1e-3).all()),
        at_seconds=tuple(round(float(t), 3) for t in at),
    )


def by_second(tally: VideoTally) -> tuple[tuple[float, ...], float]:
    """Video bitrate by second, or by as many seconds as keep it drawable; and that length."""
    whole = tally.used * tally.bin_seconds
    length = max(1.0, np.ceil(whole / DRAWN_POINTS))
    width = max(1, round(length / tally.bin_seconds))
    bins = tally.sizes[: tally.used // width * width].astype(np.float64)
    return tuple((bins.reshape(-1, width).sum(axis=1) * 8e-3 / length).round(1).tolist()), length


BATCH = 64
LIVE_SECONDS = 2.0


@dataclass(frozen=True, slots=True)
class LiveView:
    """How it goes just now."""

    seconds: float
    """Of media so far."""
    video_kbps: float
    """Over the last two seconds."""
    fps: float
    keyframe_seconds: float | None
    """Between the last two."""
    audio_kbps: float
    delay_seconds: float
    """How much later than the quickest frame the latest one came, against its time."""


@dataclass(frozen=True, slots=True)
class AudioFacts:
    """What the stream says of its audio."""

    codec: str
    sample_rate_hz: int
    channels: int


@dataclass(slots=True)
class StreamWatch:
    """Counts what arrives; times in seconds."""

    tally: VideoTally = field(default_factory=VideoTally)
    audio_bytes: int = 0
    audio_packets: int = 0
    audio_first: float | None = None
    audio_last: float = 0.0
    worst_delay: float = 0.0
    late_frames: int = 0
    """That came later than may be, against the quickest."""
    _recent: deque[tuple[float, int, bool]] = field(default_factory=deque)
    _recent_audio: deque[tuple[float, int]] = field(default_factory=deque)
    _rows: list[tuple[float, float, int, bool]] = field(default_factory=list)
    _quickest: float | None = None
    _clock: SteadyClock = field(default_factory=SteadyClock)
    """For the live view; the tally has its own."""
    _audio_clock: SteadyClock = field(default_factory=SteadyClock)
    _delay: float = 0.0
    _keys: deque[float] = field(default_factory=lambda: deque(maxlen=2))

    def video(self, sent: float, shown: float, size: int, keyframe: bool, at: float) -> None:
        """A frame came at a moment."""
        self._rows.append((shown, sent, size, keyframe))
        sent = self._clock.steady(sent)
        self._recent.append((sent, size, keyframe))
        while self._recent and self._recent[0][0] < sent - LIVE_SECONDS:
            self._recent.popleft()
        if keyframe:
            self._keys.append(sent)
        behind = at - sent
        self._quickest = behind if self._quickest is None else min(self._quickest, behind)
        self._delay = behind - self._quickest
        self.worst_delay = max(self.worst_delay, self._delay)
        self.late_frames += self._delay > LATE_SECONDS
        if len(self._rows) >= BATCH:
            self._flush()

    def start_pace_anew(self) -> None:
        """What comes next is on time: what was late before was held up, and stays so much later."""
        self._quickest, self._delay = None, 0.0

    @property
    def delay_seconds(self) -> float:
        """How much later than the quickest frame the latest one came, against its time."""
        return self._delay

    def audio(self, sent: float, size: int) -> None:
        """An audio frame came."""
        sent = self._audio_clock.steady(sent)
        self.audio_bytes += size
        self.audio_packets += 1
        self.audio_first = sent if self.audio_first is None else self.audio_first
        self.audio_last = sent
        self._recent_audio.append((sent, size))
        while self._recent_audio and self._recent_audio[0][0] < sent - LIVE_SECONDS:
            self._recent_audio.popleft()

    def _flush(self) -> None:
        if self._rows:
            shown, sent, size, key = (np.array(column) for column in zip(*self._rows, strict=True))
            self.tally.add(shown, sent, size.astype(np.float64), key)
            self._rows.clear()

    def live(self) -> LiveView:
        """How it goes just now."""
        span = self._recent[-1][0] - self._recent[0][0] if len(self._recent) > 1 else 0.0
        heard = (
            self._recent_audio[-1][0] - self._recent_audio[0][0]
            if len(self._recent_audio) > 1
            else 0.0
        )
        keys = list(self._keys)
        return LiveView(
            seconds=self._recent[-1][0] if self._recent else 0.0,
            video_kbps=sum(s for _, s, _ in list(self._recent)[1:]) * 8e-3 / span if span else 0.0,
            fps=(len(self._recent) - 1) / span if span else 0.0,
            keyframe_seconds=keys[1] - keys[0] if len(keys) == 2 else None,
            audio_kbps=sum(s for _, s in list(self._recent_audio)[1:]) * 8e-3 / heard
            if heard
            else 0.0,
            delay_seconds=self._delay,
        )

    def report(
        self, name: str, video: VideoFacts, audio: AudioFacts | None, buffer_seconds: float = 1.0
    ) -> Recording | None:
        """All that was found; None when there were not two frames."""
        self._flush()
        tally = self.tally
        if tally.frames < 2 or tally.first is None:
            return None
        seen = video_seen(video, tally, buffer_seconds)
        heard = self._heard(audio, tally.first)
        rates, length = by_second(tally)
        return Recording(
            name=name,
            container="rtmp",
            seconds=round(max(0.0, tally.last - tally.first), 3),
            total_kbps=round(seen.average_kbps + (heard.average_kbps if heard else 0.0), 1),
            video=seen,
            audio=heard,
            second_kbps=rates,
            second_length=length,
        )

    def _heard(self, audio: AudioFacts | None, video_first: float) -> AudioSeen | None:
        if audio is None or self.audio_packets < 2 or self.audio_first is None:
            return None
        seconds = (self.audio_last - self.audio_first) * self.audio_packets
        seconds /= self.audio_packets - 1
        return AudioSeen(
            codec=audio.codec,
            sample_rate_hz=audio.sample_rate_hz,
            channels=audio.channels,
            average_kbps=round(self.audio_bytes * 8e-3 / seconds, 1) if seconds else 0.0,
            offset_ms=round((self.audio_first - video_first) * 1000, 1),
        )
