"""Measure gently: a load phase that climbs to the upload rate and never fills the queue."""

from __future__ import annotations

import contextlib
import time
from dataclasses import dataclass
from typing import Protocol

from eager_kestrel.actions.samples import QUIET_SECONDS, SAMPLE_SECONDS, Notebook, Samples
from eager_kestrel.core.connection.climbing import UNKNOWN, Climb, OnItsWay, SenderSample
from eager_kestrel.core.connection.progress import PartialResult, PhaseBegun, Tell
from eager_kestrel.core.connection.run import Ending, Phase, RoundTrip
from eager_kestrel.core.connection.throughput import Limits, limit_reached
from eager_kestrel.core.errors import EndpointError, InputError, NetworkError, interruptible
from eager_kestrel.core.units import Bitrate, DataSize
from eager_kestrel.net.pacing import Pacer
from eager_kestrel.net.roundtrips import RoundTrips
from eager_kestrel.net.target import UploadTarget
from eager_kestrel.net.upload import Upload

FLOOD = "measure without --gently"
LOOK_SECONDS = 0.002
TELL_SECONDS = 0.25
MOST_CLIMB_SECONDS, MOST_CLIMB_TRIPS = 13.0, 110.0
"""Unless told otherwise: with what goes before it, fifteen seconds, and more on a long way."""
BUSY_SHARE = 0.2
"""Of the time, beyond which it was this machine that kept a measurement from its end."""
WANTED_SECONDS = 4.0
"""Of the fastest that was sent: what a climb and its stretches take, and a little more."""
STILL_SECONDS = 6.0
"""Longer than a stall worth sitting out in so short a time."""
TRIPS_EVERY_SECONDS = 0.4


class Carrier(Protocol):
    """A connection that sends at a pace, and what is seen of it."""

    def turn(self, seconds: float) -> None:
        """Work, or let others work, for so long."""

    def delivered_bytes(self) -> int:
        """That the endpoint has; never falls."""

    def other_bytes(self) -> int:
        """That went over the connection beside it, for the measurement's own sake."""

    def waits(self) -> OnItsWay:
        """What is known of the bytes handed over."""

    @property
    def spent(self) -> bool:
        """Whether all that may be sent was."""

    @property
    def failure(self) -> NetworkError | None:
        """What broke it, once it is broken."""

    def round_trip_ms(self) -> float | None:
        """The last that is known."""


