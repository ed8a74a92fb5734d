"""Sending at a rate that may change at any moment, and seeing how long bytes are on their way."""

from __future__ import annotations

import threading
import time
from collections import deque
from typing import TYPE_CHECKING

from eager_kestrel.core.line.climbing import CHUNK_BYTES

if TYPE_CHECKING:
    from eager_kestrel.net.delivered import DeliveredCounter

WRITE_SECONDS = 0.004
"""What one write holds, where that is more than two packets."""
LATE_SECONDS = 0.04
"""By so much a writer may be late and catch up: about the queue that is held anyway."""
PACKET_BYTES = 1448
NAP_SECONDS = 0.01
"""The longest sleep, since the rate may rise meanwhile."""


class Pacer:
    """Bytes that may be written by now, at a rate that somebody else sets."""

    def __init__(self, kbps: float) -> None:
        self.kbps = kbps
        self._credit, self._at = 0.0, time.perf_counter()

    @property
    def write_bytes(self) -> int:
        """What one write is to hold: whole packets."""
        packets = int(self.kbps * 125 * WRITE_SECONDS) // PACKET_BYTES
        return max(CHUNK_BYTES, packets * PACKET_BYTES)

    def allowed(self) -> int:
        """Bytes that may be written now; what is long past is lost, not caught up in a burst."""
        now = time.perf_counter()
        most = max(2 * self.write_bytes, self.kbps * 125 * LATE_SECONDS)
        self._credit = min(self._credit + (now - self._at) * self.kbps * 125, most)
        self._at = now
        return int(self._credit)

    def spend(self, count: int) -> None:
        """So many were written."""
        self._credit -= count

    def wait(self, stop: threading.Event) -> int:
        """Sleep until a write is due; returns its bytes, or 0 once ``stop`` is set."""
        while not stop.is_set():
            wanted = self.write_bytes
            allowed = self.allowed()
            if allowed >= wanted:
                self.spend(wanted)
                return wanted
            missing = (wanted - allowed) / max(self.kbps * 125, 1.0)
            stop.wait(min(missing, NAP_SECONDS))
        return 0


class Waits:
    """How long what is handed to a connection takes until the far end has it."""

    def __init__(self, counter: DeliveredCounter) -> None:
        self._counter = counter
        self._marks: deque[tuple[int, float]] = deque()

    def handed_over(self, at: float) -> None:
        """Everything written so far was handed over by then (``time.perf_counter``)."""
        whole = self._counter.delivered_bytes() + self._counter.waiting_bytes()
        self._marks.append((whole, at))

    def look(self, delivered_bytes: int) -> tuple[float | None, float]:
        """Seconds that what arrived took, and the age of the oldest that has not arrived.

        None for the one when nothing has arrived since the last look, 0 for the other when nothing
        is on its way.
        """
        now, took = time.perf_counter(), None
        while self._marks and self._marks[0][0] <= delivered_bytes:
            took = now - self._marks.popleft()[1]
        return took, now - self._marks[0][1] if self._marks else 0.0
