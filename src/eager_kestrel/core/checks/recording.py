"""What a recording, or a stream while it arrives, turns out to be: measured packet by packet.

Packets come in batches of arrays and leave only counts behind: sizes in bins of 20 ms, spacings in
a histogram, keyframes by their time. So two hours take no more than a few megabytes.

Buffer simulation: the leaky bucket of ITU-T H.264 annex C, drained at the average rate. Windows
slide by one bin.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from eager_kestrel.core.arrays import Flags, Floats
from eager_kestrel.core.checks.settings import Settings
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.guide.guide import CUSTOMARY_RATES, Codec
from eager_kestrel.core.picture import frame_rate_text

RECORDING_KINDS = {
    ".flv": "flv", ".mp4": "mp4", ".m4v": "mp4", ".mov": "mp4", ".mkv": "matroska",
    ".webm": "matroska", ".ts": "mpegts", ".m2ts": "mpegts", ".m3u8": "hls",
}  # fmt: skip
"""By the end of a file's name, its container."""
BIN_SECONDS = 0.02
FINE = 100_000
"""Spacings are counted in so many parts of a second."""
REORDER = 32
"""Frames that may still come in front of those seen; more than any codec reorders."""
NEAR = 0.25
"""A spacing this near to the usual one, relative, is regular; containers round to milliseconds."""
GAP_FRAMES = 3.0
GAP_SECONDS = 0.3
"""A spacing longer than both is a gap."""
MOST_GAPS = 100
CONSTANT_SPREAD = 0.25
"""One-second windows that differ by less than this are constant bitrate."""
DRAWN_POINTS = 1200


class KeyframesSeen(Frozen):
    """How far apart keyframes were."""

    count: int
    shortest_seconds: float | None
    longest_seconds: float | None
    typical_seconds: float | None
    regular: bool
    """Whether all spacings but the last are the same to a frame."""
    at_seconds: tuple[float, ...]
    """Of each; the first is the start."""


class VideoSeen(Frozen):
    """Video as it was found."""

    codec: str
    profile: str | None
    level: str | None
    """As written in the stream."""
    width: int
    height: int
    shape: str
    pixel_format: str | None
    colour: str | None
    colour_range: str | None
    fps: float
    frame_rate: str
    """As an exact fraction."""
    regular_share: float
    """Of frames that came when they were due, 0..1."""
    frames: int
    b_frames: int
    """The most in a row."""
    average_kbps: float
    peak_1s_kbps: float
    peak_2s_kbps: float
    peak_buffer_kbps: float
    """Over a window as long as the stated buffer, or one second where none was stated."""
    lowest_2s_kbps: float
    spread: float
    """Of one-second windows: the 90th less the 10th percentile, over the mean."""
    rate_control: str
    """``constant`` or ``variable``, as the spread has it."""
    buffer_needed_kbit: float
    """The least buffer that a decoder fed at the average rate gets by with."""
    keyframes: KeyframesSeen
    gaps: tuple[tuple[float, float], ...]
    """When, and how long, in seconds."""


class AudioSeen(Frozen):
    """Audio as it was found."""

    codec: str
    sample_rate_hz: int
    channels: int
    average_kbps: float
    offset_ms: float
    """How much later than video it begins."""


class Decoded(Frozen):
    """What decoding every frame found."""

    frames: int
    damaged: int
    i_frames: int
    p_frames: int
    b_frames: int


class Recording(Frozen):
    """All that was found."""

    format: str = format_name("recording")
    name: str
    container: str
    seconds: float
    total_kbps: float
    """Video and audio."""
    video: VideoSeen
    audio: AudioSeen | None
    decoded: Decoded | None = None
    second_kbps: tuple[float, ...]
    """Video by second, to draw; averaged over more where there are too many."""
    second_length: float


