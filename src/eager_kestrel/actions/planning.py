"""Planning: which uplink to plan from, which guides, and the plan they lead to."""

from __future__ import annotations

import time
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time as time_of_day
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.errors import FormatError, NotFoundError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.plan.planner import plan as plan_of
from eager_kestrel.core.show.show import WEEKDAYS, Show
from eager_kestrel.core.units import Bitrate, minutes_apart, near_moment, parse_time_of_day
from eager_kestrel.core.words.broadcasts import aired, day_words
from eager_kestrel.core.words.numbers import counted, looks
from eager_kestrel.core.words.plans import left_free
from eager_kestrel.core.words.runs import (
    hours_differ,
    measure_like,
    no_runs_near,
    no_runs_on,
    taken_around,
    taken_on,
    tonight,
    with_future,
)
from eager_kestrel.files.documents import free_bytes
from eager_kestrel.files.footage import table_for
from eager_kestrel.files.guides import guide_names, load_guide, own_guide_names
from eager_kestrel.files.plans import keep_latest

if TYPE_CHECKING:
    from eager_kestrel.core.connection.evidence import BroadcastEvidence, RunEvidence
    from eager_kestrel.core.connection.pooling import QuarterBounds
    from eager_kestrel.core.forecast.evidence import Evidence

RECENT_DAYS = 14
HOURS_DIFFER = 0.7
"""An hour whose floor is below this share of another's has to be told."""
LEAST_RUNS = 2
"""Of the days of a show, to plan by them alone."""
LEAST_AIRED_SECONDS = 60.0
"""A shorter broadcast is not worth a word."""


@dataclass(frozen=True, slots=True)
class Planned:
    """A plan and what was said about getting to it."""

    plan: Plan
    notes: tuple[str, ...] = ()


def plan(
    show: Show,
    uplink: Uplink,
    copy_to: Path | None = None,
    table: QualityTable | None = None,
    evidence: Evidence | None = None,
) -> Planned:
    """Plan a show on an uplink.

    Args:
        table: of the quality model; else the bundled one, or by the show's footage.
        evidence: what the uplink rests on; else what is kept of its runs and broadcasts.

    Raises:
        NotFoundError: a platform or tier is not known.
        FormatError: a guide file is broken.
        StorageError: the folder of the copy cannot be looked at.
    """
    table = table or table_for(show.motion, show.footage)
    loaded = {d.platform: load_guide(d.platform) for d in show.destinations}
    today = datetime.now(UTC).date()
    notes = [note for guide in loaded.values() if (note := _stale(guide, today))]
    free = None if copy_to is None else free_bytes(copy_to)
    said = aired_lately(show) if uplink.broadcasts else None
    notes += [said] if said else []

    if evidence is None and not uplink.runs and not uplink.broadcasts:
        made = plan_of(uplink, show, loaded, table, free)
    else:
        from eager_kestrel.core.plan.from_evidence import plan_from_evidence

        evidence = evidence_behind(uplink) if evidence is None else evidence
        made = plan_from_evidence(uplink, evidence, show, loaded, table, free)
    now = datetime.now(UTC).astimezone().isoformat(timespec="seconds")
    notes += _cost_of_pins(made, show, made.uplink, loaded, table)
    told: dict[str, object] = {"made_at": now}
    if made.total_kbps:
        destination = next(destination for destination in made.destinations if destination.feasible)
        when = show.at or uplink.around or "the hour of the show"
        how = measure_like(when, destination.platform)
        told["tonight"] = tonight(made.stutter, show.stutter, uplink.known_by, uplink.around, how)
    return Planned(made.model_copy(update=told), tuple(notes))


def safe_uplink(show: Show, uplink: Uplink, evidence: Evidence | None = None) -> Uplink:
    """An uplink with the seen-safe rate that a plan of the show goes by; raises as :func:`plan`."""
    if evidence is None and not uplink.runs and not uplink.broadcasts:
        return uplink
    return plan(show, uplink, evidence=evidence).plan.uplink


def _cost_of_pins(
    made: Plan, show: Show, uplink: Uplink, loaded: dict[str, Guide], table: QualityTable
) -> list[str]:
    """What it would be without what somebody insisted on."""
    if show.resolution is None and show.fps is None:
        return []
    free = show.model_copy(update={"resolution": None, "fps": None})
    other = plan_of(uplink, free, loaded, table)
    said = []
    for now, then in zip(made.destinations, other.destinations, strict=True):
        if now.video is None or then.video is None:
            continue
        if (now.video.resolution, now.video.frame_rate) != (
            then.video.resolution,
            then.video.frame_rate,
        ):
            here, destination = (
                f"{video.text}, quality {looks(one.quality or 0.0)}"
                for video, one in ((now.video, now), (then.video, then))
            )
            said.append(left_free(here, destination))
    return said


def keep_plan(plan: Plan) -> None:
    """Keep a plan as the latest, to explain words and rehearse with."""
    keep_latest(plan)


def _stale(guide: Guide, today: date) -> str | None:
    days = guide.stale_days(today)
    if days is None:
        return None
    return f"the guide {guide.name} was last checked {days} days ago: compare it with its source"


