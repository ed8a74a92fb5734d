"""A run in figures: what a person reads first, computed from the samples every time."""

from __future__ import annotations

from typing import Any

import numpy as np

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.line.pooling import uplink_of
from eager_kestrel.core.line.run import Phase, Run
from eager_kestrel.core.line.throughput import throughput
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.units import Bitrate

MUCH_LESS = 0.75
"""Even the best of one connection below this share of several is worth a word."""
UNEVEN = 0.5
"""A spread above this deserves a word."""
BUSY_SHARE = 0.02
BUSY_KBPS = 100.0
"""Background upload above both of these spoils a measurement."""


class RoundTripSummary(Frozen):
    """Round trips of one phase in ms."""

    median_ms: float
    p95_ms: float
    jitter_ms: float
    """Mean absolute difference of successive ones (as RFC 3550 section 6.4.1)."""
    count: int
    lost: int


class PhaseSummary(Frozen):
    """A load phase in figures; kbit/s of delivered payload."""

    typical_kbps: float
    floor_kbps: float
    high_kbps: float
    spread: float
    stalled_share: float
    ramp_seconds: float
    steady_seconds: float
    windows: int


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


def verdicts(run: Run) -> tuple[str, ...]:
    """What a careful person would remark on, most important first."""
    found: list[str] = []
    one, several = phase_summary(run.one_connection), phase_summary(run.several_connections)
    if one and several and one.high_kbps < MUCH_LESS * several.typical_kbps:  # not just a dip
        share = one.typical_kbps / several.typical_kbps
        found.append(
            f"one connection carries {share:.0%} of what several do; a live stream rides on one, "
            "so plan with that, and mistrust tests that use many"
        )
    busy = run.background
    if busy and one and busy.upload_kbps > max(BUSY_KBPS, BUSY_SHARE * one.typical_kbps):
        found.append(
            f"something on this machine was already sending {busy.upload_kbps:,.0f} kbit/s "
            "before the test; stop it and measure again, or reserve it"
        )
    idle, loaded = round_trip_summary(run.idle), round_trip_summary(run.one_connection)
    if idle and loaded and loaded.median_ms > idle.median_ms + 100:
        found.append(
            f"a full line adds {loaded.median_ms - idle.median_ms:.0f} ms to every answer: "
            "calls and games will feel it"
        )
    if one and one.spread > UNEVEN:
        found.append(
            f"the line is uneven: two seconds carried {Bitrate.from_kbps(one.floor_kbps)} at one "
            f"time and {Bitrate.from_kbps(one.high_kbps)} at another"
        )
    if one and one.stalled_share > 0:
        found.append(
            f"{one.stalled_share:.0%} of two-second windows fell under a quarter of typical"
        )
    return tuple(found)


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
    uplink = run_uplink(run)
    document["uplink"] = uplink.model_dump(mode="json") if uplink else None
    document["verdicts"] = list(verdicts(run))
    return document


def run_of_document(document: dict[str, Any]) -> Run:
    """The run in a document written with samples; figures in it are dropped and computed anew.

    Raises:
        pydantic.ValidationError: it is not a run.
    """
    kept = {key: value for key, value in document.items() if key in Run.model_fields}
    for name in ("idle", "one_connection", "several_connections"):
        if isinstance(part := kept.get(name), dict):
            kept[name] = {k: v for k, v in part.items() if k in Phase.model_fields}
    return Run.model_validate(kept)


def _phases(run: Run) -> list[tuple[str, Phase]]:
    named = [
        ("idle", run.idle),
        ("one_connection", run.one_connection),
        ("several_connections", run.several_connections),
    ]
    return [(name, phase) for name, phase in named if phase is not None]
