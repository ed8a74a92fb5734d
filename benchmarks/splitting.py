"""How fast eight destinations share a line, after start-up.

Usage: python -m benchmarks splitting [--quick]

Four bundled platforms, each twice, with their full candidate sets. The reference, taken in the same
run, is planning each of the eight alone. Wanted: at most five times that where nothing is known of
the machine's encoders; with them the division has a second resource, and is printed beside it.
"""

from __future__ import annotations

import statistics
import time

from benchmarks import SLACK, options
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide

PLATFORMS = ("oxbow", "fernlight", "pocketfair", "gatepost")
ROUNDS = 9
MOST_TIMES = 5.0
MACHINE = Machine.model_validate(
    {"encoders": [{"codec": "h264", "preset": "veryfast", "holds": "1920x1080 at 150"}]}
)


def show_for(places: tuple[Destination, ...], machine: Machine) -> Show:
    """The same source for all."""
    return Show(
        source=Resolution(1920, 1080),
        source_fps=60,
        motion="lively",
        destinations=places,
        machine=machine,
    )


def main(words: list[str]) -> int:
    """Print a line for each upload; 1 when the limit is missed without machine figures."""
    quick = options(__doc__).parse_args(words).quick
    rounds, limit = (1, MOST_TIMES * SLACK) if quick else (ROUNDS, MOST_TIMES)
    guides = {name: load_guide(name) for name in PLATFORMS}
    table = quality_table()
    places = tuple(
        Destination(
            platform=PLATFORMS[i % 4], weight=1 + i * 0.3, tier="hearth" if i == 4 else None
        )
        for i in range(8)
    )
    worst = 0.0
    for upload in ("12 Mbit/s",) if quick else ("3 Mbit/s", "12 Mbit/s", "40 Mbit/s", "200 Mbit/s"):
        line = assumed_uplink(Bitrate.parse(upload))

        def taken(shows: list[Show]) -> float:
            times = []
            for _ in range(rounds):
                began = time.process_time()
                for show in shows:
                    plan(line, show, guides, table)  # noqa: B023 - used at once
                times.append(time.process_time() - began)
            return statistics.median(times)

        alone = taken([show_for((place,), Machine()) for place in places])
        together = taken([show_for(places, Machine())])
        loaded = taken([show_for(places, MACHINE)])
        worst = max(worst, together / alone)
        print(
            f"{upload}: {together * 1000:.0f} ms, {together / alone:.1f} times the eight alone; "
            f"with encoder speeds {loaded * 1000:.0f} ms"
        )
    return 0 if worst < limit else 1
