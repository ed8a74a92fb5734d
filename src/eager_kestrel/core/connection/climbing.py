"""Find the upload rate without filling the queue, from what a sender can see.

Sending faster than the upload makes a queue grow at a rate that tells how much too fast it was:
self-induced congestion, which Jain and Dovrolis (Pathload, IEEE/ACM ToN 11(4), 2003) look for with
streams of one rate and Ribeiro et al. (pathChirp, PAM 2003) with one train of rising rates. While a
queue stands, bytes arrive at exactly the upload rate: the delivery rate that BBR takes (Cardwell et
al., CACM 60(2), 2017). This climbs until a queue begins to stand, lets it drain, and then holds a
small queue, a fiftieth of a second long, for a few short stretches. What arrives in a stretch is
the upload rate. Between stretches the upload is nearly free.

Pure: it is told what was seen and says how fast to send.
"""

from __future__ import annotations

import math
import statistics
from collections import deque
from dataclasses import dataclass, field
from typing import Final, Literal, NamedTuple

FIRST_KBPS = 300.0
GROWTH, STEP_SECONDS = 1.5, 0.12
STEP_CHUNKS = 3
CHUNK_BYTES = 2896
"""Two packets, which are acknowledged at once."""
STANDING_SECONDS = 0.025
"""A queue that long, for as long as ``SURE_SECONDS``, is the connection's and no hiccup."""
SURE_SECONDS = 0.02
BEGUN_SECONDS = 0.010
TARGET_SECONDS = 0.020
TARGET_WAYS = 0.2
"""Of the way: what is heard that late needs as much more room."""
DRAINED_SECONDS = 0.006
GAIN_SECONDS = 0.1
LEAST_FACTOR, MOST_FACTOR, MORE_FACTOR = 0.1, 1.25, 0.5
KEPT_UP = 0.85
"""Of the rate asked for, below which the system holds back: its window is still opening."""
GROWING = 1.1
STEP_TRIPS, STANDING_TRIPS, PATIENCE_TRIPS, STRETCH_TRIPS = 3, 2, 8, 8
"""Round trips that a step lasts, a queue has to stand, a window may open, a stretch is watched."""
LATE_SHARE = 0.1
"""Of a step that passed in such gaps, beyond which it says nothing of the connection."""
DRAIN_SECONDS = 0.8
FILL_SECONDS = 0.3
STRETCH_SECONDS, STRETCH_PACKETS = 0.4, 72
PAUSE_SECONDS, PAUSE_SHARE = 0.5, 0.03
HELD_SECONDS = 2.0
"""Of a stretch at the most that is allowed, where no queue says anything."""
LEAST_STRETCHES, MOST_STRETCHES = 4, 8
HELD_STRETCHES = 2
HELD = 0.95
ALIKE = 0.05
"""Stretches that differ by less have nothing more to tell."""
RECENT_SECONDS = 0.15
MEMORY_SECONDS = 6.0
"""Of arrivals: a stretch and what may be begun again of it."""
STARVED_SECONDS = 0.003
STARVING_SECONDS = 1.5
"""After which a line that cannot be kept full counts as it is: it is not the connection that is."""
MOST_AGAIN = 10
"""Stretches that are begun again because the sender was too slow to keep the upload full."""
MANY = 0.5
"""Of the looks within a stretch: so often the queue has to stand on the way."""
APART = 0.1
"""Stretches that differ by no more tell the connection's rate, even beside losses."""
OPENS_SECONDS = 0.05
"""A way on which a window takes a while to open; on a shorter one, rates differ by themselves."""
FEW_LOSSES = 2
SURE_OF_WINDOW = 0.75
PACKET_BYTES = 1448

WOKEN_LATE_SECONDS = 0.01
"""A program that sleeps for less is woken sooner than that, unless its machine is busy: by as much
what it saw may be late itself."""

State = Literal["climb", "drain", "fill", "stretch", "over"]


class OnItsWay(NamedTuple):
    """What a sender knows of the bytes it has handed over."""

    took_seconds: float | None = None
    """How long what arrived since the last look was on its way; None when nothing did."""
    age_seconds: float = 0.0
    """How long what is still on its way has been, the oldest of it."""
    round_trip_seconds: float | None = None
    """Of packets, smoothed by the system; None if it does not report it."""
    resent: int = 0
    """Packets that were sent again so far."""
    loss_based: bool = True
    """Whether the congestion control sends less after a loss."""