@dataclass
class Ascent:
    """One climb: a carrier, the pace it keeps, and what has been noted."""

    carrier: Carrier
    pace: Pacer
    climb: Climb
    limits: Limits
    tell: Tell
    samples: Samples
    otherwise: str
    """What to do where climbing cannot tell."""
    still: NetworkError | None = None
    """Once nothing is taken any more."""
    _taken: int = 0
    _took_at: float = 0.0

    @property
    def failure(self) -> NetworkError | None:
        """What broke it, once it is broken."""
        return self.carrier.failure or self.still

    def run(self) -> Ending:
        """Climb until nothing more is to be learned, or a limit comes; returns why it ended."""
        began, base = time.perf_counter(), self.carrier.delivered_bytes()
        noted = told = 0.0
        with interruptible():
            while True:
                self.carrier.turn(LOOK_SECONDS)
                delivered, now = self.carrier.delivered_bytes() - base, time.perf_counter() - began
                self.climb.look(SenderSample(now, delivered, self.carrier.waits()))
                self.pace.kbps = self.climb.rate_kbps
                if self.climb.edge or now - noted >= SAMPLE_SECONDS:
                    noted = now
                    self.samples.add(now, delivered + self.carrier.other_bytes())
                if ending := self._ended(now, delivered):
                    return ending
                if now - told >= TELL_SECONDS:
                    told = now
                    self._tell(now)
        return "stopped"

    def _ended(self, now: float, delivered: int) -> Ending | None:
        """Why it is over; None while it goes on."""
        if delivered > self._taken:
            self._taken, self._took_at = delivered, now
        quiet = now - self._took_at
        if self.carrier.spent and quiet >= QUIET_SECONDS:
            return "data"
        if quiet > STILL_SECONDS:
            self.still = EndpointError(
                f"it accepted nothing for {STILL_SECONDS:g} s", "try again, or another endpoint"
            )
        if self.failure is not None:
            return "failed"
        if self.climb.over:
            return "enough"
        return limit_reached(now - self._more(now), delivered, self.limits)

    def _more(self, now: float) -> float:
        """Seconds by which the limit is put off, where nobody set it."""
        if not self.limits.round_trips:
            return 0.0
        late = min(self.climb.late_seconds, now / 2)
        return self.limits.round_trips * self.climb.way_seconds + late

    def _tell(self, now: float) -> None:
        known = self.climb.upload_kbps or None
        self.tell(
            PartialResult(
                "one connection",
                now,
                self.samples.last_second_kbps(),
                typical_kbps=known,
                round_trip_ms=self.carrier.round_trip_ms(),
            )
        )

    def phase(self, ending: Ending, trips: tuple[RoundTrip, ...]) -> Phase:
        """What was learned.

        Raises:
            NetworkError: it broke before anything was.
            InputError: a limit came before anything was.
            KeyboardInterrupt: it was stopped before anything was.
        """
        failure = self.failure
        if not self.climb.stretches:
            if ending == "stopped":
                raise KeyboardInterrupt
            raise failure or self._too_little(ending)
        if self.climb.unsure:
            raise self._unsure()
        series = self.samples.series().model_copy(update={"stretches": tuple(self.climb.stretches)})
        return Phase(
            name="one connection",
            connections=1,
            ended=ending,
            ended_text=failure.line() if failure and ending == "failed" else "",
            method="climbing",
            max_kbps=self.climb.max_kbps if self.climb.held_most else None,
            late_share=round(self.climb.late_seconds / series.seconds[-1], 4),
            samples=series,
            round_trips=trips,
        )

    def _too_little(self, ending: Ending) -> InputError | EndpointError:
        used = DataSize(self.samples.delivered[-1])
        fastest = max(self.climb.upload_kbps, self.climb.rate_kbps)
        if ending == "data":
            return InputError(
                f"the data limit was used up after {used}, before the connection was full once",
                f"use --data-limit {DataSize(int(fastest * 125 * WANTED_SECONDS))} or more",
            )
        seconds, late = self.samples.seconds[-1], self.climb.late_seconds
        if late > BUSY_SHARE * seconds:
            return EndpointError(
                f"this computer is too busy to measure: it held the program up for {late:.0f} "
                f"of {seconds:.0f} s",
                "close other programs, and measure again",
            )
        if self.climb.resent_packets:
            return self._unsure()
        return EndpointError(
            "time ran out before the upload rate was known",
            "give it more --seconds",
        )

    def _unsure(self) -> EndpointError:
        """What came out depends on losses or on a window that is still opening."""
        rates = self.climb.rates_kbps or [self.samples.last_second_kbps()]
        low, high = Bitrate.from_kbps(min(rates)), Bitrate.from_kbps(max(rates))
        seen = str(high) if str(low) == str(high) else f"{low} to {high}"
        lost, way = self.climb.resent_packets, 1000 * self.climb.way_seconds
        why = f"{lost:,} packets were lost" if lost else "it was still speeding up"
        return EndpointError(
            f"measured gently, the rate could not be determined: {seen} were seen, and "
            f"{why} (round trip {way:.0f} ms)",
            self.otherwise,
        )


class _ByHttp:
    """An upload, with small requests beside it."""

    def __init__(self, load: Upload, trips: RoundTrips, pace: Pacer) -> None:
        self._load, self._trips, self._pace = load, trips, pace
        self._fastest = pace.kbps

    def turn(self, seconds: float) -> None:
        time.sleep(seconds)
        if self._pace.kbps > self._fastest:
            self._fastest = self._pace.kbps
            self._trips.pace(self._fastest)

    def delivered_bytes(self) -> int:
        return self._load.delivered_bytes()

    def other_bytes(self) -> int:
        return self._trips.delivered_bytes()

    def waits(self) -> OnItsWay:
        with contextlib.suppress(OSError):
            return self._load.waits()
        return UNKNOWN

    @property
    def spent(self) -> bool:
        return self._load.spent

    @property
    def failure(self) -> NetworkError | None:
        return self._load.failure

    def round_trip_ms(self) -> float | None:
        answered = [t.round_trip_ms for t in self._trips.taken[-3:] if t.round_trip_ms is not None]
        return answered[-1] if answered else None


def climb_by_http(notebook: Notebook, target: UploadTarget, limits: Limits, tell: Tell) -> Phase:
    """The load phase of a gentle measurement towards an address that takes POST.

    Raises:
        InputError: this system does not tell what is on its way, or a limit came too early.
        NetworkError: the endpoint failed before anything was learned.
    """
    tell(PhaseBegun("one connection", limits.seconds))
    climb, samples = Climb(), Samples()
    pace = Pacer(climb.rate_kbps)
    with Upload(target, 1, limits.data_bytes, pace) as load:
        with RoundTrips(target, time.perf_counter(), TRIPS_EVERY_SECONDS) as trips:
            trips.pace(climb.rate_kbps)
            carrier = _ByHttp(load, trips, pace)
            ascent = Ascent(carrier, pace, climb, limits, tell, samples, FLOOD)
            ending = ascent.run()
            taken = trips.taken
        load.stop()
        notebook.counted_by, notebook.address = load.counted_by, load.address
    if notebook.counted_by.startswith("estimate"):
        raise InputError("this system does not show what is still in flight", FLOOD)
    if climb.crowded:
        notebook.notes.append(
            "other traffic keeps the queue full: measure without --gently to see what one "
            "connection gets beside it"
        )
    return ascent.phase(ending, taken)
