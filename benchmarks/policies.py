"""Policies for a safe rate, held against connections whose truth is known; and what a replay costs.

Usage: python -m benchmarks policies [--quick] [--connections 192] [--evenings 20] [--figure FILE]
       [--only truth|speed]

Each made connection (:mod:`made_connections`) has evenings of three hours. Runs of 10 s are taken
on different evenings, just before the show of two hours or spread over the evening; shows are
watched. A policy names a rate; the truth is the avoidable stutter of the planned frames at that
rate over the shows of other evenings, standstills aside, and the best possible rate is the highest
that keeps 7 s an hour there. Ours is the one of the program: the lower of 70 % of typical and the
seen-safe rate, and the lowest worth sending where no rate keeps the limit. A show is sent at the
rate our policy gives after what was seen before it. Rivals are rules of thumb.

Headroom is fitted here, too: for each kind, on all connections of other kinds, and judged on that
kind alone ("left out").

Wanted: at no number of runs worse than the fixed share that sends the same median rate; from three
runs on at most half its mean stutter; with three watched shows 0.9 of the best rate and at most
10 % of connections over the limit; a plan always.

Speed: 200 runs of 10 s and ten broadcasts of two hours are replayed and the highest rate within
the limit is found. Wanted: less than 0.1 s of processor time, and 50 MB.
"""

from __future__ import annotations

import itertools
import time
import tracemalloc
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from benchmarks import SLACK, options
from benchmarks.made_connections import GRID, KINDS, Made, made_line
from eager_kestrel.core.connection.evidence import BroadcastEvidence, RunEvidence
from eager_kestrel.core.connection.throughput import GRID_SECONDS, grid_windows
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import (
    HALVED_SECONDS,
    HEADROOM,
    Replay,
    group_of_frames,
    planned,
)
from eager_kestrel.core.show.show import SAFE_SHARE
from eager_kestrel.core.stutter import (
    LATE_SECONDS,
    LIMIT_SECONDS,
    LOWEST_SHARE,
    bridged,
    queued_kbit,
    standstills,
    within,
)

Floats = NDArray[np.float64]
FIRST_SEED = 1_206_000
RUNS = (1, 3, 6, 15, 50)
SHOWS = (1, 3)
WHENS = ("before", "spread")
RUNS_BEFORE_SHOWS = 6
RUN_SECONDS, BEFORE_SECONDS, SHOW_SECONDS = 10.0, 3600, 7200
BEGIN = datetime(2026, 11, 1, 20, tzinfo=UTC)
SENDING = planned(group_of_frames(120, 2, "lively"), 1.0, 0.97, 60.0, 1e9)
RULES: dict[str, Callable[[Floats], float]] = {
    "50 % of a run": lambda windows: 0.5 * float(np.median(windows)),
    "60 %": lambda windows: 0.6 * float(np.median(windows)),
    "two thirds": lambda windows: float(np.median(windows)) * 2 / 3,
    "70 %": lambda windows: 0.7 * float(np.median(windows)),
    "80 %": lambda windows: 0.8 * float(np.median(windows)),
    "less 300 kbit/s": lambda windows: float(np.median(windows)) - 300,
    "80 % of the floor": lambda windows: 0.8 * float(np.percentile(windows, 10)),
}
SHARES = np.arange(0.02, 1.01, 0.02)
OURS, LEFT_OUT = "seen safe", "seen safe, left out"
HEADROOMS, HALVINGS = (0.42, 0.6, 0.8, 1.0, 1.4), (225.0, 450.0, 900.0, 1800.0, 3600.0)
MOST_COUNTED = 600.0
"""Seconds of stutter an hour beyond which more is no worse: nobody watches that."""


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
    """Seconds an hour, of the avoidable kind."""


