"""Write a fortnight of runs of the scenario's line, as an export that ``runs import`` takes.

Usage: python scripts/make_history.py OUT.json

The samples are read off the bundled traces, not measured: made-up data for pictures and trials.
"""

from __future__ import annotations

import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from eager_kestrel.core.connection.run import Endpoint, Phase, Run, Series
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.files.bundled import load_trace
from eager_kestrel.files.run_tables import runs_json

HOURS = {
    9: "day",
    12: "day",
    15: "day",
    19: "wet-evening",
    20: "wet-evening",
    21: "wet-evening",
    23: "bad-night",
}
DAYS = 14
SECONDS = 10.0
END = datetime(2026, 11, 23, tzinfo=UTC)


def sampled(trace: Trace, begin: float) -> Series:
    """What a counter would have read every 50 ms."""
    at = np.arange(0, SECONDS + 1e-9, 0.05)
    start = trace.bytes_until(begin)
    return Series(
        seconds=tuple(float(x) for x in at),
        delivered_bytes=tuple(int(trace.bytes_until(begin + float(x)) - start) for x in at),
    )


def main() -> None:
    """Write them."""
    rng = np.random.default_rng(20)
    runs = []
    for day in range(DAYS):
        for hour, line in HOURS.items():
            taken = END - timedelta(days=DAYS - day) + timedelta(hours=hour, minutes=5)
            phase = Phase(
                name="one connection",
                connections=1,
                ended="time",
                samples=sampled(load_trace(line), float(rng.uniform(0, 290))),
            )
            runs.append(
                Run(
                    id=f"{taken:%Y%m%d-%H%M%S}-made",
                    taken_at=taken.isoformat(),
                    version="made",
                    endpoint=Endpoint(url="https://upload.hollowlane.example/try"),
                    counted_by="made by scripts/make_history.py",
                    one_connection=phase,
                )
            )
    Path(sys.argv[1]).write_text(runs_json(runs))


if __name__ == "__main__":
    main()
