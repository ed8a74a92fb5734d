"""How fast plans are made, after start-up.

Usage: python -m benchmarks planning [--quick]

The reference, taken in the same run, is one evaluation of NumPy's exponential over as many numbers
as the sweep has candidates. Wanted: one plan at most 20 ms of
processor time; a sweep of 1,000 uplinks over four guides
under 2 s.
"""

from __future__ import annotations

import statistics
import time

import numpy as np

from benchmarks import SLACK, options
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide

PLATFORMS = ("oxbow", "fernlight", "pocketfair", "gatepost")
UPLINKS = 1000
ROUNDS = 30


def show_for(platform: str) -> Show:
    """The same source for every platform."""
    return Show(
        source=Resolution(1920, 1080),
        frame_rate=60,
        motion="lively",
        destinations=(Destination(platform=platform),),
    )


def main(words: list[str]) -> int:
    """Print both times and candidates a second; 1 when either is missed."""
    quick = options(__doc__).parse_args(words).quick
    slack = SLACK if quick else 1.0
    table = quality_table()
    guides = {name: load_guide(name) for name in PLATFORMS}
    uplink = assumed_uplink(Bitrate.parse("12 Mbit/s"))
    times = []
    for _ in range(6 if quick else ROUNDS):
        for name in PLATFORMS:
            began = time.process_time()
            plan(uplink, show_for(name), guides, table)
            times.append(time.process_time() - began)
    one = max(statistics.median(times[i :: len(PLATFORMS)]) for i in range(len(PLATFORMS)))
    safe = np.linspace(300, 60_000, UPLINKS)
    began = time.perf_counter()
    weighed = 0
    for name in PLATFORMS:
        field = candidates_table(show_for(name), guides[name], table, "h264")
        field.chosen(safe)
        weighed += UPLINKS * len(field.candidates)
    swept = time.perf_counter() - began
    numbers = np.linspace(0, 1, weighed)
    began = time.perf_counter()
    np.exp(-numbers)
    reference = time.perf_counter() - began
    print(f"one plan, the slowest of {len(PLATFORMS)} guides: {one * 1000:.1f} ms")
    print(
        f"{UPLINKS} uplinks x {len(PLATFORMS)} guides: {swept * 1000:.0f} ms, "
        f"{weighed / swept / 1e6:.1f} million candidates a second, "
        f"{swept / reference:.0f} times one exponential of each"
    )
    return 0 if one <= 0.020 * slack and swept < 2 * slack else 1
