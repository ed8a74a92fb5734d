"""A TCP connection over a link with a rate, a queue, a way and losses, in steps of a millisecond.

Windows grow and shrink as in CUBIC (RFC 9438, with HyStart's end of slow start), follow the
delivery rate as in BBR (Cardwell et al., CACM 60(2), 2017), or are open; without what does not
matter here.
"""

from __future__ import annotations

import heapq
import random
from collections import deque
from dataclasses import dataclass, field

from eager_kestrel.core.connection.climbing import CHUNK_BYTES, Climb, OnItsWay, SenderSample

PACKET, PAYLOAD = 1500, 1448
TICK = 0.001


@dataclass
class Tcp:
    """The connection; :meth:`tick` lets a millisecond pass."""

    mbps: float
    trip: float
    """Round trip without a queue, seconds."""
    loss: float = 0.0
    control: str = "cubic"
    queue: float = 0.1
    seed: int = 0
    other_share: float = 0.0
    """Of the link that somebody else sends all the while."""
    longest_queue: float = 0.0
    long_seconds: float = 0.0
    """In which the queue was longer than 150 ms."""
    unsent: int = 0
    delivered: int = 0
    resent: int = 0
    smoothed: float | None = None
    window: float = 10.0
    _bytes: float = 0.0
    _free: float = 0.0
    _now: float = 0.0
    _other_due: float = 0.0
    _number: int = 0
    _events: list[tuple[float, int, bool, float, int, bool]] = field(default_factory=list)
    """When, which, arrived or known to be lost, sent when, delivered then, short of data then."""
    _lost: int = 0
    _threshold: float = 1e9
    _least: float = 1e9
    _most_out: float = 0.0
    _recovers: float = -1.0
    _reduced_at: float | None = None
    _reduced_to: float = 0.0
    _before: float = 0.0
    _rates: deque[tuple[float, float]] = field(default_factory=deque)
    _short_until: int = 0
    _startup: bool = True
    _full_rate: float = 0.0
    _rounds: int = 0
    _round_end: float = 0.0
    _may_send_at: float = 0.0

    def __post_init__(self) -> None:
        self._chance, self._bytes = random.Random(self.seed), self.mbps * 125_000

    @property
    def left_kbps(self) -> float:
        """What there is for us."""
        return self.mbps * 1000 * (1 - self.other_share) * PAYLOAD / PACKET

    def hand_over(self, count: int) -> None:
        if self.unsent <= 0 and len(self._events) < self.window:
            self._short_until = max(1, self.delivered + len(self._events) * PAYLOAD)
        self.unsent += count

    def tick(self, now: float) -> None:
        self._now = now
        while self.other_share and self._other_due <= now:
            self._free = max(self._free, self._other_due) + PACKET / self._bytes
            self._other_due += PACKET / (self.other_share * self._bytes)
        self.longest_queue = max(self.longest_queue, self._free - now)
        self.long_seconds += TICK * (self._free - now > 0.15)
        while self._events and self._events[0][0] <= now:
            at, _, arrived, sent_at, before, short = heapq.heappop(self._events)
            if arrived:
                self._acknowledged(at, sent_at, before, short)
            else:
                self._lost += 1
                self._shrink(at, sent_at)
        rate = max((rate for _, rate in self._rates), default=0.0)
        if self.control == "bbr" and rate:
            least = 10 if self._startup else 4
            self.window = max(least, (2.89 if self._startup else 2) * rate * self._least / PAYLOAD)
        while (self.unsent > 0 or self._lost) and len(self._events) < self.window:
            if self.control == "bbr" and rate:
                if self._may_send_at > now:
                    break
                gain = 2.89 if self._startup else (1.25, 0.75, 1, 1, 1, 1, 1, 1)[self._phase]
                self._may_send_at = max(self._may_send_at, now - TICK) + PAYLOAD / (gain * rate)
            self._send()
        self._most_out = max(self._most_out * 0.999, len(self._events))

    @property
    def _phase(self) -> int:
        return int(self._now / max(self.trip, TICK)) % 8

    def _send(self) -> None:
        if self._lost:
            self._lost, self.resent = self._lost - 1, self.resent + 1
        else:
            self.unsent -= PAYLOAD
        self._free = max(self._free, self._now)
        dropped = self._free - self._now > self.queue or self._chance.random() < self.loss
        if not dropped:
            self._free += PACKET / self._bytes
        at = self._free + self.trip + (0.002 if dropped else 0.0)
        self._number += 1
        event = (at, self._number, not dropped, self._now, self.delivered, self._short_until > 0)
        heapq.heappush(self._events, event)

    def _acknowledged(self, at: float, sent_at: float, before: int, short: bool) -> None:
        self.delivered += PAYLOAD
        if self.delivered > self._short_until:
            self._short_until = 0
        took = at - sent_at
        self._least = min(self._least, took)
        self.smoothed = (
            took if self.smoothed is None else self.smoothed + (took - self.smoothed) / 8
        )
        if self.control == "bbr":
            self._sampled(at, took, (self.delivered - before) / max(took, 1e-4), short)
        if self.control != "cubic":
            return
        if self._most_out < self.window and self.window >= min(self._threshold, 2 * self._most_out):
            return
        if self.window < self._threshold:
            self.window += 1
            if took > self._least + min(max(self._least / 8, 0.004), 0.016):
                self._threshold = self.window
            return
        if self._reduced_at is None:
            self._reduced_at, self._reduced_to = at, self.window
            self._before = max(self._before, self.window)
        since = at - self._reduced_at
        bend = (max(self._before - self._reduced_to, 0.0) / 0.4) ** (1 / 3)
        cubic = 0.4 * (since + self.trip - bend) ** 3 + self._before
        reno = self._reduced_to + 0.53 * since / max(self.smoothed, TICK)
        self.window += max(max(cubic, reno) - self.window, 0.01) / self.window

    def _shrink(self, at: float, sent_at: float) -> None:
        if self.control != "cubic" or sent_at <= self._recovers:
            return
        self._recovers = self._reduced_at = at
        self._before, self.window = self.window, max(2.0, 0.7 * self.window)
        self._threshold = self._reduced_to = self.window

    def _sampled(self, at: float, took: float, rate: float, short: bool) -> None:
        best = max((known for _, known in self._rates), default=0.0)
        if not short or rate >= best:
            while self._rates and self._rates[-1][1] <= rate:
                self._rates.pop()
            self._rates.append((at, rate))
            while self._rates[0][0] < at - 10 * max(self.trip, 0.02):
                self._rates.popleft()
        if at < self._round_end:
            return
        self._round_end = at + took
        if self._startup and not short:
            grew = best >= 1.25 * self._full_rate
            self._rounds = 0 if grew else self._rounds + 1
            self._full_rate = best if grew else self._full_rate
            self._startup = self._rounds < 3

    def bare_kbps(self, opens: float, seconds: float) -> float:
        """What a sender gets that always has something to send, once its window has opened."""
        now, begun = 0.0, 0
        while now < opens + seconds:
            self.unsent = 20 * PAYLOAD
            self.tick(now)
            now += TICK
            begun = begun or (self.delivered if now >= opens else 0)
        return (self.delivered - begun) * 8e-3 / seconds

    def climbed(self, climb: Climb, most_seconds: float) -> float:
        """Let it be climbed on; returns the seconds that took."""
        now = credit = last = looked = 0.0
        marks: deque[tuple[int, float]] = deque()
        handed = 0
        while now < most_seconds and not climb.over:
            wanted = climb.rate_kbps * 125
            chunk = max(CHUNK_BYTES, int(wanted * 0.004) // PAYLOAD * PAYLOAD)
            credit = min(credit + (now - last) * wanted, max(2 * chunk, wanted * 0.04))
            last = now
            while credit >= chunk and self.unsent < 2 * chunk:
                credit, handed = credit - chunk, handed + chunk
                self.hand_over(chunk)
                marks.append((handed, now))
            self.tick(now)
            if now >= looked:
                took = None
                while marks and marks[0][0] <= self.delivered:
                    took = now - marks.popleft()[1]
                age = now - marks[0][1] if marks else 0.0
                way = OnItsWay(took, age, self.smoothed, self.resent, self.control != "bbr")
                climb.look(SenderSample(now, self.delivered, way))
                looked = now + 2 * TICK
            now += TICK
        return now
