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

import statistics
from collections import deque
from dataclasses import dataclass, field
from typing import Final, Literal

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
DRAINED_SECONDS = 0.006
GAIN_SECONDS = 0.1
LEAST_FACTOR, MOST_FACTOR, MORE_FACTOR = 0.1, 1.25, 0.5
KEPT_UP = 0.85
"""Of the rate asked for, below which the system holds back: its window is still opening."""
GROWING, PATIENCE_ROUND_TRIPS = 1.1, 3
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

State = Literal["climb", "drain", "fill", "stretch", "over"]


@dataclass(frozen=True, slots=True)
class SenderSample:
    """What a sender sees at one moment."""

    seconds: float
    """Since it began."""
    delivered_bytes: int
    """That the far end has; never falls."""
    took_seconds: float | None = None
    """How long what arrived since the last look was on its way; None when nothing did."""
    age_seconds: float = 0.0
    """How long what is still on its way has been, the oldest of it."""


@dataclass
class Climb:
    """How fast to send, look by look. For one connection."""

    most_kbps: float | None = None
    """Never above it; None for no bound."""
    least_kbps: float = 0.0
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
    _since: float = 0.0
    _base: float | None = None
    _over_since: float | None = None
    _begun_at: float | None = None
    _stretch_at: float | None = None
    _arrived: deque[tuple[float, int]] = field(default_factory=deque)
    _looked_at: float = 0.0
    _starved: bool = True
    _again: int = 0
    _refills: int = 0
    _longest: float = 0.0
    """Queue of this stretch."""
    _queue: float = 0.0
    _at_most: bool = False
    """Whether what is held is the most that is allowed, with no queue to go by."""
    _refuted: bool = False
    """Whether the most that is allowed was seen not to be carried."""
    _fastest: float = 0.0
    _grew_at: float = 0.0

    def __post_init__(self) -> None:
        self.rate_kbps = self._allowed(self.rate_kbps)

    @property
    def over(self) -> bool:
        """Whether there is nothing more to learn."""
        return self.state == "over"

    @property
    def held_most(self) -> bool:
        """Whether the most that is allowed was held, so that the connection may carry more."""
        if self.most_kbps is None or not self.rates_kbps:
            return False
        return self._at_most or statistics.median(self.rates_kbps) >= HELD * self.most_kbps

    def look(self, seen: SenderSample) -> None:
        """Take in what was seen, and set how fast to go on."""
        if not self._arrived or seen.delivered_bytes > self._arrived[-1][1]:
            self._arrived.append((seen.seconds, seen.delivered_bytes))
        while len(self._arrived) > 1 and self._arrived[0][0] < seen.seconds - MEMORY_SECONDS:
            self._arrived.popleft()
        gap, self._looked_at = seen.seconds - self._looked_at, seen.seconds
        slept, took = gap >= self._queue, seen.took_seconds
        if took is not None:
            self._base = took if self._base is None else min(self._base, took)
        wait = max(took or 0.0, seen.age_seconds)
        self._queue = 0.0 if self._base is None else max(0.0, wait - self._base)
        chunk = self._chunk_seconds
        if self._queue < max(BEGUN_SECONDS, 0.75 * chunk):
            self._begun_at = None
        elif self._begun_at is None:
            self._begun_at = seen.seconds
        if self._queue < max(STANDING_SECONDS, 1.5 * chunk):
            self._over_since = None
        elif self._over_since is None:
            self._over_since = seen.seconds
        self._starved = slept or self._queue < STARVED_SECONDS
        self.edge = False
        if (step := STEPS.get(self.state)) is not None:
            step(self, seen.seconds)

    @property
    def _chunk_seconds(self) -> float:
        """What the connection takes for one write: shorter than that nothing can be told apart."""
        return CHUNK_BYTES * 8e-3 / max(self.upload_kbps or self.rate_kbps, FIRST_KBPS)

    def _go(self, state: State, now: float, rate_kbps: float) -> None:
        self.state, self._since = state, now
        self.rate_kbps = self._allowed(rate_kbps)

    def _allowed(self, kbps: float) -> float:
        kbps = max(kbps, self.least_kbps)
        return kbps if self.most_kbps is None else min(kbps, self.most_kbps)

    def _stands(self, now: float) -> bool:
        return self._over_since is not None and now - self._over_since >= SURE_SECONDS

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
        if self._stands(now):
            self._full(now)
            return
        step = max(STEP_SECONDS, STEP_CHUNKS * CHUNK_BYTES * 8e-3 / self.rate_kbps)
        if now - self._since < step:
            return
        carried = self._rate(now - step, now)
        if carried < KEPT_UP * self.rate_kbps:
            self._held_back(now, carried, step)
        elif self.rate_kbps == self.most_kbps:
            if self._refuted:
                self._full(now)
                return
            self.upload_kbps, self._at_most = self.most_kbps, True
            self._begin_stretch(now)
        else:
            self._go("climb", now, self.rate_kbps * GROWTH)

    def _held_back(self, now: float, carried: float, step: float) -> None:
        """The system takes less than is asked: full, unless its window is opening all the while."""
        if carried > GROWING * self._fastest:
            self._fastest, self._grew_at = carried, now
            return
        patience = step + PATIENCE_ROUND_TRIPS * (self._base or 0)
        if now - max(self._grew_at, self._since) > patience:
            self._full(now)

    def _full(self, now: float) -> None:
        """The connection is full: note roughly what it carries, and let it drain."""
        self._at_most = False
        begun = now if self._begun_at is None else self._begun_at
        span = max(RECENT_SECONDS / 2, 4 * self._chunk_seconds)
        self.upload_kbps = (
            self._rate(min(begun, now - span), now)
            or self._rate(now - 2 * span, now)
            or self.rate_kbps / GROWTH
        )
        self._go("drain", now, PAUSE_SHARE * self.upload_kbps)

    def _drain(self, now: float) -> None:
        """Wait until the queue is gone and some time has passed."""
        spent = now - self._since
        if spent < PAUSE_SECONDS:
            return
        if self._queue > DRAINED_SECONDS and spent < DRAIN_SECONDS:
            return
        self.crowded = self.crowded or self._queue > STANDING_SECONDS
        self._go("fill", now, (MOST_FACTOR + MORE_FACTOR * self._refills) * self.upload_kbps)

    def _fill(self, now: float) -> None:
        """Load until a queue has begun; if none does, the upload carries more, or the window less.

        Something on the way may absorb a burst before it slows down (a proxy, a modem's own
        memory). If climbing on finds the upload full again at once, the next load is harder and
        longer.
        """
        if self._begun_at is not None and now - self._begun_at >= SURE_SECONDS / 2:
            self._begin_stretch(now)
            return
        at_least = max(FILL_SECONDS, STEP_CHUNKS * self._chunk_seconds)
        if now - self._since < at_least * (1 + self._refills):
            return
        if self._rate(now - RECENT_SECONDS, now) >= 0.9 * self.rate_kbps:
            self._refills += 1
            self._go("climb", now, self.rate_kbps)
        else:
            self._begin_stretch(now)

    def _begin_stretch(self, now: float) -> None:
        self._stretch_at, self._refills, self._longest = None, min(self._refills, 1), 0.0
        self._go("stretch", now, self.rate_kbps)

    def _stretch(self, now: float) -> None:
        """Hold a small queue: then what arrives is the connection's rate."""
        at, grew = self._arrived[-1][0], self._arrived[-1][0] == now
        self._longest = max(self._longest, self._queue)
        patient = self._again < MOST_AGAIN and now - self._since < STARVING_SECONDS
        if self._starved and not self._at_most and patient:
            self._again += self._stretch_at is not None
            self._stretch_at = None  # the connection ran empty, or may have while nobody looked
        elif self._stretch_at is None and grew:
            self._stretch_at, self.edge = at, True
        if self._at_most and self._stands(now):
            self._full(now)
            return
        if not self._at_most:
            span = max(RECENT_SECONDS, 6 * self._chunk_seconds)
            recent = self._rate(max(now - span, self._since), now)
            if recent and now - self._since >= span / 2:
                self.upload_kbps = recent
            gain = max(GAIN_SECONDS, 2 * (self._base or 0.0), 4 * self._chunk_seconds)
            factor = 1 + (max(TARGET_SECONDS, 1.5 * self._chunk_seconds) - self._queue) / gain
            wanted = self.upload_kbps * min(max(factor, LEAST_FACTOR), MOST_FACTOR)
            self.rate_kbps = self._allowed(wanted)
        if self._stretch_at is None or not grew:
            return
        length = max(STRETCH_SECONDS, STRETCH_PACKETS * 1448 * 8e-3 / max(self.upload_kbps, 1.0))
        if self._at_most:
            length = HELD_SECONDS
        if now - self._stretch_at >= length:
            self._end_stretch(now)

    def _end_stretch(self, now: float) -> None:
        assert self._stretch_at is not None
        begin, self.edge = self._stretch_at, True
        carried = self._rate(begin, now)
        short = self.most_kbps is not None and carried < HELD * self.most_kbps
        if short and self._at_most and self._longest >= BEGUN_SECONDS:
            self._refuted = True  # a burst of it was taken, and no more than that
            self._full(now)
            return
        self.stretches.append((round(begin, 4), round(now, 4)))
        self.rates_kbps.append(carried)
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
