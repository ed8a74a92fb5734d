"""Publish over one connection, and see everything that is still on its way.

The kernel's send buffer is kept small and acknowledged bytes are counted
(:mod:`eager_kestrel.net.delivered`), so that a frame counts as sent when the other end has it, not
when it was handed over.
"""

from __future__ import annotations

import contextlib
import os
import socket
import ssl
import time
from collections import deque
from dataclasses import dataclass

from eager_kestrel.core.errors import (
    EndpointError,
    InputError,
    NetworkError,
    ProtocolError,
    printable,
)
from eager_kestrel.net import addresses
from eager_kestrel.net.delivered import WrittenCounter, delivered_counter, linux_figure
from eager_kestrel.net.target import TCP_NOTSENT_LOWAT
from eager_kestrel.wire.publishing import RANDOM_BYTES, Event, Publisher, Ready, Refused

SEND_BUFFER_BYTES = 65_536
CONNECT_SECONDS = 8.0
GOODBYE_SECONDS = 0.5
EXAMPLE = "rtmp://HOST[:PORT]/APP, without the key"
SYN = 1
"""Kernels count it as a byte that was acknowledged."""


@dataclass(frozen=True, slots=True)
class PublishTarget:
    """Where to publish, without the key."""

    scheme: str
    host: str
    port: int
    app: str

    @classmethod
    def parse(cls, url: str) -> PublishTarget:
        """Read ``rtmp://host[:port]/app``.

        Raises:
            InputError: it is no such address. The address is not repeated: it might hold a key.
        """
        point = addresses.parse_address(url, ("rtmp", "rtmps"), EXAMPLE)
        app = point.path.strip("/")
        if not app or point.query or point.user is not None:
            raise InputError("that is not the address of an ingest server", f"write {EXAMPLE}")
        if "/" in app:
            raise InputError(
                "that address has more than an application; its last part may be a key",
                f"write {EXAMPLE}, and keep the key in the keyring or the environment",
            )
        return cls(point.scheme, point.host, point.port, app)

    @property
    def url(self) -> str:
        """As written, without key."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{host}:{self.port}/{self.app}"


class Publication:
    """One connection that publishes. Not for several threads."""

    def __init__(
        self,
        target: PublishTarget,
        key: str,
        context: ssl.SSLContext | None = None,
        timeout_seconds: float = CONNECT_SECONDS,
        unsent_bytes: int = SEND_BUFFER_BYTES,
    ) -> None:
        """Connect and wait until the ingest takes the stream.

        Args:
            key: of the stream; never part of any message.
            timeout_seconds: for all of it.
            unsent_bytes: that may sit in the system's send buffer.

        Raises:
            NetworkError: it does not answer in time.
            EndpointError: it refuses.
        """
        self._key = key
        self._publisher = Publisher(target.app, target.url, key, os.urandom(RANDOM_BYTES))
        until = time.perf_counter() + timeout_seconds
        self._socket = _connected(target, context, timeout_seconds, unsent_bytes)
        self._tls = target.scheme == "rtmps"
        self.written = 0
        self._out: deque[memoryview] = deque()
        self._marks: deque[tuple[int, float]] = deque()
        self._queued = self._answered = 0
        self.refused: str | None = None
        """Why the ingest server ended the stream, once it did."""
        try:
            self._begin(until, timeout_seconds)
        except NetworkError as error:
            self._socket.close()
            if self._tls or self._publisher.greeted or isinstance(error, EndpointError):
                raise
            what = f"the ingest server hung up on the greeting ({error.what})"
            raise EndpointError(what, "if it speaks TLS there, write rtmps:// instead") from None
        except BaseException:
            self._socket.close()
            raise
        self._count = delivered_counter(self._socket, lambda: self.written)
        self._handed_over = self._tls or isinstance(self._count, WrittenCounter)
        self.counted_by = "bytes handed over" if self._handed_over else self._count.kind
        self._counted_before = self._acknowledged()
        self._written_before = self.written

    def _begin(self, until: float, timeout_seconds: float) -> None:
        ready = False
        while not ready:
            self._push(bytes(self._publisher.outgoing))
            self._publisher.outgoing.clear()
            self._write()
            left = until - time.perf_counter()
            if left <= 0:
                raise NetworkError(
                    f"the ingest server did not answer within {timeout_seconds:g} s",
                    "check its address",
                )
            for event in self._read(min(left, 0.2)):
                ready = ready or isinstance(event, Ready)
            if self.refused is not None:
                raise EndpointError(
                    f"the ingest server refused: {self.refused}", "check key and address"
                )

    def _read(self, wait_seconds: float) -> list[Event]:
        """Take what the ingest says."""
        waiting = self._tls and (
            self._socket.pending() if isinstance(self._socket, ssl.SSLSocket) else 0
        )
        if not waiting and not addresses.socket_ready(self._socket, wait_seconds)[0]:
            return []
        try:
            data = self._socket.recv(65_536)
        except (BlockingIOError, ssl.SSLWantReadError, ssl.SSLWantWriteError):
            return []
        except OSError as error:
            raise NetworkError(f"the connection broke ({error.strerror or error})") from None
        if not data:
            raise EndpointError("the ingest server closed the connection")
        try:
            events = self._publisher.receive(data)
            self._publisher.acknowledge()
        except ProtocolError as error:
            raise EndpointError(f"the ingest server does not speak RTMP ({error})") from None
        for event in events:
            if isinstance(event, Refused):
                self.refused = addresses.plain_text(
                    addresses.without_key(printable(event.why), self._key)
                )
        return events

    def _push(self, data: bytes) -> None:
        if data:
            self._out.append(memoryview(data))
            self._queued += len(data)

    def _write(self) -> None:
        """Hand over as much as the system takes."""
        self._write_some(self._queued)

    def _write_some(self, most: int) -> None:
        """Hand over whole pieces up to so many bytes, or as much as the system takes of them."""
        until = self.written + most
        while self._out and self.written < until:
            try:
                count = self._socket.send(self._out[0])
            except (BlockingIOError, ssl.SSLWantWriteError, ssl.SSLWantReadError):
                return
            except OSError as error:
                raise NetworkError(f"the connection broke ({error.strerror or error})") from None
            self.written += count
            self._queued -= count
            if count == len(self._out[0]):
                self._out.popleft()
            else:
                self._out[0] = self._out[0][count:]

    def send(self, kind: int, milliseconds: int, payload: bytes, due: float | None) -> None:
        """Queue a piece; with ``due`` (``time.perf_counter``) its arrival is watched."""
        self._push(self._publisher.send(kind, milliseconds, payload))
        if due is not None:
            self._marks.append((self.written + self._queued, due))

    def wait(self, seconds: float) -> None:
        """Until something can be written that waits, or read; touches nothing else."""
        with contextlib.suppress(ValueError, OSError):
            addresses.socket_ready(self._socket, seconds, writes=bool(self._out))

    @property
    def queued_bytes(self) -> int:
        """Not handed over to the system yet."""
        return self._queued

    def write(self) -> None:
        """Hand over as much as the system takes.

        Raises:
            NetworkError: the connection broke.
        """
        self._write()

    def keep_unsent_below(self, count: int) -> None:
        """Let the system take more only while it has less than this unsent, where it can."""
        if TCP_NOTSENT_LOWAT is not None:
            addresses.set_option(self._socket, socket.IPPROTO_TCP, TCP_NOTSENT_LOWAT, count)

    def look(self, wait_seconds: float) -> list[float]:
        """Write, read, and see what has arrived.

        Returns:
            How late each frame was that arrived since the last look, in seconds.

        Raises:
            NetworkError: the connection broke.
            EndpointError: the ingest server ended it.
        """
        self.wait(wait_seconds)
        self._write()
        self._read(0)
        if self.refused is not None:
            raise EndpointError(f"the ingest server ended the stream: {self.refused}")
        answer = bytes(self._publisher.outgoing)
        self._publisher.outgoing.clear()
        self._answered += len(answer)
        self._push(answer)
        now = time.perf_counter()
        arrived = self.written if self._handed_over else self._acknowledged() - SYN
        late = []
        while self._marks and self._marks[0][0] <= arrived:
            late.append(now - self._marks.popleft()[1])
        return late

    def _acknowledged(self) -> int:
        with contextlib.suppress(OSError):
            return int(self._count.delivered_bytes())
        return 0

    def delivered_bytes(self) -> int:
        """Of the stream, that the other end has; answers to its pings do not count."""
        if self._handed_over:  # under TLS the kernel counts what TLS made of them
            count = self.written - self._written_before
        else:
            count = self._acknowledged() - self._counted_before
        return max(0, count - self._answered)

    def queued_seconds(self) -> float:
        """How long the oldest frame on its way has waited."""
        return max(0.0, time.perf_counter() - self._marks[0][1]) if self._marks else 0.0

    def waiting(self, seconds: float = 0.0) -> int:
        """Frames that have not arrived yet, and have waited for longer than so long."""
        now = time.perf_counter()
        return sum(now - due > seconds for _, due in self._marks) if seconds else len(self._marks)

    def round_trip_ms(self) -> float | None:
        """Smoothed by the system; None if it does not report it."""
        return _ms(linux_figure(self._socket, "rtt"))

    def min_round_trip_ms(self) -> float | None:
        """The least lately, as the system has it; None if it does not report it."""
        return _ms(linux_figure(self._socket, "min_rtt"))

    def window_closed_seconds(self) -> float | None:
        """How long so far the other end took nothing because its window was closed, if told."""
        return linux_figure(self._socket, "rwnd_limited")

    def close(self) -> None:
        """End the stream and the connection."""
        with contextlib.suppress(OSError, NetworkError, EndpointError):
            self._out.clear()
            self._push(self._publisher.end())
            self._write()
            self._see_off()
        self._socket.close()

    def _see_off(self) -> None:
        """Read until the other end closes, a moment at most: closing over what is unread resets."""
        if self._tls:
            return
        until = time.perf_counter() + GOODBYE_SECONDS
        self._socket.shutdown(socket.SHUT_WR)
        while (left := until - time.perf_counter()) > 0:
            if addresses.socket_ready(self._socket, left)[0] and not self._socket.recv(65_536):
                return


def _ms(seconds: float | None) -> float | None:
    return None if seconds is None else 1000 * seconds


def _connected(
    target: PublishTarget, context: ssl.SSLContext | None, timeout_seconds: float, unsent_bytes: int
) -> socket.socket:
    """A connection with a small send buffer, non-blocking."""
    try:
        raw = socket.create_connection((target.host, target.port), timeout_seconds)
    except OSError as error:
        what = error.strerror or str(error)
        raise NetworkError(
            f"{target.host} cannot be reached ({what})", "check the address"
        ) from None
    addresses.set_option(raw, socket.SOL_SOCKET, socket.SO_SNDBUF, unsent_bytes)
    addresses.set_option(raw, socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    connection = raw
    if target.scheme == "rtmps":
        try:
            wanted = context or ssl.create_default_context()
            connection = wanted.wrap_socket(raw, server_hostname=target.host)
        except OSError as error:
            raw.close()
            raise addresses.tls_error(error, target.host) from None
    connection.setblocking(False)
    return connection
