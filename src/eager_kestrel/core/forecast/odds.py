"""How likely a rate has a late frame, how sure that is, and the most that keeps under a risk."""

from __future__ import annotations

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.forecast.lines import Lines
from eager_kestrel.core.forecast.watched import Watched

SURE = (0.05, 0.95)
"""The ends of the interval: nine of ten lines that agree with the runs lie within."""
LEAST_SHARE = 0.05
"""Of the typical rate; less is no answer."""
ROUNDS = 20
MOST_TIMES = (2, 3, 4, 6, 8, 12, 16, 24, 32)


class Odds(Frozen):
    """The chance of a late frame."""

    chance: float
    """0..1"""
    low: float
    """Lower end of its 90 % interval."""
    high: float
    """Upper end of it."""
    seconds: float
    """Of sending, in which there is one or none."""
    runs: int
    """It rests on."""
    watched_seconds: float
    """They lasted in all."""


def spread_of(chances: Floats) -> tuple[float, float, float]:
    """Chance and interval from each line's chance, of shape (draws,); the chance lies within."""
    chance = float(chances.mean())
    low, high = (float(x) for x in np.quantile(chances, SURE))
    return chance, min(low, chance), max(high, chance)


def odds_of(lines: Lines, kbps: float, seconds: float) -> Odds:
    """The chance of a late frame when an even stream of so much is sent for so long."""
    chance, low, high = spread_of(lines.late(np.array([kbps]), seconds)[:, 0])
    return Odds(
        chance=round(chance, 5),
        low=round(low, 5),
        high=round(high, 5),
        seconds=seconds,
        runs=lines.watched.count,
        watched_seconds=round(float(lines.watched.seconds.sum()), 1),
    )


def most_kbps(lines: Lines, risk: float, seconds: float) -> float | None:
    """The most whose chance is under a risk by the upper end of its interval.

    Args:
        lines: that agree with the runs.
        risk: 0..1, of a late frame.
        seconds: of sending.

    Returns:
        kbit/s; None when not even a twentieth of the line is so sure.
    """
    typical = float(np.median(lines.watched.levels_kbps))
    low, high = LEAST_SHARE * typical, typical
    if odds_of(lines, low, seconds).high >= risk:
        return None
    if odds_of(lines, high, seconds).high < risk:
        return high
    for _ in range(ROUNDS):
        middle = (low + high) / 2
        low, high = (middle, high) if odds_of(lines, middle, seconds).high < risk else (low, middle)
    return low


def runs_to_halve(watched: Watched, kbps: float, seconds: float, seed: int = 0) -> int | None:
    """How many runs more, showing the same again, would halve the interval at a rate.

    Returns:
        None when not even 31 times as many would, or it is a point already.
    """

    def width(times: int) -> float:
        lines = Lines.drawn(watched.times(times), seed=seed)
        _, low, high = spread_of(lines.late(np.array([kbps]), seconds)[:, 0])
        return high - low

    now = width(1)
    if now < 0.005:
        return None
    found = next((times for times in MOST_TIMES if width(times) <= now / 2), None)
    return None if found is None else watched.count * (found - 1)


def runs_for_risk(watched: Watched, risk: float, seconds: float, seed: int = 0) -> int | None:
    """How many runs more, showing the same again, would let a risk be promised at all."""
    for times in MOST_TIMES:
        if most_kbps(Lines.drawn(watched.times(times), seed=seed), risk, seconds) is not None:
            return watched.count * (times - 1)
    return None