@dataclass
class Tried:
    """One connection: its truth as a curve, and what runs and shows said of it."""

    kind: str
    typical: float
    best: float
    rates: Floats
    stutters: Floats
    """Seconds an hour at each rate."""
    windows: dict[str, Floats] = field(default_factory=dict)
    """Of the runs, by what was seen."""
    held: dict[str, float] = field(default_factory=dict)
    """The highest rate that kept the limit in the runs, 0 where none did."""
    observed: dict[str, float] = field(default_factory=dict)
    """Seconds."""
    after_shows: dict[str, float] = field(default_factory=dict)
    """What the program planned by after shows."""

    def stutter(self, kbps: float) -> float:
        """Seconds an hour at a rate."""
        return float(np.interp(np.log(max(kbps, self.rates[0])), np.log(self.rates), self.stutters))

    def safe(self, seen: str, headroom: float, halved: float) -> float:
        """What the program plans by after runs, with some headroom."""
        more = headroom / (1 + self.observed[seen] / halved)
        held, typical = self.held[seen], float(np.median(self.windows[seen]))
        safe = min(SAFE_SHARE * typical, held / (1 + more))
        return max(safe, LOWEST_SHARE * typical)

    def told(self, policy: str, seen: str, kbps: float) -> Told:
        """What came of a rate."""
        return Told(
            self.kind, policy, seen, kbps / self.best, kbps / self.typical, self.stutter(kbps)
        )


class Truth:
    """The shows of some evenings, one after another."""

    def __init__(self, shows: Floats, lowest: float) -> None:
        evenings, steps = shows.shape
        self._hours = evenings * steps * GRID / 3600
        self._carried = np.hstack([shows * GRID, np.full((evenings, 1), 1e9)]).ravel()
        pattern = np.resize(SENDING.by_step(GRID), steps)
        self._sent = np.tile(np.append(pattern, 0.0), evenings)
        self._part = np.repeat(np.arange(evenings), steps + 1)
        self._stood = within(*standstills(self._sent, self._carried, lowest), self._sent.size)
        self._carried[self._stood] = self._sent[self._stood] = 0.0

    def stutter(self, kbps: float) -> float:
        """Seconds of avoidable stutter an hour at a rate."""
        queue = queued_kbit(self._sent * kbps, self._carried) / kbps
        late = (queue > LATE_SECONDS) & (self._sent > 0)
        return float(bridged(late, self._part, GRID).sum()) * GRID / self._hours

    def best(self, top: float) -> float:
        """The highest rate that keeps the limit."""
        low, high = top / 256, top
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
    lowest = LOWEST_SHARE * typical
    safe = Replay(Evidence.of(runs, shows), SENDING, lowest).safe_kbps(LIMIT_SECONDS)
    return max(min(SAFE_SHARE * typical, safe or 0.0), lowest)


def tried(seed: int, evenings: int) -> Tried:
    """One connection: its truth, its runs and its shows."""
    kind = KINDS[seed % len(KINDS)]
    made, rng = made_line(kind, seed), np.random.default_rng(seed + 1)
    before, steps = round(BEFORE_SECONDS / GRID), round(SHOW_SECONDS / GRID)
    shows = made.paths(rng, evenings, before + steps)[:, before:]
    typical = float(np.median(shows))
    truth = Truth(shows, LOWEST_SHARE * typical)
    rates = typical * np.geomspace(LOWEST_SHARE / 2, 1.6, 48)
    found = Tried(
        kind,
        typical,
        truth.best(1.5 * typical),
        rates,
        np.array([truth.stutter(float(kbps)) for kbps in rates]),
    )
    runs = {when: _runs(made, rng, when) for when in WHENS}
    for when, count in itertools.product(WHENS, RUNS):
        some, seen = runs[when][:count], f"{count} runs, {when}"
        replay = Replay(Evidence.of(some), SENDING, LOWEST_SHARE * typical)
        found.windows[seen] = np.concatenate([run.windows_kbps for run in some])
        found.held[seen] = replay.max_kbps(LIMIT_SECONDS) or 0.0
        found.observed[seen] = replay.evidence.observed_seconds
    watched: list[BroadcastEvidence] = []
    aired = made.paths(rng, max(SHOWS), before + steps)[:, before:]
    for number, path in enumerate(aired):
        kbps = ours(runs["before"][:RUNS_BEFORE_SHOWS], watched)
        watched.append(show_of(path, kbps, number))
        if number + 1 in SHOWS:
            known = ours(runs["before"][:RUNS_BEFORE_SHOWS], watched)
            found.after_shows[f"{RUNS_BEFORE_SHOWS} runs, {number + 1} shows"] = known
    return found


