"""Connections whose truth is known by long simulation, for holding policies against.

Sixteen kinds, with parameters drawn at random over wide ranges (rates and lengths log-uniform):
constant, two-state Markov, three-state with dips of seconds, diurnal with days that differ, bursty
wireless with short fades; outages of heavy-tailed length, the saw-tooth of competing TCP, a mobile
random walk, a weekly pattern, rare outages of 20 to 60 s; and such as really stop or change within
an evening: a modem that retrains for 20 to 60 s, hand-overs of 0.2 to 1.5 s as of a satellite,
wireless beside a microwave oven, a shared cable line in the evening, a household whose backup
starts at a random time, a 5G walk. Rates are in kbit/s on a grid of 0.1 s; a row is an evening.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
GRID = 0.1
KINDS = (
    "constant",
    "two-state",
    "dips of seconds",
    "diurnal",
    "bursty wireless",
    "heavy-tailed outages",
    "saw-tooth",
    "mobile",
    "weekly",
    "rare outages",
    "retrains",
    "hand-overs",
    "microwave",
    "shared cable",
    "backup",
    "5G",
)


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


def _heavy(rng: np.random.Generator, log: Log) -> Change:
    apart, shape, least, deep = (
        log(120, 7_200),
        rng.uniform(1.1, 2.0),
        log(0.3, 2),
        rng.uniform(0, 0.4),
    )

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        level = np.ones((count, steps))
        for row in level:
            at = draw.exponential(apart)
            while at < steps * GRID:
                lasts = min(least * (1 + draw.pareto(shape)), 120.0)
                row[round(at / GRID) : round((at + lasts) / GRID)] = deep
                at += lasts + draw.exponential(apart)
        return level

    return change


def _saw(rng: np.random.Generator, log: Log) -> Change:
    period, depth = log(2, 60), rng.uniform(0.3, 0.7)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        at = np.arange(steps) * GRID / period + draw.uniform(0, 1, (count, 1))
        share = draw.uniform(0.5, 1.0, (count, 1))
        return 1 - depth * share * (1 - at % 1)

    return change


def _mobile(rng: np.random.Generator, log: Log) -> Change:
    spread, memory, days = rng.uniform(0.2, 0.6), log(20, 600), rng.uniform(0, 0.3)
    fades, apart, lasting = log(0.05, 0.2), log(120, 3_600), log(1, 10)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        day = np.exp(days * draw.standard_normal((count, 1)))
        walk = np.exp(spread * wander(draw, count, steps, memory) - spread**2 / 2)
        quick = np.exp(fades * wander(draw, count, steps, 1.0))
        return day * walk * quick * np.where(states(draw, count, steps, apart, lasting), 0.1, 1.0)

    return change


def _weekly(rng: np.random.Generator, log: Log) -> Change:
    less, days, quick = rng.uniform(0.4, 0.85), rng.uniform(0.02, 0.1), log(0.02, 0.15)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        weekend = draw.integers(0, 7, (count, 1)) >= 5
        day = np.where(weekend, less, 1.0) * np.exp(days * draw.standard_normal((count, 1)))
        return day * np.exp(quick * wander(draw, count, steps, 3.0))

    return change


def _rare(rng: np.random.Generator, log: Log) -> Change:
    apart, deep = log(3_600, 36_000), rng.uniform(0, 0.3)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        level = np.ones((count, steps))
        for row in level:
            at = draw.exponential(apart)
            while at < steps * GRID:
                lasts = draw.uniform(20, 60)
                row[round(at / GRID) : round((at + lasts) / GRID)] = deep
                at += lasts + draw.exponential(apart)
        return level

    return change


def _stops(
    draw: np.random.Generator, count: int, steps: int, apart: float, least: float, most: float
) -> Floats:
    """One, and nothing at all for between so many seconds now and then."""
    level = np.ones((count, steps))
    for row in level:
        at = draw.exponential(apart)
        while at < steps * GRID:
            lasts = draw.uniform(least, most)
            row[round(at / GRID) : round((at + lasts) / GRID)] = 0.0
            at += lasts + draw.exponential(apart)
    return level


def _retrains(_: np.random.Generator, log: Log) -> Change:
    apart = log(7_200, 180_000)
    return lambda draw, count, steps: _stops(draw, count, steps, apart, 20, 60)


def _handovers(rng: np.random.Generator, log: Log) -> Change:
    apart, spread, memory = log(15, 600), rng.uniform(0.05, 0.2), log(5, 60)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        swing = np.exp(spread * wander(draw, count, steps, memory) - spread**2 / 2)
        return swing * _stops(draw, count, steps, apart, 0.2, 1.5)

    return change


def _microwave(rng: np.random.Generator, log: Log) -> Change:
    apart, lasting, left, quick = (
        log(900, 14_400),
        log(60, 300),
        rng.uniform(0.15, 0.6),
        log(0.1, 0.4),
    )

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        on = states(draw, count, steps, apart, lasting)
        noisy = left * np.exp(quick * wander(draw, count, steps, 0.3))
        return np.where(on, np.minimum(noisy, 1.0), 1.0)

    return change


def _shared(rng: np.random.Generator, log: Log) -> Change:
    busy, memory, quick = rng.uniform(0.1, 0.5), log(300, 1_800), log(0.02, 0.15)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        at = np.linspace(0, 1, steps)
        evening = 1 - busy * draw.uniform(0.6, 1.2, (count, 1)) * np.sin(np.pi * at)
        slow = np.exp(0.1 * wander(draw, count, steps, memory))
        return np.maximum(evening * slow * np.exp(quick * wander(draw, count, steps, 2.0)), 0.02)

    return change


def _backup(rng: np.random.Generator, log: Log) -> Change:
    takes, lasting, likely = rng.uniform(0.3, 0.8), log(600, 3_600), rng.uniform(0.2, 0.8)

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        level = np.ones((count, steps))
        for row in level:
            if draw.random() < likely:
                at = draw.integers(0, steps)
                row[at : at + round(lasting / GRID)] = 1 - takes
        return level

    return change


def _5g(rng: np.random.Generator, log: Log) -> Change:
    spread, memory, quick, apart = (
        rng.uniform(0.15, 0.4),
        log(10, 120),
        log(0.1, 0.3),
        log(60, 1_200),
    )

    def change(draw: np.random.Generator, count: int, steps: int) -> Floats:
        walk = np.exp(spread * wander(draw, count, steps, memory) - spread**2 / 2)
        fades = np.exp(quick * wander(draw, count, steps, 0.5) - quick**2 / 2)
        return walk * fades * _stops(draw, count, steps, apart, 0.1, 0.6)

    return change


CHANGES: dict[str, Callable[[np.random.Generator, Log], Change]] = dict(
    zip(
        KINDS,
        (
            _constant,
            _two_state,
            _dips,
            _diurnal,
            _bursty,
            _heavy,
            _saw,
            _mobile,
            _weekly,
            _rare,
            _retrains,
            _handovers,
            _microwave,
            _shared,
            _backup,
            _5g,
        ),
        strict=True,
    )
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
