"""Which stretches of a clip to try: easy and hard ones, by spatial and temporal information.

SI is the spread of a frame's Sobel gradients, TI that of its difference to the one before (ITU-T
P.910, 2023, section 7), here of luma scaled to 640 pixels across, so that clips of any size are on
one scale.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.document import Frozen

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats

STRETCH_SECONDS = 3.0
"""One second for the rate control to settle, then one keyframe interval that is measured."""
WANTED = 3
QUANTILES = (0.95, 0.5, 0.1)
"""Of difficulty, in this order: the hardest is tried in any case."""
STILL_TI = 0.5
"""Below this nothing moves: what is left is what an encoder changes in a still picture."""


class FrameComplexity(Frozen):
    """What was seen at a moment of a clip."""

    seconds: float
    si: float
    """Spatial information."""
    ti: float
    """Temporal information."""


class Stretch(Frozen):
    """A part of a clip."""

    begin_seconds: float
    seconds: float
    si: float
    """The most in it."""
    ti: float
    """The most in it."""


def spatial(luma: Floats) -> float:
    """SI of one frame, of shape (rows, columns)."""
    smooth_down = luma[:-2] + 2 * luma[1:-1] + luma[2:]
    across = smooth_down[:, 2:] - smooth_down[:, :-2]
    smooth_across = luma[:, :-2] + 2 * luma[:, 1:-1] + luma[:, 2:]
    down = smooth_across[2:] - smooth_across[:-2]
    return float(np.hypot(across, down).std())


def temporal(luma: Floats, before: Floats) -> float:
    """TI between two frames that follow each other, both of shape (rows, columns)."""
    return float((luma - before).std())


def pick(looks: Sequence[FrameComplexity], length_seconds: float) -> tuple[Stretch, ...]:
    """Stretches that do not overlap, from hard to easy; one where the clip holds no more.

    Args:
        looks: at rising moments, one at least.
        length_seconds: of the clip, a stretch at the least.
    """
    last = max(0.0, length_seconds - STRETCH_SECONDS)
    begins = np.arange(0.0, last + 1e-9, 0.5)
    found = [_stretch(looks, float(begin)) for begin in begins]
    difficulty = np.array([s.si * s.ti for s in found])
    ranked = np.argsort(difficulty, kind="stable")
    chosen: list[Stretch] = []
    for quantile in QUANTILES[:WANTED]:
        wanted = round(quantile * (len(found) - 1))
        near = sorted(range(len(found)), key=lambda place: abs(place - wanted))
        free = (found[ranked[place]] for place in near)
        fits = (s for s in free if all(_apart(s, other) for other in chosen))
        stretch = next(fits, None)
        if stretch is not None:
            chosen.append(stretch)
    return tuple(chosen)


def _stretch(looks: Sequence[FrameComplexity], begin: float) -> Stretch:
    inside = [look for look in looks if begin <= look.seconds < begin + STRETCH_SECONDS]
    nearest = inside or [min(looks, key=lambda look: abs(look.seconds - begin))]
    si, ti = max(look.si for look in nearest), max(look.ti for look in nearest)
    return Stretch(
        begin_seconds=round(begin, 3), seconds=STRETCH_SECONDS, si=round(si, 2), ti=round(ti, 2)
    )


def _apart(one: Stretch, other: Stretch) -> bool:
    return abs(one.begin_seconds - other.begin_seconds) >= STRETCH_SECONDS - 1e-9
