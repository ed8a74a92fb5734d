"""One encode for some destinations, and everything it may take of the line and the machine.

For each amount of line and machine, on the grid of
:mod:`eager_kestrel.core.division.knapsack`, only the best picture is kept.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from eager_kestrel.core.choice.limits import AUDIO_SHARE
from eager_kestrel.core.division.knapsack import (
    CELL_KBPS,
    LOAD_CELLS,
    Choices,
    cells_for,
    cells_of,
    load_cells,
)

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats, Indices
    from eager_kestrel.core.choice.field import CandidatesTable
    from eager_kestrel.core.choice.option import Option
    from eager_kestrel.core.guide.guide import Guide

TINY = 1e-12

Members = tuple[int, ...]
"""Indices of the destinations that share an encode, ascending."""


class EncodeOutcome(NamedTuple):
    """What a choice comes to."""

    option: Option
    total_kbps: float
    """Of all copies, with audio and overhead."""
    safe_kbps: float
    """That they may take."""
    quality: float


@dataclass(frozen=True, slots=True)
class Encode:
    """One encode for some of the destinations and everything it may take."""

    members: Members
    guide: Guide
    """What satisfies all of them."""
    guides: tuple[Guide, ...]
    """Of each member, with its standing applied."""
    field: CandidatesTable
    choices: Choices
    safe_kbps: Floats
    """For all copies, of each choice."""
    levels: Indices
    """The most load each choice was made under."""
    looks: Floats
    """Quality of what is taken at each choice; worth counts the best that looks like it."""
    weight: float
    """Of all members together."""

    def best_quality(self, choice: int) -> float:
        """Of all candidates at a choice."""
        return float(self.choices.worth[choice]) / self.weight

    def at(self, choice: int) -> CandidatesTable:
        """The candidates, at the presets that the machine had room for when this was chosen."""
        return self.field.in_room(float(self.levels[choice]) / LOAD_CELLS)

    def outcome(self, choice: int, safe_kbps: float | None = None) -> EncodeOutcome:
        """What a choice comes to.

        Args:
            choice: which.
            safe_kbps: what its copies may take; what the choice was made for when left out.
        """
        safe = float(self.safe_kbps[choice]) if safe_kbps is None else safe_kbps
        weighed = self.at(choice).at(safe)
        best = weighed.chosen
        assert best is not None
        carried = weighed.kbps[best] + weighed.audio_kbps
        total = carried * self.field.per_byte[best] + self.field.fixed_kbps[best]
        return EncodeOutcome(
            weighed.option(best), round(float(total), 3), safe, float(weighed.quality[best])
        )


def encode_of(
    members: Members,
    joint: Guide,
    guides: tuple[Guide, ...],
    made: CandidatesTable,
    weight: float,
    safe_kbps: float,
) -> Encode:
    """Everything an encode may take, on the grid: the best for each amount of line and machine.

    Args:
        members: who gets it.
        joint: what satisfies all of them.
        guides: of each, with its standing applied.
        made: the candidates.
        weight: of all of them together.
        safe_kbps: of the whole line.
    """
    cells_there = cells_of(min(safe_kbps, _most_useful(made)))
    safe: Floats = np.arange(1, cells_there + 1, dtype=np.float64) * CELL_KBPS
    found = _undominated(made, safe)
    return Encode(
        members=members,
        guide=joint,
        guides=guides,
        field=made,
        choices=Choices(found.cells, found.levels, weight * found.best_quality),
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
    speeds = [e.holds.pixels_per_second * made.show.machine.share
              for e in made.show.machine.encoders if e.codec == made.codec]  # fmt: skip
    if not speeds:
        return np.zeros(1, dtype=np.intp)
    needs = np.unique((made.pixels * made.fps)[made.encodable])
    cells = {load_cells(need / speed) for need in needs for speed in speeds}
    return np.array(sorted(c for c in cells if c <= LOAD_CELLS), dtype=np.intp)


def _undominated(made: CandidatesTable, safe: Floats) -> _Undominated:
    """The best for each amount of line and machine.

    A choice is left out when another takes no more of line and machine and looks as good.
    """
    reached = np.full(safe.size + 1, -1.0)  # the best quality of so many cells, of less load
    audio = made.audio_kbps(safe)[:, None]
    kept: list[_Undominated] = []
    for level in _levels(made):
        there = made.in_room(float(level) / LOAD_CELLS) if level else made
        weighed = there.weigh(safe)
        judged, enough = weighed.quality, weighed.quality >= made.least_quality
        best, chosen = there.choose(replace(weighed, allowed=weighed.allowed & enough))
        at = np.flatnonzero(chosen >= 0)
        cells = cells_for((weighed.kbps + audio) * made.per_byte + made.fixed_kbps)[at, chosen[at]]
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
    return max(full, audio / AUDIO_SHARE * made.copies + dearest) + CELL_KBPS
