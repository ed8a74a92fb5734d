"""One encode for some destinations, and everything it may take of the line and the machine.

For each amount of line and machine, on the grid of
:mod:`eager_kestrel.core.division.knapsack`, only the best picture is kept.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats, Indices
from eager_kestrel.core.choice.field import Field, best_of
from eager_kestrel.core.choice.limits import AUDIO_SHARE
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.division.knapsack import (
    CELL_KBPS,
    Choices,
    cells_for,
    cells_of,
    load_cells,
)
from eager_kestrel.core.division.worth import ENCODE_WORTH
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.show.show import Destination

TINY = 1e-12

Members = tuple[int, ...]
"""Indices of the destinations that share an encode, ascending."""


class Outcome(NamedTuple):
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
    field: Field
    loads: Indices
    """Of each candidate, in cells of the machine."""
    choices: Choices
    safe_kbps: Floats
    """For all copies, of each choice."""
    levels: Indices
    """The most load each choice was made under."""

    def at(self, choice: int) -> Field:
        """The candidates that the machine had room for when this was chosen."""
        room = self.loads <= self.levels[choice]
        return replace(self.field, encodable=self.field.encodable & room)

    def outcome(self, choice: int, safe_kbps: float | None = None) -> Outcome:
        """What a choice comes to.

        Args:
            choice: which.
            safe_kbps: what its copies may take; what the choice was made for when left out.
        """
        safe = float(self.safe_kbps[choice]) if safe_kbps is None else safe_kbps
        weighed = self.at(choice).at(safe)
        best = weighed.order()[0]
        carried = weighed.kbps[best] + weighed.audio_kbps
        total = carried * self.field.per_byte[best] + self.field.fixed_kbps[best]
        return Outcome(
            weighed.option(best), round(float(total), 3), safe, float(weighed.quality[best])
        )


def encode_of(
    members: Members,
    joint: Guide,
    guides: tuple[Guide, ...],
    made: Field,
    places: list[Destination],
    weight: float,
    safe_kbps: float,
) -> Encode:
    """Everything an encode may take, on the grid: the best for each amount of line and machine.

    Args:
        members: who gets it.
        joint: what satisfies all of them.
        guides: of each, with its standing applied.
        made: the candidates.
        places: the destinations, for what they want at least.
        weight: of all of them together.
        safe_kbps: of the whole line.
    """
    cells_there = cells_of(min(safe_kbps, _most_useful(made)))
    safe: Floats = np.arange(1, cells_there + 1, dtype=np.float64) * CELL_KBPS
    kbps, judged, allowed = made.weigh(safe)
    cells = cells_for((kbps + made.audio_kbps(safe)[:, None]) * made.per_byte + made.fixed_kbps)
    loads = _loads(made)
    allowed &= judged >= max(place.least_quality for place in places)
    rows, chosen, levels = _undominated(kbps, judged, allowed, cells, loads, made)
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
    )


def _loads(made: Field) -> Indices:
    """Of each candidate, in cells of the machine; 0 where nothing is known of it."""
    machine = made.show.machine
    loads = [machine.load(made.codec, p * f) for p, f in zip(made.pixels, made.fps, strict=True)]
    return np.array([load_cells(x) if machine.encoders else 0 for x in loads], dtype=np.intp)


def _undominated(
    kbps: Floats, judged: Floats, allowed: Flags, cells: Indices, loads: Indices, made: Field
) -> tuple[Indices, Indices, Indices]:
    """Rows of safe rates, the candidate chosen at each, and the most load it was chosen under.

    A choice is left out when another takes no more of line and machine and looks as good. Arrays
    come in with a row for each safe rate and a column for each candidate.
    """
    reached = np.full(len(kbps) + 1, -1.0)  # the best quality of so many cells, of less load
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
    if not kept:
        nothing = np.zeros(0, np.intp)
        return nothing, nothing, nothing
    found = np.concatenate(kept, axis=1)
    return found[0], found[1], found[2]


def _most_useful(made: Field) -> float:
    """A total beyond which no candidate gains any more, in kbit/s."""
    audio = float(made.audio_steps[-1])
    video = made.rules_kbps.min(axis=0)
    full = float(((video + audio) * made.per_byte + made.fixed_kbps).max())
    dearest = 2 * audio * float(made.per_byte.max())
    return max(full, audio / AUDIO_SHARE * made.copies + dearest) + CELL_KBPS