def uplink_from_number(written: str) -> Uplink:
    """The uplink behind a bare number such as ``"12 Mbit/s"``.

    Raises:
        UnitError: it has no clear unit.
    """
    return assumed_uplink(Bitrate.parse(written), written)


def recent_runs(
    days: float = RECENT_DAYS,
    around: str | None = None,
    endpoints: Sequence[str] = (),
    weekdays: Collection[str] = (),
    platforms: Collection[str] = (),
) -> list[RunEvidence]:
    """The runs kept lately, oldest first, of any kind.

    Args:
        around: a time of day (``"20:00"``); only runs within an hour and a half of it.
        endpoints: names or hosts the runs went towards; any when none is named.
        weekdays: only runs of these days of the week; of any when none is named.
        platforms: that are planned for, to say what to measure to.

    Raises:
        NotFoundError: none is kept.
        InputError: ``around`` is no time of day.
    """
    from eager_kestrel.actions.runs import runs_towards
    from eager_kestrel.files.history import History, lately

    wanted = parse_time_of_day(around) if around is not None else None
    with History() as history:
        known = history.evidence(lately(days))
    kept = [run for run in known if run.usable]
    if endpoints:
        kept = runs_towards(kept, endpoints)
    runs = kept if wanted is None else [run for run in kept if near_moment(run.taken, wanted)]
    if weekdays:
        runs = [run for run in runs if WEEKDAYS[run.taken.weekday()] in weekdays]
    if not runs:
        from eager_kestrel.actions.endpoints import measure_command

        raise NotFoundError(
            f"of {counted(len(kept), 'run')} of the last {days:g} days none is near {around}"
            if kept
            else f"no run of the last {days:g} days is kept",
            f'run {measure_command(platforms)}, or give --upload "12 Mbit/s"',
        )
    return runs


def on_days(runs: Sequence[RunEvidence], weekdays: Collection[str]) -> list[RunEvidence]:
    """The runs on these days of the week, if there are enough to say anything of them."""
    found = [run for run in runs if WEEKDAYS[run.taken.weekday()] in weekdays]
    return found if len(found) >= LEAST_RUNS else []


def uplink_from_history(
    days: float = RECENT_DAYS,
    around: str | None = None,
    endpoints: Sequence[str] = (),
    platforms: Collection[str] = (),
    weekdays: Collection[str] = (),
) -> Uplink:
    """Return the uplink of the runs kept lately.

    Practice runs count only if there are no real ones, and then only the latest.

    Args:
        around: a time of day (``"20:00"``); only runs within an hour and a half of it.
        endpoints: names or hosts the runs went to; default: that of the last run.
        platforms: whose broadcasts count as well.
        weekdays: only runs on these days of the week; default: any day.

    Raises:
        NotFoundError: no run is kept.
        InputError: ``around`` is not a time of day.
    """
    from eager_kestrel.core.connection.pooling import uplink_of_history

    runs = recent_runs(days, around, endpoints, weekdays, platforms)
    uplink = uplink_of_history(runs, endpoints, recent_quarters(platforms, days, around))
    said = with_future(uplink.text, _of_the_future())
    said = taken_around(said, around) if around else said
    if weekdays:
        said = taken_on(said, list(weekdays))
    return uplink.model_copy(update={"text": said, "around": around})


def _of_the_future() -> int:
    """How many runs are dated ahead of now, by a clock that was wrong: they count for nothing."""
    from eager_kestrel.files.history import AHEAD_SECONDS, History, HistoryFilter

    with History() as history:
        return len(history.rows(HistoryFilter(time.time() + AHEAD_SECONDS)))


def recent_broadcasts(
    platforms: Collection[str], days: float = RECENT_DAYS
) -> list[BroadcastEvidence]:
    """Shows that were watched lately on their way to some platforms, oldest first."""
    from eager_kestrel.files.history import History, lately

    with History() as history:
        kept = history.broadcast_evidence(lately(days))
    return [one for one in kept if one.kind == "measured" and one.platform in platforms]


def recent_quarters(
    platforms: Collection[str], days: float = RECENT_DAYS, around: str | None = None
) -> list[QuarterBounds]:
    """What they say of the connection, by quarter of an hour; those near a time of day."""
    from eager_kestrel.core.connection.pooling import quarters

    wanted = parse_time_of_day(around) if around is not None else None
    found = [one for broadcast in recent_broadcasts(platforms, days) for one in quarters(broadcast)]
    return [one for one in found if wanted is None or near_moment(one.began, wanted)]


def aired_lately(show: Show, days: float = RECENT_DAYS) -> str | None:
    """What the last broadcast to one of a show's platforms says, in a line; None without one."""
    kept = recent_broadcasts({place.platform for place in show.destinations}, days)
    long = [one for one in kept if one.carried_kbps.size >= LEAST_AIRED_SECONDS]
    if not long:
        return None
    last = long[-1]
    day = day_words(last.taken.date(), datetime.now(last.taken.tzinfo).date())
    return aired(day, last.typical_kbps, float(last.carried_kbps.size), last.stutters)


