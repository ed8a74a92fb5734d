"""Measuring: idle round trips, then load on one connection and on several, sampled throughout.

What was learned survives whatever ends it: a broken connection, a limit, Ctrl-C. The clock is
monotonic, so a jump of the wall clock changes nothing.
"""

from __future__ import annotations

import contextlib
import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime
from urllib.parse import urlsplit

from eager_kestrel.actions.climbing import MOST_CLIMB_SECONDS, MOST_CLIMB_TRIPS, climb_by_http
from eager_kestrel.actions.samples import (
    QUIET_SECONDS,
    SAMPLE_SECONDS,
    Arrivals,
    Notebook,
    Samples,
    tell_learned,
    too_little,
)
from eager_kestrel.core import errors
from eager_kestrel.core.connection import progress
from eager_kestrel.core.connection.evidence import RunEvidence, round_trip_summary
from eager_kestrel.core.connection.run import Ending, Endpoint, Phase, PhaseName, Run, is_loopback
from eager_kestrel.core.connection.summarising import both_ends, too_busy
from eager_kestrel.core.connection.throughput import (
    Limits,
    burst_end,
    known_well_enough,
    limit_reached,
    throughput,
)
from eager_kestrel.core.connection.uplink import BURST_SECONDS, burst_excluded
from eager_kestrel.core.units import DataSize, parse_seconds
from eager_kestrel.core.words import runs as words
from eager_kestrel.files.history import History, HistoryFilter
from eager_kestrel.files.keys import needed_token
from eager_kestrel.net.addresses import shown_url
from eager_kestrel.net.connections import BackgroundWatch
from eager_kestrel.net.pacing import Pacer
from eager_kestrel.net.roundtrips import RoundTrips
from eager_kestrel.net.target import UploadTarget, counted_there, find_target
from eager_kestrel.net.upload import Upload

CUT_SHORT = ("failed", "stopped")
"""How a phase ends after which nothing else is measured."""
LOOK_EVERY_SAMPLES = 5
"""How often, in samples, to ask whether enough is known."""
IDLE_SECONDS = 1.2
IDLE_EVERY_SECONDS = 0.1
LOADED_EVERY_SECONDS = 0.4
SETTLE_SECONDS = 3.0
SETTLED_RISE_MS = 10.0
SETTLED_FACTOR = 1.5
LEAST_SECONDS, MOST_SECONDS = 2.0, 600.0
MOST_LOADED_SECONDS = 10.0
WATCH_SHARE = 0.9
CATCH_UP_SECONDS = 1.0
"""What is late by so much is made up for: a busy machine must not look like a connection."""
PLAN_SIZED_KBPS = 15_000.0
"""Few plans send more; so much is enough to see whether it lasts."""


@dataclass(frozen=True, slots=True)
class MeasureOptions:
    """How to measure."""

    url: str
    connections: int = 4
    limits: Limits = field(default_factory=Limits)
    bind: str | None = None
    estimate: bool = False
    """Count by the portable estimate even where the kernel counts."""
    direct: bool = False
    """Bypass the proxy that the environment names."""
    practice: bool = False
    """The endpoint is a stand-in on loopback: other traffic of this machine does not matter."""
    endpoint_name: str = ""
    """The name of the endpoint, kept with the run."""
    token: str | None = field(default=None, repr=False)
    """Of an endpoint that asks for one."""
    watch_seconds: float | None = None
    """How long one connection is loaded in all, to tell a burst from what lasts; None for long
    enough the first time."""
    gently: bool = False
    """Climb to what one connection carries, and leave the connection all but free meanwhile."""


def token_for(url: str, ask: Callable[[str], str] | None) -> str:
    """The token of the endpoint at an address: kept, or asked for.

    Raises:
        InputError: there is none, or the address is none.
    """
    host = urlsplit(url).hostname
    if not host:
        raise errors.InputError("a token goes with an address", "write https://HOST/PATH")
    return needed_token(host, ask)


