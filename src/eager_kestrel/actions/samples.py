"""Samples of one load phase as they come in, and what they say so far."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.climbing import WOKEN_LATE_SECONDS
from eager_kestrel.core.connection.progress import PartialResult, Tell
from eager_kestrel.core.connection.run import (
    Background,
    BothEnds,
    Endpoint,
    Phase,
    PhaseName,
    Run,
    Series,
)
from eager_kestrel.core.connection.throughput import Limits, throughput
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.units import Bitrate, DataSize
from eager_kestrel.version import __version__

if TYPE_CHECKING:
    from eager_kestrel.net.roundtrips import RoundTrips


SAMPLE_SECONDS = 0.05
POLL_SECONDS = 0.004
POLLED_KBPS = 10_000.0
"""Up to here a packet is long enough for the moment of its arrival to matter."""
SILENT_SECONDS = 0.25
"""With nothing for so long the connection stands still; for less, a packet is still on its way."""
QUIET_SECONDS = 0.3
"""After the last byte that was allowed: what was written has arrived."""
SPAN_SECONDS = 0.5
"""Over which a rate is taken where little was sent."""
LEAST_LOAD_SECONDS = 3.0
"""Of load, for a ramp and a little that is steady."""


@dataclass
class Samples:
    """Samples of one phase as they come in."""

    seconds: list[float] = field(default_factory=lambda: [0.0])
    delivered: list[int] = field(default_factory=lambda: [0])

    def add(self, seconds: float, delivered: int) -> None:
        """One more; the count is kept from falling."""
        self.seconds.append(round(seconds, 4))
        self.delivered.append(max(self.delivered[-1], delivered))

    def series(self) -> Series:
        """All of them."""
        return Series(seconds=tuple(self.seconds), delivered_bytes=tuple(self.delivered))

    def end_at(self, seconds: float) -> None:
        """Leave out what was noted after a moment."""
        while len(self.seconds) > 1 and self.seconds[-1] > seconds + 1e-4:
            self.seconds.pop()
            self.delivered.pop()

    def last_second_kbps(self) -> float:
        """Over the last second."""
        now = self.seconds[-1]
        index = next(i for i, at in enumerate(self.seconds) if at >= now - 1)
        span = now - self.seconds[index]
        return (self.delivered[-1] - self.delivered[index]) / span / 125 if span > 0 else 0.0


@dataclass
class Arrivals:
    """When a count last grew.

    On a slow connection a count is a staircase. A step is two packets per acknowledgement, and
    lasts as long as a sample. Read at even times, the count is off by up to one step, and always by
    the same part of it if the two lengths agree. Read when it grows, it is exact.
    """

    count: Callable[[], int]
    now: Callable[[], float] = time.perf_counter
    sleep: Callable[[float], None] = time.sleep
    seen: int = 0
    grew_at: float = 0.0
    late_seconds: float = 0.0
    """By which this machine woke it too late, in all; small change is not counted."""

    def until(self, end: float, upload_kbps: float) -> float | None:
        """Watch until then; returns the moment for which ``seen`` is exact, None if there is none.

        None while a packet is on its way; a standstill has every moment.
        """
        before = self.grew_at
        while True:
            if (left := end - (slept_at := self.now())) > 0:
                pause = min(left, POLL_SECONDS) if upload_kbps < POLLED_KBPS else left
                self.sleep(pause)
                late = self.now() - slept_at - pause
                self.late_seconds += late if late > WOKEN_LATE_SECONDS else 0.0
            count, now = self.count(), self.now()
            if count > self.seen:
                self.seen, self.grew_at = count, now
            if now >= end:
                break
        if self.grew_at > before:
            return self.grew_at
        return now if now - before >= SILENT_SECONDS else None


def too_little(samples: Samples, limits: Limits) -> InputError:
    """The data limit was used up before anything steady was seen: what would do."""
    at, count = np.array(samples.seconds), np.array(samples.delivered, dtype=np.float64)
    since = np.maximum(at - SPAN_SECONDS, 0.0)
    gained = count - np.interp(since, at, count)
    fastest = float((gained / np.maximum(at - since, SAMPLE_SECONDS)).max())
    seconds = max(samples.seconds[-1], SAMPLE_SECONDS)
    rate = Bitrate.from_kbps(fastest / 125)
    wanted = DataSize(int(fastest * LEAST_LOAD_SECONDS))
    return InputError(
        f"the data limit of {DataSize(limits.data_bytes or 0)} was used up after {seconds:.1f} s, "
        f"at up to {rate}; that is too short to tell",
        f"use --data-limit {wanted} or more",
    )


def tell_learned(
    series: Series, samples: Samples, name: PhaseName, trips: RoundTrips, tell: Tell
) -> None:
    """Tell how the phase goes."""
    found = throughput(series)
    answered = [t.round_trip_ms for t in trips.taken[-3:] if t.round_trip_ms is not None]
    tell(
        PartialResult(
            name,
            samples.seconds[-1],
            samples.last_second_kbps(),
            typical_kbps=found.typical_kbps if found else None,
            floor_kbps=found.floor_kbps if found else None,
            round_trip_ms=answered[-1] if answered else None,
        )
    )


def run_id(taken_at: datetime) -> str:
    """Sortable by time, unique on this machine."""
    return f"{taken_at.astimezone(UTC).strftime('%Y%m%d-%H%M%S')}-{secrets.token_hex(2)}"


@dataclass
class Notebook:
    """What a measurement has learned so far."""

    endpoint: Endpoint
    taken_at: datetime
    counted_by: str = ""
    address: str = ""
    background: Background | None = None
    idle: Phase | None = None
    one: Phase | None = None
    repeated: Phase | None = None
    """One connection, where this machine was too busy and it was measured again."""
    sustained: Phase | None = None
    several: Phase | None = None
    both_ends: BothEnds | None = None
    notes: list[str] = field(default_factory=list)

    @property
    def loads(self) -> list[Phase]:
        """Its load phases so far."""
        return [p for p in (self.one, self.sustained, self.several) if p is not None]

    def used_bytes(self) -> int:
        """What its load phases delivered."""
        phases = [*self.loads, *([self.repeated] if self.repeated is not None else [])]
        return sum(p.samples.delivered_bytes[-1] for p in phases if p.samples.delivered_bytes)

    def run(self, *, partial: bool) -> Run:
        """What there is of it, as a run."""
        return Run(
            id=run_id(self.taken_at),
            taken_at=self.taken_at.isoformat(timespec="seconds"),
            version=__version__,
            endpoint=self.endpoint.model_copy(update={"address": self.address}),
            counted_by=self.counted_by,
            partial=partial,
            notes=tuple(self.notes),
            background=self.background,
            idle=self.idle,
            one_connection=self.one,
            sustained=self.sustained,
            several_connections=self.several,
            both_ends=self.both_ends,
            data_used_bytes=self.used_bytes(),
        )
