"""Policies for a safe rate, held against connections whose truth is known; and what a replay costs.

Usage: python -m benchmarks policies [--quick] [--connections 200] [--hours 40] [--figure FILE]
       [--only truth|speed]

Each made connection (:mod:`made_connections`) gives runs of 8 s, each on a day of its own, and
shows of two hours that are watched. A policy names a rate; the truth is the stutter of the
planned frames at that rate in so many simulated hours, and the best possible rate is the highest
that keeps 7 s an hour there. Ours is the one of the program (``core/forecast``): the lower of 70 %
of typical and the highest rate whose replay keeps the limit at the cautious end. A show is sent at
the rate our policy gives after what was seen before it. Rivals are rules of thumb.

Wanted: at most half the mean stutter of the fixed share that sends the same median rate, from five
runs on; with three watched shows at least 0.9 of the best possible rate, and at most 10 % of
connections over the limit.

Speed: 200 runs of 10 s and ten broadcasts of two hours are replayed and the highest rate within
the limit is found. Wanted: less than 0.1 s of processor time, and 50 MB.
"""

from __future__ import annotations

import time
import tracemalloc
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from benchmarks import options
from benchmarks.made_connections import GRID, KINDS, Made, made_line
from eager_kestrel.core.connection.evidence import BroadcastEvidence, RunEvidence
from eager_kestrel.core.connection.throughput import GRID_SECONDS, grid_windows
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending, group_of_frames, planned
from eager_kestrel.core.show.show import SAFE_SHARE
from eager_kestrel.core.stutter import LATE_SECONDS, LIMIT_SECONDS, bridged, queued_kbit

Floats = NDArray[np.float64]
FIRST_SEED = 910_000
RUNS = (1, 5, 15, 50)
SHOWS = (1, 3)
RUNS_BEFORE_SHOWS = 5
RUN_SECONDS, SHOW_SECONDS = 8.0, 7200
BEGIN = datetime(2026, 11, 1, 20, tzinfo=UTC)
SENDING = planned(group_of_frames(120, 2, "lively"), 1.0, 0.97, 60.0, 1e9)
RULES: dict[str, Callable[[Floats, float], float]] = {
    "50 % of a run": lambda windows, _: 0.5 * float(np.median(windows)),
    "two thirds": lambda windows, _: float(np.median(windows)) * 2 / 3,
    "70 %": lambda windows, _: 0.7 * float(np.median(windows)),
    "80 %": lambda windows, _: 0.8 * float(np.median(windows)),
    "less 300 kbit/s": lambda windows, _: float(np.median(windows)) - 300,
    "10th percentile": lambda windows, _: float(np.percentile(windows, 10)),
}
SHARES = np.arange(0.05, 1.01, 0.05)
OURS = "seen safe"
SAID = {
    "1 runs": ("1 run", (-8, 10)),
    "5 runs": ("5 runs", (8, 8)),
    "15 runs": ("15 runs", (-8, 4)),
    "50 runs": ("50 runs", (-8, -6)),
    "1 shows": ("5 runs and 1 show", (8, 4)),
    "3 shows": ("5 runs and 3 shows", (8, -6)),
}
"""Where each is named in the figure."""


@dataclass(frozen=True)
class Told:
    """What a policy named on one connection, and what came of it."""

    kind: str
    policy: str
    seen: str
    share: float
    """Of the best possible rate."""
    of_typical: float
    stutter: float
    """Seconds an hour."""


class Truth:
    """Simulated hours of a connection."""

    def __init__(self, made: Made, rng: np.random.Generator, hours: int) -> None:
        steps = round(3600 / GRID)
        paths = made.paths(rng, hours, steps) * GRID
        ends = np.full((hours, 1), 1e9)
        self._carried = np.hstack([paths, ends]).ravel()
        pattern = np.resize(SENDING.by_step(GRID), steps)
        self._sent = np.tile(np.append(pattern, 0.0), hours)
        self._part = np.repeat(np.arange(hours), steps + 1)
        self._hours = hours
        self._kept: dict[float, float] = {}

    def stutter(self, kbps: float) -> float:
        """Seconds of stutter an hour at a rate."""
        if kbps <= 0:
            return 0.0
        if kbps not in self._kept:
            queue = queued_kbit(self._sent * kbps, self._carried) / kbps
            late = bridged((queue > LATE_SECONDS) & (self._sent > 0), self._part, GRID)
            self._kept[kbps] = float(late.sum()) * GRID / self._hours
        return self._kept[kbps]

    def best(self, top: float) -> float:
        """The highest rate that keeps the limit."""
        low, high = top / 4096, top
        while high > low * 1.01:
            middle = float(np.sqrt(low * high))
            keeps = self.stutter(middle) <= LIMIT_SECONDS
            low, high = (middle, high) if keeps else (low, middle)
        return low


