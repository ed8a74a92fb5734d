"""``need`` and sweeps of a show with several destinations: each answer is for the whole show."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from eager_kestrel.core.choice.budget import budget, budget_of
from eager_kestrel.core.choice.candidates_table import ScoredCandidates, candidates_table
from eager_kestrel.core.choice.need import (
    REFERENCE,
    Asked,
    NeededAt,
    NeedSearch,
    answer,
    asked_of,
    index_of,
    seen,
)
from eager_kestrel.core.choice.what_if import Beside, Need, Point, Range, Sweep, values_of
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.division.divide import chosen_division, fewest_left_out
from eager_kestrel.core.division.groupings import Division, Groupings
from eager_kestrel.core.division.knapsack import CELL_KBPS
from eager_kestrel.core.show.show import MOTIONS, Show

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.choice.candidates_table import CandidatesTable, Option
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.resolution import Resolution


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
    """Of the same connection, for other encodes."""


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
        """Of a show."""
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


LEAST_KBPS, MOST_KBPS = 150.0, 80_000.0
"""The safe rates that are looked at."""
POINTS = 250
"""As many of them, a fortieth apart; what turns in between is found to a kbit/s."""


def needs(
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    resolutions: Sequence[Resolution] | None = None,
    frame_rate_at_least: float | None = None,
) -> tuple[Need, ...]:
    """What upload of the whole show gives each destination which resolution.

    Args:
        resolutions: which; the customary ones when none are named.
        frame_rate_at_least: frames a second; the main ones when none is given.
    """
    answers = Answers.of(show, guides, table, MOST_KBPS)
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    rates = np.geomspace(LEAST_KBPS, MOST_KBPS, POINTS)
    weighed: dict[tuple[int, float], ScoredCandidates] = {}
    found: list[Need] = []
    for m, (guide, place) in enumerate(zip(guides, show.destinations, strict=True)):
        alone = candidates_table(show, guide, table, guide.codec(place.codec))
        for asked in asked_of(alone.candidates, show.source, resolutions, frame_rate_at_least):
            along = _along(answers, weighed, m, asked, rates)
            found.append(answer(guide, asked, along, waterfall))
    return tuple(found)


def _along(
    answers: Answers,
    weighed: dict[tuple[int, float], ScoredCandidates],
    m: int,
    asked: Asked,
    rates: Floats,
) -> NeedSearch:
    """One destination's resolution along the safe rates of the whole show; keeps what it weighs."""

    def look(safe: float) -> NeededAt:
        served = answers.at(safe)[m]
        if served is None:
            return NeededAt(near=False, taken=False, quality=-1.0, option=None, chosen=None)
        if (m, safe) not in weighed:
            weighed[m, safe] = served.field.at(served.safe_kbps)
        there = weighed[m, safe]
        return seen(there, index_of(served.field, asked))

    all_seen = [look(float(rate)) for rate in rates]
    return NeedSearch(
        rates,
        np.array([s.near for s in all_seen]),
        np.array([s.taken for s in all_seen]),
        np.array([s.quality for s in all_seen]),
        look,
        NEAR_KBPS,
    )


def sweep_show(
    wanted: Range,
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    uplink: Uplink | None,
) -> Sweep:
    """What every destination gets at each value, everything else as it is.

    Args:
        uplink: for everything but a sweep of uploads, which needs none.
    """
    along: list[tuple[str, float | None, float, Answer]] = []
    if wanted.over in ("upload", "share"):
        named = values_of(wanted, show, uplink)
        answers = Answers.of(show, guides, table, max(safe for _, _, safe in named))
        along = [(name, value, safe, answers.at(safe)) for name, value, safe in named]
    else:
        assert uplink is not None
        safe = budget_of(uplink, show).safe_kbps
        for name, changed, ruled in _variants(wanted, show, guides):
            given = Answers.of(changed, ruled, table, safe).at(safe)
            along.append((name, None, safe, given))
    return Sweep(
        platform=guides[0].name,
        over=wanted.over,
        points=tuple(
            Point(at=name, value=value, safe_kbps=round(safe, 3), chosen=_option(given[0]))
            for name, value, safe, given in along
        ),
        beside=tuple(
            Beside(
                platform=guide.label,
                chosen=tuple(_option(given[m]) for _, _, _, given in along),
            )
            for m, guide in enumerate(guides)
            if m
        ),
    )


def _option(served: Served | None) -> Option | None:
    return None if served is None else served.option


def _variants(
    wanted: Range, show: Show, guides: Sequence[Guide]
) -> list[tuple[str, Show, Sequence[Guide]]]:
    if wanted.over == "motion":
        return [(m, show.model_copy(update={"motion": m}), guides) for m in MOTIONS]
    first = guides[0].ordinary
    return [
        (tier or "ordinary", show, [first.under(tier), *guides[1:]])
        for tier in (None, *first.tiers)
    ]