def limits_of(seconds: str | None, data_limit: str | None, *, climbing: bool = False) -> Limits:
    """The most a load phase may take, as written: ``"10 s"``, and perhaps ``"50 MB"`` in all.

    Left out, ten seconds of a full connection, thirteen of a climb and more on a long way.

    Raises:
        UnitError: one of them cannot be read, or the time is no time to measure for.
    """
    data_bytes = DataSize.parse(data_limit).bytes if data_limit else None
    if seconds is None:
        if climbing:
            return Limits(MOST_CLIMB_SECONDS, MOST_CLIMB_TRIPS, data_bytes)
        return Limits(MOST_LOADED_SECONDS, data_bytes=data_bytes)
    at_most = parse_seconds(seconds, bare=True)
    if not LEAST_SECONDS <= at_most <= MOST_SECONDS:
        raise errors.UnitError(f"{at_most:g} s is not a valid measuring time", "write 2 s to 600 s")
    return Limits(at_most, data_bytes=data_bytes)


@dataclass
class _MeasureNotes(Notebook):
    """Of a measurement by HTTP."""

    target: UploadTarget = field(kw_only=True)
    practice: bool = field(kw_only=True)


def _endpoint(target: UploadTarget, wish: MeasureOptions) -> Endpoint:
    return Endpoint(
        url=target.shown,
        name=wish.endpoint_name,
        bound_to=target.bind or "",
        proxy=shown_url(target.proxy) if target.proxy else "",
        found_by="practice" if wish.practice else target.found_by,
    )


def measure(wish: MeasureOptions, tell: progress.Tell = progress.tell_nobody) -> Run:
    """Measure the upload to an endpoint once.

    Returns:
        The run; ``partial`` when Ctrl-C or a failure cut it short after something was learned.

    Raises:
        InputError: the address is none.
        NetworkError: the endpoint failed before anything was learned.
        StoppedError: Ctrl-C before anything was learned.
    """
    taken_at = datetime.now().astimezone()
    notebook: _MeasureNotes | None = None
    try:
        target = find_target(
            wish.url, wish.bind, estimate=wish.estimate, direct=wish.direct, token=wish.token
        )
        notebook = _MeasureNotes(
            _endpoint(target, wish), taken_at, target=target, practice=wish.practice
        )
        _tell_the_way(notebook, tell)
        _idle(notebook, tell)
        named = replace(target, run=secrets.token_hex(8)) if wish.token else target
        if wish.gently:
            notebook.one = climb_by_http(notebook, named, wish.limits, tell)
            named = _again_if_busy(notebook, wish, named, tell)
            _compare(notebook, named)
            return notebook.run(partial=notebook.one.ended in CUT_SHORT)
        notebook.one = _load(notebook, "one connection", 1, wish.limits, tell, named)
        named = _again_if_busy(notebook, wish, named, tell)
        _compare(notebook, named)
        if notebook.one.ended not in CUT_SHORT:
            _watch_on(notebook, wish, tell)
        ended = notebook.sustained or notebook.one
        if ended.ended not in CUT_SHORT and wish.connections > 1:
            _several(notebook, wish, tell)
    except KeyboardInterrupt:
        if notebook is None or notebook.one is None:
            raise errors.StoppedError(
                "stopped before anything was measured", "nothing was kept"
            ) from None
        return notebook.run(partial=True)
    return notebook.run(partial=any(p.ended in CUT_SHORT for p in notebook.loads))


def _again_if_busy(
    notebook: _MeasureNotes, wish: MeasureOptions, used: UploadTarget, tell: progress.Tell
) -> UploadTarget:
    """Load one connection once more if this machine held it up; the target of what counts."""
    first = notebook.one
    if first is None or first.ended in CUT_SHORT or not too_busy(first):
        return used
    if wish.limits.data_bytes is not None:
        return used
    tell(progress.Remark(words.measured_again(first.late_share)))
    target = notebook.target
    named = replace(target, run=secrets.token_hex(8)) if wish.token else target
    try:
        if wish.gently:
            again = climb_by_http(notebook, named, wish.limits, tell)
        else:
            again = _load(notebook, "one connection", 1, wish.limits, tell, named)
    except (errors.InputError, errors.NetworkError) as error:
        notebook.notes.append(f"not measured again: {error.what}")
        return used
    notebook.repeated, notebook.one = first, again
    return named


def _compare(notebook: _MeasureNotes, target: UploadTarget) -> None:
    """Ask an endpoint that counts what it has read of the run."""
    if not target.run or notebook.one is None:
        return
    destination = counted_there(target)
    if destination is not None:
        notebook.both_ends = both_ends(notebook.one.samples, destination)


