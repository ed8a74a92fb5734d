"""An HTTP endpoint of your own: takes uploads from those who hold its token, and counts them.

Requests are read by h11 (RFC 9112); what follows a head is read into one block that is never looked
at. A connection that says nothing holds a socket and a deadline, and nothing else.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import ssl
import threading
from collections.abc import Callable
from http import HTTPStatus
from typing import Any, Self

import h11

from eager_kestrel.core.connection.run import Series
from eager_kestrel.core.connection.summarising import EndpointCount
from eager_kestrel.net.ledger import NAMELESS, Ledger

UPLOAD, COUNTED, HEALTH, CONFIGURATION = "/up", "/counted/", "/health", "/.well-known/nq"
RUN_HEADER = "kestrel-run"
BLOCK_BYTES = 2**20
HEAD_BYTES = 16_384
MOST_UNASKED_BYTES = 65_536
"""Of a connection that no upload takes, before it is closed."""
HEAD_SECONDS, SILENCE_SECONDS, LINGER_SECONDS = 10.0, 20.0, 0.5
SWEEP_SECONDS = 0.5
MOST_CONNECTIONS = 1024
"""Handshakes that are not over count."""
BACKLOG = 256
START_SECONDS = 10.0

Told = Callable[[str], None]


class _Guest(asyncio.BufferedProtocol):
    """One connection."""

    def __init__(self, house: FarEnd) -> None:
        self._house = house
        self._transport: asyncio.Transport | None = None
        self._http = h11.Connection(h11.SERVER, HEAD_BYTES)
        self._left = 0
        """Bytes of a body of known length still to come."""
        self._run: str | None = None
        """Of the upload that is coming in."""
        self._body = 0
        self._parsing = True
        self._unasked = 0
        """Bytes of no upload: heads, and what follows a refusal."""
        self._known = False
        """Whether it has shown the token."""
        self.address = ""
        self.due = 0.0
        """When it is closed unless something happens."""

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        peer = transport.get_extra_info("peername")
        self.address = str(peer[0]).removeprefix("::ffff:") if peer else ""
        self.due = self._house.now() + HEAD_SECONDS
        self._house.joined(self)

    def connection_lost(self, _: Exception | None) -> None:
        self._over("it closed")
        self._house.gone(self)

    def get_buffer(self, _: int) -> memoryview:
        return self._house.block

    def buffer_updated(self, count: int) -> None:
        if self._left:
            taken = min(self._left, count)
            self._left -= taken
            self._took(taken)
            if not self._left and self._run is not None:
                self._done()
            if taken == count:
                return
            data = bytes(self._house.block[taken:count])
        elif not self._parsing:
            self._idle_talk(count)
            return
        else:
            data = bytes(self._house.block[:count])
        self._parse(data)
        if not self._known:
            self._idle_talk(len(data))

    def _idle_talk(self, count: int) -> None:
        """Count what belongs to no upload; it may go on for a moment, and not for long."""
        if self._known:
            self._house.ledger.add("", count)
            return
        self._unasked += count
        if self._unasked > MOST_UNASKED_BYTES:
            self.close()

    @property
    def carries(self) -> bool:
        """Whether an upload is coming in."""
        return self._run is not None

    def eof_received(self) -> None:
        """Close as well."""

    def close(self) -> None:
        """For having said nothing, or too much."""
        if self._transport is not None:
            self._transport.abort()

    def _parse(self, data: bytes) -> None:
        try:
            self._http.receive_data(data)
            while self._parsing:
                event = self._http.next_event()
                if event is h11.NEED_DATA or event is h11.PAUSED:
                    return
                self._event(event)
                if self._left:
                    return
        except h11.RemoteProtocolError:
            self._answer(400, {"text": "that is no HTTP"}, last=True)

    def _event(self, event: object) -> None:
        if isinstance(event, h11.Request):
            self._asked(event)
        elif isinstance(event, h11.Data):
            self._took(len(event.data))
        elif isinstance(event, h11.EndOfMessage) and self._run is not None:
            self._done()
        elif isinstance(event, h11.ConnectionClosed):
            self.close()

    def _asked(self, request: h11.Request) -> None:
        path = request.target.decode("ascii", "replace").partition("?")[0]
        headers = {name.decode(): value.decode("latin-1") for name, value in request.headers}
        chunked, length = "transfer-encoding" in headers, headers.get("content-length")
        more = chunked or length not in (None, "0")
        if chunked and length is not None:  # RFC 9112 section 6.1: where a body ends is in doubt
            self._answer(400, {"text": "conflicting lengths"}, last=True)
        elif path == HEALTH:
            healthy = {"healthy": True, "uploads": self._house.ledger.open}
            self._answer(200, healthy, last=more)
        elif path == CONFIGURATION:
            host = headers.get("host", "")
            scheme = "https" if self._house.secure else "http"
            urls = {"upload_url": f"{scheme}://{host}{UPLOAD}"}
            self._answer(200, {"version": 1, "urls": urls}, last=more)
        elif path != UPLOAD and not path.startswith(COUNTED):
            self._answer(404, {"text": f"uploads go to {UPLOAD}"}, last=True)
        else:
            self._admitted(path, headers, request.method)

    def _admitted(self, path: str, headers: dict[str, str], method: bytes) -> None:
        word, _, token = headers.get("authorization", "").partition(" ")
        known = self._house.ledger.knows(token if word.lower() == "bearer" else "", self.address)
        if known is None:
            self._answer(429, {"text": "too many wrong tokens"}, last=True)
        elif not known:
            self._answer(401, {"text": "wrong token for this endpoint"}, last=True)
        else:
            self._known = True
            if path == UPLOAD and method == b"POST":
                self._begin(headers)
            elif path.startswith(COUNTED) and method == b"GET":
                self._counted(path.removeprefix(COUNTED))
            else:
                self._answer(404, {"text": f"POST to {UPLOAD}"}, last=True)

    def _counted(self, run: str) -> None:
        found = self._house.ledger.count_of(run)
        if found is None:
            self._answer(404, {"text": "no such run"})
            return
        series = Series(seconds=tuple(found.seconds), delivered_bytes=tuple(found.counts))
        counted = EndpointCount(run=run, uploads=found.uploads, bytes=found.bytes, samples=series)
        self._answer(200, counted.model_dump(mode="json", exclude_defaults=False))

    def _begin(self, headers: dict[str, str]) -> None:
        run = headers.get(RUN_HEADER, "").lstrip(NAMELESS)[:64]
        if not run:
            self._house.nameless += 1
            run = f"{NAMELESS}{self._house.nameless}"
        if why := self._house.ledger.begin(run):
            self._answer(429, {"text": why}, last=True)
            return
        self._run, self._body = run, 0
        length = headers.get("content-length")
        if length is None:
            return  # in chunks, which h11 takes apart
        self._left = int(length)
        early = self._http.trailing_data[0]
        self._http = h11.Connection(h11.SERVER, HEAD_BYTES)
        taken = min(len(early), self._left)
        self._left -= taken
        if taken:
            self._took(taken)
        if not self._left and self._run is not None:
            rest = early[taken:]
            self._done()
            if rest and self._parsing:
                self._parse(rest)

    def _took(self, count: int) -> None:
        self.due = self._house.now() + SILENCE_SECONDS
        if self._run is None:
            return
        self._body += count
        if why := self._house.ledger.add(self._run, count):
            self._left = 0
            self._over(why)
            self._answer(429, {"text": why}, last=True)

    def _done(self) -> None:
        """A body was read to its end."""
        body = self._body
        self._over("")
        self._answer(200, {"received_bytes": body})

    def _over(self, why: str) -> None:
        """The upload is over, for whatever reason."""
        if self._run is None:
            return
        if self._body > BLOCK_BYTES:
            self._house.tell(f"{self.address}: {self._body:,} bytes{f', {why}' if why else ''}")
        run, self._run = self._run, None
        self._house.ledger.end(run)

    def _answer(self, status: int, said: dict[str, Any], *, last: bool = False) -> None:
        if self._transport is None or self._transport.is_closing():
            return
        body = json.dumps(said).encode()
        head = (
            f"HTTP/1.1 {status} {HTTPStatus(status).phrase}".encode()
            + b"\r\ncontent-type: application/json\r\ncache-control: no-store\r\n"
            + f"content-length: {len(body)}\r\n".encode()
            + (b"connection: close\r\n" if last else b"")
            + b"\r\n"
        )
        self._transport.write(head + body)
        more = self._http.trailing_data[0]
        self._http = h11.Connection(h11.SERVER, HEAD_BYTES)
        if more and not last:  # another request came right behind this one
            self._http.receive_data(more)
        self.due = self._house.now() + HEAD_SECONDS
        if last:  # let what is on its way arrive, or the answer would be lost in a reset
            self._parsing, self.due = False, self._house.now() + LINGER_SECONDS
            with contextlib.suppress(OSError, NotImplementedError):
                if self._transport.can_write_eof():
                    self._transport.write_eof()


class FarEnd:
    """Serves within its ``with`` block, in a thread of its own."""

    def __init__(
        self,
        listening: socket.socket,
        ledger: Ledger,
        certificate: ssl.SSLContext | None = None,
        tell: Told = lambda _: None,
    ) -> None:
        """Take a listening socket.

        Args:
            tell: hears a line of each larger upload; never of a token.
        """
        self.ledger, self.tell = ledger, tell
        self.secure = certificate is not None
        self.port: int = listening.getsockname()[1]
        self.block = memoryview(bytearray(BLOCK_BYTES))
        """Where everything is read into, since nobody looks at it."""
        self.nameless = 0
        """Uploads that did not say of which run they are."""
        self._listening, self._certificate = listening, certificate
        self._guests: dict[_Guest, None] = {}
        """Oldest first."""
        self._greeted = 0
        """That are being taken in: under TLS, their handshake is not over."""
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="far end", daemon=True)

    def now(self) -> float:
        """On the loop's clock."""
        return self._loop.time()

    def joined(self, guest: _Guest) -> None:
        """One more."""
        self._guests[guest] = None

    def _has_room(self) -> bool:
        """Whether one more may come; the one goes that has been there longest without an upload."""
        if len(self._guests) + self._greeted < MOST_CONNECTIONS:
            return True
        idle = next((guest for guest in self._guests if not guest.carries), None)
        if idle is None:
            return False
        self._guests.pop(idle)
        idle.close()
        return True

    async def _accept(self) -> None:
        """Take connections, as far as there is room; TLS is spoken only then."""
        self._listening.setblocking(False)
        tasks: set[asyncio.Task[None]] = set()
        while True:
            try:
                connection, _ = await self._loop.sock_accept(self._listening)
            except OSError:  # too many files are open, say
                await asyncio.sleep(SWEEP_SECONDS)
                continue
            if not self._has_room():
                connection.close()
                continue
            self._greeted += 1
            task = self._loop.create_task(self._greet(connection))
            tasks.add(task)
            task.add_done_callback(tasks.discard)

    async def _greet(self, connection: socket.socket) -> None:
        try:
            await self._loop.connect_accepted_socket(
                lambda: _Guest(self),
                connection,
                ssl=self._certificate,
                ssl_handshake_timeout=HEAD_SECONDS if self.secure else None,
            )
        except (OSError, asyncio.CancelledError):
            connection.close()
        finally:
            self._greeted -= 1

    def gone(self, guest: _Guest) -> None:
        """One less."""
        self._guests.pop(guest, None)

    @property
    def connections(self) -> int:
        """That are open."""
        return len(self._guests)

    def __enter__(self) -> Self:
        self._thread.start()
        self._ready.wait(START_SECONDS)
        return self

    def __exit__(self, *_: object) -> None:
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join(START_SECONDS)

    def _run(self) -> None:
        try:
            self._loop.run_until_complete(self._serve())
        finally:
            self._loop.close()

    async def _serve(self) -> None:
        self._stop = asyncio.Event()
        self._listening.listen(BACKLOG)
        accepting = self._loop.create_task(self._accept())
        self._ready.set()
        while not self._stop.is_set():
            for guest in [g for g in self._guests if g.due < self.now()]:
                guest.close()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._stop.wait(), SWEEP_SECONDS)
        accepting.cancel()
        self._listening.close()
        for guest in list(self._guests):
            guest.close()
