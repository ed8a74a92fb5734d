"""Compute the figures and remarks of a run from its samples."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from eager_kestrel.core.connection.evidence import (
    lasting_samples,
    round_trip_summary,
    watched_seconds,
)
from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.core.connection.run import (
    BothEnds,
    Phase,
    PhaseSummary,
    RoundTripSummary,
    Run,
    RunDocument,
    RunSummary,
    Series,
)
from eager_kestrel.core.connection.throughput import burst_end, short_rates, throughput
from eager_kestrel.core.connection.uplink import BETWEEN_SAMPLES, Uplink, burst_excluded
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.units import DataSize
from eager_kestrel.core.words import runs as words

ENDS_AGREE = 0.01
"""Up to this share apart, both ends counted the same."""
LONG_WAIT_MS = 100.0
"""A full connection that adds more than this to a round trip is felt."""
MUCH_LESS = 0.75
"""Even the best of one connection below this share of several is worth a word."""
UNEVEN = 0.5
"""A spread above this deserves a word."""
BUSY_SHARE = 0.02
BUSY_KBPS = 100.0
"""Background upload above both of these spoils a measurement."""
LONGER_SECONDS = 35.0, 75.0
"""In which bursts of up to half a minute, and of up to a minute, are seen to end."""
BUSY_TURNS = 0.05
"""Of its time, beyond which a measurement that was held up may be too low."""
LEAST_LEFT = 0.05
"""Of the time of a measurement that was held up nearly throughout."""
PHASES = ("idle", "one_connection", "sustained", "several_connections")


def too_busy(phase: Phase | None) -> bool:
    """Whether this machine held a phase up for so long that the connection may carry more."""
    return phase is not None and phase.late_share > BUSY_TURNS


def phase_summary(phase: Phase | None) -> PhaseSummary | None:
    """Figures of a load phase; None when it is too short to say anything."""
    return None if phase is None else _figures(phase.samples)


def _figures(series: Series) -> PhaseSummary | None:
    found = throughput(series)
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
    lasting, several = lasting_samples(run), phase_summary(run.several_connections)
    one = None if lasting is None else _figures(lasting)
    swings = None if run.one_connection is None else short_rates(run.one_connection.samples)
    most = run.one_connection.max_kbps if run.one_connection is not None else None
    remarks: tuple[str, ...] = ()
    if most is not None and one is not None:
        remarks = (words.held_most(one.typical_kbps, most),)
    wrong: tuple[str, ...] = ()
    if (ends := run.both_ends) is not None:
        difference = abs(ends.endpoint_kbps / ends.here_kbps - 1)
        if difference > ENDS_AGREE:
            wrong = (words.ends_disagree(ends.here_kbps, ends.endpoint_kbps),)
        else:
            remarks += (words.ends_agree(max(difference, 0.001), ends.endpoint_kbps),)
        if ends.strangers_a_second > MOST_STRANGERS:
            wrong += (words.strangers_came(ends.strangers_a_second),)
    alone = run.one_connection.samples if run.one_connection is not None else None
    briefly = watched_seconds(run) < LONGER_SECONDS[1] - BETWEEN_SAMPLES
    if run.sustained is not None and briefly and one is not None and lasting is alone:
        remarks += (_longer_bursts(run, one.typical_kbps, LONGER_SECONDS[1]),)
    return RunSummary(
        idle=idle,
        loaded=loaded,
        one_connection=one,
        several_connections=several,
        uplink=run_uplink(run),
        verdicts=(
            *_of_bursts(run),
            *_of_this_machine(run, one),
            *wrong,
            *_of_connections(run, one, several),
            *_of_waits(idle, loaded),
            *_of_evenness(one, swings),
        ),
        remarks=remarks,
    )


def _of_bursts(run: Run) -> Iterator[str]:
    """What lasted only for a while, or was not watched long enough to tell."""
    one, lasting = run.one_connection, lasting_samples(run)
    found = None if lasting is None else throughput(lasting)
    if one is None or found is None:
        return
    ended = burst_end(one.samples)
    if ended is not None:
        first = throughput(_until(one.samples, ended))
        if first is not None:
            yield words.burst(ended, first.typical_kbps, found.typical_kbps)
    elif lasting is not one.samples:
        first = throughput(one.samples)
        assert first is not None
        lasted = one.samples.seconds[-1]
        if run.sustained is not None and lasting is run.sustained.samples:
            lasted = burst_end(_joined(one.samples, lasting)) or lasted + (burst_end(lasting) or 0)
        yield words.burst(lasted, first.typical_kbps, found.typical_kbps)
    elif run.kind == "measured" and not burst_excluded(watched_seconds(run)):
        yield _longer_bursts(run, found.typical_kbps, LONGER_SECONDS[0])


def _longer_bursts(run: Run, kbps: float, seconds: float) -> str:
    """What was not watched for, and what it costs to know."""
    if not run.endpoint.url.startswith("http"):  # a climb to an ingest ends when it knows the rate
        return words.no_burst_excluded_to_ingest(watched_seconds(run))
    size = DataSize(int(kbps * 125 * seconds))
    return words.no_burst_excluded(watched_seconds(run), seconds, size)


def _joined(first: Series, then: Series) -> Series:
    """One after the other."""
    at, delivered = first.seconds[-1], first.delivered_bytes[-1]
    return Series(
        seconds=(*first.seconds, *(at + seconds for seconds in then.seconds[1:])),
        delivered_bytes=(
            *first.delivered_bytes,
            *(delivered + count - then.delivered_bytes[0] for count in then.delivered_bytes[1:]),
        ),
    )


def _until(series: Series, end: float) -> Series:
    """The samples up to a moment."""
    count = sum(at <= end for at in series.seconds)
    return Series(seconds=series.seconds[:count], delivered_bytes=series.delivered_bytes[:count])


def _of_this_machine(run: Run, one: PhaseSummary | None) -> Iterator[str]:
    """Whether other programs had the processor; then the time they took may have carried more."""
    late = [p.late_share for p in (run.one_connection, run.sustained) if p and too_busy(p)]
    if late and one is not None:
        share = max(late)
        most = one.typical_kbps / max(1 - share, LEAST_LEFT)
        yield words.busy(share, one.typical_kbps, most)


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
    """What a full connection does to everything else."""
    if idle and loaded and loaded.median_ms > idle.median_ms + LONG_WAIT_MS:
        yield words.full_queue_waits(loaded.median_ms - idle.median_ms)


def _of_evenness(one: PhaseSummary | None, swings: tuple[float, float] | None) -> Iterator[str]:
    """How much two-second windows differ, and what they hide."""
    if one and one.spread > UNEVEN:
        yield words.uneven(one.floor_kbps, one.high_kbps)
    elif one and swings and swings[1] - swings[0] > UNEVEN * one.typical_kbps:
        yield words.swings(*swings)
    if one and one.stalled_share > 0:
        yield words.stalled(one.stalled_share)


def run_document(run: Run, *, samples: bool) -> RunDocument:
    """A run with its figures; with or without the samples they rest on."""
    kept = run
    if not samples:
        bare = {"samples": Series(seconds=(), delivered_bytes=()), "round_trips": ()}
        phases = {name: getattr(run, name) for name in PHASES}
        slim = {name: p and p.model_copy(update=bare) for name, p in phases.items()}
        kept = run.model_copy(update=slim)
    fields = {name: getattr(kept, name) for name in Run.model_fields}
    return RunDocument(**fields, summary=summary_of(run))


MOST_STRANGERS = 10.0
"""A second, before they may have cost the endpoint so much that a run says so."""
TAIL_SECONDS = 0.5
"""Of what was read last is left out: behind a hole that is not mended yet, nothing is read."""


class EndpointCount(Frozen):
    """What an endpoint read of one run's uploads."""

    format: str = format_name("counted")
    run: str
    """By which the run's uploads called themselves."""
    uploads: int
    """Requests that were read, to their end or not."""
    bytes: int
    """Of their bodies."""
    strangers: int
    """That came meanwhile without the token."""
    samples: Series
    """Bytes read since the first arrived, on the endpoint's clock."""


