"""From a run's samples to its figures and remarks, computed every time."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np

from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.line.pooling import uplink_of
from eager_kestrel.core.line.summary import PhaseSummary, RoundTripSummary, RunSummary
from eager_kestrel.core.line.throughput import short_rates, throughput
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from eager_kestrel.core.line.run import Phase, Run
    from eager_kestrel.core.line.uplink import Uplink

LONG_WAIT_MS = 100.0
"""A full line that adds more than this to a round trip is felt."""
MUCH_LESS = 0.75
"""Even the best of one connection below this share of several is worth a word."""
UNEVEN = 0.5
"""A spread above this deserves a word."""
BUSY_SHARE = 0.02
BUSY_KBPS = 100.0
RUN_FIGURES = frozenset({"uplink", "verdicts"})
PHASE_FIGURES = frozenset({"latency", *PhaseSummary.model_fields})
"""Background upload above both of these spoils a measurement."""


def round_trip_summary(phase: Phase | None) -> RoundTripSummary | None:
    """Median, 95th percentile and jitter; None when nothing was answered."""
    if phase is None:
        return None
    answered = [t.round_trip_ms for t in phase.round_trips if t.round_trip_ms is not None]
    if not answered:
        return None
    values = np.asarray(answered)
    jitter = float(np.mean(np.abs(np.diff(values)))) if values.size > 1 else 0.0
    return RoundTripSummary(
        median_ms=round(float(np.median(values)), 2),
        p95_ms=round(float(np.percentile(values, 95)), 2),
        jitter_ms=round(jitter, 2),
        count=len(answered),
        lost=len(phase.round_trips) - len(answered),
    )


def phase_summary(phase: Phase | None) -> PhaseSummary | None:
    """Figures of a load phase; None when it is too short to say anything."""
    found = None if phase is None else throughput(phase.samples)
    if found is None:
        return None
    return PhaseSummary(
        typical_kbps=round(found.typical_kbps, 1),
        floor_kbps=round(found.floor_kbps, 1),
        high_kbps=round(found.high_kbps, 1),
        spread=round(found.spread, 4),
        stalled_share=round(found.stalled_share, 4),
        ramp_seconds=round(found.ramp_seconds, 3),
        steady_seconds=round(found.steady_seconds, 3),
        windows=found.windows,
    )


def run_uplink(run: Run) -> Uplink | None:
    """The uplink this run alone speaks for; None when it learned too little."""
    try:
        return uplink_of([run])
    except FormatError:
        return None


def summary_of(run: Run) -> RunSummary:
    """Everything a run says."""
    idle, loaded = round_trip_summary(run.idle), round_trip_summary(run.one_connection)
    one, several = phase_summary(run.one_connection), phase_summary(run.several_connections)
    swings = None if run.one_connection is None else short_rates(run.one_connection.samples)
    most = run.one_connection.most_kbps if run.one_connection is not None else None
    held = () if most is None or one is None else (words.held_most(one.typical_kbps, most),)
    ends = () if run.both_ends is None else (
        words.both_ends(run.both_ends.near_kbps, run.both_ends.far_kbps),
    )  # fmt: skip
    said = (*ends, *held, *_of_connections(run, one, several), *_of_waits(idle, loaded),
            *_of_evenness(one, swings))  # fmt: skip
    return RunSummary(
        idle=idle, loaded=loaded, one=one, several=several, uplink=run_uplink(run), verdicts=said
    )


def _of_connections(
    run: Run, one: PhaseSummary | None, several: PhaseSummary | None
) -> Iterator[str]:
    """One connection against several, and against what this machine sends anyway."""
    if one and several and one.high_kbps < MUCH_LESS * several.typical_kbps:  # not just a dip
        count = run.several_connections.connections if run.several_connections else 0
        yield words.one_carries_less(one.typical_kbps, several.typical_kbps, count)
    busy = run.background
    if busy and one and busy.upload_kbps > max(BUSY_KBPS, BUSY_SHARE * one.typical_kbps):
        yield words.already_sending(busy.upload_kbps)


def _of_waits(idle: RoundTripSummary | None, loaded: RoundTripSummary | None) -> Iterator[str]:
    """What a full line does to everything else."""
    if idle and loaded and loaded.median_ms > idle.median_ms + LONG_WAIT_MS:
        yield words.full_line_waits(loaded.median_ms - idle.median_ms)


def _of_evenness(one: PhaseSummary | None, swings: tuple[float, float] | None) -> Iterator[str]:
    """How much two-second windows differ, and what they hide."""
    if one and one.spread > UNEVEN:
        yield words.uneven(one.floor_kbps, one.high_kbps)
    elif one and swings and swings[1] - swings[0] > UNEVEN * one.typical_kbps:
        yield words.swings(*swings)
    if one and one.stalled_share > 0:
        yield words.stalled(one.stalled_share)


def run_document(run: Run, *, samples: bool) -> dict[str, Any]:
    """The run as JSON with its figures; with or without the samples they rest on."""
    document = run.model_dump(mode="json")
    for name, phase in _phases(run):
        part = document[name]
        if not samples:
            del part["samples"], part["round_trips"]
        trips, figures = round_trip_summary(phase), phase_summary(phase)
        part["latency"] = trips.model_dump() if trips else None
        part |= figures.model_dump() if figures else {}
    found = summary_of(run)
    document["uplink"] = found.uplink.model_dump(mode="json") if found.uplink else None
    document["verdicts"] = list(found.verdicts)
    return document


def without_figures(document: dict[str, Any]) -> dict[str, Any]:
    """A run's document without the figures that are computed anew every time."""
    kept = {key: value for key, value in document.items() if key not in RUN_FIGURES}
    for name in ("idle", "one_connection", "several_connections"):
        if isinstance(part := kept.get(name), dict):
            kept[name] = {key: part[key] for key in part if key not in PHASE_FIGURES}
    return kept


def _phases(run: Run) -> list[tuple[str, Phase]]:
    named = [
        ("idle", run.idle),
        ("one_connection", run.one_connection),
        ("several_connections", run.several_connections),
    ]
    return [(name, phase) for name, phase in named if phase is not None]
