"""The uplink: what one connection can be relied on to carry.

It comes from runs (:mod:`eager_kestrel.core.connection.pooling`) or from a single number that a
person gives. A single number says less, and the uplink is marked so.
"""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import runs as words

ASSUMED_SPREAD = 0.4
"""(P90 - P10) / typical assumed of a line known by one number only: an ordinary household's."""


BURST_SECONDS = 30.0
"""Watched for so long at the rate of a plan, a run has seen a burst of up to 25 s end."""
BETWEEN_SAMPLES = 0.06
"""A sample has the moment of the last arrival, a little before the moment it was taken."""


def burst_excluded(watched_seconds: float) -> bool:
    """Whether a connection was watched long enough to have seen a burst end."""
    return watched_seconds >= BURST_SECONDS - BETWEEN_SAMPLES


class SeenSafe(Frozen):
    """What everything observed of the connection says may be sent."""

    kbps: float
    """The seen-safe rate: the highest total whose avoidable stutter keeps the limit, less
    headroom; where no rate keeps it, or leaves too little, the lowest that is worth sending."""
    held_kbps: float
    """The highest total that kept the limit in what was observed, without headroom; 0 where none
    did."""
    held_is_all: bool = False
    """Whether that is all the connection carried on average, and not where the limit is reached."""
    headroom: float
    """0..1 of the seen-safe rate, for what so short a time does not show."""
    observed_seconds: float
    limit_seconds_per_hour: float
    """Of stutter that is accepted."""
    lowest_kbps: float
    """The lowest total worth sending: what makes even that late is a standstill."""
    lifted: bool = False
    """Whether it is the lowest worth sending, though that does not keep the limit."""


class Uplink(Frozen):
    """What the connection carries on one connection, in kbit/s of delivered payload."""

    typical_kbps: float
    """Median of two-second windows."""
    floor_kbps: float
    """10th percentile: nine windows out of ten did at least this."""
    floor_low_kbps: float | None = None
    """Lower end of the floor's 95 % interval."""
    floor_high_kbps: float | None = None
    """Upper end of it."""
    spread: float
    """(P90 - P10) / typical."""
    stalled_share: float = 0.0
    """Share of windows under a quarter of typical."""
    basis: Literal["runs", "one run", "assumed"]
    """What it rests on; ``assumed`` marks a spread nobody measured."""
    text: str
    """The basis in words."""
    runs: tuple[str, ...] = ()
    """Ids of the runs it rests on."""
    broadcasts: tuple[str, ...] = ()
    """Ids of the broadcasts that count beside them."""
    runs_floor_kbps: float | None = None
    """The floor of the runs alone, where broadcasts contradict them ..."""
    contradicted_kbps: float | None = None
    """... and what these got while frames were queued."""
    watched_seconds: float | None = None
    """How long the longest of the runs loaded one connection; none without runs."""
    round_trip_ms: float | None = None
    """Median of its runs' idle round trips; None if no run measured them."""
    practice: bool = False
    """Whether the runs went through a simulated connection."""
    around: str | None = None
    """The time of day they were taken near, where one was asked for."""
    seen_safe: SeenSafe | None = None
    """The rate that everything observed allows; None if nothing was observed."""

    @property
    def may_be_burst(self) -> bool:
        """Whether its runs were too short to have seen a burst end."""
        watched = self.watched_seconds
        return watched is not None and not self.practice and not burst_excluded(watched)

    @property
    def known_by(self) -> Literal["runs", "one run", "number", "readings", "practice"]:
        """How well it is known, for those who have to say so."""
        if self.practice:
            return "practice"
        if self.basis == "assumed":
            return "readings" if self.runs else "number"
        return self.basis


def assumed_uplink(upload: Bitrate, written: str = "") -> Uplink:
    """The uplink behind a bare number: typical as given, an ordinary spread assumed around it."""
    return Uplink(
        typical_kbps=upload.kbps,
        floor_kbps=round(upload.kbps * (1 - ASSUMED_SPREAD / 2), 3),
        spread=ASSUMED_SPREAD,
        basis="assumed",
        text=words.bare_number(upload, written, ASSUMED_SPREAD),
    )


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
    """Runs that learned nothing, since the connection or the endpoint was down."""
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
    text: str = ""
    """Of which days they are, in words, where a show says on which it is."""
