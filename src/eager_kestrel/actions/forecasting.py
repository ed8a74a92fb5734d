"""Forecast a plan or a show from the evidence that is kept."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import zip_longest
from pathlib import Path
from statistics import median

from eager_kestrel.actions.planning import (
    RECENT_DAYS,
    evidence_behind,
    near_hour,
    on_days,
    plan,
    uplink_for,
)
from eager_kestrel.actions.runs import runs_towards
from eager_kestrel.actions.shows import ShowOptions, asked_show, is_show
from eager_kestrel.core.connection.evidence import BroadcastEvidence, RunEvidence
from eager_kestrel.core.connection.pooling import counted
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.forecast import (
    Forecast,
    ForecastRequest,
    Observed,
    forecast as forecast_of,
)
from eager_kestrel.core.forecast.replay import Sending, recorded
from eager_kestrel.core.plan.from_evidence import lowest_kbps_of, sending_at, sending_of
from eager_kestrel.core.plan.plan import Fallback, Plan
from eager_kestrel.core.units import near_moment, parse_seconds, parse_stutter, parse_time_of_day
from eager_kestrel.core.words import runs as words
from eager_kestrel.files.history import History, HistoryFilter
from eager_kestrel.files.plans import LATEST, read_plan
from eager_kestrel.files.shows import USUAL, load_show
from eager_kestrel.version import __version__

LEAST_SECONDS, MOST_SECONDS = 60.0, 86_400.0
RUN_SECONDS = 10.0
"""For which a run sends as much as the connection carries."""


def _measure() -> str:
    from eager_kestrel.actions.endpoints import measure_command

    return f"run {measure_command()} at the hour of the show, on several days"


@dataclass(frozen=True, slots=True)
class ForecastOptions:
    """What to forecast, as written; None where nothing was said."""

    lasts: str | None = None
    stutter: str | None = None
    days: float = RECENT_DAYS
    around: str | None = None
    endpoints: tuple[str, ...] = ()
    weekdays: tuple[str, ...] = ()
    """Of the runs that count, if there are any on these days."""
    frames: Path | None = None
    """A recording whose frames are sent in place of the plan's."""


def forecast(name: str = LATEST, wish: ForecastOptions = ForecastOptions()) -> Forecast:
    """How much a plan would have stuttered on the connection as it was observed.

    A plan that is kept is sent through the runs and broadcasts it rests on, unless others are
    asked for; one that rests on none, through whatever is kept of the last days.

    Args:
        name: a plan's file, ``latest``, or a show to plan first.

    Raises:
        NotFoundError: nothing is kept, or nothing towards a place or near an hour.
        InputError: the plan sends nothing, or something written cannot be read.
    """
    lasts = None if wish.lasts is None else _seconds(wish.lasts)
    limit = None if wish.stutter is None else parse_stutter(wish.stutter)
    wish = _as_it_airs(name, wish)
    made = _plan(name, wish)
    sending = sending_of(made) if wish.frames is None else _recorded(wish.frames)
    if sending is None:
        raise InputError("the plan sends nothing", "see why with eager-kestrel plan --why")
    said = _said(made)
    asked = ForecastRequest(
        version=__version__,
        text=said if wish.frames is None else words.frames_of(wish.frames.name, said),
        sending=sending,
        lowest_kbps=lowest_kbps_of(made),
        reserved_kbps=made.budget.reserved_kbps,
        steps=_steps(made, sending if wish.frames is None else None),
        budget=made.budget.text,
        lasts_seconds=lasts or made.inputs.lasts_seconds,
        limit=made.inputs.stutter_limit if limit is None else limit,
        at=wish.around or made.inputs.at,
        run_mb=RUN_SECONDS * made.uplink.typical_kbps / 8000,
    )
    return forecast_of(asked, _observed(made, wish))


def _read(
    made: Plan, wish: ForecastOptions
) -> tuple[list[RunEvidence], list[BroadcastEvidence], list[RunEvidence]]:
    """Read runs of the last days, broadcasts to the plan's platforms, and the plan's own runs."""
    sent_to = {destination.platform for destination in made.destinations}
    with History() as history:
        since = HistoryFilter(time.time() - wish.days * 86400)
        every = history.evidence(since)
        broadcasts = [
            b
            for b in history.broadcast_evidence(since)
            if b.platform in sent_to and b.kind == "measured"
        ]
        own_runs = [
            run
            for run in history.evidence(HistoryFilter(ids=made.uplink.runs))
            if run.kind != "reading"
        ]
    return every, broadcasts, own_runs


