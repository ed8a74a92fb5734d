"""Who is served when a line does not hold all destinations."""

from __future__ import annotations

from itertools import combinations
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.division.groupings import ALL_GROUPINGS, Division, Groupings
from eager_kestrel.core.division.knapsack import Choices, KnapsackTable
from eager_kestrel.core.division.worth import SERVED_WORTH

if TYPE_CHECKING:
    from eager_kestrel.core.division.encode import Members


def fewest_left_out(tried: Groupings) -> tuple[Division | None, Members]:
    """The best division of all destinations, or of those worth most where not all fit.

    Returns:
        The division, None when not even one fits, and the destinations it leaves out.
    """
    everyone = tuple(range(tried.count))
    whole = tried.best(everyone)
    if whole is not None:
        return whole, ()
    found = [(division, which) for which in _subsets(tried) if (division := tried.best(which))]
    if not found:
        return None, everyone

    def worth(candidate: tuple[Division, Members]) -> float:
        served = sum(tried.weights[m] for m in candidate[1])
        return candidate[0].worth + SERVED_WORTH * served

    division, which = max(found, key=worth)
    return division, tuple(m for m in everyone if m not in which)


def _subsets(tried: Groupings) -> list[Members]:
    """Destinations to serve without the rest: all ways where they are few, else the best alone."""
    if tried.count > ALL_GROUPINGS:
        return [which] if (which := _served_alone(tried)) else []
    everyone = range(tried.count)
    return [w for size in range(tried.count - 1, 0, -1) for w in combinations(everyone, size)]


def _served_alone(tried: Groupings) -> Members:
    """Which to serve when each gets an encode of its own and may be left out."""
    table = KnapsackTable(tried.line_cells, tried.machine_cells)
    nothing = Choices(np.zeros(1, np.intp), np.zeros(1, np.intp), np.zeros(1))
    for m in range(tried.count):
        encode = tried.encode((m,))
        if isinstance(encode, str):
            table = table.with_(nothing)
            continue
        own, served = encode.choices, SERVED_WORTH * tried.weights[m]
        table = table.with_(
            Choices(
                np.concatenate([nothing.cells, own.cells]),
                np.concatenate([nothing.loads, own.loads]),
                np.concatenate([nothing.worth, own.worth + served]),
            )
        )
    return tuple(m for m, choice in enumerate(table.taken()) if choice > 0)
