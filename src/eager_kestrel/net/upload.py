"""The load: connections that POST without end while delivered bytes are sampled.

Each connection is a thread that writes incompressible bytes through httpx over HTTP/1.1 (RFC 9110,
RFC 9112). Little may sit unsent, and a phase ends by resetting the connections, so that nothing
goes on draining into the next phase.
"""

from __future__ import annotations

import contextlib
import os
import re
import socket
import ssl
import threading
import time
from collections.abc import Iterator
from typing import Any, Self

import httpx

from eager_kestrel.core.connection.climbing import UNKNOWN, OnItsWay
from eager_kestrel.core.errors import EndpointError, NetworkError
from eager_kestrel.net.addresses import set_option, socket_ready, wait_for
from eager_kestrel.net.delivered import DeliveredCounter, delivered_counter
from eager_kestrel.net.exchange import CONNECTED, bounded_body, network_error, status_error
from eager_kestrel.net.pacing import Pacer, Waits, packet_bytes
from eager_kestrel.net.target import TCP_NOTSENT_LOWAT, UNSENT_BYTES, UploadTarget, shown_location

BODY_BYTES = (2**30, 64 * 2**20, 8 * 2**20, 2**20)
"""Sizes of one upload; the next smaller is tried when an endpoint calls one too large (413)."""
SMALLEST_WRITE = 16_384
LARGEST_WRITE = 1_048_576
WRITE_SECONDS = 0.01
JOIN_SECONDS = 5.0
CONFIRM_SECONDS = 3.0


MOST_CUTS = 1
"""Bodies an endpoint may end early before it is refused."""
ANSWER_HEAD_BYTES = 4096
_STATUS = re.compile(rb"HTTP/1\.[01] ([1-5][0-9]{2})")


class _Stopped(Exception):  # noqa: N818 - not an error: how a body ends
    """Raised inside a body to end its connection."""


class _Answered(Exception):  # noqa: N818 - not an error: how a body ends
    """Raised inside a body when an answer has come before its end."""

    def __init__(self, status: int) -> None:
        super().__init__(status)
        self.status = status


class _Allowance:
    """Bytes that may still be written, over all connections."""

    def __init__(self, most: int | None) -> None:
        self._left = most
        self._lock = threading.Lock()

    def take(self, wanted: int) -> int:
        """So many, or as many as are left."""
        if self._left is None:
            return wanted
        with self._lock:
            taken = min(wanted, self._left)
            self._left -= taken
            return taken

    @property
    def spent(self) -> bool:
        """Whether nothing is left."""
        return self._left == 0


