"""HTTP for strangers: what is let in, for how long, and who goes when it is full.

Requests are read, answered and closed by aiohttp (RFC 9112), whose low-level server is a protocol
for each connection. Ours is what comes before a protocol is there: how many connections, from whom,
and how long each may say nothing. The choice is in docs/decisions/0045-http-server.md.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import ssl
import threading
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Self

from aiohttp import web

HEAD_BYTES = 16_384
READ_BYTES = 2**18
MOST_UNASKED_BYTES = 65_536
"""Of a body nobody wanted, before its connection is closed."""
HEAD_SECONDS, SILENCE_SECONDS, LINGER_SECONDS = 10.0, 20.0, 0.5
SWEEP_SECONDS = 0.5
MOST_CONNECTIONS = 256
"""Handshakes that are not over count. One of TLS takes a quarter of a megabyte."""
MOST_OF_AN_ADDRESS = 64
"""Of those who have not shown that they belong."""
BACKLOG = 256
START_SECONDS = 10.0

Told = Callable[[str], None]
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


@dataclass(eq=False, slots=True)
class Guest:
    """One connection, from its first byte on."""

    address: str
    due: float
    """When it is closed unless something happens, on the loop's clock."""
    belongs: bool = False
    """Whether it has shown the token, or the word; strangers do not throw it out."""
    transport: asyncio.WriteTransport | None = None
    """None until a handshake is over."""
    greeting: asyncio.Task[None] | None = field(default=None, repr=False)
    closed: bool = False
    """By us, or before its handshake was over."""

    @property
    def gone(self) -> bool:
        """Whether it is closed, or about to be."""
        return self.closed or (self.transport is not None and self.transport.is_closing())

    def close(self) -> None:
        """At once, whatever is still to be sent."""
        self.closed = True
        if self.transport is not None:
            self.transport.abort()
        elif self.greeting is not None:
            self.greeting.cancel()


