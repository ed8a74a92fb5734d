"""A trace: how much a connection carries over time, exact to integrate.

A list of (seconds, rate) where each rate holds until the next; after the last stretch it begins
again. Used to simulate an uplink whose true rates are known.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.errors import FormatError

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


@dataclass(frozen=True)
class Trace:
    """Rates in kbit/s, each from its second until the next; repeats after ``period_seconds``."""

    seconds: tuple[float, ...]
    kbps: tuple[float, ...]
    period_seconds: float
    title: str = ""
    _edges: Floats = field(init=False, repr=False, compare=False)
    _bytes_at: Floats = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        if len(self.seconds) != len(self.kbps) or not self.seconds or self.seconds[0] != 0:
            raise FormatError("a trace has one rate for each second it names", "begin it at 0")
        edges = (*self.seconds, self.period_seconds)
        if any(b <= a for a, b in pairwise(edges)):
            raise FormatError("the seconds of a trace must rise", "sort them")
        if min(self.kbps) < 0 or max(self.kbps) <= 0:
            raise FormatError(
                "a trace needs rates of zero or more and one above zero", "correct it"
            )
        object.__setattr__(self, "_edges", np.asarray(edges))
        carried = np.diff(edges) * np.asarray(self.kbps) * 125
        object.__setattr__(self, "_bytes_at", np.concatenate([[0.0], np.cumsum(carried)]))

    @classmethod
    def constant(cls, kbps: float) -> Trace:
        """The same rate for ever."""
        return cls((0.0,), (kbps,), 60.0)

    def bytes_until(self, seconds: float) -> float:
        """Bytes carried from 0 to a moment."""
        rounds, rest = divmod(seconds, self.period_seconds)
        whole = float(self._bytes_at[-1]) * rounds
        return whole + float(np.interp(rest, self._edges, self._bytes_at))

    def when_carried(self, total_bytes: float) -> float:
        """The moment by which that many bytes have been carried since 0: the inverse.

        Over a stretch at zero rate the answer is its end.
        """
        rounds, rest = divmod(total_bytes, float(self._bytes_at[-1]))
        index = int(np.searchsorted(self._bytes_at, rest, side="right")) - 1
        index = min(max(index, 0), len(self.kbps) - 1)
        into = (rest - float(self._bytes_at[index])) / (self.kbps[index] * 125)
        return rounds * self.period_seconds + self.seconds[index] + into

    def with_others(self, others_kbps: float, from_seconds: float, seconds: float) -> Trace:
        """What is left of it when others take a rate from a moment on; lasts ``seconds``."""
        return self._changed(seconds, from_seconds, seconds, lambda rate: rate - others_kbps)

    def with_stall(self, from_seconds: float, to_seconds: float, seconds: float) -> Trace:
        """The same with nothing let through between two moments; lasts ``seconds``."""
        return self._changed(seconds, from_seconds, to_seconds, lambda _: 0.0)

    def _changed(
        self, length: float, begin: float, end: float, change: Callable[[float], float]
    ) -> Trace:
        """Unrolled to a length, with the rates between two moments changed, none below zero."""
        rounds = int(length // self.period_seconds) + 1
        starts = {s + r * self.period_seconds for r in range(rounds) for s in self.seconds}
        edges = sorted({s for s in (*starts, begin, end) if 0 <= s < length})
        rates = [self.kbps_at(edge) for edge in edges]
        kbps = [
            max(0.0, change(rate)) if begin <= edge < end else rate
            for edge, rate in zip(edges, rates, strict=True)
        ]
        return Trace(tuple(edges), tuple(kbps), length, self.title)

    def kbps_at(self, seconds: float) -> float:
        """The rate at a moment."""
        rest = seconds % self.period_seconds
        return self.kbps[int(np.searchsorted(self.seconds, rest, side="right")) - 1]

    @classmethod
    def uneven(
        cls, kbps: float, spread: float, step_seconds: float, length: float, seed: int
    ) -> Trace:
        """Rates drawn evenly from ``kbps`` x (1 +- spread) for each step, by a fixed seed."""
        rng = np.random.default_rng(seed)
        starts = np.arange(0, length, step_seconds)
        drawn = kbps * (1 + spread * rng.uniform(-1, 1, starts.size))
        return cls(tuple(starts.tolist()), tuple(drawn.tolist()), length)

    def window_kbps(self, window_seconds: float, step_seconds: float = 0.05) -> Floats:
        """True window means over one period, for holding a measurement against."""
        ends = np.arange(window_seconds, self.period_seconds + window_seconds, step_seconds)
        at = np.array([self.bytes_until(float(e)) for e in ends])
        before = np.array([self.bytes_until(float(e - window_seconds)) for e in ends])
        return np.asarray((at - before) / 125 / window_seconds, dtype=np.float64)
