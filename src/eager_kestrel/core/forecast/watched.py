"""What runs saw of a line, as the forecast takes it: levels, dips under them, and what changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.forecast.queue import critical_kbps
from eager_kestrel.core.line.airing import LATE_SECONDS
from eager_kestrel.core.line.run import Run
from eager_kestrel.core.line.throughput import GRID_SECONDS, steady_increments

LEAST_SECONDS = 1.5
"""A shorter stretch says nothing of dips."""
LEVEL_SECONDS = 0.5
"""A level is the median of means over so long."""
LEAST_SHARE = 1e-3
"""Of the level; a line that stood still altogether is taken to have carried this."""
FAR_SECONDS = 8 * 3600.0
"""What lies so far apart says nothing of how long a level lasts."""


@dataclass(frozen=True, slots=True)
class Aired:
    """A stretch of a show: what was sent for how long, and whether a frame was late."""

    kbps: float
    seconds: float
    late: bool


@dataclass(frozen=True, slots=True)
class Watched:
    """What was seen of a line in ``n`` runs."""

    levels_kbps: Floats
    """Shape (n,): the median rate of each."""
    ratios: Floats
    """Shape (n,): the critical rate of each as a share of what its level alone would give; the
    deeper a dip, the smaller. At most 1."""
    seconds: Floats
    """Shape (n,): how long each was watched."""
    lags: Floats
    """Shape (changes,): seconds between two looks."""
    changes: Floats
    """Shape (changes,): by how much the level differed between them, as a natural logarithm."""
    allowed_seconds: float
    """Of stream that may wait, less what uneven frames pile up by themselves."""
    traces: tuple[Floats, ...]
    """Of each run, what was carried in every 50 ms as a share of the level."""
    aired: tuple[Aired, ...] = ()
    """Shows that were watched on the same line."""

    @property
    def count(self) -> int:
        """How many runs."""
        return int(self.levels_kbps.size)

    @property
    def mean_seconds(self) -> float:
        """How long a run was watched, on average."""
        return float(self.seconds.mean())

    def times(self, factor: int) -> Watched:
        """As if so many times as many runs had shown the same."""
        return Watched(
            np.tile(self.levels_kbps, factor), np.tile(self.ratios, factor),
            np.tile(self.seconds, factor), np.tile(self.lags, factor),
            np.tile(self.changes, factor), self.allowed_seconds, self.traces * factor, self.aired,
        )  # fmt: skip


def kbit_steps(run: Run) -> Floats:
    """What one connection delivered in each 50 ms of a run's steady part, in kbit."""
    if run.one_connection is None:
        return np.empty(0)
    return np.asarray(steady_increments(run.one_connection.samples) * 8e-3, dtype=np.float64)


def watched(
    steps: Sequence[Floats], moments: Sequence[float], piled_seconds: float = 0.0
) -> Watched | None:
    """What was seen of a line.

    Args:
        steps: of each run, oldest first, as :func:`kbit_steps` gives it; short ones are left out.
        moments: when each began, in seconds.
        piled_seconds: of stream that uneven frames pile up on any line.

    Returns:
        None when nothing delivered anything.
    """
    allowed = LATE_SECONDS - piled_seconds
    kept = [
        (taken, at, _level(taken))
        for taken, at in zip(steps, moments, strict=True)
        if taken.size * GRID_SECONDS >= LEAST_SECONDS and _level(taken) > 0
    ]
    if not kept:
        return None
    levels = np.array([level for _, _, level in kept])
    seconds = np.array([taken.size * GRID_SECONDS for taken, _, _ in kept])
    critical = np.array([critical_kbps(taken, GRID_SECONDS, allowed) for taken, _, _ in kept])
    even = levels * seconds / (seconds - allowed)
    within = [np.log(_level(t[t.size // 2 :]) / _level(t[: t.size // 2])) for t, _, _ in kept
              if min(_level(t[t.size // 2 :]), _level(t[: t.size // 2])) > 0]  # fmt: skip
    gaps = np.diff([at for _, at, _ in kept])
    near = (gaps > 0) & (gaps < FAR_SECONDS)
    return Watched(
        levels_kbps=levels,
        ratios=np.clip(critical / even, LEAST_SHARE, 1.0),
        seconds=seconds,
        lags=np.concatenate([np.full(len(within), seconds.mean() / 2), gaps[near]]),
        changes=np.concatenate([np.array(within), np.diff(np.log(levels))[near]]),
        allowed_seconds=allowed,
        traces=tuple(taken / (level * GRID_SECONDS) for taken, _, level in kept),
    )


def _level(kbit: Floats) -> float:
    """The median rate over half a second, in kbit/s."""
    width = max(1, min(round(LEVEL_SECONDS / GRID_SECONDS), kbit.size))
    total = np.concatenate([[0.0], np.cumsum(kbit)])
    return float(np.median(total[width:] - total[:-width])) / (width * GRID_SECONDS)