class WebServer:
    """Serves an application within its ``with`` block, in a thread of its own."""

    def __init__(
        self,
        listening: socket.socket,
        routes: Callable[[WebServer], list[web.RouteDef]],
        certificate: ssl.SSLContext | None = None,
        tell: Told = lambda _: None,
        proxy: str | None = None,
        met_stranger: Callable[[], None] = lambda: None,
    ) -> None:
        """Take a listening socket.

        Args:
            routes: what is served, for a server that a handler asks for its guest.
            tell: hears of a defect; must not raise.
            proxy: an address in front of it, which names the client (``X-Forwarded-For``).
            met_stranger: called for each connection that went without showing that it belongs.
        """
        self.secure = certificate is not None
        self.port: int = listening.getsockname()[1]
        self.tell = tell
        self._listening, self._certificate, self._proxy = listening, certificate, proxy
        self._routes, self._met_stranger = routes, met_stranger
        self._guests: dict[object, Guest] = {}
        """By the protocol that reads it, oldest first."""
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="web server", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        self._ready.wait(START_SECONDS)
        return self

    def __exit__(self, *_: object) -> None:
        self.call(self._stop.set)
        self._thread.join(START_SECONDS)

    def call(self, what: Callable[[], object]) -> None:
        """Have the server's own thread do something; nothing when it has ended."""
        with contextlib.suppress(RuntimeError):
            self._loop.call_soon_threadsafe(what)

    @property
    def connections(self) -> int:
        """That are open, handshakes among them."""
        return sum(not guest.gone for guest in [*self._guests.values()])

    def guest(self, request: web.Request) -> Guest:
        """Who asks.

        Raises:
            ConnectionResetError: it was sent off meanwhile.
        """
        found = self._guests.get(request.protocol)
        if found is None:
            raise ConnectionResetError
        return found

    def address(self, request: web.Request) -> str:
        """From where; behind a proxy that is trusted, what the proxy says."""
        peer = self.guest(request).address
        if peer != self._proxy:
            return peer
        return request.headers.get("x-forwarded-for", peer).rpartition(",")[2].strip() or peer

    def heard(self, guest: Guest, seconds: float = SILENCE_SECONDS) -> None:
        """It said something, and may be silent for so long now."""
        guest.due = self._loop.time() + seconds

    def _run(self) -> None:
        try:
            self._loop.run_until_complete(self._serve())
        finally:
            self._loop.close()

    async def _serve(self) -> None:
        self._stop = asyncio.Event()
        quiet = logging.Logger("eager_kestrel.web")  # what strangers do wrong is no news
        quiet.addHandler(logging.NullHandler())
        application = web.Application(middlewares=[self._around], logger=quiet)
        application.add_routes(self._routes(self))
        runner = web.AppRunner(
            application,
            access_log=None,
            logger=quiet,
            handler_cancellation=True,
            keepalive_timeout=HEAD_SECONDS,
            max_line_size=HEAD_BYTES,
            max_field_size=HEAD_BYTES,
            lingering_time=0,
            read_bufsize=READ_BYTES,
            auto_decompress=False,
            shutdown_timeout=LINGER_SECONDS,
        )
        await runner.setup()
        assert runner.server is not None
        self._listening.setblocking(False)
        self._listening.listen(BACKLOG)
        accepting = self._loop.create_task(self._accept(runner.server))
        self._ready.set()
        while not self._stop.is_set():
            self._sweep()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._stop.wait(), SWEEP_SECONDS)
        accepting.cancel()
        self._listening.close()
        greetings = [one.greeting for one in self._guests.values() if one.greeting is not None]
        for guest in self._guests.values():
            guest.close()
        await asyncio.gather(accepting, *greetings, return_exceptions=True)
        await runner.cleanup()

    def _sweep(self) -> None:
        """Close who has said nothing for too long; forget who is gone."""
        now = self._loop.time()
        for protocol in [p for p, guest in self._guests.items() if guest.gone or guest.due < now]:
            self._send_off(protocol)

    def _send_off(self, protocol: object) -> None:
        """Close a connection and forget it, with all that it holds."""
        guest = self._guests.pop(protocol)
        guest.close()
        if not guest.belongs:
            self._met_stranger()

    async def _accept(self, server: web.Server) -> None:
        """Take connections, as far as there is room; TLS is spoken only then."""
        while True:
            try:
                connection, peer = await self._loop.sock_accept(self._listening)
            except OSError:  # too many files are open, say
                await asyncio.sleep(SWEEP_SECONDS)
                continue
            address = str(peer[0]).removeprefix("::ffff:")
            if self._has_room(address):
                self._greet(connection, address, server())
            else:
                connection.close()
            await asyncio.sleep(0)  # others first: a crowd is accepted without a pause

    def _has_room(self, address: str) -> bool:
        """Whether one more may come; of strangers too many the one longest here goes."""
        strangers = {p: guest for p, guest in self._guests.items() if not guest.belongs}
        of_it = [p for p, guest in strangers.items() if guest.address == address]
        if len(of_it) >= MOST_OF_AN_ADDRESS and address != self._proxy:
            self._send_off(of_it[0])
        elif len(self._guests) >= MOST_CONNECTIONS and strangers:
            self._send_off(next(iter(strangers)))
        return len(self._guests) < MOST_CONNECTIONS

    def _greet(self, connection: socket.socket, address: str, protocol: asyncio.Protocol) -> None:
        guest = Guest(address, self._loop.time() + HEAD_SECONDS)
        self._guests[protocol] = guest

        async def greet() -> None:
            with contextlib.suppress(OSError):
                guest.transport, _ = await self._loop.connect_accepted_socket(
                    lambda: protocol,
                    connection,
                    ssl=self._certificate,
                    ssl_handshake_timeout=HEAD_SECONDS if self.secure else None,
                )

        def greeted(_: object) -> None:
            guest.greeting = None  # what was cancelled holds on to all that it held
            if guest.transport is None:
                guest.closed = True
                connection.close()

        guest.greeting = self._loop.create_task(greet())
        guest.greeting.add_done_callback(greeted)

    @web.middleware
    async def _around(self, request: web.Request, handler: Handler) -> web.StreamResponse:
        """Count the time of a request, and let nobody go on for long who does not belong."""
        guest = self.guest(request)
        self.heard(guest)
        try:
            answer = await handler(request)
        except web.HTTPException as error:
            answer = web.json_response({"text": error.reason}, status=error.status)
        except web.RequestPayloadError:
            answer = web.json_response({"text": "that is no HTTP"}, status=400)
        except ConnectionError:
            raise
        except Exception as error:  # noqa: BLE001 - one request must not end the house
            self.tell(f"a defect of this program: {error!r}")
            answer = web.json_response({"text": "a defect"}, status=500)
        self.heard(guest, HEAD_SECONDS)
        answer.headers["cache-control"] = "no-store"
        if not guest.belongs or not request.content.is_eof():
            await _send_away(request, answer)
        return answer


async def _send_away(request: web.Request, answer: web.StreamResponse) -> None:
    """Answer and close, after what is on its way: a reset would lose the answer (RFC 9112, 9.6)."""
    answer.force_close()
    await answer.prepare(request)
    await answer.write_eof()
    transport, unasked = request.transport, 0
    if transport is not None and transport.can_write_eof():
        with contextlib.suppress(OSError):
            transport.write_eof()
    with contextlib.suppress(TimeoutError, web.RequestPayloadError, ConnectionError):
        async with asyncio.timeout(LINGER_SECONDS):
            async for part in request.content.iter_any():
                unasked += len(part)
                if unasked > MOST_UNASKED_BYTES:
                    return
