"""The inverse of a plan: what upload a resolution takes, for any resolution.

A resolution is *among the best* at a safe rate when it is about the same quality as the best
(:mod:`eager_kestrel.core.choice.scored`). It is so from some upload until another, where a larger
one is visibly better; in between a plan may still take another of them.

What is asked of one destination is read off its candidates on a grid of 10 kbit/s; of a show, off
whole plans (:mod:`eager_kestrel.core.division.what_if`). Either way it is the planner that answers.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats
from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.choice.candidates_table import CandidatesTable
from eager_kestrel.core.choice.scored import Option, ScoredCandidates
from eager_kestrel.core.choice.what_if import Need
from eager_kestrel.core.resolution import Resolution, frame_rate_text, is_customary
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import GOOD_FROM, points

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

REFERENCE = Bitrate(100_000_000)
"""Any upload of the assumed spread: it tells how safe rate and upload are related."""
LEAST_LINES = 240
"""Smaller resolutions are asked for by name."""
LEAST_FPS = 24
NOTHING = 1e-6

Asked = tuple[Resolution, Fraction]


class NeededAt(NamedTuple):
    """A resolution and frame rate at one safe rate."""

    near: bool
    """Whether it is among the best."""
    taken: bool
    """Whether a plan takes it."""
    quality: float
    """-1 where it is not allowed."""
    option: Option | None
    """Its own settings; None where it is not allowed."""
    chosen: Option | None
    """What a plan takes."""


class NeedSearch(NamedTuple):
    """The same along rising safe rates, arrays of one length, and how to look at one closely."""

    rates: Floats
    near: Flags
    taken: Flags
    quality: Floats
    look: Callable[[float], NeededAt]
    to_kbps: float
    """How closely a turning point between two of the rates is looked for."""

    def first(self, flags: Flags, holds: Callable[[NeededAt], bool]) -> float | None:
        """The least rate for which something holds, which ``flags`` say of the rates there are."""
        hits = np.flatnonzero(flags)
        return None if not hits.size else self._between(int(hits[0]), holds)

    def until(self) -> float | None:
        """The least rate above all at which it is among the best; None if it stays so."""
        hits = np.flatnonzero(self.near)
        if not hits.size or int(hits[-1]) + 1 == self.rates.size:
            return None
        return self._between(int(hits[-1]) + 1, lambda seen: not seen.near)

    def _between(self, index: int, holds: Callable[[NeededAt], bool]) -> float:
        high = float(self.rates[index])
        low = float(self.rates[index - 1]) if index else 0.0
        while high - low > self.to_kbps:
            middle = (low + high) / 2
            low, high = (low, middle) if holds(self.look(middle)) else (middle, high)
        return high


def asked_of(
    candidates: Sequence[Candidate],
    source: Resolution,
    resolutions: Sequence[Resolution] | None,
    frame_rate_at_least: float | None,
) -> list[Asked]:
    """What is answered: the resolutions named, or the customary ones, at the main frame rates."""
    every = sorted({c.resolution for c in candidates}, key=lambda p: (p.pixels, p.width))
    usual = [p for p in every if p == source or (is_customary(p) and p.lines >= LEAST_LINES)]
    rates = _main_rates(candidates, frame_rate_at_least)
    return [(p, rate) for p in resolutions or usual or every for rate in rates]


def _main_rates(candidates: Sequence[Candidate], at_least: float | None) -> list[Fraction]:
    """The fastest and its half, ascending; of those that are fast enough at least one."""
    every = sorted({c.frame_rate for c in candidates})
    if not every:
        return [] if at_least is None else [Fraction(at_least).limit_denominator(1001)]
    half = min(every, key=lambda rate: abs(2 * rate - every[-1]))
    main = sorted({rate for rate in (half, every[-1]) if rate >= LEAST_FPS} or {every[-1]})
    if at_least is None:
        return main
    enough = [rate for rate in every if float(rate) >= at_least - 0.1]
    return (
        [rate for rate in main if rate in enough]
        or enough[:1]
        or [Fraction(at_least).limit_denominator(1001)]
    )


def index_of(choices: CandidatesTable, asked: Asked) -> int | None:
    """Where among the candidates it is; None when it is none."""
    for index, c in enumerate(choices.candidates):
        if (c.resolution, c.frame_rate) == asked:
            return index
    return None


def seen(scored: ScoredCandidates, index: int | None) -> NeededAt:
    """A candidate among those weighed at one safe rate of a destination's own."""
    chosen = None if scored.chosen is None else scored.option(scored.chosen)
    if index is None or not scored.allowed[index]:
        return NeededAt(near=False, taken=False, quality=-1.0, option=None, chosen=chosen)
    near, quality = bool(scored.among_best[index]), float(scored.quality[index])
    return NeededAt(near, scored.chosen == index, quality, scored.option(index), chosen)


def answer(guide: Guide, asked: Asked, along: NeedSearch, budget: Budget) -> Need:
    """What the rates say of one resolution."""
    most = float(along.quality.max(initial=-1.0))
    if most < 0:
        return impossible(guide, asked)

    def upload(safe: float | None) -> float | None:
        return None if safe is None else upload_of(budget, safe)

    begin = along.first(along.near, lambda s: s.near)
    until = None if begin is None else along.until()
    is_good = np.rint(100 * along.quality) >= GOOD_FROM
    good = along.first(is_good, lambda seen: points(seen.quality) >= GOOD_FROM)
    least = most - NOTHING
    full = along.first(along.quality >= least, lambda s: s.quality >= least)
    assert full is not None
    at_full = along.look(full)
    at_until = None if until is None else along.look(until)
    return impossible(guide, asked).model_copy(
        update={
            "possible": True,
            "from_kbps": upload(begin),
            "from_gives": None if begin is None else along.look(begin).option,
            "until_kbps": upload(until),
            "until_gives": None if at_until is None else at_until.option,
            "then": None if at_until is None else at_until.chosen,
            "chosen_from_kbps": upload(along.first(along.taken, lambda s: s.taken)),
            "good_kbps": upload(good),
            "full_kbps": upload(full),
            "full_gives": at_full.option,
            "better": at_full.chosen if begin is None else None,
        }
    )


def impossible(guide: Guide, asked: Asked) -> Need:
    """Nothing makes the platform take it."""
    resolution, rate = asked
    return Need(
        platform=guide.name,
        tier=guide.tier,
        resolution=str(resolution),
        fps=float(frame_rate_text(rate)),
        possible=False,
    )


def upload_of(budget: Budget, safe_kbps: float) -> float:
    """The typical upload, in kbit/s to a bit a second, whose safe rate is at least this."""
    return -(-round(budget.upload_for(safe_kbps) * 1e6) // 1000) / 1000
