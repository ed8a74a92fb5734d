"""Measure repeatedly: a number of times, or until an hour."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions, measure_ingest
from eager_kestrel.actions.measuring import MeasureOptions, measure
from eager_kestrel.actions.planning import plan
from eager_kestrel.actions.samples import run_id
from eager_kestrel.actions.shows import ShowOptions, asked_show, show_here
from eager_kestrel.core import errors
from eager_kestrel.core.choice.budget import Budget, budget
from eager_kestrel.core.connection.evidence import evidence_of
from eager_kestrel.core.connection.pooling import Schedule, quarters_of_runs, uplink_of
from eager_kestrel.core.connection.progress import Tell, WaitingFor, tell_nobody
from eager_kestrel.core.connection.run import Endpoint, Run
from eager_kestrel.core.connection.summarising import phase_summary, run_document
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.plan.from_evidence import with_seen_safe
from eager_kestrel.core.show.show import SAFE_SHARE
from eager_kestrel.core.stutter import LIMIT_SECONDS, LOWEST_SHARE
from eager_kestrel.core.units import parse_seconds, parse_time_of_day
from eager_kestrel.core.words import runs as words
from eager_kestrel.net.addresses import shown_url
from eager_kestrel.version import __version__

DAY_SECONDS = 86_400.0
LOOK_AT_CLOCK_SECONDS = 2.0
MOST_RUNS = 100_000


def pause_of(every: str, repeat: int) -> float:
    """From one run's beginning to the next in seconds, as written; of one run it does not matter.

    Raises:
        UnitError: it cannot be read, or is not a valid time between runs.
    """
    pause = parse_seconds(every)
    if repeat > 1 and not 1 <= pause <= DAY_SECONDS:
        raise errors.UnitError(f"{pause:g} s is not a valid time between runs", "write 1 s to 24 h")
    return pause


def take(wish: MeasureOptions | IngestMeasureOptions, tell: Tell = tell_nobody) -> Run:
    """One run, by POST or towards an ingest; raises as these do."""
    return (
        measure_ingest(wish, tell)
        if isinstance(wish, IngestMeasureOptions)
        else measure(wish, tell)
    )


@dataclass(frozen=True, slots=True)
class ScheduleOutcome:
    """What became of one run of a schedule."""

    number: int
    run: Run
    """One that failed has no phases."""
    error: errors.KestrelError | None


def measure_repeatedly(
    wish: MeasureOptions | IngestMeasureOptions,
    count: int,
    every_seconds: float,
    tell: Tell = tell_nobody,
    until: datetime | None = None,
) -> Iterator[ScheduleOutcome]:
    """Measure several times on a schedule that one failed run does not end.

    Runs begin every so often by the wall clock, so that a machine that slept goes on when it wakes;
    one that takes longer delays the next, and what was missed is not made up for. A run that failed
    is a finding and comes as a run without phases. Ctrl-C between runs ends the schedule.

    Args:
        count: how many runs at most.
        every_seconds: from the beginning of one to the beginning of the next.
    """
    due, so_far = time.time(), list[float | None]()
    for number in range(count):
        due = max(due, time.time())
        if until is not None and due >= until.timestamp():
            return
        with errors.interruptible() as ctrl_c:
            _wait_until(due, number + 1, count if until is None else None, so_far, tell)
        if ctrl_c.stopped:
            return
        due += every_seconds
        taken_at = datetime.now().astimezone()
        try:
            run = take(wish, tell)
        except errors.NetworkError as error:
            so_far.append(None)
            yield ScheduleOutcome(number + 1, _failed(wish, taken_at, error), error)
            continue
        except errors.StoppedError:
            return
        found = phase_summary(run.one_connection)
        so_far.append(None if found is None else found.typical_kbps)
        yield ScheduleOutcome(number + 1, run, None)
        if run.one_connection is not None and run.one_connection.ended == "stopped":
            return


def _wait_until(
    due: float, number: int, of: int | None, so_far: list[float | None], tell: Tell
) -> None:
    """Wait for a moment of the wall clock, looking often, since that may leap."""
    while (wait := due - time.time()) > 0:
        tell(WaitingFor(number, of, wait, tuple(so_far)))
        time.sleep(min(wait, LOOK_AT_CLOCK_SECONDS))


def _failed(
    wish: MeasureOptions | IngestMeasureOptions, taken_at: datetime, error: errors.NetworkError
) -> Run:
    """A run that learned nothing but that the connection or the endpoint was down."""
    return Run(
        id=run_id(taken_at),
        taken_at=taken_at.isoformat(timespec="seconds"),
        version=__version__,
        endpoint=Endpoint(
            url=shown_url(wish.url),
            name=wish.endpoint_name,
            found_by="practice" if wish.practice else "given",
        ),
        counted_by="nothing was counted",
        partial=True,
        failed=error.line(),
    )


def next_time_of_day(text: str, now: datetime) -> datetime:
    """The next moment at which it is that time of day: ``"23:00"``.

    Raises:
        InputError: it is no time of day.
    """
    wanted = parse_time_of_day(text)
    today = now.astimezone().replace(
        tzinfo=None, hour=wanted.hour, minute=wanted.minute, second=0, microsecond=0
    )
    # Local time is taken to an offset only when the day is known: clocks may change until then,
    # and an hour that comes twice has two moments.
    moments = [
        (today + timedelta(days=day)).replace(fold=fold).astimezone()
        for day in (0, 1)
        for fold in (0, 1)
    ]
    return next(moment for moment in moments if moment > now)


def schedule_of(until: str | None, repeat: int) -> tuple[datetime | None, int]:
    """When a schedule ends, if a time of day is given, and the most runs it has.

    Raises:
        InputError: both are given, or that is no time of day.
    """
    if until is None:
        return None, repeat
    if repeat > 1:
        raise errors.InputError("--until and --repeat exclude each other", "give one of them")
    return next_time_of_day(until, datetime.now().astimezone()), MOST_RUNS


def announced(end: datetime, now: datetime, every_seconds: float) -> str:
    """Until when runs are taken, which may be tomorrow, and how many, in words."""
    left = (end - now).total_seconds()
    day = "" if end.date() == now.date() else "tomorrow "
    return words.schedule_line(f"{day}{end:%H:%M}", left, math.ceil(left / every_seconds))


def learned(
    outcomes: Sequence[ScheduleOutcome],
    platform: str = "",
    *,
    samples: bool = False,
) -> Schedule:
    """What the runs of a schedule say together.

    Args:
        platform: to plan for; else the show of this folder, if there is one.

    Raises:
        NetworkError: every run failed.
        StoppedError: it was stopped before the first run.
        FormatError: none of them has enough steady samples.
    """
    runs = [outcome.run for outcome in outcomes]
    known = [run for run in runs if not run.failed]
    failed = tuple(outcome.error.line() for outcome in outcomes if outcome.error is not None)
    if not known:
        if failed:
            raise errors.NetworkError(f"none of {len(failed)} runs succeeded", failed[-1])
        raise errors.StoppedError("stopped before anything was measured", "nothing was kept")
    evidence = Evidence.of([evidence_of(run) for run in known])
    uplink, leads_to = uplink_of(known), tuple[str, ...]()
    safe: Budget | None = None
    if platform or show_here():
        wishes = ShowOptions(platforms=(platform,)) if platform else ShowOptions()
        try:
            made = plan(asked_show(None, wishes).show, uplink, evidence=evidence).plan
        except (
            errors.KestrelError
        ) as error:  # a show that cannot be read is no reason to lose an evening
            leads_to = (error.line(),)
        else:
            uplink, safe = made.uplink, made.budget
            leads_to = tuple(
                words.leads_to(place.title, place.video.text if place.video is not None else None)
                for place in made.destinations
            )
    if safe is None:
        lowest = LOWEST_SHARE * uplink.typical_kbps
        uplink = with_seen_safe(uplink, evidence, "lively", LIMIT_SECONDS, lowest)
        safe = budget(uplink, SAFE_SHARE, ())
    return Schedule(
        runs=tuple(run_document(run, samples=samples) for run in known),
        failed=failed,
        uplink=uplink,
        quarters=quarters_of_runs(runs),
        safe_kbps=safe.safe_kbps,
        limited_by=safe.limited_by,
        leads_to=leads_to,
    )