def both_ends(near: Series, far: EndpointCount) -> BothEnds | None:
    """The rate each end saw; None where one of them has too few samples."""
    rates = _in_stretches(near, far.samples) if near.stretches else _throughout(near, far.samples)
    if rates is None:
        return None
    return BothEnds(
        here_kbps=round(rates[0], 1),
        endpoint_kbps=round(rates[1], 1),
        endpoint_bytes=far.bytes,
        strangers_a_second=round(far.strangers / max(far.samples.seconds[-1], 1.0), 1),
    )


def _throughout(near: Series, far: Series) -> tuple[float, float] | None:
    """Each end's typical rate, by the same rule."""
    here, there = throughput(near), throughput(far)
    return None if here is None or there is None else (here.typical_kbps, there.typical_kbps)


def _in_stretches(near: Series, far: Series) -> tuple[float, float] | None:
    """The rate over the same bytes.

    The clocks of two machines tell different times, but a byte is a byte: a stretch is looked up at
    the endpoint by the bytes it lies between.
    """
    at, count = np.asarray(near.seconds), np.asarray(near.delivered_bytes, dtype=np.float64)
    there, read = np.asarray(far.seconds), np.asarray(far.delivered_bytes, dtype=np.float64)
    if len(there) < 3:
        return None
    whole = float(np.interp(there[-1] - TAIL_SECONDS, there, read))
    near_seconds = far_seconds = carried = 0.0
    for begin, end in near.stretches:
        low, high = (float(bytes_) for bytes_ in np.interp([begin, end], at, count))
        if min(high, whole) <= low:
            continue
        edges = [low, min(high, whole)]
        near_seconds += float(np.diff(np.interp(edges, count, at))[0])
        far_seconds += float(np.diff(np.interp(edges, read, there))[0])
        carried += edges[1] - edges[0]
    if near_seconds <= 0 or far_seconds <= 0:
        return None
    return carried * 8e-3 / near_seconds, carried * 8e-3 / far_seconds