def uplink_for(
    show: Show,
    days: float = RECENT_DAYS,
    around: str | None = None,
    endpoints: Sequence[str] = (),
) -> tuple[Uplink, str | None]:
    """The uplink a show is planned with: of runs near the hour it begins, where there are any.

    Where none is kept at all, it is the one the show itself says.

    Returns:
        The uplink, and what has to be said of hours; None where nothing has.

    Raises:
        NotFoundError: no run is kept.
        InputError: ``around`` is no time of day.
    """
    try:
        return _uplink_of_runs(show, days, around, endpoints)
    except NotFoundError:
        if show.upload is None or around is not None or endpoints:
            raise
        return assumed_uplink(show.upload), None


def _uplink_of_runs(
    show: Show, days: float, around: str | None, endpoints: Sequence[str]
) -> tuple[Uplink, str | None]:
    from eager_kestrel.core.connection.pooling import by_hour

    sent_to = {place.platform for place in show.destinations}
    if show.days:
        try:
            hour = around or show.at
            of_days = uplink_from_history(days, hour, endpoints, sent_to, show.days)
        except (NotFoundError, FormatError):
            of_days = None
        if of_days is not None and len(of_days.runs) >= LEAST_RUNS:
            return of_days, None
        anyhow = show.model_copy(update={"days": ()})
        uplink, said = _uplink_of_runs(anyhow, days, around, endpoints)
        return uplink, said or no_runs_on(show.days)
    if around is not None:
        return uplink_from_history(days, around, endpoints, sent_to), None
    missing: str | None = None
    if show.at is not None:
        try:
            return uplink_from_history(days, show.at, endpoints, sent_to), None
        except NotFoundError:
            missing = no_runs_near(show.at)
    known = recent_runs(days, None, endpoints, platforms=sent_to)
    hours = [
        hour
        for hour in by_hour(known, endpoints).hours
        if hour.measured and hour.runs > 1 and hour.floor_kbps
    ]
    floors = [hour.floor_kbps or 0.0 for hour in hours]
    if min(floors, default=0.0) >= HOURS_DIFFER * max(floors, default=0.0):
        uplink = uplink_from_history(days, None, endpoints, sent_to)
        return uplink, None if missing is None else f"{missing}: planned from all hours"
    wanted = datetime.now().astimezone().time() if show.at is None else parse_time_of_day(show.at)
    hour = _hour_at_hand(wanted, known)
    worst = min(hours, key=lambda hour: hour.floor_kbps or 0.0)
    is_worst = near_moment(
        datetime.now().replace(hour=worst.hour, minute=30), parse_time_of_day(hour)
    )
    said = hours_differ(hour, worst.hour, min(floors), worst=is_worst)
    uplink = uplink_from_history(days, hour, endpoints, sent_to)
    return uplink, said if missing is None else f"{missing}; {said}"


def _hour_at_hand(wanted: time_of_day, runs: Sequence[RunEvidence]) -> str:
    """The time of day that is wanted, where a run was taken near it; else that of the nearest."""
    measured = [run.taken for run in runs if run.windows_kbps.size]
    nearest = min(measured, key=lambda taken: minutes_apart(taken, wanted))
    return f"{wanted if near_moment(nearest, wanted) else nearest:%H:%M}"


def known_uplink(
    written: str | None, days: float = RECENT_DAYS, around: str | None = None
) -> Uplink | None:
    """The uplink behind a number, or of the runs kept lately; None when there are none.

    Raises:
        UnitError: the number has no clear unit.
        InputError: ``around`` is no time of day.
    """
    if written is not None:
        return uplink_from_number(written)
    try:
        return uplink_from_history(days, around)
    except NotFoundError:
        return None


def known_platforms() -> tuple[list[str], list[str]]:
    """Platforms there is a guide for: the user's own, and those made up to try."""
    own = own_guide_names()
    return own, [name for name in guide_names() if name not in own]


def evidence_behind(uplink: Uplink) -> Evidence:
    """What was observed in the runs and broadcasts an uplink rests on, as far as they are kept.

    Of a bare number there is none, and readings from elsewhere say nothing of seconds.
    """
    from eager_kestrel.core.forecast.evidence import Evidence

    if not uplink.runs and not uplink.broadcasts:
        return Evidence.of(())
    from eager_kestrel.files.history import History, HistoryFilter

    with History() as history:
        runs = history.evidence(HistoryFilter(ids=uplink.runs))
        evidence = Evidence.of(
            runs, history.broadcast_evidence(HistoryFilter(ids=uplink.broadcasts))
        )
    return near_hour(evidence, uplink.around)


def near_hour(evidence: Evidence, around: str | None) -> Evidence:
    """Return what was observed within an hour and a half of a time of day, or all of it.

    Args:
        around: ``"20:00"``; None for any hour.

    Raises:
        InputError: it is not a time of day.
    """
    if around is None:
        return evidence
    wanted = parse_time_of_day(around)
    return evidence.where(lambda stretch: near_moment(stretch.began, wanted))