UNKNOWN: Final = OnItsWay()


@dataclass(frozen=True, slots=True)
class SenderSample:
    """What a sender sees at one moment."""

    seconds: float
    """Since it began."""
    delivered_bytes: int
    """That the endpoint has; never falls."""
    way: OnItsWay = UNKNOWN


@dataclass
class Wait:
    """How long what is sent waits, beyond what the way takes, and where."""

    base: float | None = None
    """What the way takes: the least that anything took. Seconds, as all here."""
    queue: float = 0.0
    """For which what is sent waits, on the way or in this machine."""
    begun_at: float | None = None
    """Since when there is a queue at all."""
    starved: bool = True
    """Whether there is none, or may have been none while nobody looked."""
    on_the_way: bool = False
    """Whether packets wait on the way; where the system does not tell, as if they did."""
    way: OnItsWay = UNKNOWN
    """As it was seen last."""
    late_seconds: float = 0.0
    """By which looks came too late, in all."""
    least_trip: float | None = None
    """The least round trip of packets, where the system tells."""
    _over_since: float | None = None
    _looked_at: float = 0.0

    def look(self, seen: SenderSample, chunk_seconds: float) -> None:
        """Take in what was seen; nothing shorter than a chunk can be told apart."""
        gap, took = seen.seconds - self._looked_at, seen.way.took_seconds
        self._looked_at, self.way = seen.seconds, seen.way
        if took is not None:
            self.base = took if self.base is None else min(self.base, took)
        late = gap if gap > WOKEN_LATE_SECONDS else 0.0
        self.late_seconds += late
        wait = max(took or 0.0, seen.way.age_seconds) - late
        slept = gap >= self.queue
        self.queue = 0.0 if self.base is None else max(0.0, wait - self.base)
        self.starved = slept or self.queue < STARVED_SECONDS
        self.on_the_way = self._rises(seen.way.round_trip_seconds)
        if self.queue < max(BEGUN_SECONDS, 0.75 * chunk_seconds):
            self.begun_at = None
        elif self.begun_at is None:
            self.begun_at = seen.seconds
        if self.queue < max(STANDING_SECONDS, 1.5 * chunk_seconds) or not self.on_the_way:
            self._over_since = None
        elif self._over_since is None:
            self._over_since = seen.seconds

    def _rises(self, trip: float | None) -> bool:
        """Whether packets take longer than the way does; what was lost does not count."""
        if trip is None:
            return True
        self.least_trip = trip if self.least_trip is None else min(self.least_trip, trip)
        return trip - self.least_trip >= BEGUN_SECONDS

    def stands(self, now: float) -> bool:
        """Whether there is a queue on the way that does not go by itself."""
        sure = max(SURE_SECONDS, STANDING_TRIPS * (self.least_trip or 0.0))
        return self._over_since is not None and now - self._over_since >= sure


