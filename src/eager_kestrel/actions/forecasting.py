"""Forecasting a plan from the runs kept lately."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import time as time_of_day
from functools import cache
from itertools import zip_longest
from pathlib import Path

from eager_kestrel import __version__
from eager_kestrel.actions.odds import (
    aired_behind,
    aired_of,
    runs_behind,
    sending_at,
    sending_of,
    watched_of,
)
from eager_kestrel.actions.planning import (
    RECENT_DAYS,
    plan,
    recent_quarters,
    recent_runs,
    uplink_for,
)
from eager_kestrel.actions.shows import Wishes, asked_show, is_show
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.forecast.forecast import GOAL, Asked, Evidence, Forecast
from eager_kestrel.core.forecast.forecast import forecast as forecast_of
from eager_kestrel.core.forecast.sending import Sending, recorded
from eager_kestrel.core.forecast.watched import Aired, Watched
from eager_kestrel.core.line.evidence import RunEvidence
from eager_kestrel.core.line.hours import near_time
from eager_kestrel.core.line.pooling import counted
from eager_kestrel.core.plan.plan import Fallback, Plan
from eager_kestrel.core.units import parse_chance, parse_seconds
from eager_kestrel.core.words import forecasts as words
from eager_kestrel.files.history import History, Which
from eager_kestrel.files.plans import LATEST, read_plan
from eager_kestrel.files.shows import USUAL, load_show

LEAST_SECONDS, MOST_SECONDS = 60.0, 86_400.0
MEASURE = "run eager-kestrel measure URL at the hour of the show, on several days"


@dataclass(frozen=True, slots=True)
class Wish:
    """What to forecast, as written; None where nothing was said."""

    lasts: str | None = None
    goal: str | None = None
    days: float = RECENT_DAYS
    around: str | None = None
    places: tuple[str, ...] = ()
    frames: Path | None = None
    """A recording whose frames are sent in place of the plan's."""
    guides: Path | None = None
    as_planned: bool = False
    """By the very runs and airings the plan rests on."""


def forecast(name: str = LATEST, wish: Wish = Wish()) -> Forecast:
    """How likely a plan has late frames on the line as it was measured.

    Args:
        name: a plan's file, ``latest``, or a show to plan first.
        wish: for how long, by which runs.

    Raises:
        NotFoundError: no run is kept, or none towards a place or near an hour.
        InputError: the runs or the plan say too little, or something written cannot be read.
    """
    seconds = None if wish.lasts is None else _seconds(wish.lasts)
    goal = None if wish.goal is None else parse_chance(wish.goal)
    wish = _at_its_hour(name, wish)
    runs = [] if wish.as_planned else real_runs(wish)
    made = _plan(name, wish)
    runs = runs or runs_behind(made.uplink)
    if not runs:
        raise InputError("the plan rests on no runs", MEASURE)
    sending = sending_of(made) if wish.frames is None else _recorded(wish.frames)
    if sending is None:
        raise InputError("the plan sends nothing", "see why with eager-kestrel plan --why")
    sent_to = {there.platform for there in made.destinations}
    aired = (
        aired_behind(made.uplink)
        if wish.as_planned
        else aired_of(recent_quarters(sent_to, wish.days, wish.around))
    )
    evidence = evidence_of(runs, wish, aired)
    seen = evidence.of(sending.needs[1])
    if seen is None:
        raise InputError("fewer than two runs lasted long enough to forecast from", MEASURE)
    asked = Asked(
        version=__version__,
        said=_said(made) if wish.frames is None else words.frames_of(wish.frames.name, _said(made)),
        sending=sending,
        reserved_kbps=made.budget.reserved_kbps,
        steps=_steps(made, sending if wish.frames is None else None),
        seconds=seconds or made.inputs.lasts_seconds,
        goal=goal or made.inputs.risk or GOAL,
    )
    return forecast_of(asked, evidence, seen)