def run_of(path: Floats, number: int) -> RunEvidence:
    """A run as it is kept."""
    fine = round(GRID / GRID_SECONDS)
    steps = np.repeat(path * GRID / fine, fine)
    return RunEvidence(
        f"r{number}",
        (BEGIN + timedelta(days=number)).isoformat(),
        "",
        "",
        "measured",
        False,
        False,
        None,
        None,
        grid_windows(steps * 125),
        steps,
    )


def show_of(path: Floats, kbps: float, number: int) -> BroadcastEvidence:
    """A show sent at a rate, as watching sees it: by the second."""
    per = round(1 / GRID)
    sent = np.resize(SENDING.by_step(GRID), path.size) * kbps
    queue = queued_kbit(sent, path * GRID)
    left = np.maximum(queue - path * GRID, 0.0)
    carried = sent - np.diff(left, prepend=0.0)
    return BroadcastEvidence(
        f"s{number}",
        (BEGIN + timedelta(days=60 + number)).isoformat(),
        "oxbow",
        "measured",
        sent.reshape(-1, per).sum(axis=1),
        carried.reshape(-1, per).sum(axis=1),
        left.reshape(-1, per).max(axis=1) / kbps,
        np.ones(path.size // per, dtype=bool),
        0,
    )


def ours(runs: list[RunEvidence], shows: list[BroadcastEvidence]) -> float:
    """The rate the program would plan by."""
    typical = float(np.median(np.concatenate([run.windows_kbps for run in runs])))
    safe = Replay(Evidence.of(runs, shows), SENDING).safe_kbps(LIMIT_SECONDS)
    return min(SAFE_SHARE * typical, safe or 0.0)


def tried(seed: int, hours: int) -> list[Told]:
    """Every policy on one connection."""
    kind = KINDS[seed % len(KINDS)]
    made, rng = made_line(kind, seed), np.random.default_rng(seed + 1)
    truth = Truth(made, rng, hours)
    paths = made.paths(rng, max(RUNS), round(RUN_SECONDS / GRID))
    runs = [run_of(path, number) for number, path in enumerate(paths)]
    typical = float(np.median(paths))
    best = truth.best(1.5 * typical)
    told: list[Told] = []

    def tell(policy: str, seen: str, kbps: float) -> None:
        told.append(Told(kind, policy, seen, kbps / best, kbps / typical, truth.stutter(kbps)))

    for count in RUNS:
        windows = np.concatenate([run.windows_kbps for run in runs[:count]])
        for name, rule in RULES.items():
            tell(name, f"{count} runs", rule(windows, best))
        for share in SHARES:
            tell(f"share {share:.2f}", f"{count} runs", share * float(np.median(windows)))
        tell(OURS, f"{count} runs", ours(runs[:count], []))
    shows: list[BroadcastEvidence] = []
    aired = made.paths(rng, max(SHOWS), round(SHOW_SECONDS / GRID))
    for number, path in enumerate(aired):
        kbps = ours(runs[:RUNS_BEFORE_SHOWS], shows)
        shows.append(show_of(path, kbps, number) if kbps > 0 else show_of(path, 1.0, number))
        if number + 1 in SHOWS:
            tell(OURS, f"{number + 1} shows", ours(runs[:RUNS_BEFORE_SHOWS], shows))
    return told


def truth(connections: int, hours: int, figure: Path | None) -> bool:
    """Print the table; whether all is as wanted."""
    seeds = range(FIRST_SEED, FIRST_SEED + connections)
    with ProcessPoolExecutor(2) as pool:
        told = [
            one
            for some in pool.map(partial(tried, hours=hours), seeds, chunksize=2)
            for one in some
        ]
    print(
        "| seen | policy | rate / best, median | of typical, median | mean stutter, s/h "
        "| over the limit |"
    )
    print("| --- | --- | ---: | ---: | ---: | ---: |")
    good = True
    for seen in (*(f"{count} runs" for count in RUNS), *(f"{count} shows" for count in SHOWS)):
        here = [one for one in told if one.seen == seen]
        for policy in (*RULES, OURS):
            some = [one for one in here if one.policy == policy]
            if some:
                print(f"| {seen} | {policy} | {_row(some)} |")
        good &= _beside_the_share(seen, here)
    _by_kind([one for one in told if one.policy == OURS])
    if figure is not None:
        _draw([one for one in told if one.seen == "5 runs"], told, figure)
    return good


def _figures(some: list[Told]) -> tuple[float, float, float, float]:
    stutter = np.array([one.stutter for one in some])
    return (
        float(np.median([one.share for one in some])),
        float(np.median([one.of_typical for one in some])),
        float(stutter.mean()),
        float((stutter > LIMIT_SECONDS).mean()),
    )


def _row(some: list[Told]) -> str:
    share, typical, mean, over = _figures(some)
    return f"{share:.2f} | {typical:.2f} | {mean:,.1f} | {over:.0%}"


def _beside_the_share(seen: str, here: list[Told]) -> bool:
    """The fixed share that sends the same median rate as ours."""
    mine = _figures([one for one in here if one.policy == OURS])
    if "shows" in seen:
        return bool((mine[0] >= 0.9 and mine[3] <= 0.1) or seen != f"{max(SHOWS)} shows")
    shares = {
        share: _figures([one for one in here if one.policy == f"share {share:.2f}"])
        for share in SHARES
    }
    rates = [shares[share][0] for share in SHARES]
    same = float(np.interp(mine[0], rates, [shares[share][2] for share in SHARES]))
    at = float(np.interp(mine[0], rates, SHARES))
    over = float(np.interp(mine[0], rates, [shares[share][3] for share in SHARES]))
    print(
        f"| {seen} | *the fixed share of the same median rate, {at:.0%}* | {mine[0]:.2f} | "
        f"{at:.2f} | {same:,.1f} | {over:.0%} |"
    )
    return seen == "1 runs" or mine[2] <= same / 2


def _by_kind(mine: list[Told]) -> None:
    print(f"\n| ours, by kind | {' | '.join(KINDS)} |")
    print("| --- |" + " ---: |" * len(KINDS))
    for seen in dict.fromkeys(one.seen for one in mine):
        cells = []
        for kind in KINDS:
            share, _, mean, over = _figures([o for o in mine if (o.seen, o.kind) == (seen, kind)])
            cells.append(f"{share:.2f}, {mean:,.0f} s/h, {over:.0%}")
        print(f"| {seen} | {' | '.join(cells)} |")


def _draw(here: list[Told], told: list[Told], path: Path) -> None:
    """Rate against stutter; each rule of thumb a point."""
    from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, new_figure, save

    figure, (axes,) = new_figure()
    figure.suptitle(
        "Rate against stutter on made connections, from five runs",
        x=0.01,
        ha="left",
        color=INK,
        fontsize=14,
    )
    fixed = [_figures([o for o in here if o.policy == f"share {share:.2f}"]) for share in SHARES]
    axes.plot(
        [f[0] for f in fixed], [f[2] for f in fixed], color=LINE, label="fixed share of typical"
    )
    for policy in RULES:
        share, _, mean, _ = _figures([o for o in here if o.policy == policy])
        axes.plot(share, mean, marker="o", color=CARE, linestyle="none")
        axes.annotate(
            policy,
            (share, mean),
            xytext=(8, -14),
            textcoords="offset points",
            fontsize=9,
            color=CARE,
        )
    for seen in dict.fromkeys(o.seen for o in told if o.policy == OURS):
        share, _, mean, _ = _figures([o for o in told if (o.policy, o.seen) == (OURS, seen)])
        axes.plot(
            share,
            mean,
            marker="s",
            color=GOOD,
            linestyle="none",
            label="seen safe" if seen == "1 runs" else None,
        )
        name, where = SAID[seen]
        axes.annotate(
            name,
            (share, mean),
            xytext=where,
            textcoords="offset points",
            fontsize=9,
            color=GOOD,
            ha="left" if where[0] > 0 else "right",
            va="center",
        )
    axes.set_yscale("log")
    axes.set_xlabel("rate / best possible rate, median", color=INK)
    axes.set_ylabel("stutter, seconds an hour, mean", color=INK)
    axes.legend(loc="upper left")
    save(figure, path)


def speed() -> bool:
    """Print what a replay costs; whether within the limit."""
    made, rng = made_line(KINDS[4], 4), np.random.default_rng(4)
    runs = [run_of(path, n) for n, path in enumerate(made.paths(rng, 200, round(10 / GRID)))]
    shows = [
        show_of(path, 0.6 * float(np.median(path)), n)
        for n, path in enumerate(made.paths(rng, 10, round(SHOW_SECONDS / GRID)))
    ]
    sending: Sending = SENDING

    def once() -> None:
        replay = Replay(Evidence.of(runs, shows), sending)
        replay.safe_kbps(LIMIT_SECONDS)
        replay.seen(0.6 * float(np.median(runs[0].windows_kbps)))

    once()
    began = time.process_time()
    once()
    taken = time.process_time() - began
    tracemalloc.start()
    once()
    most = tracemalloc.get_traced_memory()[1] / 1e6
    tracemalloc.stop()
    print(
        f"\n200 runs and 10 broadcasts of two hours: {taken:.3f} s of processor time, "
        f"{most:.0f} MB at the most"
    )
    return taken < 0.1 and most < 50


def main(words: list[str]) -> int:
    """Run what was asked for; 1 when something is not as wanted."""
    parser = options(__doc__)
    parser.add_argument("--connections", type=int)
    parser.add_argument("--hours", type=int)
    parser.add_argument("--only", choices=("truth", "speed"))
    parser.add_argument("--figure", type=Path)
    asked = parser.parse_args(words)
    good = True
    if asked.only != "speed":
        few = asked.quick
        held = truth(
            asked.connections or (len(KINDS) if few else 200),
            asked.hours or (2 if few else 40),
            asked.figure,
        )
        good &= held or few
    if asked.only != "truth":
        good &= speed()
    return 0 if good else 1
