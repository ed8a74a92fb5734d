"""Safe rates at which the choice changes: the next above one, and the least that chooses a picture.

All of it reads one :class:`eager_kestrel.core.choice.field.Field` on a grid of 10 kbit/s, so
nothing here can disagree with a plan.
"""

from __future__ import annotations

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.choice.field import Field, best_of
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.picture import Picture

GRID_KBPS = 10.0
LOOK_AHEAD = 128
"""Grid points weighed at a time in search of the next choice."""


def _grid(field: Field, from_kbps: float = 0.0) -> Floats:
    """Safe rates up to where no candidate gains any more."""
    if not field.candidates:
        return np.empty(0)
    most = field.rules_kbps.min(axis=0).max() * field.per_byte.max() + field.fixed_kbps.max()
    top = most + field.audio_steps[-1] * (field.per_byte.max() + 20) + GRID_KBPS
    begin = np.floor(from_kbps / GRID_KBPS) * GRID_KBPS + GRID_KBPS
    return np.arange(begin, max(top, begin) + GRID_KBPS, GRID_KBPS)


def next_choice(
    field: Field, best: int, safe_kbps: float, least_quality: float = 0.0
) -> tuple[float, int] | None:
    """The least safe rate above this one that chooses another candidate, and which.

    Args:
        field: the candidates.
        best: index of the one that is chosen now.
        safe_kbps: at this rate.
        least_quality: that the other has to look like.
    """
    for part in np.array_split(grid := _grid(field, safe_kbps), max(1, grid.size // LOOK_AHEAD)):
        kbps, judged, allowed = field.weigh(part)
        chosen = best_of(kbps, judged, allowed)
        looks = judged[np.arange(part.size), chosen]
        other = np.flatnonzero((chosen != best) & (chosen >= 0) & (looks >= least_quality))
        if other.size:
            return float(part[other[0]]), int(chosen[other[0]])
    return None


def safe_rate_for(field: Field, picture: Picture, frame_rate_at_least: float) -> float | None:
    """The least safe rate, on a grid of 10 kbit/s, at which a plan chooses this picture.

    Args:
        field: the candidates.
        picture: exactly this one.
        frame_rate_at_least: at this many frames a second or more.

    Returns:
        kbit/s of everything sent; None when no rate chooses it.
    """
    wanted = _indices(field, picture, frame_rate_at_least)
    safe = _grid(field)
    hits = np.flatnonzero(np.isin(field.best(safe), wanted)) if safe.size else np.empty(0)
    return float(safe[int(hits[0])]) if hits.size else None


def full_rate_for(
    field: Field, picture: Picture, frame_rate_at_least: float
) -> tuple[float, Option] | None:
    """The least safe rate at which a picture is as good as it gets, and what it is then.

    For pictures that are allowed but never the best; None when it is not even allowed.
    """
    wanted = _indices(field, picture, frame_rate_at_least)
    safe = _grid(field)
    if not wanted or not safe.size:
        return None
    _, judged, allowed = field.weigh(safe)
    worth = np.where(allowed[:, wanted], judged[:, wanted], -1.0)
    row, column = np.unravel_index(int(worth.argmax()), worth.shape)
    if worth[row, column] < 0:
        return None
    return float(safe[row]), field.at(float(safe[row])).option(wanted[int(column)])


def _indices(field: Field, picture: Picture, frame_rate_at_least: float) -> list[int]:
    return [
        index
        for index, c in enumerate(field.candidates)
        if c.picture == picture and float(c.frame_rate) >= frame_rate_at_least - 1e-9
    ]