@dataclass(slots=True)
class VideoTally:
    """Counts of video packets; :meth:`add` in the order they were sent."""

    sizes: NDArray[np.uint32] = field(default_factory=lambda: np.zeros(4096, np.uint32))
    used: int = 0
    frames: int = 0
    total_bytes: int = 0
    first: float | None = None
    last: float = 0.0
    keyframes: list[float] = field(default_factory=list)
    spacings: dict[int, int] = field(default_factory=dict)
    """Hundredths of a millisecond between frames as shown, and how often."""
    gaps: list[tuple[float, float]] = field(default_factory=list)
    most_b: int = 0
    _run: int = 0
    _highest: float = -np.inf
    _waiting: Floats = field(default_factory=lambda: np.empty(0))
    _base: float | None = None

    def add(self, shown: Floats, sent: Floats, sizes: Floats, keys: Flags) -> None:
        """Count packets; times in seconds when each is shown and sent, sizes in bytes."""
        if not shown.size:
            return
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
        bins = np.maximum((at / BIN_SECONDS + 1e-6).astype(np.int64), 0)
        end = int(bins.max()) + 1
        if end > self.sizes.size:
            self.sizes = np.concatenate(
                [self.sizes, np.zeros(max(end, 2 * self.sizes.size) - self.sizes.size, np.uint32)]
            )
        np.add.at(self.sizes, bins, sizes.astype(np.uint32))
        self.used = max(self.used, end)

    def _count_b_frames(self, shown: Floats) -> None:
        """A frame shown before one already sent leans on it; the longest run of such."""
        highest = np.maximum.accumulate(np.concatenate([[self._highest], shown]))
        leaning = shown < highest[:-1]
        self._highest = float(highest[-1])
        ends = np.flatnonzero(~leaning)
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
        most = 1.6 * self._usual() + FINE / 1000
        regular = {s: n for s, n in self.spacings.items() if 0 < s <= most}
        count = sum(regular.values())
        if not count:
            return Fraction(0)
        mean = sum(s * n for s, n in regular.items()) / count / FINE
        slack = max(0.0004, 0.002 / (count * mean))
        near = min(CUSTOMARY_RATES, key=lambda rate: abs(float(rate) * mean - 1))
        if abs(float(near) * mean - 1) <= slack:
            return near
        return Fraction(1 / mean).limit_denominator(1001)

    def regular_share(self) -> float:
        """Share of frames that came when they were due."""
        usual, count = self._usual(), sum(self.spacings.values())
        within = max(FINE / 1000, NEAR * usual) + 1
        on_time = sum(n for s, n in self.spacings.items() if abs(s - usual) <= within)
        return on_time / count if count else 1.0

    def windows_kbps(self, seconds: float) -> Floats:
        """Every window of that length, sliding by one bin; the whole where it is shorter."""
        bins = self.sizes[: self.used].astype(np.float64)
        width = max(1, min(round(seconds / BIN_SECONDS), self.used))
        sums = np.cumsum(np.concatenate([[0.0], bins]))
        return np.asarray(
            (sums[width:] - sums[:-width]) * 8e-3 / (width * BIN_SECONDS), dtype=np.float64
        )

    def buffer_needed_kbit(self) -> float:
        """The highest and the lowest fullness of a bucket drained at the average rate, apart."""
        bins = self.sizes[: self.used].astype(np.float64)
        level = np.cumsum(np.concatenate([[0.0], bins - bins.mean()]))
        rising = level - np.minimum.accumulate(level)
        return float(rising.max() * 8e-3)

    def seen_keyframes(self, first: float) -> KeyframesSeen:
        """Spacings of the keyframes."""
        at = np.sort(np.array(self.keyframes)) - first
        apart = np.diff(at)
        usual = float(np.median(apart)) if apart.size else None
        frame = self.usual_seconds()
        return KeyframesSeen(
            count=int(at.size),
            shortest_seconds=round(float(apart.min()), 4) if apart.size else None,
            longest_seconds=round(float(apart.max()), 4) if apart.size else None,
            typical_seconds=None if usual is None else round(usual, 4),
            regular=usual is None or bool((abs(apart - usual) <= frame + 1e-3).all()),
            at_seconds=tuple(round(float(t), 3) for t in at),
        )


