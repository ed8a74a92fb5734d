"""Hours such as the line may have, made of what was measured, for a stream to be sent through.

Each hour is one of :mod:`eager_kestrel.core.forecast.lines`: levels that last a while, and under
them pieces of the runs themselves (a stationary block bootstrap; Politis and Romano, JASA 89,
1994). A dip deeper than any that was seen is one that was seen, made deeper.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.arrays import Floats, Indices
from eager_kestrel.core.forecast.lines import HIDDEN_DEPTH, Lines, Tailed
from eager_kestrel.core.line.throughput import GRID_SECONDS

PIECE_SECONDS = 8.0
DIP_SECONDS = 2.0


@dataclass(frozen=True, slots=True)
class Pieces:
    """The runs cut into pieces of one length, on the grid of a stream's frames."""

    windows: Floats
    """Shape (starts, frames): what is carried in each frame's time, as seconds of the level; a
    view, overlapping."""
    first: Indices
    """Shape (runs,): each run's first start."""
    starts: Indices
    """Shape (runs,): how many it has."""
    deepest: Indices
    """Shape (runs,): the start whose piece holds its deepest dip."""
    order: Indices
    """Runs, deepest dip first."""
    seconds: float
    """How long a piece is."""

    @classmethod
    def of(cls, lines: Lines, fps: float) -> Pieces:
        """Cut the runs behind some lines."""
        seen = lines.watched
        shares = [_by_frame(trace, fps) for trace in seen.traces]
        length = min(round(PIECE_SECONDS * fps), *(share.size for share in shares))
        starts = np.array([share.size - length + 1 for share in shares])
        ends = np.cumsum([share.size for share in shares])
        first = np.concatenate([[0], ends[:-1]])
        width = min(round(DIP_SECONDS * fps), length)
        deepest = [
            np.clip(int(_sums(share, width).argmin()) + (width - length) // 2, 0, count - 1)
            for share, count in zip(shares, starts, strict=True)
        ]
        return cls(
            windows=np.lib.stride_tricks.sliding_window_view(np.concatenate(shares), length),
            first=first,
            starts=starts,
            deepest=first + np.array(deepest, dtype=np.intp),
            order=np.argsort(seen.ratios, kind="stable"),
            seconds=length / fps,
        )


def _by_frame(trace: Floats, fps: float) -> Floats:
    """A run's trace by frames, in seconds of its level."""
    carried = np.concatenate([[0.0], np.cumsum(trace) * GRID_SECONDS])
    at = np.arange(int(trace.size * GRID_SECONDS * fps + 1e-9) + 1) / fps
    return np.diff(np.interp(at, np.arange(carried.size) * GRID_SECONDS, carried))


def _sums(values: Floats, width: int) -> Floats:
    total = np.concatenate([[0.0], np.cumsum(values)])
    return np.asarray(total[width:] - total[:-width], dtype=np.float64)


def hours(
    lines: Lines, fps: float, seconds: float, of_each: int, seed: int = 0
) -> Iterator[Floats]:
    """What the line carries in each frame's time, in kbit; ``of_each`` stretches of every line.

    Args:
        lines: that agree with what was watched.
        fps: frames a second.
        seconds: how long a stretch is.
        of_each: stretches of each line, one after another.
        seed: equal inputs give equal hours.
    """
    rng = np.random.default_rng([seed, 1])  # not the numbers the lines were drawn by
    pieces = Pieces.of(lines, fps)
    frames = max(1, round(seconds * fps))
    count = -(-frames // pieces.windows.shape[1])
    for line in range(lines.doubt.size):
        for _ in range(of_each):
            starts, scale = _dips(lines, pieces, line, count, rng)
            scale *= _levels(lines, pieces, line, count, rng)
            carried = pieces.windows[starts]
            carried *= scale[:, None]
            yield carried.ravel()[:frames]


def _levels(
    lines: Lines, pieces: Pieces, line: int, count: int, rng: np.random.Generator
) -> Floats:
    """The level of each piece, shape (count,), in kbit/s."""
    lasting = np.exp(-pieces.seconds / lines.lasts_seconds[line])
    spell = np.cumsum(rng.random(count) >= lasting)
    drawn = rng.random((1, int(spell[-1]) + 1))
    levels = _of_line(lines.levels, line, drawn[0])
    return np.asarray(levels[spell] * lines.doubt[line], dtype=np.float64)


def _dips(
    lines: Lines, pieces: Pieces, line: int, count: int, rng: np.random.Generator
) -> tuple[Indices, Floats]:
    """Where each piece is taken from and what it is multiplied with, both of shape (count,)."""
    seen, dips = lines.watched, lines.dips
    drawn = 1 - rng.random(count) ** (seen.mean_seconds / pieces.seconds)
    low = drawn < dips.below[line]
    lowest = seen.count - dips.seen.size
    ranked = lowest + np.searchsorted(dips.cumulative[line], drawn)
    hidden = rng.random(count) < -np.expm1(-lines.hidden_per_second[line] * pieces.seconds)
    rank = np.where(low, rng.integers(0, max(1, lowest), count), np.minimum(ranked, seen.count - 1))
    rank = np.where(hidden, 0, rank)
    run = pieces.order[rank]
    starts = pieces.first[run] + (rng.random(count) * pieces.starts[run]).astype(np.intp)
    depth = np.where(hidden, rng.random(count) ** (1 / HIDDEN_DEPTH), _of_line(dips, line, drawn))
    made = low | hidden
    scale = np.where(made, np.minimum(depth / seen.ratios[run], 1.0), 1.0)
    return np.where(made, pieces.deepest[run], starts), scale


def _of_line(spread: Tailed, line: int, chances: Floats) -> Floats:
    """One line's values at chances of shape (count,)."""
    low = spread.seen[0] * np.minimum(chances / spread.below[line], 1) ** (1 / spread.power[line])
    index = np.searchsorted(spread.cumulative[line], chances)
    seen = spread.seen[np.minimum(index, spread.seen.size - 1)]
    return np.where(chances < spread.below[line], low, seen)