def real_runs(wish: Wish) -> list[RunEvidence]:
    """The measured runs a forecast rests on, two at the least.

    Raises:
        NotFoundError: none is kept at all, or none towards a place or near an hour.
        InputError: there are only others, or one.
    """
    try:
        kept = recent_runs(wish.days, wish.around, wish.places)
    except NotFoundError as error:
        raise NotFoundError(error.what, MEASURE) from None
    found = counted(kept, wish.places)
    if found and len(found) < 2:
        raise InputError("one run says nothing of other hours or days", MEASURE)
    if not found:
        kinds = Counter(run.kind for run in kept)
        said = "practice runs, which are not your line" if kinds["practice"] else (
            "imported readings, which say nothing of dips")  # fmt: skip
        raise InputError(f"there are only {said}", MEASURE)
    return found


def evidence_of(runs: Sequence[RunEvidence], wish: Wish, aired: tuple[Aired, ...] = ()) -> Evidence:
    """Runs as the forecast takes them, each way of piling up reckoned once."""

    @cache
    def of(piled: float) -> Watched | None:
        return watched_of(runs, piled, aired)

    def by_hour(piled: float) -> dict[int, Watched]:
        if wish.around is not None:
            return {}
        found = {}
        for hour in {run.taken.hour for run in runs}:
            near = [run for run in runs if near_time(run, time_of_day(hour, 30))]
            found[hour] = watched_of(near, piled)
        return {hour: seen for hour, seen in found.items() if seen is not None}

    return Evidence(of, by_hour, tuple(_unknown(wish)))


def _at_its_hour(name: str, wish: Wish) -> Wish:
    """By runs near the hour a show begins, where it says one and there are runs."""
    if wish.around is not None or not is_show(name):
        return wish
    at = load_show(name).at
    if at is None:
        return wish
    try:
        recent_runs(wish.days, at, wish.places)
    except NotFoundError:
        return wish
    return replace(wish, around=at)


def _unknown(wish: Wish) -> list[str]:
    """Runs that do not count."""
    since = time.time() - wish.days * 86400
    with History() as history:
        every = history.evidence(Which(since))
    failed = sum(run.failed for run in every)
    others = sum(run.kind != "measured" and not run.failed for run in every)
    said = [words.failed(failed)] if failed else []
    return said + ([words.others(others)] if others else [])


def _seconds(written: str) -> float:
    seconds = parse_seconds(written)
    if not LEAST_SECONDS <= seconds <= MOST_SECONDS:
        raise InputError(f'"{written}" is no length of a show', "give 1 min to 24 h")
    return seconds


def _plan(name: str, wish: Wish) -> Plan:
    """The plan that is meant; one of a show is made first."""
    if is_show(name):
        show = asked_show(name, Wishes()).show
        uplink, _ = uplink_for(show, wish.days, wish.around, wish.places)
        return plan(show, uplink, wish.guides).plan
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
        f"{there.title}: {there.video.words}"
        for there in made.destinations
        if there.video is not None
    )


def _steps(made: Plan, own: Sending | None) -> list[tuple[str, Sending]]:
    """The plan's own settings, then each step down, of all destinations together."""
    places = [there for there in made.destinations if there.video is not None]
    motion = made.inputs.motion
    planned = sending_of(made) if own is None else own
    assert planned is not None
    found = [(" and ".join(p.video.words for p in places if p.video), planned)]
    last: list[Fallback | None] = [None] * len(places)
    for row in zip_longest(*(there.steps_down for there in places)):
        last = [step or before for step, before in zip(row, last, strict=True)]
        if all(last):
            some = [step for step in last if step is not None]
            found.append((" and ".join(s.video.words for s in some), sending_at(some, motion)))
    return found


def _recorded(path: Path) -> Sending:
    """The frames of a recording."""
    from eager_kestrel.media.recording import sent_frames

    seconds, sizes = sent_frames(path)
    return recorded(seconds, sizes)
