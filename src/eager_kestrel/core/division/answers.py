"""What the destinations of a show get of an upload of any size, and the least that changes it.

Whatever is asked, it is the planner that answers: for one destination exactly, for several by whole
divisions of the connection.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import TYPE_CHECKING, NamedTuple, Protocol

import numpy as np

from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table, grid
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import Option
from eager_kestrel.core.division.divide import chosen_division, fewest_left_out
from eager_kestrel.core.division.groupings import Division, Groupings
from eager_kestrel.core.division.knapsack import CELL_KBPS
from eager_kestrel.core.show.show import Show

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


NEAR_KBPS = 1.0
"""To which where a choice begins is found."""
FEW = 3
"""Destinations up to which every size of line is looked at; beyond, in steps of a seventh."""
COARSE = 1.15
LOOK_AHEAD = 128
"""Rates of the grid that are weighed at a time."""


class Served(NamedTuple):
    """What a destination gets."""

    option: Option
    choices: CandidatesTable
    safe_kbps: float
    """For all copies of its encode."""
    others_kbps: float
    """Of the same connection, for other encodes."""


Answer = tuple[Served | None, ...]
"""Of each destination; None for one that is left out."""


class Answers(Protocol):
    """What the destinations of a show get on connections of any size."""

    def at(self, safe_kbps: float) -> Answer:
        """What each gets of a safe rate."""

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """Return the least safe rate above one whose answer holds, or None if no answer holds."""


def answers_of(
    show: Show, guides: Sequence[Guide], table: QualityTable, max_kbps: float
) -> Answers:
    """Of a show on connections up to a safe rate; exact, and of any rate, for one destination."""
    if len(guides) > 1:
        return DividedAnswers(Groupings(show, guides, table, max_kbps))
    codec = guides[0].codec(show.destinations[0].codec)
    return OneAnswers(candidates_table(show, guides[0], table, codec))


@dataclass(frozen=True)
class OneAnswers:
    """Of a show's only destination, read off its candidates on a grid of 10 kbit/s."""

    table: CandidatesTable

    def at(self, safe_kbps: float) -> Answer:
        """What it gets of a safe rate."""
        scored = self.table.at(safe_kbps)
        if scored.chosen is None:
            return (None,)
        return (Served(scored.option(scored.chosen), self.table, safe_kbps, 0.0),)

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """The least rate of the grid whose answer holds.

        Of a candidate that stays the choice more upload never takes away, so where it holds at the
        last rate it is chosen at, the first one is found by halving.
        """
        rates = grid(self.table, from_kbps)
        for part in np.array_split(rates, max(1, rates.size // LOOK_AHEAD)):
            chosen = self.table.chosen(part)
            turns = [0, *(np.flatnonzero(np.diff(chosen)) + 1), chosen.size]
            for low, end in pairwise(turns):
                if low == end or chosen[low] < 0 or not holds(self.at(float(part[end - 1]))):
                    continue
                within = range(low, end)
                first = bisect_left(within, True, key=lambda n: holds(self.at(float(part[n]))))
                safe = float(part[within[first]])
                return safe, self.at(safe)
        return None


@dataclass(frozen=True)
class DividedAnswers:
    """Of several destinations that share the connection: each answer is a whole division."""

    tried: Groupings
    _known: dict[float, Answer] = field(default_factory=dict)
    _rough: dict[int, Division | None] = field(default_factory=dict)

    def at(self, safe_kbps: float) -> Answer:
        """What each destination gets of a safe rate."""
        if safe_kbps not in self._known:
            chosen, _ = chosen_division(self.tried.on(safe_kbps))
            self._known[safe_kbps] = self._answer(chosen)
        return self._known[safe_kbps]

    def _answer(self, division: Division | None) -> Answer:
        found: dict[int, Served] = {}
        if division is not None:
            total = sum(outcome.total_kbps for outcome in division.outcomes)
            for encode, choice, outcome in zip(
                division.encodes, division.taken, division.outcomes, strict=True
            ):
                others = total - outcome.total_kbps
                served = Served(outcome.option, encode.at(choice), outcome.safe_kbps, others)
                found |= dict.fromkeys(encode.members, served)
        return tuple(found.get(m) for m in range(self.tried.count))

    def _runs(self, from_kbps: float) -> Iterator[tuple[Division, list[float]]]:
        """Divisions on larger and larger lines, each with the safe rates it is made at."""
        now: Division | None = None
        rates: list[float] = []
        cells = int(from_kbps // CELL_KBPS) + 1
        while cells <= self.tried.capacity_cells:
            if cells not in self._rough:
                self._rough[cells] = fewest_left_out(self.tried.on(cells * CELL_KBPS))[0]
            rough = self._rough[cells]
            if now is None or rough is None or _key(rough) != _key(now):
                if now is not None:
                    yield now, rates
                now, rates = rough, []
            rates.append(cells * CELL_KBPS)
            cells = max(cells + 1, int(cells * self._growth))
        if now is not None:
            yield now, rates

    @property
    def _growth(self) -> float:
        """Of the step from one line to the next: every cell where that is quick."""
        return 1.0 if self.tried.count <= FEW else COARSE

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """Return the least safe rate above one whose answer holds, or None if no answer holds.

        To 1 kbit/s; of more than a few destinations, the first of those that are looked at. Rates
        are passed over where a division would not hold if each had all that is left.
        """
        last = from_kbps
        for division, rates in self._runs(from_kbps):
            if holds(self._answer(division.filled_each(rates[-1]))):
                for cell in rates:  # and at its end, where what the grid leaves over is the most
                    for safe in (cell, cell + CELL_KBPS - NEAR_KBPS):
                        if holds(self.at(safe)):
                            return self._between(last, safe, holds)
                        last = safe
            last = rates[-1]
        return None

    def _between(
        self, low: float, high: float, holds: Callable[[Answer], bool]
    ) -> tuple[float, Answer]:
        """The least of two rates apart, of which the higher holds."""
        while high - low > NEAR_KBPS and self.tried.count <= FEW:
            middle = (low + high) / 2
            low, high = (low, middle) if holds(self.at(middle)) else (middle, high)
        return high, self.at(high)


def _key(division: Division) -> tuple[object, ...]:
    return division.grouping, division.taken
