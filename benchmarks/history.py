"""What a long history costs: commands on 10,000 runs and 200 broadcasts of two years.

Usage: python -m benchmarks history [--quick] [--runs 10000] [--broadcasts 200] [--rounds 5]

Each command runs as a process of its own, in turn on an empty home and on a full one; the ratio of
medians is compared, and the largest resident memory is told. ``forecast`` and ``report`` need runs,
so their reference is a home with one fortnight of three runs a day. Wanted: at most twice the
reference and 150 MB; export and import in less than 5 s each.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np

from benchmarks import SLACK, options
from eager_kestrel.core.connection.broadcast import Broadcast, Seconds
from eager_kestrel.core.connection.run import Endpoint, Phase, RoundTrip, Run, Series
from eager_kestrel.files.history import History

PROGRAM = [sys.executable, "-m", "eager_kestrel"]
DAYS = 730
SECONDS = 7200
FULL_RATIO, MOST_MB, MOST_SECONDS = 2.0, 150.0, 5.0
PLAN = ["plan", "--for", "oxbow"]
ROWS: dict[str, tuple[list[str], str]] = {
    "plan": (PLAN, "few"),
    "plan --upload": ([*PLAN, "--upload", "12 Mbit/s"], "empty"),
    "forecast": (["forecast"], "few"),
    "runs hours": (["runs", "hours"], "few"),
    "runs list": (["runs", "list"], "few"),
    "report": (["report", "-o", "page.html"], "few"),
}


def run_at(moment: datetime, rng: np.random.Generator, number: int) -> Run:
    """A run with three phases of the size a real one has."""

    def series(kbps: float) -> Series:
        at = np.arange(200) * 0.05
        gained = np.cumsum(rng.uniform(0.6, 1.3, at.size) * kbps * 6.25)
        return Series(seconds=tuple(map(float, at)), delivered_bytes=tuple(map(int, gained)))

    trips = tuple(RoundTrip(at_seconds=0.1 * n, round_trip_ms=31.25) for n in range(40))
    kbps = float(rng.uniform(7000, 12000))
    phases = {
        name: Phase(
            name=name,
            connections=count,
            ended="time",
            samples=series(kbps * scale),
            round_trips=trips,
        )
        for name, count, scale in (("one connection", 1, 1.0), ("several connections", 4, 1.1))
    }
    return Run(
        id=f"{moment:%Y%m%d-%H%M%S}-{number:05d}",
        taken_at=moment.isoformat(),
        version="made",
        endpoint=Endpoint(url="https://upload.hollowlane.example/try"),
        counted_by="made",
        idle=Phase(name="idle", ended="complete", round_trips=trips),
        one_connection=phases["one connection"],
        several_connections=phases["several connections"],
    )


def broadcast_at(moment: datetime, rng: np.random.Generator) -> Broadcast:
    """Two hours that held."""
    sent = tuple(int(x) for x in rng.normal(5000, 100, SECONDS))
    return Broadcast(
        id=f"{moment:%Y%m%d-%H%M%S}-a",
        taken_at=moment.isoformat(),
        version="made",
        kind="measured",
        seen_by="connection",
        program="made",
        platform="oxbow",
        server="ingest.oxbow.example:1935",
        ended="made",
        seconds=Seconds(
            sent_kbps=sent,
            carried_kbps=sent,
            queued_ms=(20,) * SECONDS,
            round_trip_ms=(31,) * SECONDS,
            cores_percent=(12,) * SECONDS,
        ),
    )


def fill(home: Path, runs: int, broadcasts: int, days: float) -> None:
    """Spread them evenly over the days up to now."""
    rng, now = np.random.default_rng(5), datetime.now(UTC).astimezone()

    def moments(count: int) -> list[datetime]:
        return [now - timedelta(days=days * (1 - (n + 1) / (count + 1))) for n in range(count)]

    with History(home) as history:
        history.add(run_at(at, rng, n) for n, at in enumerate(moments(runs)))
        history.keep(broadcast_at(at, rng) for at in moments(broadcasts))
        history.evidence()
        history.broadcast_evidence()


def took(home: Path, command: list[str], folder: Path) -> tuple[float, float]:
    """Seconds and MB of a command."""
    began = time.perf_counter()
    script = (
        "import resource, subprocess, sys; code = subprocess.call(sys.argv[1:], "
        "stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL); "
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024, code)"
    )
    done = subprocess.run(
        [sys.executable, "-S", "-c", script, *PROGRAM, *command],
        cwd=folder,
        check=True,
        capture_output=True,
        text=True,
        env={**os.environ, "EAGER_KESTREL_HOME": str(home)},
    )
    memory, code = done.stdout.split()
    if int(code) not in (0, 1):
        raise SystemExit(f"{command} ended with {code}")
    return time.perf_counter() - began, float(memory)


def main(words: list[str]) -> int:
    """Print the table; 1 when something is above what is wanted."""
    parser = options(__doc__)
    for name, usual in (("runs", 10_000), ("broadcasts", 200), ("rounds", 5)):
        parser.add_argument(f"--{name}", type=int, default=usual)
    asked = parser.parse_args(words)
    runs, broadcasts, rounds = asked.runs, asked.broadcasts, asked.rounds
    slack = 1.0
    if asked.quick:
        runs, broadcasts, rounds, slack = 300, 6, 1, SLACK
    missed = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        homes = {kind: folder / kind for kind in ("empty", "few", "full", "other")}
        fill(homes["few"], 42, 2, 14)
        fill(homes["full"], runs, broadcasts, DAYS)
        size = (homes["full"] / "runs.sqlite3").stat().st_size / 1e6
        print(f"{runs:,} runs and {broadcasts} broadcasts of two years, {size:,.0f} MB on the disk")
        for home in ("few", "full"):
            took(homes[home], PLAN, folder)
        print(f"{'command':<16}{'reference':>12}{'full':>10}{'ratio':>8}{'memory':>10}")
        for row, (command, reference) in ROWS.items():
            seen: dict[str, list[float]] = {reference: [], "full": []}
            memory = 0.0
            for _ in range(rounds):
                for home, times in seen.items():
                    seconds, megabytes = took(homes[home], command, folder)
                    times.append(seconds)
                    memory = max(memory, megabytes) if home == "full" else memory
            before, after = (statistics.median(times) for times in seen.values())
            missed += after > slack * FULL_RATIO * before or memory > MOST_MB
            print(
                f"{row:<16}{before:>10.2f} s{after:>8.2f} s{after / before:>8.2f}{memory:>7.0f} MB"
            )
        for row, home in (("export", "full"), ("import", "other")):
            seconds, memory = took(homes[home], ["runs", row, "all.json"], folder)
            missed += seconds > MOST_SECONDS
            print(f"{'runs ' + row:<16}{'':>12}{seconds:>8.2f} s{'':>8}{memory:>7.0f} MB")
        found = json.loads((folder / "all.json").read_text())
        assert len(found["runs"]) == runs
    return 1 if missed else 0
