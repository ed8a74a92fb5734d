"""The uplink by hour of day: noon is not eight in the evening."""

from __future__ import annotations

import re
from datetime import datetime, time
from typing import TYPE_CHECKING

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError

if TYPE_CHECKING:
    from eager_kestrel.core.connection.evidence import RunEvidence
    from eager_kestrel.core.connection.run import Run


NEAR_MINUTES = 90


class HourPlan(Frozen):
    """What a platform would get at an hour."""

    platform: str
    """``PLATFORM`` or ``PLATFORM:TIER``."""
    settings: str
    """``1280x720 at 30, 2,900 kbit/s``, or why there are none."""
    total_kbps: float
    """Sent in all; 0 when nothing is carried."""


class HourUplink(Frozen):
    """What runs begun in one hour of the day say together."""

    hour: int
    """0..23, in the place where the runs were taken."""
    runs: int
    readings: int
    failed: int = 0
    """Runs that learned nothing, since the connection or the far end was down."""
    typical_kbps: float | None
    """None where every run failed."""
    floor_kbps: float | None
    floor_low_kbps: float | None
    measured: bool
    """Whether it rests on runs; otherwise on imported readings, whose floor is assumed."""
    gets: tuple[HourPlan, ...] = ()
    """The plan of that hour, where platforms were named."""


class Hours(Frozen):
    """Every hour of day that anything is known of."""

    format: str = format_name("hours")
    hours: tuple[HourUplink, ...]


def parse_time_of_day(text: str) -> time:
    """Read ``"20:00"``, ``"20.00"``, ``"8:30"``, ``"20"`` or ``"8 pm"``.

    Raises:
        InputError: it is none.
    """
    match = re.fullmatch(r"\s*([0-9]{1,2})(?:[:.]([0-9]{2}))?\s*(am|pm)?\s*", text.lower())
    hour, minute = (int(match[1]), int(match[2] or 0)) if match else (24, 0)
    if match and match[3]:
        hour = hour % 12 + 12 * (match[3] == "pm") if 1 <= hour <= 12 else 24
    if hour < 24 and minute < 60:
        return time(hour, minute)
    raise InputError(f'"{text}" is not a time of day', "write one such as 20:00")


def near_time(run: Run | RunEvidence, wanted: time) -> bool:
    """Whether a run began within an hour and a half of a time of day, round midnight too."""
    return near_moment(run.taken, wanted)


def near_moment(moment: datetime, wanted: time) -> bool:
    """The same of any moment."""

    def minutes(of: time | datetime) -> int:
        return of.hour * 60 + of.minute

    apart = abs(minutes(moment) - minutes(wanted))
    return min(apart, 1440 - apart) <= NEAR_MINUTES
