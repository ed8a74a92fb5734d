"""What was read from a guideline page."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from typing import Any

from eager_kestrel.core.picture import frame_rate_text
from eager_kestrel.core.units import Bitrate

_ENDS = {"exactly": "exactly", "at_least": "at least", "at_most": "at most", "advised": "best"}


def taken_value(value: Any) -> str:
    """A value as read: a bitrate, a keyframe rule in seconds, floor, advised and ceiling."""
    if isinstance(value, Mapping):
        return ", ".join(f"{_ENDS[key]} {seconds:g} s" for key, seconds in value.items())
    if isinstance(value, Fraction):
        return frame_rate_text(value)
    if isinstance(value, Bitrate):
        return value.in_kbps()
    if isinstance(value, tuple) and len(value) == 3 and any(isinstance(v, Bitrate) for v in value):
        names = ("at least", "about", "at most")
        pairs = zip(names, value, strict=True)
        return ", ".join(f"{name} {rate.in_kbps()}" for name, rate in pairs if rate is not None)
    return ", ".join(map(taken_value, value)) if isinstance(value, tuple) else str(value)