@dataclass
class Climb:
    """How fast to send, look by look. For one connection."""

    max_kbps: float | None = None
    """Never above it; None for no bound."""
    min_kbps: float = 0.0
    """Never below it: what a resolution takes."""
    rate_kbps: float = FIRST_KBPS
    """To send at now."""
    stretches: list[tuple[float, float]] = field(default_factory=list)
    """Seconds in which the connection was full, or the most that is allowed was held."""
    rates_kbps: list[float] = field(default_factory=list)
    """What arrived in each of them."""
    crowded: bool = False
    """Whether the queue stayed long while next to nothing was sent: somebody else fills it."""
    edge: bool = False
    """Whether a stretch began or ended with the last look."""
    state: State = "climb"
    upload_kbps: float = 0.0
    """What the connection carries, as far as is known."""
    on_the_way: list[bool] = field(default_factory=list)
    """Of each stretch, whether a queue stood on the way, and not just in this machine."""
    resent: int = 0
    """Packets that were sent again within the stretches."""
    _since: float = 0.0
    _late: float = 0.0
    """Of the looks before."""
    _wait: Wait = field(default_factory=Wait)
    _stretch_at: float | None = None
    _arrived: deque[tuple[float, int]] = field(default_factory=deque)
    _again: int = 0
    _refills: int = 0
    _longest: float = 0.0
    """Queue of this stretch."""
    _looks: int = 0
    """Of this stretch."""
    _stood: int = 0
    """Of them, with a queue on the way."""
    _resent: int = 0
    """Before this stretch."""
    _at_most: bool = False
    """Whether what is held is the most that is allowed, with no queue to go by."""
    _refuted: bool = False
    """Whether the most that is allowed was seen not to be carried."""
    _early_resent: int = 0
    """Packets, before the connection was full; of ..."""
    _early_bytes: int = 0
    """... what had arrived by then."""
    _fastest: float = 0.0
    _grew_at: float = 0.0

    def __post_init__(self) -> None:
        self.rate_kbps = self._allowed(self.rate_kbps)

    @property
    def over(self) -> bool:
        """Whether there is nothing more to learn."""
        return self.state == "over"

    @property
    def unsure(self) -> bool:
        """Whether what was found may be the congestion window's rate and not the connection's.

        It is the connection's where a queue stood on the way. Without one, or beside losses that
        would shrink the window in time, it is so only where it came out alike each time and the
        window would be large enough.
        """
        if not self.rates_kbps or self._at_most:
            return False
        rates, outer = sorted(self.rates_kbps), len(self.rates_kbps) // 4
        middle = rates[outer : len(rates) - outer]
        apart = middle[-1] - middle[0] > APART * middle[-1]
        if sum(self.on_the_way) <= len(self.on_the_way) / 2:
            opening = apart and self.way_seconds > OPENS_SECONDS
            return opening or (self._wait.way.loss_based and self._wait.way.resent > 0)
        if self._wait.way.loss_based and self.resent + self._early_resent:
            return statistics.median(self.rates_kbps) > self._window_kbps or apart
        return apart and self.resent >= FEW_LOSSES

    @property
    def _window_kbps(self) -> float:
        """What CUBIC's mean window carries beside these losses (RFC 9438 section 5), with a margin.

        The greater of its own mean and that of Reno's, which it keeps up with.
        """
        seconds = sum(end - begin for begin, end in self.stretches)
        carried = statistics.fmean(self.rates_kbps) * 125 * seconds + self._early_bytes
        lost = (self.resent + self._early_resent + 1) * PACKET_BYTES / carried  # few were seen
        way = max(self.way_seconds, 1e-3)
        window = max(1.054 * float((way / lost) ** 0.75), math.sqrt(1.5 / lost))
        return SURE_OF_WINDOW * window * PACKET_BYTES * 8e-3 / way

    @property
    def way_seconds(self) -> float:
        """What the way takes there and back, as far as is known."""
        return self._wait.least_trip or self._wait.base or 0.0

    @property
    def late_seconds(self) -> float:
        """By which looks came too late: this machine had other things to do."""
        return self._wait.late_seconds

    @property
    def resent_packets(self) -> int:
        """That were sent again so far, in stretches or not."""
        return self._wait.way.resent

    @property
    def held_most(self) -> bool:
        """Whether the most that is allowed was held, so that the connection may carry more."""
        if self.max_kbps is None or not self.rates_kbps:
            return False
        return self._at_most or statistics.median(self.rates_kbps) >= HELD * self.max_kbps

    def look(self, seen: SenderSample) -> None:
        """Take in what was seen, and set how fast to go on."""
        if not self._arrived or seen.delivered_bytes > self._arrived[-1][1]:
            self._arrived.append((seen.seconds, seen.delivered_bytes))
        while len(self._arrived) > 1 and self._arrived[0][0] < seen.seconds - MEMORY_SECONDS:
            self._arrived.popleft()
        self._wait.look(seen, self._chunk_seconds)
        self.edge = False
        if (step := STEPS.get(self.state)) is not None:
            step(self, seen.seconds)

    @property
    def _chunk_seconds(self) -> float:
        """What the connection takes for one write: shorter than that nothing can be told apart."""
        return CHUNK_BYTES * 8e-3 / max(self.upload_kbps or self.rate_kbps, FIRST_KBPS)

    def _go(self, state: State, now: float, rate_kbps: float) -> None:
        self.state, self._since, self._late = state, now, self._wait.late_seconds
        self.rate_kbps = self._allowed(rate_kbps)

    def _allowed(self, kbps: float) -> float:
        kbps = max(kbps, self.min_kbps)
        return kbps if self.max_kbps is None else min(kbps, self.max_kbps)

    def _rate(self, begin: float, end: float) -> float:
        """What arrived between the first and the last arrival in there, in kbit/s; 0 when unknown.

        Arrivals are steps: from one to another their rate is exact.
        """
        within = [point for point in self._arrived if begin <= point[0] <= end]
        if len(within) < 2 or within[-1][0] <= within[0][0]:
            return 0.0
        (t0, n0), (t1, n1) = within[0], within[-1]
        return (n1 - n0) * 8e-3 / (t1 - t0)

    def _climb(self, now: float) -> None:
        if self._wait.stands(now):
            self._full(now)
            return
        way = self.way_seconds
        heard = max(STEP_SECONDS, STEP_CHUNKS * CHUNK_BYTES * 8e-3 / self.rate_kbps)
        heard = max(heard, (STEP_TRIPS - 1) * way)
        if now - self._since < heard + way:
            return
        carried = self._rate(now - heard, now)
        if carried < KEPT_UP * self.rate_kbps:
            self._held_back(now, carried, heard)
        elif self.rate_kbps == self.max_kbps:
            if self._refuted:
                self._full(now)
                return
            self.upload_kbps, self._at_most = self.max_kbps, True
            self._begin_stretch(now)
        else:
            self._early_resent, self._early_bytes = self._wait.way.resent, self._arrived[-1][1]
            self._go("climb", now, self.rate_kbps * GROWTH)

    def _held_back(self, now: float, carried: float, step: float) -> None:
        """Less arrives than is asked: full, unless its window opens, or the sender was slow."""
        if carried > GROWING * self._fastest:
            self._fastest, self._grew_at = carried, now
        elif self._wait.late_seconds - self._late > LATE_SHARE * (now - self._since):
            self._go("climb", now, self.rate_kbps)  # no more was sent: that says nothing
        elif now - max(self._grew_at, self._since) > max(step, PATIENCE_TRIPS * (self.way_seconds)):
            self._full(now)

    def _full(self, now: float) -> None:
        """The connection is full: note roughly what it carries, and let it drain."""
        self._at_most = False
        begun = now if self._wait.begun_at is None else self._wait.begun_at
        span = max(RECENT_SECONDS / 2, 4 * self._chunk_seconds, self.way_seconds)
        self.upload_kbps = (
            self._rate(min(begun, now - span), now)
            or self._rate(now - 2 * span, now)
            or self.rate_kbps / GROWTH
        )
        self._go("drain", now, PAUSE_SHARE * self.upload_kbps)

    def _drain(self, now: float) -> None:
        """Wait until the queue is gone and some time has passed."""
        spent, way = now - self._since, self.way_seconds
        if spent < PAUSE_SECONDS + way:
            return
        if self._wait.queue > DRAINED_SECONDS and spent < DRAIN_SECONDS + way:
            return
        self.crowded = self.crowded or self._wait.queue > STANDING_SECONDS
        self._go("fill", now, (MOST_FACTOR + MORE_FACTOR * self._refills) * self.upload_kbps)

    def _fill(self, now: float) -> None:
        """Load until a queue has begun; if none does, the upload carries more, or the window less.

        Something on the way may absorb a burst before it slows down (a proxy, a modem's own
        memory). If climbing on finds the upload full again at once, the next load is harder and
        longer.
        """
        begun, way = self._wait.begun_at, self.way_seconds
        if begun is not None and now - begun >= SURE_SECONDS / 2:
            self._begin_stretch(now)
            return
        at_least = max(FILL_SECONDS, STEP_CHUNKS * self._chunk_seconds) + way
        if now - self._since < at_least * (1 + self._refills):
            return
        if self._rate(now - max(RECENT_SECONDS, way), now) >= 0.9 * self.rate_kbps:
            self._refills += 1
            self._go("climb", now, self.rate_kbps)
        else:
            self._begin_stretch(now)

    def _begin_stretch(self, now: float) -> None:
        self._stretch_at, self._refills, self._longest = None, min(self._refills, 1), 0.0
        self._looks = self._stood = 0
        self._go("stretch", now, self.rate_kbps)

    def _stretch(self, now: float) -> None:
        """Hold a small queue: then what arrives is the connection's rate."""
        at, grew = self._arrived[-1][0], self._arrived[-1][0] == now
        queue, way = self._wait.queue, self.way_seconds
        self._longest = max(self._longest, queue)
        self._looks, self._stood = self._looks + 1, self._stood + self._wait.on_the_way
        if now - self._since < STANDING_TRIPS * way or self._stretch_at is None:
            self._resent = self._wait.way.resent  # what the filling lost
        patient = self._again < MOST_AGAIN and now - self._since < STARVING_SECONDS + 2 * way
        if self._wait.starved and not self._at_most and patient:
            self._again += self._stretch_at is not None
            self._stretch_at = None  # the connection ran empty, or may have while nobody looked
        elif self._stretch_at is None and grew:
            self._stretch_at, self.edge = at, True
        if self._at_most and self._wait.stands(now):
            self._full(now)
            return
        if not self._at_most:
            span = max(RECENT_SECONDS, 6 * self._chunk_seconds, way)
            recent = self._rate(max(now - span, self._since), now)
            if recent and now - self._since >= span / 2 + way:
                self.upload_kbps = max(recent, self.upload_kbps if self._wait.starved else 0.0)
            gain = max(GAIN_SECONDS, 2 * way, 4 * self._chunk_seconds)
            target = max(TARGET_SECONDS, 1.5 * self._chunk_seconds, TARGET_WAYS * way)
            factor = 1 + (target - queue) / gain
            wanted = self.upload_kbps * min(max(factor, LEAST_FACTOR), MOST_FACTOR)
            self.rate_kbps = self._allowed(wanted)
        if self._stretch_at is None or not grew:
            return
        length = max(
            STRETCH_SECONDS, STRETCH_PACKETS * PACKET_BYTES * 8e-3 / max(self.upload_kbps, 1.0)
        )
        length = HELD_SECONDS if self._at_most else max(length, STRETCH_TRIPS * way)
        if now - self._stretch_at >= length:
            self._end_stretch(now)

    def _end_stretch(self, now: float) -> None:
        assert self._stretch_at is not None
        begin, self.edge = self._stretch_at, True
        carried = self._rate(begin, now)
        short = self._at_most and carried < HELD * (self.max_kbps or 0.0)
        if short and self._longest >= BEGUN_SECONDS:
            self._refuted = True  # a burst of it was taken, and no more than that
            self._full(now)
            return
        if short and self._again < MOST_AGAIN:
            self._again += 1  # nothing waited: no more was sent
            self._begin_stretch(now)
            return
        self.stretches.append((round(begin, 4), round(now, 4)))
        self.rates_kbps.append(carried)
        self.on_the_way.append(self._stood >= MANY * self._looks)
        self.resent += self._wait.way.resent - self._resent
        if not self._at_most:
            self.upload_kbps = carried
        count, (low, high) = len(self.rates_kbps), (min(self.rates_kbps), max(self.rates_kbps))
        if self._at_most:
            enough = count >= HELD_STRETCHES
        else:
            alike = high - low <= ALIKE * high
            enough = count >= (LEAST_STRETCHES if alike else MOST_STRETCHES)
        if enough:
            self._go("over", now, PAUSE_SHARE * carried)
        elif self._at_most:
            self._begin_stretch(now)
        else:
            self._go("drain", now, PAUSE_SHARE * carried)


STEPS: Final = {
    "climb": Climb._climb,
    "drain": Climb._drain,
    "fill": Climb._fill,
    "stretch": Climb._stretch,
}
"""What each state does with a moment; ``over`` does nothing.

climb: raise the rate until a queue begins to stand. drain: pause until it is gone. fill: load until
one has begun again. stretch: hold it and count; then drain again, or end when enough is known.
"""
