"""How fast plans are made, after start-up.

Usage: python -m benchmarks planning [--quick]

The references, taken in the same run, are one choice among the candidates of a guide at one safe
rate, and one evaluation of NumPy's exponential over as many numbers as a sweep has candidates.
Wanted: a plan, with its reasons, fallbacks and offers, at most 150 choices; a sweep of 1,000
uploads over four guides at most 250 exponentials.
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
CHOICES = 300
REPEATS = 50
MOST_CHOICES, MOST_EXPONENTIALS = 150, 250


def show_for(platform: str) -> Show:
    """The same source for every platform."""
    return Show(
        source=Resolution(1920, 1080),
        source_fps=60,
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
    made = candidates_table(show_for(PLATFORMS[0]), guides[PLATFORMS[0]], table, "h264")
    began = time.process_time()
    for number in range(CHOICES):
        made.at(3000.0 + number)
    choice = (time.process_time() - began) / CHOICES
    safe = np.linspace(300, 60_000, UPLINKS)
    began = time.process_time()
    scored = 0
    for name in PLATFORMS:
        field = candidates_table(show_for(name), guides[name], table, "h264")
        field.chosen(safe)
        scored += UPLINKS * len(field.candidates)
    swept = time.process_time() - began
    numbers = np.linspace(0, 1, scored)
    began = time.process_time()
    for _ in range(REPEATS):
        np.exp(-numbers)
    reference = (time.process_time() - began) / REPEATS
    print(
        f"one plan, the slowest of {len(PLATFORMS)} guides: {one * 1000:.1f} ms, "
        f"{one / choice:.0f} choices at a rate"
    )
    print(
        f"{UPLINKS} uplinks x {len(PLATFORMS)} guides: {swept * 1000:.0f} ms, "
        f"{scored / swept / 1e6:.1f} million candidates a second, "
        f"{swept / reference:.0f} times one exponential of each"
    )
    good = one <= MOST_CHOICES * slack * choice and swept <= MOST_EXPONENTIALS * slack * reference
    return 0 if good else 1
