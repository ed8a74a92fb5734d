"""Several destinations on one line: the search for who shares an encode, and how much each gets.

Each way of grouping is divided exactly (:mod:`eager_kestrel.core.division.knapsack`); what it is
worth is decided in :mod:`eager_kestrel.core.division.worth`. Up to five destinations every grouping
is tried; beyond that, pairs are merged as long as that is better.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.field import candidates_table
from eager_kestrel.core.division.encode import TINY, Encode, EncodeOutcome, Members, encode_of
from eager_kestrel.core.division.knapsack import LOAD_CELLS, KnapsackTable, cells_of, richest
from eager_kestrel.core.division.worth import relative_weights, wanted
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.guide.joint import Clash, joint_guide
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.show.show import Show

ALL_GROUPINGS = 5
"""Destinations up to which every grouping is tried; there are 52 of five, 4,140 of eight."""
MOST_LOST = 3.0
"""Bands that one destination may look worse for the sake of an encode less."""

MOST_FILLS = 8

Grouping = tuple[Members, ...]


@dataclass(frozen=True, slots=True)
class Division:
    """A grouping with what each encode takes."""

    grouping: Grouping
    encodes: tuple[Encode, ...]
    taken: tuple[int, ...]
    worth: float
    outcomes: tuple[EncodeOutcome, ...] = ()
    """What each comes to; only of divisions that were filled up."""

    def filled(self, safe_kbps: float, weights: Sequence[float]) -> Division:
        """With what the grid left over given to whomever it helps most, until it helps nobody.

        Args:
            safe_kbps: of the whole line.
            weights: of every destination.
        """
        outcomes = [e.outcome(c) for e, c in zip(self.encodes, self.taken, strict=True)]
        for _ in range(MOST_FILLS):
            left = safe_kbps - sum(outcome.total_kbps for outcome in outcomes)
            tried = [
                encode.outcome(choice, outcome.total_kbps + left)
                for encode, choice, outcome in zip(self.encodes, self.taken, outcomes, strict=True)
            ]
            gains = [
                sum(weights[m] for m in encode.members) * (new.quality - old.quality)
                for encode, new, old in zip(self.encodes, tried, outcomes, strict=True)
            ]
            most = max(range(len(gains)), key=gains.__getitem__)
            if gains[most] <= TINY:
                break
            outcomes[most] = tried[most]
        return replace(self, outcomes=tuple(outcomes))

    def looks(self) -> dict[int, float]:
        """Quality of what is taken, by destination; before filling up."""
        pairs = zip(self.encodes, self.taken, strict=True)
        return {m: float(e.looks[choice]) for e, choice in pairs for m in e.members}

    def best_looks(self) -> dict[int, float]:
        """The same of the best that looks like it."""
        pairs = zip(self.encodes, self.taken, strict=True)
        return {m: e.best_quality(choice) for e, choice in pairs for m in e.members}

    def mean_quality(self, weights: Sequence[float], without: int | None = None) -> float:
        """Over the destinations served, by weight; perhaps without one of them."""
        pairs = [
            (weights[m], outcome.quality)
            for encode, outcome in zip(self.encodes, self.outcomes, strict=True)
            for m in encode.members
            if m != without
        ]
        return sum(w * q for w, q in pairs) / sum(w for w, _ in pairs) if pairs else 0.0


@dataclass
class Groupings:
    """Everything tried for one show; encodes and tables are made once, for lines of any size."""

    show: Show
    guides: Sequence[Guide]
    """Of each destination, with its standing applied."""
    table: QualityTable
    safe_kbps: float
    capacity_kbps: float = 0.0
    """The largest line that will be asked about, where that is more."""
    _encodes: dict[Members, Encode | str] = field(default_factory=dict)
    _tables: dict[Grouping, KnapsackTable] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Destinations there are."""
        return len(self.show.destinations)

    def on(self, safe_kbps: float) -> Groupings:
        """The same on another line, no larger than the capacity."""
        most = max(self.safe_kbps, self.capacity_kbps)
        return replace(self, safe_kbps=min(safe_kbps, most), capacity_kbps=most)

    @property
    def line_cells(self) -> int:
        """Cells of the line that can be used."""
        return min(cells_of(self.safe_kbps), self.capacity_cells)

    @cached_property
    def capacity_cells(self) -> int:
        """Cells of the largest line, or as many as could be used with an encode for each."""
        alone = [self.encode((m,)) for m in range(self.count)]
        most = [e.choices.cells.max(initial=0) + 1 for e in alone if not isinstance(e, str)]
        there = cells_of(max(self.safe_kbps, self.capacity_kbps))
        return min(there, int(sum(most))) if len(most) == self.count else there

    @property
    def machine_cells(self) -> int:
        """Cells of the machine there are; 0 when nothing is known of it."""
        return LOAD_CELLS if self.show.machine.encoders else 0

    @cached_property
    def weights(self) -> list[float]:
        """Of each destination, with a mean of 1."""
        return relative_weights(self.show.destinations)

    def encode(self, members: Members) -> Encode | str:
        """One encode for these destinations, or why there is none."""
        if members not in self._encodes:
            self._encodes[members] = self._made(members)
        return self._encodes[members]

    def _made(self, members: Members) -> Encode | str:
        guides = tuple(self.guides[m] for m in members)
        joint = joint_guide(guides)
        if isinstance(joint, Clash):
            return joint.text
        places = [self.show.destinations[m] for m in members]
        codecs = sorted({place.codec for place in places if place.codec is not None})
        if len(codecs) > 1:
            return words.codecs_differ(codecs)
        try:
            codec = joint.codec(codecs[0] if codecs else None)
        except NotFoundError as error:
            return error.line()
        least = max(place.least_quality for place in places)
        made = replace(
            candidates_table(self.show, joint, self.table, codec, guides), least_quality=least
        )
        if not made.candidates:
            return words.unsuitable(joint.title)
        weight = sum(self.weights[m] for m in members)
        most = max(self.safe_kbps, self.capacity_kbps)
        return encode_of(members, joint, guides, made, weight, most)

    def divided(self, grouping: Grouping) -> Division | str:
        """The best division under a grouping, or why there is none."""
        encodes = []
        for members in grouping:
            encode = self.encode(members)
            if isinstance(encode, str):
                return encode
            encodes.append(encode)
        offered = [encode.choices for encode in encodes]
        taken = richest(offered, self.line_cells, self.machine_cells)
        if taken is not None:
            worth = sum(float(c.worth[i]) for c, i in zip(offered, taken, strict=True))
            return Division(grouping, tuple(encodes), tuple(taken), worth)
        table, line = self._divided(grouping, encodes), self.line_cells
        if table.worth(line) == -np.inf:
            return words.does_not_fit(machine=bool(self.show.machine.encoders))
        return Division(grouping, tuple(encodes), tuple(table.taken(line)), table.worth(line))

    def _divided(self, grouping: Grouping, encodes: list[Encode]) -> KnapsackTable:
        """The table of a grouping, from that of all but its last encode."""
        if not grouping:
            return KnapsackTable(self.capacity_cells, self.machine_cells)
        if grouping not in self._tables:
            before = self._divided(grouping[:-1], encodes[:-1])
            self._tables[grouping] = before.with_(encodes[-1].choices)
        return self._tables[grouping]

    def best(self, which: Members) -> Division | None:
        """The best division among all groupings of these destinations; None when none fits."""
        if len(which) > ALL_GROUPINGS:
            return self._merged(which)
        found = [
            division
            for grouping in groupings(which)
            if wanted(grouping, self.show.destinations)
            and not isinstance(division := self.divided(grouping), str)
        ]
        return self._fewest_encodes(found)

    def _fewest_encodes(self, found: Sequence[Division]) -> Division | None:
        """Of those that look like the best, the one with fewest encodes."""
        top = max(found, key=lambda d: (d.worth, -len(d.grouping)), default=None)
        if top is None:
            return None
        near = [division for division in found if self._looks_like(division, top)]
        return min(near, key=lambda d: (len(d.grouping), -d.worth), default=top)

    def _looks_like(self, division: Division, top: Division) -> bool:
        """Whether it looks like the best division: on average, and to every destination nearly."""
        alike, best, own = self.table.alike, top.best_looks(), division.looks()
        mean = sum(self.weights[m] * (best[m] - own[m]) for m in own) / sum(
            self.weights[m] for m in own
        )
        lost = max(best[m] - own[m] for m in own)
        return mean <= alike + TINY and lost <= MOST_LOST * alike + TINY

    def _merged(self, which: Members) -> Division | None:
        """From one encode each, merge the pair that loses least until it is seen; or one for all.

        Nothing is gained by merging but an encode less, unless the machine is what is short.
        """
        grouping: Grouping = tuple((m,) for m in which)
        starts = [g for g in (grouping, (which,)) if wanted(g, self.show.destinations)]
        found = [d for g in starts if not isinstance(d := self.divided(g), str)]
        while (merged := self._best_pair(grouping, found)) is not None:
            found.append(merged)
            grouping = merged.grouping
        return self._fewest_encodes(found)

    def _best_pair(self, grouping: Grouping, found: Sequence[Division]) -> Division | None:
        """The best division after merging two groups; None when it is seen to be worse."""
        top = max(found, key=lambda d: d.worth, default=None)
        least = -np.inf if top is None else top.worth - self.table.alike * self.count
        best = None
        for one, other in combinations(grouping, 2):
            merged = tuple(sorted((*one, *other)))
            if isinstance(self.encode(merged), str):
                continue
            tried = (*(g for g in grouping if g not in (one, other)), merged)
            if not wanted(tried, self.show.destinations) or self._at_most(tried) < least:
                continue
            division = self.divided(tried)
            if not isinstance(division, str) and division.worth >= least:
                best, least = division, division.worth
        if best is None or top is None or best.worth > top.worth or self._looks_like(best, top):
            return best
        return None

    def _at_most(self, grouping: Grouping) -> float:
        """What it would be worth if each encode had all it could use."""
        encodes = [self.encode(members) for members in grouping]
        return sum(
            float(e.choices.worth.max(initial=-np.inf)) for e in encodes if not isinstance(e, str)
        )


def groupings(members: Sequence[int]) -> Iterator[Grouping]:
    """Every way to put members into groups; groups in order of their first member."""
    if not members:
        yield ()
        return
    first, *rest = members
    for size in range(len(rest) + 1):
        for others in combinations(rest, size):
            left = [m for m in rest if m not in others]
            for tail in groupings(left):
                yield ((first, *others), *tail)