def keep_run(run: Run) -> None:
    """Keep a run in the history.

    Raises:
        StorageError: the disk would not take it.
    """
    with History() as history:
        history.add([run])


def _tell_the_way(notebook: _MeasureNotes, tell: progress.Tell) -> None:
    target = notebook.target
    if target.found_by != "given":
        notebook.notes.append(f"uploads to {target.shown}, found by {target.found_by}")
    if target.token and target.url.startswith("http:") and not is_loopback(target.url):
        notebook.notes.append(
            "the token went unprotected; serve the endpoint with a certificate and measure by https"
        )
    if target.proxy:
        notebook.notes.append(
            f"through the proxy {shown_url(target.proxy)} that the environment names: this is the "
            "rate of the path to the proxy; --direct bypasses it"
        )
    for note in notebook.notes:
        tell(progress.Remark(note))


def _idle(notebook: _MeasureNotes, tell: progress.Tell) -> None:
    """Round trips without load, while watching what this machine sends anyway."""
    tell(progress.PhaseBegun("idle", IDLE_SECONDS))
    watch = None if notebook.practice else BackgroundWatch()
    began = time.perf_counter()
    with RoundTrips(notebook.target, began, IDLE_EVERY_SECONDS) as trips:
        time.sleep(IDLE_SECONDS)
        if watch is not None:
            notebook.background = watch.so_far()
        taken = trips.taken
    notebook.idle = Phase(name="idle", ended="complete", round_trips=taken)
    summary = round_trip_summary(notebook.idle)
    tell(
        progress.PartialResult(
            "idle", IDLE_SECONDS, 0.0, round_trip_ms=summary.median_ms if summary else None
        )
    )


def _watch_on(notebook: _MeasureNotes, wish: MeasureOptions, tell: progress.Tell) -> None:
    """Load one connection for longer, at no more than a plan would send."""
    assert notebook.one is not None
    found = throughput(notebook.one.samples)
    watch = _first_watch(notebook, wish) if wish.watch_seconds is None else wish.watch_seconds
    left = watch - notebook.one.samples.seconds[-1]
    if left < LEAST_SECONDS or found is None or burst_end(notebook.one.samples) is not None:
        return
    kbps = min(WATCH_SHARE * found.typical_kbps, PLAN_SIZED_KBPS)
    size = DataSize(int(kbps * 125 * left))
    tell(progress.Remark(words.watching_on(left, kbps, size)))
    limits = replace(wish.limits, seconds=left)
    try:
        notebook.sustained = _load(
            notebook, "sustained", 1, limits, tell, pace=Pacer(kbps, CATCH_UP_SECONDS)
        )
    except (errors.InputError, errors.NetworkError) as error:
        notebook.notes.append(f"not watched for longer: {error.what}")


def _first_watch(notebook: _MeasureNotes, wish: MeasureOptions) -> float:
    """How long a first run towards a place watches; 0 if one has, or data are limited."""
    endpoint = notebook.endpoint
    host = endpoint.name or urlsplit(endpoint.url).hostname
    if wish.practice or wish.limits.data_bytes is not None or is_loopback(endpoint.url):
        return 0.0
    known: list[RunEvidence] = []
    with (
        contextlib.suppress(errors.StorageError),
        History() as history,
    ):  # what is measured matters more
        known = history.evidence(HistoryFilter(endpoint=host))
    return 0.0 if any(burst_excluded(run.watched_seconds) for run in known) else BURST_SECONDS


def _several(notebook: _MeasureNotes, wish: MeasureOptions, tell: progress.Tell) -> None:
    limits = wish.limits
    if limits.data_bytes is not None and notebook.used_bytes() >= limits.data_bytes:
        notebook.notes.append("the data limit was reached before several connections were tried")
        return
    _settle(notebook)
    try:
        notebook.several = _load(notebook, "several connections", wish.connections, limits, tell)
    except errors.InputError:
        notebook.notes.append("the data limit left too little for several connections")
    except errors.NetworkError as error:  # one connection is known, and that is what counts
        notebook.notes.append(f"several connections failed: {error.what}")