@dataclass(frozen=True, slots=True)
class VideoFacts:
    """What the container says of its video."""

    codec: str
    profile: str | None
    level: str | None
    width: int
    height: int
    shape: str
    pixel_format: str | None = None
    colour: str | None = None
    colour_range: str | None = None


def video_seen(facts: VideoFacts, tally: VideoTally, buffer_seconds: float = 1.0) -> VideoSeen:
    """Everything about the video of a finished tally."""
    tally.finish()
    rate = tally.frame_rate()
    one, two = tally.windows_kbps(1.0), tally.windows_kbps(2.0)
    mean = float(tally.windows_kbps(tally.used * BIN_SECONDS)[0])
    low, high = np.percentile(one, [10, 90])
    spread = float((high - low) / mean) if mean else 0.0
    first = tally.first or 0.0
    return VideoSeen(
        codec=facts.codec,
        profile=facts.profile,
        level=facts.level,
        width=facts.width,
        height=facts.height,
        shape=facts.shape,
        pixel_format=facts.pixel_format,
        colour=facts.colour,
        colour_range=facts.colour_range,
        fps=float(frame_rate_text(rate)) if rate else 0.0,
        frame_rate=str(rate),
        regular_share=round(tally.regular_share(), 4),
        frames=tally.frames,
        b_frames=tally.most_b,
        average_kbps=round(mean, 1),
        peak_1s_kbps=round(float(one.max()), 1),
        peak_2s_kbps=round(float(two.max()), 1),
        peak_buffer_kbps=round(float(tally.windows_kbps(buffer_seconds).max()), 1),
        lowest_2s_kbps=round(float(two.min()), 1),
        spread=round(spread, 4),
        rate_control="constant" if spread <= CONSTANT_SPREAD else "variable",
        buffer_needed_kbit=round(tally.buffer_needed_kbit(), 1),
        keyframes=tally.seen_keyframes(first),
        gaps=tuple((round(at - first, 3), round(long, 3)) for at, long in tally.gaps),
    )


def by_second(tally: VideoTally) -> tuple[tuple[float, ...], float]:
    """Video bitrate by second, or by as many seconds as keep it drawable; and that length."""
    whole = tally.used * BIN_SECONDS
    length = max(1.0, np.ceil(whole / DRAWN_POINTS))
    width = round(length / BIN_SECONDS)
    bins = tally.sizes[: tally.used // width * width].astype(np.float64)
    return tuple((bins.reshape(-1, width).sum(axis=1) * 8e-3 / length).round(1).tolist()), length


def settings_seen(recording: Recording) -> Settings:
    """A recording as settings, to be held against guides like any others."""
    video, audio = recording.video, recording.audio
    longest = video.keyframes.longest_seconds
    rate = Fraction(video.frame_rate)
    known: set[Codec] = {"h264", "hevc", "av1"}
    written = {
        "video": {
            "codec": video.codec if video.codec in known else None,
            "picture": f"{video.width}x{video.height}",
            "frame_rate": video.frame_rate if rate else None,
            "bitrate": f"{video.average_kbps} kbit/s",
            "rate_control": video.rate_control,
            "keyframes": f"{round(longest * rate)} frames" if longest and rate else None,
            "profile": video.profile,
            "level": video.level,
            "b_frames": min(video.b_frames, 16),
            "pixel_format": video.pixel_format,
            "colour": video.colour,
            "colour_range": video.colour_range,
        },
        "audio": {}
        if audio is None
        else {
            "codec": audio.codec if audio.codec in ("aac", "opus", "mp3") else None,
            "bitrate": f"{max(audio.average_kbps, 0.001)} kbit/s",
            "sample_rate_hz": audio.sample_rate_hz,
            "channels": audio.channels,
        },
    }
    return Settings.model_validate(written)
