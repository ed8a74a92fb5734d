"""Several destinations on one connection: which of them share an encode, and how much each gets.

Each grouping is divided exactly (:mod:`eager_kestrel.core.division.knapsack`) and scored by the
policy at the end of this module. Up to five destinations every grouping is tried; beyond that,
pairs are merged as long as that is better.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import combinations
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from eager_kestrel.core.arrays import Floats, Indices
from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table
from eager_kestrel.core.choice.limits import AUDIO_SHARE
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import Option, ScoredCandidates
from eager_kestrel.core.division import knapsack
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.guide.joint import Clash, joint_guide
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


TINY = 1e-12

Members = tuple[int, ...]
"""Indices of the destinations that share an encode, ascending."""


@dataclass(frozen=True)
class EncodeOutcome:
    """What a choice comes to."""

    scored: ScoredCandidates
    total_kbps: float
    """Of all copies, with audio and overhead."""
    safe_kbps: float
    """That they may take."""
    quality: float

    @cached_property
    def option(self) -> Option:
        """The candidate that is taken."""
        assert self.scored.chosen is not None
        return self.scored.option(self.scored.chosen)


@dataclass(frozen=True)
class Encode:
    """One encode for some of the destinations and everything it may take."""

    members: Members
    guide: Guide
    """What satisfies all of them."""
    guides: tuple[Guide, ...]
    """Of each member, with its tier applied."""
    candidates: CandidatesTable
    choices: knapsack.Choices
    safe_kbps: Floats
    """For all copies, of each choice."""
    levels: Indices
    """The most load each choice was made under."""
    looks: Floats
    """Quality of what is taken at each choice; worth counts the best that looks like it."""
    weight: float
    """Of all members together."""
    _outcomes: dict[int, EncodeOutcome] = dataclasses.field(default_factory=dict)

    def best_quality(self, choice: int) -> float:
        """Of all candidates at a choice."""
        return float(self.choices.worth[choice]) / self.weight

    def at(self, choice: int) -> CandidatesTable:
        """The candidates, at the presets that the machine had room for when this was chosen."""
        return self.candidates.in_room(float(self.levels[choice]) / knapsack.LOAD_CELLS)

    def outcome(self, choice: int) -> EncodeOutcome:
        """What a choice comes to at the safe rate it is made for."""
        if choice not in self._outcomes:
            self._outcomes[choice] = self.outcome_at(choice, float(self.safe_kbps[choice]))
        return self._outcomes[choice]

    def outcome_at(self, choice: int, safe_kbps: float) -> EncodeOutcome:
        """What a choice comes to at another safe rate."""
        scored = self.at(choice).at(safe_kbps)
        best = scored.chosen
        assert best is not None
        carried = scored.kbps[best] + scored.audio_kbps
        total = carried * self.candidates.per_byte[best] + self.candidates.fixed_kbps[best]
        return EncodeOutcome(scored, round(float(total), 3), safe_kbps, float(scored.quality[best]))


def encode_of(
    members: Members,
    joint: Guide,
    guides: tuple[Guide, ...],
    made: CandidatesTable,
    weight: float,
    safe_kbps: float,
) -> Encode:
    """Everything an encode may take, on the grid: the best for each amount of line and machine."""
    cells_there = knapsack.cells_of(min(safe_kbps, _most_useful(made)))
    safe: Floats = np.arange(1, cells_there + 1, dtype=np.float64) * knapsack.CELL_KBPS
    found = _undominated(made, safe)
    return Encode(
        members=members,
        guide=joint,
        guides=guides,
        candidates=made,
        choices=knapsack.Choices(found.cells, found.levels, weight * found.best_quality),
        safe_kbps=safe[found.rows],
        levels=found.levels,
        looks=found.quality,
        weight=weight,
    )


class _Undominated(NamedTuple):
    """Choices that no other dominates; arrays of one length."""

    rows: Indices
    """Of the safe rate each is made for."""
    cells: Indices
    levels: Indices
    """Of the machine, the cells there were room for."""
    quality: Floats
    best_quality: Floats
    """Of the best there, which what is taken looks like."""


def _levels(made: CandidatesTable) -> Indices:
    """Amounts of machine, in cells, at which other candidates or slower presets are held."""
    speeds = [
        e.holds.pixels_per_second * made.show.machine.share
        for e in made.show.machine.encoders
        if e.codec == made.codec
    ]
    if not speeds:
        return np.zeros(1, dtype=np.intp)
    needs = np.unique((made.pixels * made.fps)[made.encodable])
    cells = {knapsack.load_cells(need / speed) for need in needs for speed in speeds}
    return np.array(sorted(c for c in cells if c <= knapsack.LOAD_CELLS), dtype=np.intp)


def _undominated(made: CandidatesTable, safe: Floats) -> _Undominated:
    """The best for each amount of line and machine.

    A choice is left out when another takes no more of line and machine and looks as good.
    """
    reached = np.full(safe.size + 1, -1.0)  # the best quality of so many cells, of less load
    audio = made.audio_kbps(safe)[:, None]
    kept: list[_Undominated] = []
    for level in _levels(made):
        destination = made.in_room(float(level) / knapsack.LOAD_CELLS) if level else made
        scored = destination.weigh(safe)
        judged, enough = scored.quality, scored.quality >= made.min_quality
        best, chosen = destination.choose(replace(scored, allowed=scored.allowed & enough))
        at = np.flatnonzero(chosen >= 0)
        cells = knapsack.cells_for((scored.kbps + audio) * made.per_byte + made.fixed_kbps)[
            at, chosen[at]
        ]
        quality = judged[at, best[at]]
        before = np.concatenate([[-1.0], np.maximum.accumulate(quality)[:-1]])
        known = np.maximum.accumulate(reached)[cells]
        better = quality > np.maximum(before, known) + TINY
        rows, taken = at[better], chosen[at[better]]
        levels = np.full(rows.size, level, dtype=np.intp)
        kept.append(_Undominated(rows, cells[better], levels, judged[rows, taken], quality[better]))
        np.maximum.at(reached, cells[better], quality[better])
    if not kept:
        nothing = np.zeros(0, np.intp)
        return _Undominated(nothing, nothing, nothing, np.zeros(0), np.zeros(0))
    return _Undominated(*(np.concatenate(column) for column in zip(*kept, strict=True)))


def _most_useful(made: CandidatesTable) -> float:
    """A total beyond which no candidate gains any more, in kbit/s."""
    audio = float(made.audio_steps[-1])
    video = made.rules_kbps.min(axis=0)
    full = float(((video + audio) * made.per_byte + made.fixed_kbps).max())
    dearest = 2 * audio * float(made.per_byte.max())
    return max(full, audio / AUDIO_SHARE * made.copies + dearest) + knapsack.CELL_KBPS


SERVED_WORTH = 1.0
"""When not all fit: what serving a destination at all counts, beside its quality."""


def relative_weights(destinations: Sequence[Destination]) -> list[float]:
    """Weights with a mean of 1."""
    mean = sum(place.weight for place in destinations) / len(destinations)
    return [place.weight / mean for place in destinations]


def wanted(grouping: Sequence[Sequence[int]], destinations: Sequence[Destination]) -> bool:
    """Whether a grouping is as the destinations want: an encode of their own, or a shared one."""
    refused = {"own": False, "shared": True, "either": None}
    return all(
        (len(members) == 1) is not refused[destinations[m].encode]
        for members in grouping
        for m in members
    )


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
        """With what the grid left over given to whomever it helps most, until it helps nobody."""
        outcomes = [e.outcome(c) for e, c in zip(self.encodes, self.taken, strict=True)]
        for _ in range(MOST_FILLS):
            left = safe_kbps - sum(outcome.total_kbps for outcome in outcomes)
            tried = [
                encode.outcome_at(choice, outcome.total_kbps + left)
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

    def filled_each(self, safe_kbps: float) -> Division:
        """With all that the grid left over given to each of them: more than there is."""
        outcomes = [e.outcome(c) for e, c in zip(self.encodes, self.taken, strict=True)]
        left = safe_kbps + knapsack.CELL_KBPS - sum(outcome.total_kbps for outcome in outcomes)
        return replace(
            self,
            outcomes=tuple(
                encode.outcome_at(choice, outcome.total_kbps + left)
                for encode, choice, outcome in zip(self.encodes, self.taken, outcomes, strict=True)
            ),
        )

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
    """Of each destination, with its tier applied."""
    table: QualityTable
    safe_kbps: float
    capacity_kbps: float = 0.0
    """The largest line that will be asked about, where that is more."""
    _encodes: dict[Members, Encode | str] = dataclasses.field(default_factory=dict)
    _tables: dict[Grouping, knapsack.KnapsackTable] = dataclasses.field(default_factory=dict)

    @property
    def count(self) -> int:
        """Destinations there are."""
        return len(self.show.destinations)

    def on(self, safe_kbps: float) -> Groupings:
        """The same on another connection, no larger than the capacity."""
        most = max(self.safe_kbps, self.capacity_kbps)
        return replace(self, safe_kbps=min(safe_kbps, most), capacity_kbps=most)

    @property
    def line_cells(self) -> int:
        """Cells of the connection that can be used."""
        return min(knapsack.cells_of(self.safe_kbps), self.capacity_cells)

    @cached_property
    def capacity_cells(self) -> int:
        """Cells of the largest line, or as many as could be used with an encode for each."""
        alone = [self.encode((m,)) for m in range(self.count)]
        most = [e.choices.cells.max(initial=0) + 1 for e in alone if not isinstance(e, str)]
        destination = knapsack.cells_of(max(self.safe_kbps, self.capacity_kbps))
        return min(destination, int(sum(most))) if len(most) == self.count else destination

    @property
    def machine_cells(self) -> int:
        """Cells of the machine there are; 0 when nothing is known of it."""
        return knapsack.LOAD_CELLS if self.show.machine.encoders else 0

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
        least = max(place.min_quality for place in places)
        made = replace(
            candidates_table(self.show, joint, self.table, codec, guides), min_quality=least
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
        taken = knapsack.richest(offered, self.line_cells, self.machine_cells)
        if taken is not None:
            worth = sum(float(c.worth[i]) for c, i in zip(offered, taken, strict=True))
            return Division(grouping, tuple(encodes), tuple(taken), worth)
        table, line = self._divided(grouping, encodes), self.line_cells
        if table.worth(line) == -np.inf:
            return words.does_not_fit(machine=bool(self.show.machine.encoders))
        return Division(grouping, tuple(encodes), tuple(table.taken(line)), table.worth(line))

    def _divided(self, grouping: Grouping, encodes: list[Encode]) -> knapsack.KnapsackTable:
        """The table of a grouping, from that of all but its last encode."""
        if not grouping:
            return knapsack.KnapsackTable(self.capacity_cells, self.machine_cells)
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
        tie, best, own = self.table.tie, top.best_looks(), division.looks()
        mean = sum(self.weights[m] * (best[m] - own[m]) for m in own) / sum(
            self.weights[m] for m in own
        )
        lost = max(best[m] - own[m] for m in own)
        return mean <= tie + TINY and lost <= MOST_LOST * tie + TINY

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
        least = -np.inf if top is None else top.worth - self.table.tie * self.count
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
