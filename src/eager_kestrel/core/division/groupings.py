"""Several destinations on one line: which share an encode, and how much of the line each gets.

Worth is the quality of each destination by its weight, less a hundredth for every encode, so that
an encode more has to be worth its heat. Each way of grouping is divided exactly
(:mod:`eager_kestrel.core.division.knapsack`). Up to five destinations every grouping is tried; beyond that,
pairs are merged as long as that is better.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import combinations

import numpy as np

from eager_kestrel.core.arrays import Floats, Indices
from eager_kestrel.core.choice.field import AUDIO_SHARE, Field, best_of, field_of
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.division.knapsack import (
    CELL_KBPS,
    LOAD_CELLS,
    Choices,
    Table,
    cells_for,
    cells_of,
    load_cells,
    richest,
)
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.joint import Clash, joint_guide
from eager_kestrel.core.show.show import Destination, Show

ENCODE_WORTH = 0.01
"""Quality (at weight 1) that a further encode has to bring."""
SERVED_WORTH = 1.0
"""When not all fit: what serving a destination at all counts, beside its quality."""
ALL_GROUPINGS = 5
"""Destinations up to which every grouping is tried; there are 52 of five, 4,140 of eight."""

TINY = 1e-12

Members = tuple[int, ...]
"""Indices of the destinations that share an encode, ascending."""
Grouping = tuple[Members, ...]


@dataclass(frozen=True, slots=True)
class Encode:
    """One encode for some of the destinations and everything it may take."""

    members: Members
    guide: Guide
    """What satisfies all of them."""
    guides: tuple[Guide, ...]
    """Of each member, with its standing applied."""
    field: Field
    loads: Indices
    """Of each candidate, in cells of the machine."""
    choices: Choices
    safe_kbps: Floats
    """For all copies, of each choice."""
    levels: Indices
    """The most load each choice was made under."""
    qualities: Floats

    def at(self, choice: int) -> Field:
        """The candidates that the machine had room for when this was chosen."""
        room = self.loads <= self.levels[choice]
        return replace(self.field, encodable=self.field.encodable & room)


@dataclass(frozen=True, slots=True)
class Division:
    """A grouping with what each encode takes."""

    grouping: Grouping
    encodes: tuple[Encode, ...]
    taken: tuple[int, ...]
    worth: float

    def mean_quality(self, weights: Sequence[float], without: int | None = None) -> float:
        """Over the destinations served, by weight; perhaps without one of them."""
        pairs = [
            (weights[m], float(encode.qualities[choice]))
            for encode, choice in zip(self.encodes, self.taken, strict=True)
            for m in encode.members
            if m != without
        ]
        return sum(w * q for w, q in pairs) / sum(w for w, _ in pairs) if pairs else 0.0


@dataclass
class Groupings:
    """Everything tried for one show on one line; encodes and tables are made once."""

    show: Show
    guides: Sequence[Guide]
    """Of each destination, with its standing applied."""
    table: QualityTable
    safe_kbps: float
    _encodes: dict[Members, Encode | str] = field(default_factory=dict)
    _tables: dict[Grouping, Table] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """Destinations there are."""
        return len(self.show.destinations)

    @cached_property
    def _line(self) -> int:
        """Cells there are, or as many as could be used if each had an encode of its own."""
        alone = [self.encode((m,)) for m in range(self.count)]
        most = [e.choices.cells.max(initial=0) + 1 for e in alone if not isinstance(e, str)]
        there = cells_of(self.safe_kbps)
        return min(there, int(sum(most))) if len(most) == self.count else there

    @property
    def _machine(self) -> int:
        return LOAD_CELLS if self.show.machine.encoders else 0

    @property
    def weights(self) -> list[float]:
        """Of each destination."""
        return [d.weight for d in self.show.destinations]

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
            return f"codec: {' and '.join(codecs)} are asked for"
        try:
            codec = joint.codec(codecs[0] if codecs else None)
        except NotFoundError as error:
            return error.line()
        made = field_of(self.show, joint, self.table, codec, guides)
        if not made.candidates:
            return f"no picture of this source suits {joint.title}"
        return _encode(members, joint, guides, made, places, self.safe_kbps)

    def divided(self, grouping: Grouping) -> Division | str:
        """The best division under a grouping, or why there is none."""
        encodes = []
        for members in grouping:
            encode = self.encode(members)
            if isinstance(encode, str):
                return encode
            encodes.append(encode)
        offered = [encode.choices for encode in encodes]
        taken = richest(offered, self._line, self._machine)
        if taken is not None:
            worth = sum(float(c.worth[i]) for c, i in zip(offered, taken, strict=True))
            return Division(grouping, tuple(encodes), tuple(taken), worth)
        table = self._divided(grouping, encodes)
        if table.worth() == -np.inf:
            return "not all of it fits the line" + (
                " and the machine" if self.show.machine.encoders else ""
            )
        return Division(grouping, tuple(encodes), tuple(table.taken()), table.worth())

    def _divided(self, grouping: Grouping, encodes: list[Encode]) -> Table:
        """The table of a grouping, from that of all but its last encode."""
        if not grouping:
            return Table(self._line, self._machine)
        if grouping not in self._tables:
            before = self._divided(grouping[:-1], encodes[:-1])
            self._tables[grouping] = before.with_(encodes[-1].choices)
        return self._tables[grouping]

    def allowed(self, grouping: Grouping) -> bool:
        """Whether it is as the destinations want: an encode of their own, or a shared one."""
        alone = {m: len(members) == 1 for members in grouping for m in members}
        never = {"own": False, "shared": True, "either": None}
        return all(
            alone[m] is not never[self.show.destinations[m].encode]
            for members in grouping
            for m in members
        )

    def best(self, which: Members) -> Division | None:
        """The best division among all groupings of these destinations; None when none fits."""
        if len(which) > ALL_GROUPINGS:
            return self._merged(which)
        found = [
            division
            for grouping in groupings(which)
            if self.allowed(grouping) and not isinstance(division := self.divided(grouping), str)
        ]
        return max(found, key=lambda d: (d.worth, -len(d.grouping)), default=None)

    def _merged(self, which: Members) -> Division | None:
        """From one encode each, merge the pair that gains most until none gains; or one for all."""
        grouping: Grouping = tuple((m,) for m in which)
        started = [g for g in (grouping, (which,)) if self.allowed(g)]
        found = [d for g in started if not isinstance(d := self.divided(g), str)]
        best = max(found, key=lambda d: d.worth, default=None)
        while True:
            better = None
            for one, other in combinations(grouping, 2):
                merged = tuple(sorted((*one, *other)))
                if isinstance(self.encode(merged), str):
                    continue
                rest = tuple(g for g in grouping if g not in (one, other))
                tried = (*rest, merged)
                if not self.allowed(tried) or (best and self._at_most(tried) <= best.worth):
                    continue
                division = self.divided(tried)
                if isinstance(division, str):
                    continue
                if division.worth > (better or best or division).worth or best is None:
                    better = division
            if better is None:
                return best
            best, grouping = better, better.grouping

    def _at_most(self, grouping: Grouping) -> float:
        """What it would be worth if each encode had all it could use."""
        encodes = [self.encode(members) for members in grouping]
        return sum(
            float(e.choices.worth.max(initial=-np.inf)) for e in encodes if not isinstance(e, str)
        )

    def fewest_left_out(self) -> tuple[Division | None, Members]:
        """The best division of all destinations, or of those worth most where not all fit.

        Returns:
            The division, None when not even one fits, and the destinations it leaves out.
        """
        everyone = tuple(range(self.count))
        whole = self.best(everyone)
        if whole is not None:
            return whole, ()
        if self.count <= ALL_GROUPINGS:
            subsets = [
                which for size in range(self.count - 1, 0, -1)
                for which in combinations(everyone, size)
            ]  # fmt: skip
        else:
            subsets = [which] if (which := self._served_alone()) else []
        found = [(division, which) for which in subsets if (division := self.best(which))]
        if not found:
            return None, everyone

        def worth(candidate: tuple[Division, Members]) -> float:
            served = sum(self.weights[m] for m in candidate[1])
            return candidate[0].worth + SERVED_WORTH * served

        division, which = max(found, key=worth)
        return division, tuple(m for m in everyone if m not in which)

    def _served_alone(self) -> Members:
        """Which to serve when each gets an encode of its own and may be left out."""
        table = Table(self._line, self._machine)
        for m in range(self.count):
            encode = self.encode((m,))
            nothing = Choices(np.zeros(1, np.intp), np.zeros(1, np.intp), np.zeros(1))
            if isinstance(encode, str):
                table = table.with_(nothing)
                continue
            own = encode.choices
            served = SERVED_WORTH * self.weights[m]
            table = table.with_(
                Choices(
                    np.concatenate([nothing.cells, own.cells]),
                    np.concatenate([nothing.loads, own.loads]),
                    np.concatenate([nothing.worth, own.worth + served]),
                )
            )
        return tuple(m for m, choice in enumerate(table.taken()) if choice > 0)


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


def _encode(
    members: Members,
    joint: Guide,
    guides: tuple[Guide, ...],
    made: Field,
    places: list[Destination],
    safe_kbps: float,
) -> Encode:
    """Everything the encode may take, on the grid: the best for each amount of line and machine."""
    cells_there = cells_of(min(safe_kbps, _most_useful(made)))
    safe: Floats = np.arange(1, cells_there + 1, dtype=np.float64) * CELL_KBPS
    kbps, judged, allowed = made.weigh(safe)
    total = (kbps + made.audio_kbps(safe)[:, None]) * made.per_byte + made.fixed_kbps
    cells = cells_for(total)
    machine = made.show.machine
    loads = np.array(
        [load_cells(machine.load(made.codec, p * f)) if machine.encoders else 0
         for p, f in zip(made.pixels, made.fps, strict=True)],
        dtype=np.intp,
    )  # fmt: skip
    allowed &= judged >= max(place.least_quality for place in places)
    weight = sum(place.weight for place in places)
    reached = np.full(cells_there + 1, -1.0)  # the best quality of so many cells, of less load
    kept: list[Indices] = []
    for level in np.unique(loads[made.encodable]):
        chosen = best_of(kbps, judged, allowed & (loads <= level))
        at = np.flatnonzero(chosen >= 0)
        cell, quality = cells[at, chosen[at]], judged[at, chosen[at]]
        before = np.concatenate([[-1.0], np.maximum.accumulate(quality)[:-1]])
        known = np.maximum.accumulate(reached)[cell]
        better = quality > np.maximum(before, known) + TINY
        rows = at[better]
        kept.append(np.stack([rows, chosen[rows], np.full(rows.size, level)]))
        np.maximum.at(reached, cell[better], quality[better])
    rows, chosen, levels = np.concatenate(kept, axis=1) if kept else np.zeros((3, 0), np.intp)
    qualities = judged[rows, chosen]
    worth = np.asarray(weight * qualities - ENCODE_WORTH, dtype=np.float64)
    return Encode(
        members=members,
        guide=joint,
        guides=guides,
        field=made,
        loads=loads,
        choices=Choices(cells[rows, chosen], loads[chosen], worth),
        safe_kbps=safe[rows],
        levels=levels,
        qualities=qualities,
    )


def _most_useful(made: Field) -> float:
    """A total beyond which no candidate gains any more, in kbit/s."""
    audio = float(made.audio_steps[-1])
    video = made.rules_kbps.min(axis=0)
    full = float(((video + audio) * made.per_byte + made.fixed_kbps).max())
    return max(full, audio / AUDIO_SHARE * made.copies) + CELL_KBPS
