"""Evidence: what runs and broadcasts say about a connection, without everything else they keep.

A run has hundreds of samples and a broadcast thousands of seconds; planning needs a few arrays of
each. They are derived once and kept beside the document (``files/history.py``), so that a plan
reads kilobytes where it would parse megabytes.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.broadcast import Broadcast
from eager_kestrel.core.connection.run import Kind, Phase, RoundTripSummary, Run, Series
from eager_kestrel.core.connection.throughput import fell_by, steady_parts

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats


RULES = 3
"""Of how evidence is derived; whatever was derived by others is derived anew."""
NOT_THE_CONNECTION = ("ingest", "connection")
"""Causes of a trouble that say nothing of what the connection carries."""
SETTLING_SECONDS = 2
"""After such a trouble, until its queue is gone."""


@dataclass(frozen=True)
class RunEvidence:
    """What one run says of the connection."""

    id: str
    taken_at: str
    endpoint: str
    """Its address."""
    endpoint_name: str
    kind: Kind
    partial: bool
    failed: bool
    imported_kbps: float | None
    """For a reading from elsewhere: the rate; then the arrays are empty."""
    max_kbps: float | None
    """The most that was sent, by somebody's rule: of more it says nothing."""
    windows_kbps: Floats
    """Shape (windows,): mean rates over two seconds of the steady part; empty where it is too
    short."""
    steps_kbit: Floats
    """Shape (steps,): delivered in each 50 ms of the steady part."""
    watched_seconds: float = 0.0
    """How long one connection was loaded without a pause."""
    round_trip_ms: float | None = None
    """The median of round trips without load."""

    @cached_property
    def taken(self) -> datetime:
        """When it was taken, with the offset of the place."""
        return datetime.fromisoformat(self.taken_at)

    @property
    def usable(self) -> bool:
        """Whether it gives any rate."""
        return self.imported_kbps is not None or bool(self.windows_kbps.size)


@dataclass(frozen=True)
class BroadcastEvidence:
    """What one broadcast says of the connection, second by second."""

    id: str
    taken_at: str
    platform: str
    kind: Kind
    sent_kbps: Floats
    """Shape (seconds,): handed over by the program."""
    carried_kbps: Floats
    """Shape (seconds,): taken by the other end."""
    queued_seconds: Floats
    """Shape (seconds,): the most that was queued."""
    counts: Flags
    """Shape (seconds,): whether the second says anything of the connection; it does not where the
    ingest server or a broken connection was at fault."""
    stutters: int
    """Times at which frames were late because of the connection."""

    @cached_property
    def taken(self) -> datetime:
        """When it began, with the offset of the place."""
        return datetime.fromisoformat(self.taken_at)

    @property
    def typical_kbps(self) -> float:
        """The median second of what was carried, as of :class:`Broadcast`."""
        rates = np.sort(self.carried_kbps)
        return float(rates[rates.size // 2]) if rates.size else 0.0


def single(values: Floats) -> Floats:
    """Round to single precision, as evidence is kept."""
    return np.asarray(values, dtype="<f4").astype(np.float64)


def evidence_of(run: Run | RunEvidence) -> RunEvidence:
    """Derive what a run says; evidence is returned as it is."""
    if isinstance(run, RunEvidence):
        return run
    phase = run.one_connection
    samples = lasting_samples(run)
    windows, steps = (np.empty(0), np.empty(0)) if samples is None else steady_parts(samples)
    trips = round_trip_summary(run.idle)
    return RunEvidence(
        id=run.id,
        taken_at=run.taken_at,
        endpoint=run.endpoint.url,
        endpoint_name=run.endpoint_name,
        kind=run.kind,
        partial=run.partial,
        failed=bool(run.failed),
        imported_kbps=run.imported_kbps,
        max_kbps=None if phase is None else phase.max_kbps,
        windows_kbps=single(windows),
        steps_kbit=single(steps * 8e-3),
        watched_seconds=watched_seconds(run),
        round_trip_ms=None if trips is None else trips.median_ms,
    )


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


def lasting_samples(run: Run) -> Series | None:
    """What speaks for the connection: one connection alone, or what came after its burst."""
    one, on, several = run.one_connection, run.sustained, run.several_connections
    if one is None:
        return None
    if on is not None and fell_by(one.samples, on.samples, on.max_kbps):
        return on.samples
    if several is not None and one.method == "flooding" and fell_by(one.samples, several.samples):
        return several.samples
    return one.samples


def watched_seconds(run: Run) -> float:
    """How long one connection was loaded without a pause of note."""
    loaded = (run.one_connection, run.sustained)
    return sum(p.samples.seconds[-1] for p in loaded if p is not None and p.samples.seconds)


def broadcast_evidence(broadcast: Broadcast | BroadcastEvidence) -> BroadcastEvidence:
    """Derive what a broadcast says; evidence is returned as it is."""
    if isinstance(broadcast, BroadcastEvidence):
        return broadcast
    seconds = broadcast.seconds
    counts = np.ones(len(seconds.sent_kbps), dtype=bool)
    for trouble in broadcast.troubles:
        if trouble.cause in NOT_THE_CONNECTION:
            ends = int(trouble.at_seconds + trouble.lasted_seconds) + SETTLING_SECONDS
            counts[int(trouble.at_seconds) : ends] = False
    return BroadcastEvidence(
        id=broadcast.id,
        taken_at=broadcast.taken_at,
        platform=broadcast.platform,
        kind=broadcast.kind,
        sent_kbps=np.array(seconds.sent_kbps, dtype=np.float64),
        carried_kbps=np.array(seconds.carried_kbps, dtype=np.float64),
        queued_seconds=np.array(seconds.queued_ms, dtype=np.float64) / 1000,
        counts=counts,
        stutters=broadcast.stalls,
    )
