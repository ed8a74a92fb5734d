"""Safe rates at which the choice changes: the next above one.

All of it reads one :class:`eager_kestrel.core.choice.field.Field` on a grid of 10 kbit/s, so
nothing here can disagree with a plan.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.choice.field import CandidatesTable

GRID_KBPS = 10.0
LOOK_AHEAD = 128
"""Grid points weighed at a time in search of the next choice."""


def grid(field: CandidatesTable, from_kbps: float = 0.0) -> Floats:
    """Safe rates up to where no candidate gains any more."""
    if not field.candidates:
        return np.empty(0)
    most = field.rules_kbps.min(axis=0).max() * field.per_byte.max() + field.fixed_kbps.max()
    top = most + field.audio_steps[-1] * (field.per_byte.max() + 20) + GRID_KBPS
    begin = np.floor(from_kbps / GRID_KBPS) * GRID_KBPS + GRID_KBPS
    return np.arange(begin, max(top, begin) + GRID_KBPS, GRID_KBPS)


def next_choice(
    field: CandidatesTable, best: int, safe_kbps: float, least_quality: float = 0.0
) -> tuple[float, int] | None:
    """The least safe rate above this one that chooses another candidate, and which.

    Args:
        field: the candidates.
        best: index of the one that is chosen now.
        safe_kbps: at this rate.
        least_quality: that the other has to look like.
    """
    for part in np.array_split(rates := grid(field, safe_kbps), max(1, rates.size // LOOK_AHEAD)):
        rows = field.weigh(part)
        _, chosen = field.choose(rows)
        looks = rows.quality[np.arange(part.size), chosen]
        other = np.flatnonzero((chosen != best) & (chosen >= 0) & (looks >= least_quality))
        if other.size:
            return float(part[other[0]]), int(chosen[other[0]])
    return None