class _UploadConnection(threading.Thread):
    """One connection that uploads until it is told to stop."""

    def __init__(self, target: UploadTarget, allowance: _Allowance, pace: Pacer | None) -> None:
        super().__init__(name="upload", daemon=True)
        self._allowance = allowance
        self._pace = pace
        self.waits: Waits | None = None
        """Of a paced connection, once it is there."""
        self._target = target
        self._stop_asked = threading.Event()
        self._socket: socket.socket | None = None
        self._counter: DeliveredCounter | None = None
        self._before = 0
        self._current = 0
        self._written = 0
        self._confirmed = 0
        self._finish_asked = threading.Event()
        self._body_bytes = BODY_BYTES[0]
        self._block = os.urandom(LARGEST_WRITE)
        self._whole = False
        """Whether the body that is being answered was sent to its end."""
        self._kept = 0
        """Of this TCP connection, bytes of bodies that were."""
        self._cuts = 0
        self.connected = threading.Event()
        self.counted_by = ""
        self.address = ""
        self.failure: NetworkError | None = None
        self.smaller_bodies = False

    def run(self) -> None:
        try:
            with self._target.client() as client:
                while not (self._stop_asked.is_set() or self._finish_asked.is_set()):
                    self._upload(client)
        except _Stopped:
            pass
        except (httpx.HTTPError, OSError) as error:
            if not self._stop_asked.is_set():
                self.failure = network_error(error, self._target.shown)
        except NetworkError as error:
            self.failure = error
        finally:
            self.delivered_bytes()
            self.connected.set()

    def _upload(self, client: httpx.Client) -> None:
        """One POST; returns once it has been answered."""
        sized = {} if self._target.estimate else {"Content-Length": str(self._body_bytes)}
        self._whole = False
        asked = client.stream(
            "POST",
            self._target.url,
            content=self._body(),
            headers=sized,
            extensions={"trace": self._trace},
        )
        location = ""
        try:
            with asked as response:
                status = response.status_code
                location = shown_location(self._target.url, response.headers.get("location", ""))
                bounded_body(response)
        except _Answered as early:
            status = early.status
        if 200 <= status < 300:
            self._taken()
            return
        smaller = [size for size in BODY_BYTES if size < self._body_bytes]
        if status == 413 and smaller:
            self._body_bytes = smaller[0]
            self.smaller_bodies = True
            return
        raise status_error(status, self._target.shown, location)

    def _taken(self) -> None:
        """A body was answered with success: that counts if it was read to its end.

        Raises:
            EndpointError: bodies are ended early again and again, and what was acknowledged of them
                went nowhere.
        """
        if self._whole:
            self._confirmed = self._written
            self._kept = self._current
            return
        self._current = self._kept  # acknowledged into a connection that is thrown away
        self._counter = None
        self._cuts += 1
        if self._cuts > MOST_CUTS:
            raise EndpointError(
                "it confirms uploads before it has read them, so nothing can be measured",
                "give an address that reads what is sent",
                self._target.shown,
            )

    def _body(self) -> Iterator[bytes]:
        """Random bytes, in writes of about ten milliseconds each."""
        self.connected.set()
        block = self._block
        left, size, began = self._body_bytes, SMALLEST_WRITE, time.perf_counter()
        while left > 0:
            if self._pace is not None:
                size = self._pace.wait(self._stop_asked)
                self._bound_unsent(size)
            if self._finish_asked.is_set():
                break  # a chunked body may end anywhere; the answer then confirms all of it
            if self._stop_asked.is_set():
                raise _Stopped
            if (status := self._early_answer()) is not None:
                raise _Answered(status)
            allowed = self._allowance.take(min(size, left))
            if not allowed:  # what was written may still arrive; nothing more is sent
                self._stop_asked.wait()
                raise _Stopped
            chunk = block[:allowed]
            yield chunk
            self._written += len(chunk)
            left -= len(chunk)
            now = time.perf_counter()
            if self.waits is not None:
                with contextlib.suppress(OSError):
                    self.waits.handed_over(now)
                continue
            fitting = len(chunk) / max(now - began, 1e-6) * WRITE_SECONDS
            size = int(min(max(fitting, size / 2, SMALLEST_WRITE), size * 2, LARGEST_WRITE))
            began = now
            self._bound_unsent(size)
        self._whole = True

    def _early_answer(self) -> int | None:
        """The status of an answer that has come while the body is still on its way."""
        connection = self._socket
        if connection is None:
            return None
        pending = connection.pending() if isinstance(connection, ssl.SSLSocket) else 0
        if not pending and not socket_ready(connection, 0.0)[0]:
            return None
        waited = connection.gettimeout()
        try:
            if isinstance(connection, ssl.SSLSocket):
                connection.settimeout(0)
                head = connection.recv(ANSWER_HEAD_BYTES)  # tickets of TLS 1.3 are taken here, too
            else:
                head = connection.recv(ANSWER_HEAD_BYTES, socket.MSG_PEEK)
        except OSError:
            return None
        finally:
            with contextlib.suppress(OSError):
                connection.settimeout(waited)
        match = _STATUS.match(head)
        status = int(match[1]) if match else None
        return status if status is not None and status >= 200 else None

    def _bound_unsent(self, size: int) -> None:
        """Let no more sit unsent than two writes, at most a few hundredths of a second."""
        connection = self._socket
        if connection is None or TCP_NOTSENT_LOWAT is None:
            return
        if self._pace is None and size * 2 <= UNSENT_BYTES:
            return
        set_option(connection, socket.IPPROTO_TCP, TCP_NOTSENT_LOWAT, size * 2)

    def _trace(self, event: str, info: dict[str, Any]) -> None:
        """Hear of each new connection, to count on its socket (httpcore's trace extension)."""
        if event not in CONNECTED:
            return
        connection = info["return_value"].get_extra_info("socket")
        self.delivered_bytes()
        self._before, self._current, self._kept = self._before + self._current, 0, 0
        written_before = self._written
        self._socket = connection
        self._counter = delivered_counter(
            connection,
            lambda: self._written - written_before,
            estimate=self._target.estimate,
        )
        self.counted_by = self._counter.kind
        if self._pace is not None:
            self.waits = Waits(self._counter, connection)
            self._pace.packet_bytes = packet_bytes(connection)
        with contextlib.suppress(OSError):
            self.address = str(connection.getpeername()[0])

    def delivered_bytes(self) -> int:
        """Over all TCP connections this one has gone through; never falls."""
        if self._counter is not None:
            with contextlib.suppress(OSError):
                self._current = max(self._current, self._counter.delivered_bytes())
        return max(self._before + self._current, self._confirmed)

    def current_bytes(self) -> int:
        """Of the TCP connection there is now."""
        self.delivered_bytes()
        return self._current

    def finish(self) -> None:
        """End the body where it is and wait for the answer, which confirms every byte written."""
        self._finish_asked.set()
        self.join(CONFIRM_SECONDS)

    def stop(self) -> None:
        """Reset the connection: wake a blocked write, then the abortive close discards the rest."""
        self.delivered_bytes()
        self._stop_asked.set()
        connection = self._socket
        if connection is not None:
            with contextlib.suppress(OSError):
                socket.socket.shutdown(connection, socket.SHUT_RDWR)


