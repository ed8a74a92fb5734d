"""What the destinations of a show get of an upload of any size, and the least that changes it.

Whatever is asked, it is the planner that answers: for one destination exactly, for several by whole
divisions of the connection.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
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
        """The least rate of the grid at which another candidate is chosen, and that holds."""
        rates = grid(self.table, from_kbps)
        before = self.table.at(from_kbps).chosen if rates.size else None
        for part in np.array_split(rates, max(1, rates.size // LOOK_AHEAD)):
            chosen = self.table.chosen(part)
            last = np.concatenate(([-1 if before is None else before], chosen[:-1]))
            for turn in np.flatnonzero((chosen != last) & (chosen >= 0)):
                answer = self.at(float(part[turn]))
                if holds(answer):
                    return float(part[turn]), answer
            before = int(chosen[-1]) if chosen.size else before
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
            self._known[safe_kbps] = self._at(safe_kbps)
        return self._known[safe_kbps]

    def _at(self, safe_kbps: float) -> Answer:
        tried = self.tried.on(safe_kbps)
        chosen, _ = chosen_division(tried)
        found: dict[int, Served] = {}
        if chosen is not None:
            total = sum(outcome.total_kbps for outcome in chosen.outcomes)
            for encode, choice, outcome in zip(
                chosen.encodes, chosen.taken, chosen.outcomes, strict=True
            ):
                for m in encode.members:
                    others = total - outcome.total_kbps
                    destination = encode.at(choice)
                    found[m] = Served(outcome.option, destination, outcome.safe_kbps, others)
        return tuple(found.get(m) for m in range(tried.count))

    def changes(self, from_kbps: float = 0.0) -> Iterator[tuple[float, float, Answer]]:
        """Safe rates above one, ascending, at which some destination gets something else.

        Each with the rate that was looked at before it, and but for what filling up a cell changes
        in between.
        """
        before: tuple[object, ...] | None = None
        cells, last = int(from_kbps // CELL_KBPS) + 1, from_kbps
        while cells <= self.tried.capacity_cells:
            if cells not in self._rough:
                self._rough[cells] = fewest_left_out(self.tried.on(cells * CELL_KBPS))[0]
            rough = self._rough[cells]
            key = None if rough is None else (rough.grouping, rough.taken)
            if key is not None and key != before:
                yield last, cells * CELL_KBPS, self.at(cells * CELL_KBPS)
            before, last = key, cells * CELL_KBPS
            cells = max(cells + 1, int(cells * self._growth))

    @property
    def _growth(self) -> float:
        """Of the step from one line to the next: every cell where that is quick."""
        return 1.0 if self.tried.count <= FEW else COARSE

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """Return the least safe rate above one whose answer holds, or None if no answer holds.

        To 1 kbit/s; of more than a few destinations, the first of those that are looked at.
        """
        for below, safe, change in self.changes(from_kbps):
            if not holds(change):
                continue
            low, high, found = below, safe, change
            while high - low > NEAR_KBPS and self.tried.count <= FEW:
                middle = (low + high) / 2
                tried = self.at(middle)
                if holds(tried):
                    high, found = middle, tried
                else:
                    low = middle
            return high, found
        return None
