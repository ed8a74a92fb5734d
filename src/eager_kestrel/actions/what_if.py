"""What-if: sweeps of one input, and the upload that resolutions take."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from eager_kestrel.actions.endpoints import measure_command
from eager_kestrel.actions.planning import RECENT_DAYS, on_days, plan, safe_uplink
from eager_kestrel.actions.runs import runs_towards
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.choice.budget import budget_of
from eager_kestrel.core.choice.what_if import (
    Comparison,
    Needs,
    Sweep,
    compare as compared,
    parse_range,
    parse_shapes,
)
from eager_kestrel.core.connection.pooling import by_hour, uplinks_by_hour
from eager_kestrel.core.connection.uplink import HourPlan, Hours, Uplink
from eager_kestrel.core.division.what_if import needs, sweep as swept
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words import runs as words
from eager_kestrel.files.documents import csv_text, write_text
from eager_kestrel.files.footage import table_for
from eager_kestrel.files.guides import guide_for
from eager_kestrel.files.history import History, HistoryFilter, lately

COLUMNS = ("at", "safe_kbps", "width", "height", "fps", "bitrate_kbps", "quality")
"""Of one destination; of several, a column before them says which."""


def needs_uplink(written: str) -> bool:
    """Whether a sweep rests on a line; a sweep of uploads brings its own.

    Raises:
        InputError: it cannot be swept.
    """
    return parse_range(written).varied != "upload"


def sweep(written: str, show: Show, uplink: Uplink | None) -> Sweep:
    """Sweep one input of a plan of the whole show.

    Args:
        written: ``upload=1..40``, ``share=50..80``, ``motion`` or ``tier``.
        uplink: for everything but a sweep of uploads, which takes none.

    Raises:
        InputError: it cannot be swept.
        NotFoundError: the platform or tier is not known.
    """
    if uplink is not None:
        uplink = safe_uplink(show, uplink)
    ruled = [guide_for(place) for place in show.destinations]
    return swept(parse_range(written), show, ruled, table_for(show.motion, show.footage), uplink)


def compare_settings(written: str, show: Show, uplink: Uplink) -> Comparison:
    """Put resolutions at frame rates side by side, on one platform.

    Args:
        written: ``1280x720@60, 1920x1080@30``.

    Raises:
        InputError: the show goes to several platforms, or the platform takes one of them not.
        UnitError: one cannot be read.
        NotFoundError: the platform or tier is not known.
    """
    shapes = parse_shapes(written)
    if len(show.destinations) > 1:
        names = ", ".join(place.name for place in show.destinations)
        raise InputError(f"a comparison is of one platform, not of {names}", "give --for NAME")
    uplink = safe_uplink(show, uplink)
    guide = guide_for(show.destinations[0])
    table = table_for(show.motion, show.footage)
    budget = budget_of(uplink, show)
    codec = guide.codec(show.destinations[0].codec)
    return compared(show, guide, table, codec, budget, shapes)


def sweep_csv(found: Sweep) -> str:
    """A sweep as CSV, a line a point and destination; empty cells where nothing is allowed."""
    several = bool(found.beside)
    rows: list[list[object]] = [["platform", *COLUMNS] if several else list(COLUMNS)]
    series = [
        (found.platform, tuple(point.chosen for point in found.points)),
        *((b.platform, b.chosen) for b in found.beside),
    ]
    for platform, chosen in series:
        for point, option in zip(found.points, chosen, strict=True):
            said = option.model_dump() if option else {}
            row = [point.at, point.safe_kbps, *(said.get(c, "") for c in COLUMNS[2:])]
            rows.append([platform, *row] if several else row)
    return csv_text(rows)


def write_sweep(found: Sweep, path: Path) -> None:
    """Write a sweep as ``.csv`` or ``.json``.

    Raises:
        InputError: another kind of file.
        StorageError: the disk would not take it.
    """
    kind = path.suffix.lower()
    if kind not in (".csv", ".json"):
        raise InputError(f'"{path.name}" is neither CSV nor JSON', "name it .csv or .json")
    write_text(path, sweep_csv(found) if kind == ".csv" else found.model_dump_json(indent=2) + "\n")


def need(
    show: Show,
    resolutions: list[Resolution] | None = None,
    frame_rate_at_least: float | None = None,
) -> Needs:
    """What upload resolutions take on each destination of a show.

    Args:
        show: everything else; several destinations share the connection as a plan divides it.
        resolutions: which; all there are when none are named.
        frame_rate_at_least: frames a second; any when none is given.

    Raises:
        NotFoundError: a platform or tier is not known.
    """
    table = table_for(show.motion, show.footage)
    ruled = [guide_for(place) for place in show.destinations]
    return Needs(needs=needs(show, ruled, table, resolutions, frame_rate_at_least))


def hours(
    endpoints: Sequence[str] = (),
    platforms: Sequence[str] = (),
    days: float = RECENT_DAYS,
    show: str | None = None,
) -> Hours:
    """Return typical and floor by hour of the day, and what platforms would get.

    Args:
        endpoints: names or hosts the runs went to; default: that of the last run.
        platforms: each ``PLATFORM`` or ``PLATFORM:TIER``, to plan for alone.
        show: a show's file, or a bundled one: only runs on its days of the week, if there are, and
            what all its destinations would get together.

    Raises:
        NotFoundError: no run is kept, or none to an endpoint; a platform is not known.
    """
    with History() as history:
        last = history.rows(HistoryFilter(last=1))
        if not last:
            raise NotFoundError(
                "no run is kept", f"run {measure_command(platforms)}, or import some"
            )
        until = datetime.fromisoformat(last[0].taken_at).timestamp()
        runs = history.evidence(lately(days, until))
    taken = runs_towards(runs, endpoints) if endpoints else runs
    wishes = [ShowOptions(platforms=(name,)) for name in platforms]
    asked = [asked_show(show, wish).show for wish in wishes or [ShowOptions()] * (show is not None)]
    text = ""
    if show is not None and (weekdays := asked[0].days):
        of_days = on_days(taken, weekdays)
        text = words.hours_on(weekdays) if of_days else words.no_runs_on(weekdays)
        taken = of_days or taken
    found = by_hour(taken, endpoints).model_copy(update={"text": text})
    uplinks = uplinks_by_hour(taken, endpoints) if asked else {}
    return found.model_copy(
        update={
            "hours": tuple(
                hour.model_copy(update={"gets": _gets(uplinks.get(hour.hour), asked)})
                for hour in found.hours
            )
        }
    )


def _gets(uplink: Uplink | None, shows: Sequence[Show]) -> tuple[HourPlan, ...]:
    """What the platforms of each show would get on an hour's uplink."""
    if uplink is None:
        return ()
    return tuple(
        HourPlan(
            platform=asked.name,
            settings=place.video.text if place.video is not None else words.NOTHING,
            total_kbps=place.total_kbps,
        )
        for show in shows
        for asked, place in zip(
            show.destinations, plan(show, uplink).plan.destinations, strict=True
        )
    )
