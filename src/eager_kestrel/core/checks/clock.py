"""A peer's timestamps, made steady: a jump is told and taken out, so that nothing grows with it.

Whoever sends a stream sets its clock. Gaps of up to a minute are gaps; anything longer, or a step
back, is a jump of the clock, and what follows goes on where it was.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats

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
