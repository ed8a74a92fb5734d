"""The line by hour of day, and the plan of each hour."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.planning import RECENT_DAYS, plan
from eager_kestrel.actions.runs import runs_towards
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.line.hours import HourPlan, Hours
from eager_kestrel.core.line.pooling import by_hour, uplinks_by_hour
from eager_kestrel.core.words.runs import NOTHING
from eager_kestrel.files.history import History, HistoryFilter

if TYPE_CHECKING:
    from eager_kestrel.core.line.uplink import Uplink
    from eager_kestrel.core.show.show import Show


def hours(
    places: Sequence[str] = (),
    platforms: Sequence[str] = (),
    guides: Path | None = None,
    days: float = RECENT_DAYS,
) -> Hours:
    """Typical and floor by hour of day, and what platforms would get.

    Args:
        places: names or hosts, to take the runs towards; when none is named, that of the last run.
        platforms: each ``PLATFORM`` or ``PLATFORM:STANDING``, to plan for alone.
        guides: a folder whose guides come first.
        days: how far back from now, or from the last run where that was earlier.

    Raises:
        NotFoundError: no run is kept, or none towards a place; a platform is not known.
    """
    with History() as history:
        last = history.rows(HistoryFilter(last=1))
        if not last:
            raise NotFoundError("no run is kept", "run eager-kestrel measure URL, or import some")
        until = datetime.fromisoformat(last[0].taken_at).timestamp()
        runs = history.evidence(HistoryFilter(min(until, time.time()) - days * 86400))
    taken = runs_towards(runs, places) if places else runs
    found = by_hour(taken, places)
    if not platforms:
        return found
    shows = {name: asked_show(None, ShowOptions(platforms=(name,))).show for name in platforms}
    uplinks = uplinks_by_hour(taken, places)
    return found.model_copy(update={"hours": tuple(
        hour.model_copy(update={"gets": _gets(uplinks.get(hour.hour), shows, guides)})
        for hour in found.hours
    )})  # fmt: skip


def _gets(
    uplink: Uplink | None, shows: Mapping[str, Show], guides: Path | None
) -> tuple[HourPlan, ...]:
    """What each platform would get on an hour's uplink."""
    if uplink is None:
        return ()
    places = {name: plan(show, uplink, guides).plan.destinations[0] for name, show in shows.items()}
    return tuple(
        HourPlan(
            platform=name,
            settings=place.video.words if place.video is not None else NOTHING,
            total_kbps=place.total_kbps,
        )
        for name, place in places.items()
    )
