"""A simulated uplink: a TCP relay on loopback that lets bytes through as a trace says.

All connections share one first-in, first-out queue in front of the link, as at a home router, so
a small request waits behind an upload. The link works in exact virtual time: a chunk leaves when
the trace has carried everything before it and itself, so no timer error adds up. Bytes that do not
fit the queue stay with the sender, whose small window then stops it; nothing is dropped.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections import deque
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, TypeAlias

from eager_kestrel.practice.servers import (
    LOOPBACK,
    LoopbackServer,
    listening_socket,
    reset_when_closed,
)

if TYPE_CHECKING:
    from eager_kestrel.core.connection.trace import Trace

RECEIVE_BUFFER_BYTES = 8192
SMALLEST_CHUNK = 1448
LARGEST_CHUNK = 65536
CHUNK_SECONDS = 0.002
LATE_SECONDS = 0.1
"""Bytes read late because this machine was busy still leave as if they had been read in time."""
CAP_CREDIT_SECONDS = 0.02
"""How far a capped connection may catch up after the timer woke it late."""
END = b""
BROKEN = None

Flight: TypeAlias = asyncio.Queue[tuple[float, bytes | None]]
"""Chunks on their way, each with the moment it arrives."""


@dataclass(frozen=True, slots=True)
class SimulatedConnection:
    """How a simulated connection behaves."""

    trace: Trace
    round_trip_ms: float = 30.0
    """Added to every round trip, half each way."""
    queue_bytes: int = 65536
    """What may wait in front of the link; at 8 Mbit/s 64 KiB are 66 ms."""
    per_connection_kbps: float | None = None
    """A cap on each connection, as distance and loss put on real ones."""


class Link:
    """The shared queue and the link behind it. Used from one event loop."""

    def __init__(self, line: SimulatedConnection) -> None:
        self._line = line
        self._gate = asyncio.Lock()
        self._waiting: deque[tuple[float, int]] = deque()
        self._queued = 0
        self._began = time.perf_counter()
        self._busy_until = 0.0

    def _now(self) -> float:
        return time.perf_counter() - self._began

    def chunk_bytes(self) -> int:
        """How much to read at a time: about two milliseconds of the connection."""
        now = self._now()
        soon = self._line.trace.bytes_until(now + CHUNK_SECONDS) - self._line.trace.bytes_until(now)
        return int(min(max(soon, SMALLEST_CHUNK), LARGEST_CHUNK, self._line.queue_bytes))

    async def enqueue(self, count: int) -> float:
        """Wait for room for ``count`` bytes; returns when they will have left."""
        async with self._gate:
            while self._queued and self._queued + count > self._line.queue_bytes:
                left_at, _ = self._waiting[0]
                await asyncio.sleep(max(0.0, left_at - self._now()))
                self._forget_what_left()
            trace = self._line.trace
            starts = max(self._now() - LATE_SECONDS, self._busy_until)
            self._busy_until = max(starts, trace.when_carried(trace.bytes_until(starts) + count))
            self._waiting.append((self._busy_until, count))
            self._queued += count
            return max(self._began + self._busy_until, time.perf_counter())

    def _forget_what_left(self) -> None:
        now = self._now()
        while self._waiting and self._waiting[0][0] <= now:
            self._queued -= self._waiting.popleft()[1]


async def _deliver(pending: Flight, target: socket.socket) -> None:
    """Hand chunks on, each at its time; an empty one ends the direction."""
    loop = asyncio.get_running_loop()
    while True:
        due, chunk = await pending.get()
        await asyncio.sleep(max(0.0, due - time.perf_counter()))
        if chunk is BROKEN:
            raise ConnectionResetError
        if chunk == END:
            with contextlib.suppress(OSError):
                target.shutdown(socket.SHUT_WR)
            return
        await loop.sock_sendall(target, chunk)


class PracticeUplink(LoopbackServer):
    """A relay to ``target_port`` on loopback through a simulated connection."""

    def __init__(self, line: SimulatedConnection, target_port: int, port: int = 0) -> None:
        super().__init__(listening_socket(port, RECEIVE_BUFFER_BYTES))
        self._line = line
        self._half = line.round_trip_ms / 2000
        self._target_port = target_port
        self._link: Link | None = None

    def also_to(self, target_port: int) -> int:
        """Return a port that leads to another target over this connection; before it runs."""
        listener = listening_socket(0, RECEIVE_BUFFER_BYTES)
        self._listeners.append((listener, partial(self._relay, target_port)))
        return int(listener.getsockname()[1])

    async def handle(self, client: socket.socket) -> None:
        """Relay one connection; the trace begins with the first."""
        await self._relay(self._target_port, client)

    async def _relay(self, target_port: int, client: socket.socket) -> None:
        loop = asyncio.get_running_loop()
        self._link = self._link or Link(self._line)
        with socket.socket(socket.AF_INET, socket.SOCK_STREAM) as server:
            server.setblocking(False)
            await loop.sock_connect(server, (LOOPBACK, target_port))
            with contextlib.suppress(OSError):
                server.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            up, down = self._in_flight(), self._in_flight()
            try:
                async with asyncio.TaskGroup() as directions:
                    directions.create_task(self._up(client, up, self._link))
                    directions.create_task(_deliver(up, server))
                    directions.create_task(self._down(server, down))
                    directions.create_task(_deliver(down, client))
            except* OSError:  # one side broke off: let the other see that too
                reset_when_closed(client)
                reset_when_closed(server)

    def _in_flight(self) -> Flight:
        """Room for the queue and half a round trip, so that a peer that stops reading is felt."""
        queued = self._line.queue_bytes // SMALLEST_CHUNK
        return asyncio.Queue(32 + queued + int(self._half / CHUNK_SECONDS))

    async def _up(self, client: socket.socket, pending: Flight, link: Link) -> None:
        loop = asyncio.get_running_loop()
        last: bytes | None = END
        cap = self._line.per_connection_kbps
        free_at = time.perf_counter()
        try:
            while chunk := await loop.sock_recv(client, link.chunk_bytes()):
                if cap is not None:
                    free_at = max(free_at, time.perf_counter() - CAP_CREDIT_SECONDS)
                    free_at += len(chunk) / (cap * 125)
                    await asyncio.sleep(max(0.0, free_at - time.perf_counter()))
                leaves = await link.enqueue(len(chunk))
                await pending.put((leaves + self._half, chunk))
        except OSError:
            last = BROKEN
        await pending.put((time.perf_counter() + self._half, last))

    async def _down(self, server: socket.socket, pending: Flight) -> None:
        loop = asyncio.get_running_loop()
        last: bytes | None = END
        try:
            while chunk := await loop.sock_recv(server, LARGEST_CHUNK):
                await pending.put((time.perf_counter() + self._half, chunk))
        except OSError:  # what came before the break still arrives, then the break does
            last = BROKEN
        await pending.put((time.perf_counter() + self._half, last))