def _runs(made: Made, rng: np.random.Generator, when: str) -> list[RunEvidence]:
    """One on each of many evenings: in the minutes before the show, or at any time of it."""
    steps = round(RUN_SECONDS / GRID)
    whole = round((BEFORE_SECONDS + SHOW_SECONDS) / GRID)
    paths = made.paths(rng, max(RUNS), whole)
    until = round(BEFORE_SECONDS / GRID)
    first, last = (until - round(600 / GRID), until) if when == "before" else (0, whole)
    found = []
    for number, path in enumerate(paths):
        at = int(rng.integers(first, last - steps))
        found.append(run_of(path[at : at + steps], number))
    return found


def truth(connections: int, evenings: int, figure: Path | None) -> bool:
    """Print the tables; whether all is as wanted."""
    seeds = range(FIRST_SEED, FIRST_SEED + connections)
    with ProcessPoolExecutor(2) as pool:
        every = list(pool.map(partial(tried, evenings=evenings), seeds, chunksize=1))
    print(
        "| seen | policy | rate / best, median | of typical, median | mean stutter, s/h "
        "| over the limit |"
    )
    print("| --- | --- | ---: | ---: | ---: | ---: |")
    kinds = dict.fromkeys(one.kind for one in every)
    fitted = {kind: fit([one for one in every if one.kind != kind]) for kind in kinds}
    good, all_told = True, list[Told]()
    for when, count in itertools.product(WHENS, RUNS):
        seen = f"{count} runs, {when}"
        told = _of_runs(every, seen, fitted)
        all_told += told
        for policy in (*RULES, OURS, LEFT_OUT):
            print(f"| {seen} | {policy} | {_row([o for o in told if o.policy == policy])} |")
        good &= _beside_the_share(seen, told, count)
    for seen in every[0].after_shows:
        told = [one.told(OURS, seen, one.after_shows[seen]) for one in every]
        all_told += told
        print(f"| {seen} | {OURS} | {_row(told)} |")
        share, _, _, over = _figures(told)
        good &= (share >= 0.9 and over <= 0.1) or f"{max(SHOWS)} shows" not in seen
    _by_kind([one for one in all_told if one.policy == OURS])
    chosen = fit(every)
    print(f"\nHeadroom fitted on all kinds: {chosen[0]:g}, halved after {chosen[1]:g} s;")
    alike = {found: [k for k in kinds if fitted[k] == found] for found in set(fitted.values())}
    for (headroom, halved), left_out in alike.items():
        print(f"left out {', '.join(left_out)}: {headroom:g}, {halved:g} s")
    if figure is not None:
        _draw(all_told, figure)
    return good


def _of_runs(
    every: Sequence[Tried], seen: str, fitted: dict[str, tuple[float, float]]
) -> list[Told]:
    """Every policy on every connection."""
    told = []
    for one in every:
        windows = one.windows[seen]
        told += [one.told(name, seen, rule(windows)) for name, rule in RULES.items()]
        median = float(np.median(windows))
        told += [one.told(f"share {share:.2f}", seen, share * median) for share in SHARES]
        told.append(one.told(OURS, seen, one.safe(seen, HEADROOM, HALVED_SECONDS)))
        told.append(one.told(LEFT_OUT, seen, one.safe(seen, *fitted[one.kind])))
    return told


def fit(some: Sequence[Tried]) -> tuple[float, float]:
    """Headroom and the seconds that halve it: least stutter and rate given away, over all runs.

    A tenth of the best possible rate is worth as much as a minute of stutter an hour.
    """

    def loss(candidate: tuple[float, float]) -> float:
        total = 0.0
        for one in some:
            for seen in one.held:
                kbps = one.safe(seen, *candidate)
                total += min(one.stutter(kbps), MOST_COUNTED) / 60
                total += 10 * max(0.0, 1 - kbps / one.best)
        return total

    return min(itertools.product(HEADROOMS, HALVINGS), key=loss)


def _figures(some: Sequence[Told]) -> tuple[float, float, float, float]:
    stutter = np.array([one.stutter for one in some])
    return (
        float(np.median([one.share for one in some])),
        float(np.median([one.of_typical for one in some])),
        float(stutter.mean()),
        float((stutter > LIMIT_SECONDS).mean()),
    )


def _row(some: Sequence[Told]) -> str:
    share, typical, mean, over = _figures(some)
    return f"{share:.2f} | {typical:.2f} | {mean:,.1f} | {over:.0%}"


def _beside_the_share(seen: str, here: Sequence[Told], count: int) -> bool:
    """The fixed share that sends the same median rate as ours."""
    mine = _figures([one for one in here if one.policy == OURS])
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
    return mine[2] <= (same / 2 if count >= 3 else same * 1.001)


