"""A trace: how much a line carries over time, exact to integrate.

A list of (seconds, rate) where each rate holds until the next; after the last stretch it begins
again. Used to simulate an uplink whose true rates are known.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.errors import FormatError


@dataclass(frozen=True)
class Trace:
    """Rates in kbit/s, each from its second until the next; repeats after ``period_seconds``."""

    seconds: tuple[float, ...]
    kbps: tuple[float, ...]
    period_seconds: float
    title: str = ""
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
        carried = np.diff(edges) * np.asarray(self.kbps) * 125
        object.__setattr__(self, "_bytes_at", np.concatenate([[0.0], np.cumsum(carried)]))

    @classmethod
    def constant(cls, kbps: float) -> Trace:
        """The same rate for ever."""
        return cls((0.0,), (kbps,), 60.0)

    @property
    def _edges(self) -> Floats:
        return np.asarray((*self.seconds, self.period_seconds))

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

    def window_kbps(self, window_seconds: float, step_seconds: float = 0.05) -> Floats:
        """True window means over one period, for holding a measurement against."""
        ends = np.arange(window_seconds, self.period_seconds + window_seconds, step_seconds)
        at = np.array([self.bytes_until(float(e)) for e in ends])
        before = np.array([self.bytes_until(float(e - window_seconds)) for e in ends])
        return np.asarray((at - before) / 125 / window_seconds, dtype=np.float64)
