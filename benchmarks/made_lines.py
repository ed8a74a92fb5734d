"""Lines whose truth is known by long simulation, for holding forecasts against.

Five kinds, with parameters drawn at random over wide ranges (rates and lengths log-uniform):
constant, two-state Markov, three-state with dips of seconds, diurnal with days that differ, bursty
wireless with short fades. Rates are in kbit/s on a grid of 0.1 s.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from eager_kestrel.core.forecast.queue import critical_kbps
from eager_kestrel.core.line.airing import LATE_SECONDS

Floats = NDArray[np.float64]
GRID = 0.1
HOUR_STEPS = round(3600 / GRID)
KINDS = ("constant", "two-state", "dips of seconds", "diurnal", "bursty wireless")


@dataclass(frozen=True)
class Made:
    """A line: ``paths(rng, count, steps)`` gives rates of shape (count, steps)."""

    kind: str
    paths: Callable[[np.random.Generator, int, int], Floats]


def made_line(kind: str, seed: int) -> Made:
    """A line of that kind, its parameters drawn by a seed."""
    rng = np.random.default_rng(seed)

    def log(low: float, high: float) -> float:
        return float(np.exp(rng.uniform(np.log(low), np.log(high))))

    base, jitter, memory = log(2_000, 50_000), log(0.005, 0.05), log(0.1, 1.0)
    change = CHANGES[kind](rng, log)

    def paths(draw: np.random.Generator, count: int, steps: int) -> Floats:
        even = base * np.exp(jitter * wander(draw, count, steps, memory))
        return even * change(draw, count, steps)

    return Made(kind, paths)


Change = Callable[[np.random.Generator, int, int], Floats]
Log = Callable[[float, float], float]


def _constant(_: np.random.Generator, __: Log) -> Change:
    return lambda _, count, steps: np.ones((count, steps))


def _two_state(rng: np.random.Generator, log: Log) -> Change:
    depth, good, bad = rng.uniform(0.2, 0.9), log(30, 21_600), log(5, 3_600)
    return lambda draw, count, steps: np.where(states(draw, count, steps, good, bad), depth, 1.0)


def _dips(rng: np.random.Generator, log: Log) -> Change:
    slow, deep = rng.uniform(0.5, 0.95), rng.uniform(0, 0.6)
    good, less, apart, lasting = log(60, 7_200), log(60, 7_200), log(20, 7_200), rng.uniform(1, 8)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        level = np.where(states(draw, count, steps, good, less), slow, 1.0)
        return level * np.where(states(draw, count, steps, apart, lasting), deep, 1.0)

    return change


def _diurnal(rng: np.random.Generator, _: Log) -> Change:
    days, swing, phase = rng.uniform(0.05, 0.25), rng.uniform(0.1, 0.5), rng.uniform(0, 24)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        day = np.exp(days * draw.standard_normal((count, 1)))
        hour = 20 + draw.uniform(-1.5, 1.5, (count, 1)) + np.arange(steps) * GRID / 3600
        return day * (1 - swing * (1 + np.cos((hour - phase) / 12 * np.pi)) / 2)

    return change


def _bursty(rng: np.random.Generator, log: Log) -> Change:
    spread, memory, apart, lasting = log(0.05, 0.3), log(0.5, 20), log(60, 36_000), log(0.1, 1.5)
    deep, days = rng.uniform(0, 0.4), rng.uniform(0, 0.15)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        day = np.exp(days * draw.standard_normal((count, 1)))
        swing = np.exp(spread * wander(draw, count, steps, memory) - spread**2 / 2)
        return day * swing * np.where(states(draw, count, steps, apart, lasting), deep, 1.0)

    return change


CHANGES: dict[str, Callable[[np.random.Generator, Log], Change]] = dict(
    zip(KINDS, (_constant, _two_state, _dips, _diurnal, _bursty), strict=True)
)


def wander(rng: np.random.Generator, count: int, steps: int, memory_seconds: float) -> Floats:
    """A first-order autoregression of unit variance, shape (count, steps)."""
    keep = float(np.exp(-GRID / memory_seconds))
    noise = rng.standard_normal((steps, count)) * np.sqrt(1 - keep * keep)
    noise[0] = rng.standard_normal(count)
    for step in range(1, steps):
        noise[step] += keep * noise[step - 1]
    return np.asarray(noise.T)


def states(
    rng: np.random.Generator, count: int, steps: int, good_seconds: float, bad_seconds: float
) -> NDArray[np.bool_]:
    """Whether a two-state Markov chain is in its bad state, shape (count, steps)."""
    found = np.empty((count, steps), dtype=np.bool_)
    for row in found:
        bad = bool(rng.random() < bad_seconds / (good_seconds + bad_seconds))
        at = 0
        while at < steps:
            mean = bad_seconds if bad else good_seconds
            end = at + max(1, round(rng.exponential(mean) / GRID))
            row[at:end] = bad
            at, bad = end, not bad
    return found


def critical_hours(line: Made, rng: np.random.Generator, hours: int) -> Floats:
    """The critical rates of so many hours of a line, rising."""
    found: list[float] = []
    while len(found) < hours:
        paths = line.paths(rng, min(20, hours - len(found)), HOUR_STEPS)
        found += [critical_kbps(path * GRID, GRID, LATE_SECONDS) for path in paths]
    return np.sort(np.array(found))