def _settle(notebook: _MeasureNotes) -> None:
    """Wait until round trips are as short as before the load, three seconds at most."""
    idle = round_trip_summary(notebook.idle)
    if idle is None:
        return
    enough = max(idle.median_ms + SETTLED_RISE_MS, idle.median_ms * SETTLED_FACTOR)
    began = time.perf_counter()
    with RoundTrips(notebook.target, began, IDLE_EVERY_SECONDS) as trips:
        while time.perf_counter() - began < SETTLE_SECONDS:
            time.sleep(SAMPLE_SECONDS)
            last = [t.round_trip_ms for t in trips.taken[-2:] if t.round_trip_ms is not None]
            if len(last) == 2 and max(last) <= enough:
                return


def _load(
    notebook: _MeasureNotes,
    name: PhaseName,
    connections: int,
    limits: Limits,
    tell: progress.Tell,
    named: UploadTarget | None = None,
    pace: Pacer | None = None,
) -> Phase:
    """One load phase, sampled until it knows enough or something ends it; paced, to its end."""
    tell(progress.PhaseBegun(name, limits.seconds))
    flood = _Flood(name, limits, notebook.used_bytes(), tell, to_the_end=pace is not None)
    samples = flood.samples
    left = None if limits.data_bytes is None else max(0, limits.data_bytes - flood.used_before)
    with Upload(named or notebook.target, connections, left, pace) as load:
        flood.base, flood.began = load.delivered_bytes(), time.perf_counter()
        with RoundTrips(notebook.target, flood.began, LOADED_EVERY_SECONDS) as trips:
            ending = _sample(flood, load, trips)
        if notebook.target.estimate and ending in ("enough", "time", "data"):
            samples.add(time.perf_counter() - flood.began, load.confirm() - flood.base)
        load.stop()
        taken, failure = trips.taken, load.failure
        notebook.counted_by = notebook.counted_by or load.counted_by
        notebook.address = notebook.address or load.address
        if load.smaller_bodies:
            notebook.notes.append(
                "the endpoint takes only small uploads, so gaps between them lower the figures"
            )
    series = samples.series()
    if throughput(series) is None:
        if ending == "stopped":
            raise KeyboardInterrupt
        if ending == "data" and failure is None:
            raise too_little(samples, limits)
        raise failure or errors.EndpointError(
            "it accepted almost nothing", "try again, or another endpoint", notebook.target.shown
        )
    return Phase(
        name=name,
        connections=connections,
        max_kbps=None if pace is None else round(pace.kbps, 1),
        ended=ending,
        ended_text=failure.line() if failure and ending == "failed" else "",
        samples=series,
        round_trips=taken,
        late_share=round(flood.late_seconds / samples.seconds[-1], 4),
    )


@dataclass(slots=True)
class _Flood:
    """A phase under way: what ends it, and what it found so far."""

    name: PhaseName
    limits: Limits
    used_before: int
    """Bytes that earlier phases sent."""
    tell: progress.Tell
    late_seconds: float = 0.0
    """By which this machine woke it too late."""
    to_the_end: bool = False
    """Whether it goes on when enough is known."""
    base: int = 0
    """Bytes delivered when it began, at ``began`` of the performance counter."""
    began: float = 0.0
    samples: Samples = field(default_factory=Samples)


def _sample(flood: _Flood, load: Upload, trips: RoundTrips) -> Ending:
    """Fill the samples every 50 ms until the phase ends; returns why it did."""
    base, began, samples = flood.base, flood.began, flood.samples
    with errors.interruptible():
        arrivals = Arrivals(load.delivered_bytes, seen=base, grew_at=began)
        for tick in range(1, 10**9):
            at = arrivals.until(began + tick * SAMPLE_SECONDS, samples.last_second_kbps())
            if at is not None:  # small requests ride on the same connection
                samples.add(at - began, arrivals.seen - base + trips.delivered_bytes())
            now = time.perf_counter() - began
            flood.late_seconds = arrivals.late_seconds
            if load.failure is not None:
                return "failed"
            if load.spent and began + now - arrivals.grew_at >= QUIET_SECONDS:
                samples.end_at(arrivals.grew_at - began)  # what comes after says nothing
                return "data"
            if limit := limit_reached(now, flood.used_before + arrivals.seen - base, flood.limits):
                return limit
            trips.pace(samples.last_second_kbps())
            if tick % LOOK_EVERY_SAMPLES == 0:
                series = samples.series()
                tell_learned(series, samples, flood.name, trips, flood.tell)
                if not flood.to_the_end and known_well_enough(series):
                    return "enough"
        return "time"
    return "stopped"
