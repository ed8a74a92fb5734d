"""A practice upload endpoint: takes POST, counts and discards, answers small requests at once.

HTTP/1.1 by h11 (RFC 9112). Its behaviour can be made as bad as the real ones are: another status,
a redirect, breaking off, going silent for a while.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import ssl
from dataclasses import dataclass
from typing import Any

import h11

from eager_kestrel.practice.servers import LoopbackServer, listening_socket, reset_when_closed

READ_BYTES = 65_536
BUFFER_BYTES = 65_536
"""Small, so that a pause is noticed by the sender and not hidden by the system's buffer."""
LINGER_SECONDS = 0.2
SMALL_BYTES = 4096
"""A body up to this size is a small request; bad behaviour is kept for the larger ones."""


@dataclass(frozen=True, slots=True)
class Behaviour:
    """What the endpoint does to uploads; by default it takes them."""

    status: int = 200
    location: str = ""
    """For a redirect."""
    small_status: int = 200
    """The answer to small requests."""
    break_after_bytes: int | None = None
    """Reset the connection once an upload has come this far."""
    most_bytes: int | None = None
    """Answer uploads up to this length with 200 whatever ``status`` says, longer ones at once."""
    early_after_bytes: int | None = None
    """Answer with ``status`` once an upload has come this far, and close."""
    pause_after_bytes: int | None = None
    """Stop reading once an upload has come this far ..."""
    pause_seconds: float = 0.0
    """... for this long."""
    certificate: ssl.SSLContext | None = None
    """Serve TLS with it."""
    upload_url: str = ""
    """Name this in a responsiveness configuration document."""


class PracticeEndpoint(LoopbackServer):
    """Serves on loopback within its ``with`` block."""

    def __init__(self, behaviour: Behaviour | None = None, port: int = 0) -> None:
        super().__init__(listening_socket(port, BUFFER_BYTES))
        self._behaviour = behaviour or Behaviour()

    async def handle(self, connection: socket.socket) -> None:
        """Serve requests until the peer closes or has to be closed."""
        try:
            reader, writer = await _streams(connection, self._behaviour.certificate)
        except ssl.SSLError:
            return  # a client that distrusts the certificate
        try:
            protocol = h11.Connection(h11.SERVER)
            while await self._exchange(protocol, reader, writer):
                protocol.start_next_cycle()
        except h11.RemoteProtocolError:
            pass  # not HTTP: nothing to answer
        finally:
            writer.close()

    async def _exchange(
        self, protocol: h11.Connection, reader: asyncio.StreamReader, writer: asyncio.StreamWriter
    ) -> bool:
        """One request and its answer; whether another may follow."""
        request = await _next_event(protocol, reader)
        if not isinstance(request, h11.Request):
            return False
        if request.target == b"/.well-known/nq" and self._behaviour.upload_url:
            urls = {"version": 1, "urls": {"upload_url": self._behaviour.upload_url}}
            await _answer(protocol, writer, 200, "", urls)
            return False
        headers = dict(request.headers)
        chunked = b"transfer-encoding" in headers
        length = int(headers.get(b"content-length", b"0"))
        small = length <= SMALL_BYTES and not chunked
        received = 0
        while not isinstance(event := await _next_event(protocol, reader), h11.EndOfMessage):
            if not isinstance(event, h11.Data):
                return False
            received += len(event.data)
            if not small and await self._misbehave(received, len(event.data), writer):
                break
            if self._behaviour.most_bytes is not None and length > self._behaviour.most_bytes:
                break
        within = self._behaviour.most_bytes is not None and length <= self._behaviour.most_bytes
        early = received < length or (chunked and not isinstance(event, h11.EndOfMessage))
        status = self._behaviour.small_status if small else self._behaviour.status
        status = 200 if within else status
        said = {"received_bytes": received}
        await _answer(protocol, writer, status, self._behaviour.location, said)
        if early:
            await _linger(reader, writer)
        return not early and protocol.our_state is h11.DONE

    async def _misbehave(self, received: int, last: int, writer: asyncio.StreamWriter) -> bool:
        """Do to an upload what the behaviour says at this point; whether to answer early."""

        def reaches(mark: int | None) -> bool:
            return mark is not None and received - last < mark <= received

        behaviour = self._behaviour
        if reaches(behaviour.break_after_bytes):
            reset_when_closed(writer.get_extra_info("socket"))
            writer.transport.abort()
            raise ConnectionResetError
        if reaches(behaviour.pause_after_bytes):
            await asyncio.sleep(behaviour.pause_seconds)
        return reaches(behaviour.early_after_bytes)


async def _streams(
    connection: socket.socket, certificate: ssl.SSLContext | None
) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """Streams over an accepted socket, as the serving side of TLS when there is a certificate."""
    loop = asyncio.get_running_loop()
    reader = asyncio.StreamReader(limit=READ_BYTES, loop=loop)
    protocol = asyncio.StreamReaderProtocol(reader, loop=loop)
    transport, _ = await loop.connect_accepted_socket(lambda: protocol, connection, ssl=certificate)
    return reader, asyncio.StreamWriter(transport, protocol, reader, loop)


async def _next_event(protocol: h11.Connection, reader: asyncio.StreamReader) -> h11.Event | None:
    """The next event of the peer; None when it closed or the cycle is over."""
    while True:
        event = protocol.next_event()
        if event is h11.NEED_DATA:
            protocol.receive_data(await reader.read(READ_BYTES))
        elif isinstance(event, h11.ConnectionClosed) or event is h11.PAUSED:
            return None
        else:
            return event  # type: ignore[return-value]


async def _linger(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    """Close in stages (RFC 9112 section 9.6), so that the answer outlives the unread upload."""
    with contextlib.suppress(OSError, TimeoutError):
        if writer.can_write_eof():
            writer.write_eof()
        async with asyncio.timeout(LINGER_SECONDS):
            while await reader.read(READ_BYTES):
                pass


async def _answer(
    protocol: h11.Connection,
    writer: asyncio.StreamWriter,
    status: int,
    location: str,
    said: dict[str, Any],
) -> None:
    body = json.dumps(said).encode()
    headers = [("content-type", "application/json"), ("content-length", str(len(body)))]
    if location and 300 <= status < 400:
        headers.append(("location", location))
    parts: list[h11.Event] = [
        h11.Response(status_code=status, headers=headers, reason=b""),
        h11.Data(data=body),
        h11.EndOfMessage(),
    ]
    for part in parts:
        writer.write(protocol.send(part) or b"")
    await writer.drain()