class Upload:
    """Several connections uploading at once, within a ``with`` block."""

    def __init__(
        self,
        target: UploadTarget,
        connections: int,
        most_bytes: int | None = None,
        pace: Pacer | None = None,
    ) -> None:
        """Upload as fast as possible, or at a pace, which goes with one connection."""
        self._allowance = _Allowance(most_bytes)
        self._connections = [
            _UploadConnection(target, self._allowance, pace) for _ in range(connections)
        ]

    def __enter__(self) -> Self:
        try:
            for connection in self._connections:
                connection.start()
            for connection in self._connections:
                wait_for(connection.connected)
        except BaseException:  # Ctrl-C while connecting: nothing may go on sending
            self.stop()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()

    def confirm(self) -> int:
        """End the load in order where only the answer tells what arrived; returns the bytes."""
        for connection in self._connections:
            connection.finish()
        return self.delivered_bytes()

    def stop(self) -> None:
        """End the load abruptly; the connection is free at once."""
        begun = [connection for connection in self._connections if connection.ident is not None]
        for connection in begun:
            connection.stop()
        for connection in begun:
            connection.join(JOIN_SECONDS)

    def delivered_bytes(self) -> int:
        """Bytes the peer has received over all connections; never falls."""
        return sum(connection.delivered_bytes() for connection in self._connections)

    def waits(self) -> OnItsWay:
        """Of the first connection, when paced: as :meth:`Waits.look` has it."""
        first = self._connections[0]
        return UNKNOWN if first.waits is None else first.waits.look(first.current_bytes())

    @property
    def spent(self) -> bool:
        """Whether all that may be written was."""
        return self._allowance.spent

    @property
    def failure(self) -> NetworkError | None:
        """What ended a connection, once one has broken."""
        return next((c.failure for c in self._connections if c.failure), None)

    @property
    def counted_by(self) -> str:
        """How delivered bytes are counted; empty before anything connected."""
        return next((c.counted_by for c in self._connections if c.counted_by), "")

    @property
    def address(self) -> str:
        """The peer's address."""
        return next((c.address for c in self._connections if c.address), "")

    @property
    def smaller_bodies(self) -> bool:
        """Whether the endpoint called a body too large, so that uploads are broken into pieces."""
        return any(c.smaller_bodies for c in self._connections)
