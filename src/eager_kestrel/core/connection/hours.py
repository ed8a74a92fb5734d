"""The uplink by hour of day: noon is not eight in the evening."""

from __future__ import annotations

from eager_kestrel.core.document import Frozen, format_name


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
