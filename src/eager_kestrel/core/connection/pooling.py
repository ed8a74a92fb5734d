"""Pool runs into one uplink, overall and by hour of day.

A live stream rides on one connection, so only that series counts. Runs are pooled with equal
weight; the interval of the floor resamples runs, then blocks within each run. A single run knows
nothing of other hours, so its interval is widened downwards and the uplink says so.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection import throughput
from eager_kestrel.core.connection.broadcast import STANDING_SECONDS, Broadcast
from eager_kestrel.core.connection.evidence import (
    BroadcastEvidence,
    RunEvidence,
    broadcast_evidence,
    evidence_of,
)
from eager_kestrel.core.connection.run import Kind, Run, RunDocument
from eager_kestrel.core.connection.uplink import ASSUMED_SPREAD, Hours, HourUplink, Uplink
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats


QUARTER_SECONDS = 900
LEAST_SECONDS = 20
"""A shorter stretch is no evidence."""
CONTRADICTS = 0.8
"""Of the floor of the runs: broadcasts that got less at their limit say something else."""
WINDOW = 2
"""Seconds in a window, as for runs."""


@dataclass(frozen=True, slots=True)
class QuarterBounds:
    """A quarter of an hour of a broadcast, or what there is of one."""

    broadcast: str
    """Its id."""
    began: datetime
    rates_kbps: Floats
    """Shape (windows,): carried in each two seconds."""
    limited: Flags
    """Shape (windows,): whether it was all the connection carried."""


def quarters(broadcast: Broadcast | BroadcastEvidence) -> list[QuarterBounds]:
    """A broadcast as evidence, by quarter of an hour."""
    evidence = broadcast_evidence(broadcast)
    found = []
    for begin in range(0, evidence.sent_kbps.size, QUARTER_SECONDS):
        part = slice(begin, begin + QUARTER_SECONDS)
        here = evidence.counts[part]
        if here.sum() < LEAST_SECONDS:
            continue
        queued = evidence.queued_seconds[part][here]
        rates, limited = _windows(evidence.carried_kbps[part][here], queued > STANDING_SECONDS)
        found.append(
            QuarterBounds(
                broadcast=evidence.id,
                began=evidence.taken + timedelta(seconds=begin),
                rates_kbps=rates,
                limited=limited,
            )
        )
    return found


def _windows(carried: Floats, waits: Flags) -> tuple[Floats, Flags]:
    """Two seconds each; all the connection carried only where something waited throughout."""
    even = carried.size // WINDOW * WINDOW
    rates = carried[:even].reshape(-1, WINDOW).mean(axis=1)
    limited = np.logical_and.reduce(waits[:even].reshape(-1, WINDOW), axis=1)
    return rates, np.asarray(limited, dtype=np.bool_)


def redistributed(values: Floats, weights: Floats, exact: Flags) -> Floats:
    """Weights after each censored observation has passed its own on to all above it.

    Args:
        values: shape (n,).
        weights: shape (n,), above zero.
        exact: shape (n,); the others are bounds from below.

    Returns:
        Shape (n,), the same sum; zero where an observation is censored, but for the highest.
    """
    order = np.lexsort((~exact, values))
    own, seen = weights[order], exact[order].copy()
    seen[-1] = True
    at_risk = np.cumsum(own[::-1])[::-1]
    falls = np.where(seen, own / at_risk, 0.0)
    left = np.concatenate([[1.0], np.cumprod(1 - falls)[:-1]])
    given = np.empty_like(weights)
    given[order] = left * falls * own.sum()
    return given


DRAWS_PER_RUN = 64
"""Block resamples made of each run; replicates then pick runs and one of these each."""
MOST_VALUES = 1_000_000
"""That are held at a time while replicates are made."""
KINDS: tuple[Kind, ...] = ("measured", "reading", "practice")
SINGLE_RUN_WIDENING = 1.5
"""One run knows nothing of other hours: its interval is stretched below by this factor."""


def uplink_of(
    runs: Sequence[Run | RunEvidence], seed: int = 0, aired: Sequence[QuarterBounds] = ()
) -> Uplink:
    """Pool runs into one uplink.

    Args:
        runs: at least one with a one-connection phase.

    Raises:
        FormatError: none of the runs has enough steady samples on one connection.
    """
    usable = [one for run in runs if (one := evidence_of(run)).windows_kbps.size]
    if not usable:
        raise FormatError(
            "no steady samples on one connection to plan from", "measure again for longer"
        )
    aired = [quarter for quarter in aired if quarter.rates_kbps.size]
    rates, weights = _pooled([run.windows_kbps for run in usable], aired)
    floor, typical, high = _weighted_percentiles(
        rates, weights, [throughput.FLOOR_PERCENTILE, 50, 100 - throughput.FLOOR_PERCENTILE]
    )
    if typical <= 0:
        raise FormatError("more than half of the windows delivered nothing", "measure again")
    interval = _floor_interval([run.steps_kbit * 125 for run in usable], seed)
    if interval and len(usable) == 1 and not aired:
        interval = (max(0.0, floor - SINGLE_RUN_WIDENING * (floor - interval[0])), interval[1])
    contradiction = _contradiction(usable, aired)
    return Uplink(
        runs_floor_kbps=contradiction and round(contradiction[0], 1),
        contradicted_kbps=contradiction and round(contradiction[1], 1),
        typical_kbps=round(typical, 1),
        floor_kbps=round(floor, 1),
        floor_low_kbps=None if interval is None else round(min(interval[0], floor), 1),
        floor_high_kbps=None if interval is None else round(max(interval[1], floor), 1),
        spread=round((high - floor) / typical, 4),
        stalled_share=round(
            float(np.average(rates < throughput.STALL_SHARE * typical, weights=weights)), 4
        ),
        basis="runs" if len(usable) > 1 else "one run",
        watched_seconds=round(max(run.watched_seconds for run in usable), 1),
        round_trip_ms=_round_trip_ms(usable),
        practice=all(run.kind == "practice" for run in usable),
        text=_said(usable),
        runs=tuple(run.id for run in usable),
        broadcasts=tuple(dict.fromkeys(quarter.broadcast for quarter in aired)),
    )


def _round_trip_ms(runs: Sequence[RunEvidence]) -> float | None:
    known = [run.round_trip_ms for run in runs if run.round_trip_ms is not None]
    return round(float(np.median(known)), 2) if known else None


def _contradiction(
    runs: Sequence[RunEvidence], aired: Sequence[QuarterBounds]
) -> tuple[float, float] | None:
    """The floor of the runs, and what broadcasts got at their limit, where that is much less.

    Frames were queued then, so the connection gave all it had.
    """
    limits = [quarter.rates_kbps[quarter.limited] for quarter in aired]
    full = np.concatenate(limits) if limits else np.empty(0)
    if full.size * WINDOW < LEAST_SECONDS:
        return None
    rates, weights = _pooled([run.windows_kbps for run in runs], [])
    floor = _weighted_percentiles(rates, weights, [throughput.FLOOR_PERCENTILE])[0]
    got = float(np.median(full))
    return (floor, got) if got < CONTRADICTS * floor else None


def _pooled(runs: Sequence[Floats], aired: Sequence[QuarterBounds]) -> tuple[Floats, Floats]:
    """Windows and their weights: each run, and each quarter of an hour aired, weighs the same."""
    parts = [*runs, *(quarter.rates_kbps for quarter in aired)]
    values = np.concatenate(parts)
    weights = np.concatenate([np.full(part.size, 1 / part.size) for part in parts])
    if not aired:
        return values, weights
    exact = np.concatenate(
        [
            *(np.ones(part.size, dtype=bool) for part in runs),
            *(quarter.limited for quarter in aired),
        ]
    )
    given = redistributed(values, weights, exact)
    return values[given > 0], given[given > 0]


def uplink_of_readings(readings: Sequence[RunEvidence]) -> Uplink:
    """The uplink behind rates read elsewhere: their median, with at least an assumed spread.

    Args:
        readings: at least one run with ``imported_kbps``.
    """
    rates = np.array([run.imported_kbps for run in readings], dtype=np.float64)
    typical, floor = (float(x) for x in np.percentile(rates, [50, throughput.FLOOR_PERCENTILE]))
    floor = min(floor, typical * (1 - ASSUMED_SPREAD / 2))
    return Uplink(
        typical_kbps=round(typical, 1),
        floor_kbps=round(floor, 1),
        spread=round(max(ASSUMED_SPREAD, 2 * (1 - floor / typical)), 4),
        basis="assumed",
        text=words.readings(len(readings), ASSUMED_SPREAD),
        runs=tuple(run.id for run in readings),
    )


def counted(
    runs: Sequence[Run | RunEvidence], endpoints: Collection[str] = ()
) -> list[RunEvidence]:
    """The measured runs that count together; see :func:`uplink_of_history`."""
    measured = [evidence_of(run) for run in runs if run.kind == "measured"]
    wanted = set(endpoints) or {run.endpoint_name for run in measured[-1:]}
    return [run for run in measured if run.endpoint_name in wanted]


def uplink_of_history(
    runs: Sequence[Run | RunEvidence],
    endpoints: Collection[str] = (),
    aired: Sequence[QuarterBounds] = (),
) -> Uplink:
    """The uplink of what is kept: real runs count first, then readings, then the last practice.

    A run towards one endpoint says little of another: they are never mixed unless asked for.

    Args:
        runs: of any kind, oldest first, at least one.
        endpoints: to take the runs towards; when none is named, that of the last run.
        aired: what broadcasts to the show's platforms say; they count beside measured runs.

    Raises:
        FormatError: nothing usable among them.
    """
    known = [evidence_of(run) for run in runs]
    of_kind = {kind: [run for run in known if run.kind == kind] for kind in KINDS}
    if measured := of_kind["measured"]:
        taken = counted(known, endpoints)
        wanted = {run.endpoint_name for run in taken}
        uplink = uplink_of(taken, aired=aired)
        said = words.towards(uplink.text, sorted(wanted), len(measured) - len(taken))
        return uplink.model_copy(update={"text": said})
    if of_kind["reading"]:
        return uplink_of_readings(of_kind["reading"])
    return uplink_of(of_kind["practice"][-1:])


def by_hour(runs: Sequence[Run | RunEvidence], endpoints: Collection[str] = ()) -> Hours:
    """Pool runs by the hour they began in; within an hour measured runs outweigh readings.

    Args:
        runs: of any kind, oldest first; practice runs count only when there is nothing else.
        endpoints: to take the runs towards; when none is named, that of the last run.
    """
    real = _real(runs, endpoints)
    return Hours(
        hours=tuple(
            found
            for hour in range(24)
            if (found := _hour(hour, [run for run in real if run.taken.hour == hour]))
        )
    )


def uplinks_by_hour(
    runs: Sequence[Run | RunEvidence], endpoints: Collection[str] = ()
) -> dict[int, Uplink]:
    """The uplink of each hour of the day that anything is known of, by the rules of ``by_hour``."""
    real = _real(runs, endpoints)
    found = {h: _uplink_here([run for run in real if run.taken.hour == h]) for h in range(24)}
    return {hour: uplink for hour, uplink in found.items() if uplink is not None}


def _real(runs: Sequence[Run | RunEvidence], endpoints: Collection[str]) -> list[RunEvidence]:
    """Return the runs that count: measured ones to the endpoints, and readings; else practice."""
    known = [evidence_of(run) for run in runs]
    measured = [run for run in known if run.kind == "measured"]
    wanted = set(endpoints) or {run.endpoint_name for run in measured[-1:]}
    real = [run for run in known if run.kind != "practice"] or known
    return [run for run in real if run.kind != "measured" or run.endpoint_name in wanted]


def _uplink_here(here: Sequence[RunEvidence]) -> Uplink | None:
    """Of the runs of one hour: measured runs outweigh readings; None when neither says anything."""
    try:
        return uplink_of([run for run in here if run.kind != "reading"])
    except FormatError:
        readings = [run for run in here if run.kind == "reading"]
        return uplink_of_readings(readings) if readings else None


def _hour(hour: int, here: Sequence[RunEvidence]) -> HourUplink | None:
    """Return the upload of one hour by its runs, or None if there are no runs."""
    readings = [run for run in here if run.kind == "reading"]
    failed = [run for run in here if run.failed]
    taken = [run for run in here if run.windows_kbps.size]
    uplink = _uplink_here(here)
    if uplink is None or uplink.basis == "assumed":
        taken = []
    if uplink is None and not failed:
        return None
    return HourUplink(
        hour=hour,
        runs=len(taken),
        readings=len(readings),
        failed=len(failed),
        typical_kbps=None if uplink is None else uplink.typical_kbps,
        floor_kbps=None if uplink is None else uplink.floor_kbps,
        floor_low_kbps=None if uplink is None else uplink.floor_low_kbps,
        measured=bool(taken),
    )


def _said(runs: Sequence[RunEvidence]) -> str:
    if len(runs) > 1:
        return words.several_runs(len(runs), runs[0].taken_at[:10], runs[-1].taken_at[:10])
    run = runs[0]
    moment = run.taken_at[:16].replace("T", " ")
    return words.one_run(moment, partial=run.partial, practice=run.kind == "practice")


def _weighted_percentiles(values: Floats, weights: Floats, wanted: list[float]) -> list[float]:
    """Percentiles of a weighted sample, interpolated between midpoints of the weights."""
    order = np.argsort(values, kind="stable")
    cumulative = np.cumsum(weights[order])
    middles = (cumulative - weights[order] / 2) / cumulative[-1]
    return [float(np.interp(p / 100, middles, values[order])) for p in wanted]


def _floor_interval(
    parts: list[Floats], seed: int, replicates: int = 400
) -> tuple[float, float] | None:
    """95 % interval of the pooled floor: runs are resampled, then blocks within each run."""
    parts = [
        part for part in parts if part.size * throughput.GRID_SECONDS >= throughput.WINDOW_SECONDS
    ]
    if not parts:
        return None
    rng = np.random.default_rng(seed)
    draws = min(part.size for part in parts)
    windows = np.stack(
        [
            throughput.grid_windows(
                part[throughput.block_indices(part.size, draws, DRAWS_PER_RUN, rng)]
            )
            for part in parts
        ]
    )
    picked = rng.integers(0, len(parts), (replicates, len(parts)))
    rows = rng.integers(0, DRAWS_PER_RUN, picked.shape)
    some = max(1, MOST_VALUES // (len(parts) * windows.shape[-1]))
    floors = [
        np.percentile(
            windows[picked[at : at + some], rows[at : at + some]].reshape(
                len(picked[at : at + some]), -1
            ),
            throughput.FLOOR_PERCENTILE,
            axis=1,
        )
        for at in range(0, replicates, some)
    ]
    low, high = np.percentile(np.concatenate(floors), [2.5, 97.5])
    return float(low), float(high)


QUARTER_MINUTES = 15


class QuarterOfRuns(Frozen):
    """What the runs begun in one quarter of an hour say together."""

    begins: str
    """``2026-11-26T20:15``, in the place where they were taken."""
    runs: int
    """That learned something."""
    failed: int
    typical_kbps: float | None
    """None where every run failed."""
    floor_kbps: float | None


def quarters_of_runs(runs: Sequence[Run]) -> tuple[QuarterOfRuns, ...]:
    """Runs by the quarter of an hour they began in, in order of time."""
    by_begin: dict[str, list[Run]] = {}
    for run in sorted(runs, key=lambda run: run.taken):
        minute = run.taken.minute // QUARTER_MINUTES * QUARTER_MINUTES
        begins = run.taken.replace(minute=minute, second=0).isoformat()[:16]
        by_begin.setdefault(begins, []).append(run)
    return tuple(_quarter(begins, here) for begins, here in by_begin.items())


def _quarter(begins: str, here: list[Run]) -> QuarterOfRuns:
    uplink: Uplink | None = None
    learned = [run for run in here if not run.failed]
    try:
        uplink = uplink_of(learned)
    except FormatError:
        learned = []
    return QuarterOfRuns(
        begins=begins,
        runs=len(learned),
        failed=len(here) - len(learned),
        typical_kbps=None if uplink is None else uplink.typical_kbps,
        floor_kbps=None if uplink is None else uplink.floor_kbps,
    )


class Schedule(Frozen):
    """The runs of a schedule, and what they lead to (``measure --repeat``)."""

    format: str = format_name("schedule")
    runs: tuple[RunDocument, ...]
    failed: tuple[str, ...]
    """Why runs failed, each in a line."""
    uplink: Uplink
    quarters: tuple[QuarterOfRuns, ...]
    safe_kbps: float
    """With the customary share, and nothing reserved."""
    limited_by: str
    leads_to: tuple[str, ...]
    """The settings of each destination of the plan these runs lead to, in a line."""