def _observed(made: Plan, wish: ForecastOptions) -> Observed:
    """Return the evidence that counts, and the same by hour of the day.

    Raises:
        NotFoundError: there is none.
    """
    every, broadcasts, own_runs = _read(made, wish)
    usable = [run for run in every if run.usable]
    if wish.endpoints:
        usable = runs_towards(usable, wish.endpoints)
    usable = on_days(usable, wish.weekdays) or usable
    readings = [run for run in usable if run.kind == "reading"]
    practice = [] if broadcasts else [run for run in usable if run.kind == "practice"][-1:]
    runs = counted(usable, wish.endpoints) or practice or own_runs
    if not (runs or broadcasts or readings):
        raise NotFoundError(f"nothing from the last {wish.days:g} days is kept", _measure())
    others = bool(wish.around or wish.endpoints or wish.weekdays or wish.days != RECENT_DAYS)
    whole = Evidence.of(runs, broadcasts)
    near = near_hour(whole, wish.around)
    if not others and len(own_runs) == len(made.uplink.runs) > 0:
        runs, near = own_runs, evidence_behind(made.uplink)
    if wish.around and not near.seconds.size and not readings:
        raise NotFoundError(f"nothing was observed near {wish.around}", _measure())
    simulated = bool(runs) and all(run.kind == "practice" for run in runs)
    failed = sum(run.failed for run in every)
    only_readings = bool(readings) and not whole.seconds.size
    notes = [
        *([words.PRACTICE] if simulated else ()),
        *([words.failed(failed)] if failed else ()),
        *([words.readings_only(len(readings))] if only_readings else ()),
    ]
    hours = {stretch.began.hour for stretch in whole.stretches}
    return Observed(
        evidence=near,
        text=words.observed_line(
            near.observed_seconds,
            *(
                len({s.source for s in near.stretches if s.broadcast is kind})
                for kind in (False, True)
            ),
        ),
        practice=simulated,
        by_hour={} if wish.around else {h: near_hour(whole, f"{h}:30") for h in hours},
        readings_kbps=_by_hour(readings) if only_readings else {},
        unknown=tuple(notes),
    )


def _by_hour(readings: Sequence[RunEvidence]) -> dict[int, float]:
    hours = {run.taken.hour for run in readings}
    return {
        hour: median(run.imported_kbps or 0.0 for run in readings if run.taken.hour == hour)
        for hour in hours
    }


def _as_it_airs(name: str, wish: ForecastOptions) -> ForecastOptions:
    """By what was observed on the days and near the hour of a show, where it says them."""
    if not is_show(name):
        return wish
    show = load_show(name)
    wish = replace(wish, weekdays=show.days)
    if wish.around is not None or show.at is None:
        return wish
    with History() as history:
        known = history.evidence(HistoryFilter(time.time() - wish.days * 86400))
    begins = parse_time_of_day(show.at)
    near = any(near_moment(run.taken, begins) for run in known if run.usable)
    return replace(wish, around=show.at) if near else wish


def _seconds(written: str) -> float:
    seconds = parse_seconds(written)
    if not LEAST_SECONDS <= seconds <= MOST_SECONDS:
        raise InputError(f'"{written}" is not the length of a show', "give 1 min to 24 h")
    return seconds


def _plan(name: str, wish: ForecastOptions) -> Plan:
    """The plan that is meant; one of a show is made first."""
    if is_show(name):
        show = asked_show(name, ShowOptions()).show
        uplink, _ = uplink_for(show, wish.days, wish.around, wish.endpoints)
        return plan(show, uplink).plan
    made = read_plan(name)
    if name == LATEST and Path(USUAL).is_file():
        here = load_show(f"./{USUAL}")
        if {place.name for place in here.destinations} != {d.name for d in made.destinations}:
            raise InputError(
                f"the latest plan is of another show ({_said(made)}) than ./{USUAL}",
                f"run eager-kestrel plan first, or eager-kestrel forecast {USUAL}",
            )
    return made


def _said(made: Plan) -> str:
    """Everything that is sent, in words."""
    return "; ".join(
        f"{destination.title}: {destination.video.text}"
        for destination in made.destinations
        if destination.video is not None
    )


def _steps(made: Plan, own: Sending | None) -> list[tuple[str, Sending]]:
    """The plan's own settings, then each fallback, of all destinations together."""
    places = [destination for destination in made.destinations if destination.video is not None]
    motion = made.inputs.motion
    planned = sending_of(made) if own is None else own
    assert planned is not None
    found = [(" and ".join(p.video.text for p in places if p.video), planned)]
    last: list[Fallback | None] = [None] * len(places)
    for row in zip_longest(*(destination.fallbacks for destination in places)):
        last = [step or before for step, before in zip(row, last, strict=True)]
        if all(last):
            some = [step for step in last if step is not None]
            found.append((" and ".join(s.video.text for s in some), sending_at(some, motion)))
    return found


def _recorded(path: Path) -> Sending:
    """The frames of a recording."""
    from eager_kestrel.media.recording import sent_frames

    seconds, sizes = sent_frames(path)
    return recorded(seconds, sizes)
