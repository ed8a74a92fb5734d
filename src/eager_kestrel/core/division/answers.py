"""What each destination of a show gets on lines of other sizes: for offers, ``need`` and sweeps.

The same search and the same filling up as a plan's, so that nothing here can disagree with one. The
search is made once, for the largest line that is asked about.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from eager_kestrel.core.division.divide import chosen_division
from eager_kestrel.core.division.groupings import Division, Groupings
from eager_kestrel.core.division.knapsack import CELL_KBPS
from eager_kestrel.core.division.serving import fewest_left_out

if TYPE_CHECKING:
    from eager_kestrel.core.choice.field import CandidatesTable
    from eager_kestrel.core.choice.option import Option
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.show.show import Show

NEAR_KBPS = 1.0
"""To which where a choice begins is found."""
FEW = 3
"""Destinations up to which every size of line is looked at; beyond, in steps of a seventh."""
COARSE = 1.15


class Served(NamedTuple):
    """What a destination gets."""

    option: Option
    field: CandidatesTable
    safe_kbps: float
    """For all copies of its encode."""
    others_kbps: float
    """Of the same line, for other encodes."""


Answer = tuple[Served | None, ...]
"""Of each destination; None for one that is left out."""


@dataclass(frozen=True)
class Answers:
    """A show's destinations on lines up to a size."""

    tried: Groupings
    _known: dict[float, Answer] = field(default_factory=dict)
    _rough: dict[int, Division | None] = field(default_factory=dict)

    @classmethod
    def of(
        cls, show: Show, guides: Sequence[Guide], table: QualityTable, most_kbps: float
    ) -> Answers:
        """Of a show.

        Args:
            show: with its destinations.
            guides: of each, with its standing applied.
            table: of the quality model.
            most_kbps: the largest safe rate that will be asked about.
        """
        return cls(Groupings(show, guides, table, most_kbps))

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
                    there = encode.at(choice)
                    found[m] = Served(outcome.option, there, outcome.safe_kbps, others)
        return tuple(found.get(m) for m in range(tried.count))

    def _roughly(self, cells: int) -> Division | None:
        """The division of so many cells, not filled up."""
        if cells not in self._rough:
            self._rough[cells] = fewest_left_out(self.tried.on(cells * CELL_KBPS))[0]
        return self._rough[cells]

    def changes(self, from_kbps: float = 0.0) -> Iterator[tuple[float, float, Answer]]:
        """Safe rates above one, ascending, at which some destination gets something else.

        Each with the rate that was looked at before it, and but for what filling up a cell changes
        in between.
        """
        before: tuple[object, ...] | None = None
        cells, last = int(from_kbps // CELL_KBPS) + 1, from_kbps
        while cells <= self.tried.capacity_cells:
            rough = self._roughly(cells)
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
        """The least safe rate above one whose answer holds; None where none does.

        To 1 kbit/s; of more than a few destinations, the first of those that are looked at.
        """
        for below, safe, answer in self.changes(from_kbps):
            if not holds(answer):
                continue
            low, high, found = below, safe, answer
            while high - low > NEAR_KBPS and self.tried.count <= FEW:
                middle = (low + high) / 2
                tried = self.at(middle)
                if holds(tried):
                    high, found = middle, tried
                else:
                    low = middle
            return high, found
        return None
