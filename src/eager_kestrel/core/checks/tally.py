"""Counts of video packets as they come: sizes, spacings, keyframes.

Packets come in batches of arrays and leave only counts behind: sizes in bins of 20 ms, spacings in
a histogram, keyframes by their time. So two hours take no more than a few megabytes.

Buffer simulation: the leaky bucket of ITU-T H.264 annex C, drained at the average rate. Windows
slide by one bin.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.checks.clock import SteadyClock
from eager_kestrel.core.guide.rules import CUSTOMARY_RATES
from eager_kestrel.core.picture import MOST_RATE

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from eager_kestrel.core.arrays import Flags, Floats

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
        bins = np.maximum((at / BIN_SECONDS + 1e-6).astype(np.int64), 0)
        end = int(bins.max()) + 1
        if end > self.sizes.size:
            self.sizes = np.concatenate(
                [self.sizes, np.zeros(max(end, 2 * self.sizes.size) - self.sizes.size, np.uint32)]
            )
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
        width = max(1, min(round(seconds / BIN_SECONDS), self.used))
        sums = np.cumsum(np.concatenate([[0.0], bins]))
        return np.asarray(
            (sums[width:] - sums[:-width]) * 8e-3 / (width * BIN_SECONDS), dtype=np.float64
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
