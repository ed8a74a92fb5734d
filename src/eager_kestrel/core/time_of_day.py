"""Times of day: noon is not eight in the evening."""

from __future__ import annotations

import re
from datetime import datetime, time

from eager_kestrel.core.errors import InputError

NEAR_MINUTES = 90


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


def minutes_apart(one: time | datetime, other: time | datetime) -> int:
    """Minutes between two times of day, round midnight too."""
    minutes = abs(60 * (one.hour - other.hour) + one.minute - other.minute)
    return min(minutes, 1440 - minutes)


def near_moment(moment: datetime, wanted: time) -> bool:
    """Whether it is within an hour and a half of a time of day."""
    return minutes_apart(moment, wanted) <= NEAR_MINUTES