def _by_kind(mine: Sequence[Told]) -> None:
    seens = list(dict.fromkeys(one.seen for one in mine))
    print(f"\n| ours, by kind | {' | '.join(seens)} |")
    print("| --- |" + " ---: |" * len(seens))
    for kind in dict.fromkeys(one.kind for one in mine):
        cells = []
        for seen in seens:
            share, _, mean, over = _figures([o for o in mine if (o.seen, o.kind) == (seen, kind)])
            cells.append(f"{share:.2f}, {mean:,.0f} s/h, {over:.0%}")
        print(f"| {kind} | {' | '.join(cells)} |")


def _draw(told: Sequence[Told], path: Path) -> None:
    """Rate against stutter; each rule of thumb a point, ours by what was seen."""
    from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, key, new_figure, save

    seen = "6 runs, before"
    here = [one for one in told if one.seen == seen]
    title = "Rate against avoidable stutter on made connections; rules of thumb from six runs"
    figure, (axes,) = new_figure(title)
    fixed = [_figures([o for o in here if o.policy == f"share {share:.2f}"]) for share in SHARES]
    axes.plot([f[0] for f in fixed], [f[2] for f in fixed], color=LINE, label="fixed share")
    for policy in RULES:
        share, _, mean, _ = _figures([o for o in here if o.policy == policy])
        axes.plot(share, mean, marker="o", color=CARE, linestyle="none")
        _name(axes, policy, (share, mean), (8, -12), CARE)
    mine = [one for one in told if one.policy == OURS and "spread" not in one.seen]
    for number, known in enumerate(dict.fromkeys(one.seen for one in mine)):
        share, _, mean, _ = _figures([one for one in mine if one.seen == known])
        label = "seen safe" if number == 0 else None
        axes.plot(share, mean, marker="s", color=GOOD, linestyle="none", label=label)
        said = (
            known.removesuffix(", before").replace("1 runs", "1 run").replace("1 shows", "1 show")
        )
        _name(axes, said, (share, mean), (-8, -3), GOOD)
    axes.set_yscale("symlog", linthresh=10)
    axes.set_xlim(0, 1.6)
    axes.set_ylim(0, 2500)
    axes.set_xlabel("median rate, as a share of the best possible", color=INK)
    axes.set_ylabel("mean avoidable stutter, seconds an hour", color=INK)
    key(axes)
    save(figure, path)


def _name(
    axes: object, text: str, at: tuple[float, float], beside: tuple[int, int], colour: str
) -> None:
    axes.annotate(  # type: ignore[attr-defined]
        text,
        at,
        xytext=beside,
        textcoords="offset points",
        fontsize=9,
        color=colour,
        ha="left" if beside[0] > 0 else "right",
    )


def speed(slack: float) -> bool:
    """Print what a replay costs; whether within the limits."""
    made, rng = made_line(KINDS[4], 4), np.random.default_rng(4)
    runs = [run_of(path, n) for n, path in enumerate(made.paths(rng, 200, round(10 / GRID)))]
    shows = [
        show_of(path, 0.6 * float(np.median(path)), n)
        for n, path in enumerate(made.paths(rng, 10, round(SHOW_SECONDS / GRID)))
    ]
    lowest = LOWEST_SHARE * float(np.median(runs[0].windows_kbps))

    def once() -> None:
        replay = Replay(Evidence.of(runs, shows), SENDING, lowest)
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
    return taken < 0.1 * slack and most < 50 * slack


def main(words: list[str]) -> int:
    """Run what was asked for; 1 when something is not as wanted."""
    parser = options(__doc__)
    parser.add_argument("--connections", type=int)
    parser.add_argument("--evenings", type=int)
    parser.add_argument("--only", choices=("truth", "speed"))
    parser.add_argument("--figure", type=Path)
    asked = parser.parse_args(words)
    few, good = asked.quick, True
    if asked.only != "speed":
        connections = asked.connections or (4 if few else 12 * len(KINDS))
        evenings = asked.evenings or (1 if few else 20)
        held = truth(connections, evenings, asked.figure)
        good &= held or few  # of one connection a kind nothing can be concluded
    if asked.only != "truth":
        good &= speed(2 * SLACK if few else 1.0)
    return 0 if good else 1
