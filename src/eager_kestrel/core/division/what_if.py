"""What-if questions to a show: ``need``, sweeps, and the least rate at which something holds.

Whatever is asked, it is the planner that answers: for one destination exactly, for several by whole
divisions of the connection.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from math import inf
from typing import TYPE_CHECKING, NamedTuple, Protocol

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
from eager_kestrel.core.choice.what_if import Beside, Need, Point, Range, Sweep, grid, values_of
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
LOOK_AHEAD = 128
"""Rates of the grid that are weighed at a time."""


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


class Answers(Protocol):
    """What the destinations of a show get on connections of any size."""

    def at(self, safe_kbps: float) -> Answer:
        """What each gets of a safe rate."""

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """The least safe rate above one whose answer holds; None where none does."""

    def along(self, m: int, asked: Asked, most_kbps: float) -> NeedSearch:
        """A resolution at a frame rate for one destination, along safe rates up to the most."""


def answers_of(
    show: Show, guides: Sequence[Guide], table: QualityTable, most_kbps: float
) -> Answers:
    """Of a show on connections up to a safe rate; exact, and of any rate, for one destination."""
    if len(guides) > 1:
        return DividedAnswers(Groupings(show, guides, table, most_kbps))
    codec = guides[0].codec(show.destinations[0].codec)
    return OneAnswers(candidates_table(show, guides[0], table, codec))


@dataclass(frozen=True)
class OneAnswers:
    """Of a show's only destination, read off its candidates on a grid of 10 kbit/s."""

    field: CandidatesTable

    def at(self, safe_kbps: float) -> Answer:
        """What it gets of a safe rate."""
        weighed = self.field.at(safe_kbps)
        if weighed.chosen is None:
            return (None,)
        return (Served(weighed.option(weighed.chosen), self.field, safe_kbps, 0.0),)

    def least(
        self, holds: Callable[[Answer], bool], from_kbps: float = 0.0
    ) -> tuple[float, Answer] | None:
        """The least rate of the grid at which another candidate is chosen, and that holds."""
        rates = grid(self.field, from_kbps)
        before = self.field.at(from_kbps).chosen if rates.size else None
        for part in np.array_split(rates, max(1, rates.size // LOOK_AHEAD)):
            chosen = self.field.chosen(part)
            last = np.concatenate(([-1 if before is None else before], chosen[:-1]))
            for turn in np.flatnonzero((chosen != last) & (chosen >= 0)):
                answer = self.at(float(part[turn]))
                if holds(answer):
                    return float(part[turn]), answer
            before = int(chosen[-1]) if chosen.size else before
        return None

    def along(self, _: int, asked: Asked, most_kbps: float) -> NeedSearch:
        """A resolution at a frame rate at every rate of the grid."""
        field, rates = self.field, up_to(grid(self.field), most_kbps)
        at = index_of(field, asked)
        if at is None or not rates.size:
            none = np.zeros(rates.size, dtype=np.bool_)
            return NeedSearch(rates, none, none, np.full(rates.size, -1.0), _nothing, NEAR_KBPS)
        weighed = field.weigh(rates)
        best, chosen = field.choose(weighed)
        near = field.among_best(best, weighed)[:, at]
        quality = np.where(weighed.allowed[:, at], weighed.quality[:, at], -1.0)
        return NeedSearch(
            rates, near, chosen == at, quality, lambda safe: seen(field.at(safe), at), rates[0]
        )


def up_to(rates: Floats, most_kbps: float) -> Floats:
    """Rates up to the most, and the most itself where it cuts them off."""
    if not rates.size or rates[-1] <= most_kbps:
        return rates
    return np.append(rates[rates < most_kbps], most_kbps)


def _nothing(_: float) -> NeededAt:
    return NeededAt(near=False, taken=False, quality=-1.0, option=None, chosen=None)


@dataclass(frozen=True)
class DividedAnswers:
    """Of several destinations that share the connection: each answer is a whole division."""

    tried: Groupings
    _known: dict[float, Answer] = field(default_factory=dict)
    _rough: dict[int, Division | None] = field(default_factory=dict)
    _weighed: dict[tuple[int, float], ScoredCandidates] = field(default_factory=dict)

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

    def along(self, m: int, asked: Asked, most_kbps: float) -> NeedSearch:
        """A resolution at a frame rate at some rates; what turns in between is found by looking."""

        def look(safe: float) -> NeededAt:
            served = self.at(safe)[m]
            if served is None:
                return _nothing(safe)
            if (m, safe) not in self._weighed:
                self._weighed[m, safe] = served.field.at(served.safe_kbps)
            return seen(self._weighed[m, safe], index_of(served.field, asked))

        rates = up_to(np.geomspace(LEAST_KBPS, MOST_KBPS, POINTS), most_kbps)
        all_seen = [look(float(rate)) for rate in rates]
        return NeedSearch(
            rates,
            np.array([s.near for s in all_seen]),
            np.array([s.taken for s in all_seen]),
            np.array([s.quality for s in all_seen]),
            look,
            NEAR_KBPS,
        )


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
    answers = answers_of(show, guides, table, MOST_KBPS)
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    most = inf if show.cap_kbps is None else show.cap_kbps
    found: list[Need] = []
    for m, (guide, place) in enumerate(zip(guides, show.destinations, strict=True)):
        alone = candidates_table(show, guide, table, guide.codec(place.codec))
        every = asked_of(alone.candidates, show.source, resolutions, frame_rate_at_least)
        found += [answer(guide, asked, answers.along(m, asked, most), waterfall) for asked in every]
    return tuple(found)


def sweep(
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
        answers = answers_of(show, guides, table, max(safe for _, _, safe in named))
        along = [(name, value, safe, answers.at(safe)) for name, value, safe in named]
    else:
        assert uplink is not None
        safe = budget_of(uplink, show).safe_kbps
        nothing: Answer = (None,) * len(guides)
        for name, changed, ruled in _variants(wanted, show, guides):
            known = ruled[0].takes_codec(show.destinations[0].codec)
            given = answers_of(changed, ruled, table, safe).at(safe) if known else nothing
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
