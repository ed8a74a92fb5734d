"""Divide one upload and one machine among several encodes: a multiple-choice knapsack.

Each encode offers choices. A choice has the upload it takes (in cells of 50 kbit/s), the part of
the machine it takes (in twentieths of what may be used) and its worth; exactly one is taken of each
encode. The best total worth is found exactly, on that grid, by dynamic programming over both
resources (Kellerer, Pferschy and Pisinger, "Knapsack Problems", Springer 2004, chapter 11): the
table after one more encode is the (max, +) convolution of the table before with its choices.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats, Indices

CELL_KBPS = 50.0
LOAD_CELLS = 20


@dataclass(frozen=True, slots=True)
class Choices:
    """What one encode may take; arrays of one length, without choices another one dominates."""

    cells: Indices
    """Of the connection, rounded up."""
    loads: Indices
    """Of the machine, rounded up; 0 when nothing is known of it."""
    worth: Floats

    def __len__(self) -> int:
        return int(self.cells.size)


def cells_of(kbps: float) -> int:
    """Whole cells in a rate."""
    return int((kbps + 1e-6) // CELL_KBPS)


def cells_for(kbps: Floats) -> Indices:
    """Cells that hold each rate."""
    return np.ceil((kbps - 1e-6) / CELL_KBPS).astype(np.intp)


def load_cells(load: float) -> int:
    """Twentieths of the machine that hold a load, 1 being all that may be used."""
    return ceil(load * LOAD_CELLS - 1e-9)


class KnapsackTable:
    """The best worth of some encodes for every amount of line and machine; -inf where none fits."""

    def __init__(self, line: int, machine: int) -> None:
        """Empty table: zero value at every capacity."""
        self.best = np.zeros((line + 1, machine + 1))
        self._before: KnapsackTable | None = None
        self._added: Choices | None = None

    def with_(self, choices: Choices) -> KnapsackTable:
        """The table with one more encode."""
        line, machine = self.best.shape
        table = KnapsackTable(line - 1, machine - 1)
        table._before, table._added = self, choices
        best = table.best = np.full_like(self.best, -np.inf)
        columns = (choices.cells.tolist(), choices.loads.tolist(), choices.worth.tolist())
        for cells, load, worth in zip(*columns, strict=True):
            if cells < line and load < machine:
                reached = best[cells:, load:]
                offered = self.best[: line - cells, : machine - load] + worth
                np.maximum(reached, offered, out=reached)
        return table

    def worth(self, line: int = -1) -> float:
        """Of all that was added, with so many cells of the connection and the whole machine.

        Without a number, the whole line; -inf when it does not fit.
        """
        return float(self.best[line, -1])

    def taken(self, line: int | None = None) -> list[int]:
        """Which choice is taken of each, in the order they were added.

        Raises:
            ValueError: they do not fit.
        """
        rows, columns = self.best.shape
        line, machine = rows - 1 if line is None else line, columns - 1
        if self.worth(line) == -np.inf:
            raise ValueError("these do not fit")
        found: list[int] = []
        table = self
        while table._before is not None and table._added is not None:
            before, added = table._before, table._added
            possible = np.flatnonzero((added.cells <= line) & (added.loads <= machine))
            left = before.best[line - added.cells[possible], machine - added.loads[possible]]
            chosen = int(possible[int(np.argmax(left + added.worth[possible]))])
            found.append(chosen)
            line -= int(added.cells[chosen])
            machine -= int(added.loads[chosen])
            table = before
        return found[::-1]


def richest(all_choices: Sequence[Choices], line: int, machine: int) -> list[int] | None:
    """The choice of each that is worth most, where all of those fit; None where they compete."""
    if not all(len(choices) for choices in all_choices):
        return None
    found = [int(np.argmax(choices.worth)) for choices in all_choices]
    cells = sum(int(c.cells[i]) for c, i in zip(all_choices, found, strict=True))
    loads = sum(int(c.loads[i]) for c, i in zip(all_choices, found, strict=True))
    return found if cells <= line and loads <= machine else None
