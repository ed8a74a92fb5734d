"""When a load phase knows enough: the floor to within 5 %, or a limit has come."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.line.throughput import floor_interval, throughput

if TYPE_CHECKING:
    from eager_kestrel.core.line.run import Ending, Series

LEAST_STEADY_SECONDS = 4.0
BETWEEN_SAMPLES = 0.06
"""A sample has the moment of the last arrival, a little before the moment it was taken."""
PRECISION = 0.05
SEED = 9097


@dataclass(frozen=True, slots=True)
class Limits:
    """The most a load phase may take."""

    seconds: float = 10.0
    data_bytes: int | None = None
    """Over all phases of a run."""


def known_well_enough(series: Series) -> bool:
    """Whether the floor's 95 % interval lies within 5 % of it, after four steady seconds."""
    found = throughput(series)
    if found is None or found.steady_seconds < LEAST_STEADY_SECONDS - BETWEEN_SAMPLES:
        return False
    interval = floor_interval(series, np.random.default_rng(SEED))
    if interval is None:
        return False
    low, high = interval
    return max(found.floor_kbps - low, high - found.floor_kbps) <= PRECISION * found.floor_kbps


def limit_reached(seconds: float, used_bytes: int, limits: Limits) -> Ending | None:
    """The limit that has been reached, if any."""
    if limits.data_bytes is not None and used_bytes >= limits.data_bytes:
        return "data"
    return "time" if seconds >= limits.seconds else None
