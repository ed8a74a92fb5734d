"""Publish at a rate that may change at any moment, and see how long bytes are on their way."""

from __future__ import annotations

import contextlib
import socket
import ssl
import threading
import time
from collections import deque

from eager_kestrel.core.connection.climbing import OnItsWay
from eager_kestrel.core.errors import NetworkError
from eager_kestrel.net.addresses import socket_ready
from eager_kestrel.net.delivered import DeliveredCounter, is_loss_based, linux_figure
from eager_kestrel.net.publishing import CONNECT_SECONDS, Publication, PublishTarget

WRITE_SECONDS = 0.004
"""What one write holds, where that is more than so many packets:"""
LEAST_PACKETS = 2
LATE_SECONDS = 0.04
"""By so much a writer may be late and catch up: about the queue that is held anyway."""
PACKET_BYTES = 1448
"""Of a packet over IPv4 and Ethernet with timestamps (RFC 7323)."""
LEAST_PACKET_BYTES = 536
"""That every host takes (RFC 9293, section 3.7.1)."""
NAP_SECONDS = 0.01
"""The longest sleep, since the rate may rise meanwhile."""


def packet_bytes(connection: socket.socket) -> int:
    """What a packet of a connection holds; less over IPv6 or a tunnel. Loopback's are cut to size.

    Where the system does not tell, the usual.
    """
    with contextlib.suppress(OSError, AttributeError):
        told = connection.getsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG)
        if LEAST_PACKET_BYTES <= told < PACKET_BYTES:
            return told
    return PACKET_BYTES


class Pacer:
    """Bytes that may be written by now, at a rate that somebody else sets."""

    def __init__(self, kbps: float, late_seconds: float = LATE_SECONDS) -> None:
        self.kbps, self._late_seconds = kbps, late_seconds
        self.packet_bytes = PACKET_BYTES
        """Of the connection that is written to, once it is there."""
        self._credit, self._at = 0.0, time.perf_counter()

    @property
    def write_bytes(self) -> int:
        """What one write is to hold: whole packets."""
        packets = int(self.kbps * 125 * WRITE_SECONDS) // self.packet_bytes
        return max(LEAST_PACKETS, packets) * self.packet_bytes

    def allowed(self) -> int:
        """Bytes that may be written now; what is long past is lost, not caught up in a burst."""
        now = time.perf_counter()
        most = max(2 * self.write_bytes, self.kbps * 125 * self._late_seconds)
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
    """How long what is handed to a connection takes until the endpoint has it."""

    def __init__(self, counter: DeliveredCounter, connection: socket.socket) -> None:
        self._counter, self._connection = counter, connection
        self._loss_based = is_loss_based(connection)
        self._marks: deque[tuple[int, float]] = deque()

    def handed_over(self, at: float) -> None:
        """Everything written so far was handed over by then (``time.perf_counter``)."""
        self._marks.append((self._counter.handed_bytes(), at))

    def look(self, delivered_bytes: int) -> OnItsWay:
        """What is known of the bytes handed over, given how many were delivered."""
        now, took = time.perf_counter(), None
        while self._marks and self._marks[0][0] <= delivered_bytes:
            took = now - self._marks.popleft()[1]
        age = now - self._marks[0][1] if self._marks else 0.0
        resent = linux_figure(self._connection, "total_retrans") or 0
        trip = linux_figure(self._connection, "rtt")
        return OnItsWay(took, age, trip, int(resent), self._loss_based)


GOODBYE_SECONDS = 1.0
SEND_BUFFER_BYTES = 4 * 2**20
"""Room for what a long way holds; what is not sent yet is bounded apart from it."""


class PacedPublication(Publication):
    """One connection that publishes no faster than it is told. Not for several threads."""

    def __init__(
        self,
        target: PublishTarget,
        key: str,
        pace: Pacer,
        context: ssl.SSLContext | None = None,
        timeout_seconds: float = CONNECT_SECONDS,
    ) -> None:
        """As :class:`Publication`, and raises as it does; ``pace`` holds once it has begun."""
        self._pace: Pacer | None = None
        self._refused = 0
        super().__init__(target, key, context, timeout_seconds, SEND_BUFFER_BYTES)
        self._pace, self._waits = pace, Waits(self._count, self._socket)
        pace.packet_bytes = packet_bytes(self._socket)
        self._begun_with = self._count.delivered_bytes()

    def _write(self) -> None:
        """Hand over what is due, in whole packets where there is enough."""
        if self._pace is None:
            super()._write()
            return
        while self._queued:  # TLS wants what it could not take again, no shorter
            wanted = self._refused or min(self._pace.write_bytes, self._queued)
            if self._pace.allowed() < wanted:
                return
            self.keep_unsent_below(2 * wanted)
            before = self.written
            self._gather(wanted)
            self._write_some(wanted)
            count = self.written - before
            self._refused = wanted - count
            if not count:
                return
            self._pace.spend(count)
            self._waits.handed_over(time.perf_counter())

    def _gather(self, wanted: int) -> None:
        """Put so many bytes together at the head, so that they leave in whole packets."""
        parts, length = [], 0
        while length < wanted:
            part = self._out.popleft()
            parts.append(part)
            length += len(part)
        whole = memoryview(b"".join(parts))
        if length > wanted:
            self._out.appendleft(whole[wanted:])
        self._out.appendleft(whole[:wanted])

    def close(self) -> None:
        """Send what is queued, a moment at most, then end the stream and the connection."""
        self._pace, until = None, time.perf_counter() + GOODBYE_SECONDS
        with contextlib.suppress(OSError, NetworkError):
            while self._queued and (left := until - time.perf_counter()) > 0:
                socket_ready(self._socket, left, reads=False, writes=True)
                self._write()
        super().close()

    @property
    def counted_by_kernel(self) -> str:
        """How what the other end has is counted."""
        return self._count.kind

    @property
    def address(self) -> str:
        """Of the other end."""
        with contextlib.suppress(OSError):
            return str(self._socket.getpeername()[0])
        return ""

    def carried_bytes(self) -> int:
        """That the other end has since the stream began, as the kernel counts, TLS and all."""
        return max(0, self._acknowledged() - self._begun_with)

    def waits(self) -> OnItsWay:
        """As :meth:`Waits.look` has it."""
        return self._waits.look(self._acknowledged())
