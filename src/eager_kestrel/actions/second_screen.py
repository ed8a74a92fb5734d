"""The page of ``watch``: how the stream stands, on a phone beside the keyboard.

The page only draws: what it shows is the document that ``watch --json`` prints, less the address.
It is sent as server-sent events (HTML Living Standard, section 9.2). Whoever knows the random word
in its address may look; every other request is answered with 404.
"""

from __future__ import annotations

import asyncio
import hmac
import json
import secrets
import socket
import time
from collections import deque
from typing import TYPE_CHECKING, Self
from urllib.parse import urlsplit

from aiohttp import web

from eager_kestrel.core.errors import InputError, NetworkError
from eager_kestrel.net.addresses import LOOPBACK, listener, own_address
from eager_kestrel.net.web_server import Guest, WebServer

if TYPE_CHECKING:
    from eager_kestrel.core.connection.broadcast import Now

WORD_BYTES = 12
EVERY_SECONDS = 1.0
"""Between two documents of a stream, unless another verdict is to be told."""
KEPT = 120
"""Documents of each stream for who comes later: two minutes."""
QUIET_SECONDS = 5.0
"""Without a document, before a viewer is asked whether it is still there; and for its answer."""
SEND_BUFFER_BYTES = 32_768
MOST_WAITING_BYTES = 65_536
"""For a viewer who does not read, before it is sent away."""
LAST_SECONDS = 0.3
"""For the last word to get through."""
EVERYWHERE = ("0.0.0.0", "::")  # noqa: S104


class SecondScreen:
    """Serves the page within its ``with`` block, from a thread of its own."""

    def __init__(self, page: str, policy: str, at: str | None = None) -> None:
        """Listen.

        Args:
            page: the HTML.
            policy: what a browser may do on it.
            at: an address of this machine, with or without a port; None: for this machine only.

        Raises:
            InputError: it is none.
            NetworkError: the address or its port cannot be used.
        """
        host, port = _place(at or LOOPBACK)
        self._word = secrets.token_urlsafe(WORD_BYTES)
        self._page, self._policy = page, policy
        self._past: dict[str, deque[dict[str, object]]] = {}
        """By the server a stream goes to."""
        self._told: dict[str, tuple[float, str]] = {}
        """When each was told last, and its headline."""
        self._viewers: set[asyncio.Queue[bytes | None]] = set()
        try:
            listening = listener(host, port)
        except NetworkError as error:
            raise NetworkError(error.what, "choose another with --page-at") from None
        self._web = WebServer(listening, self._routes)
        shown = own_address() if host in EVERYWHERE else host
        place = f"[{shown}]" if ":" in shown else shown
        self.address = f"http://{place}:{self._web.port}/{self._word}/"
        """With the word: whoever has it may look."""

    def __enter__(self) -> Self:
        self._web.__enter__()
        return self

    def __exit__(self, *_: object) -> None:
        self._web.__exit__()

    @property
    def viewers(self) -> int:
        """Who look at it now."""
        return len(self._viewers)

    def tell(self, now: Now) -> None:
        """How a stream stands."""
        at, headline = self._told.get(now.server, (-1e9, ""))
        if now.seconds - at < EVERY_SECONDS - 0.05 and now.headline == headline:
            return
        self._told[now.server] = (now.seconds, now.headline)
        self._web.call(lambda: self._take(now))

    def over(self, said: str) -> None:
        """Nothing more will come."""
        self._web.call(lambda: self._send(_event("over", said), None))
        time.sleep(LAST_SECONDS if self.viewers else 0.0)

    def _take(self, now: Now) -> None:
        past = self._past.setdefault(now.server, deque(maxlen=KEPT))
        number = list(self._past).index(now.server)
        past.append({"stream": number, **now.model_dump(mode="json", exclude={"server"})})
        self._send(_event("now", past[-1]))

    def _send(self, *parts: bytes | None) -> None:
        for queue in self._viewers:
            for part in parts:
                queue.put_nowait(part)

    def _routes(self, server: WebServer) -> list[web.RouteDef]:
        del server
        return [
            web.route("*", "/{word}/", self._look),
            web.route("*", "/{word}/events", self._events),
        ]

    def _admitted(self, request: web.Request) -> Guest:
        """Who asks, when the word is right and nothing but a look is asked for.

        Raises:
            web.HTTPNotFound: for everything else, so that no answer tells what there is.
        """
        given = request.match_info["word"].encode(errors="replace")
        if not hmac.compare_digest(given, self._word.encode()) or request.method != "GET":
            raise web.HTTPNotFound
        guest = self._web.guest(request)
        guest.belongs = True
        return guest

    async def _look(self, request: web.Request) -> web.Response:
        self._admitted(request)
        headers = {
            "content-security-policy": self._policy,
            "x-content-type-options": "nosniff",
            "referrer-policy": "no-referrer",
        }
        return web.Response(text=self._page, content_type="text/html", headers=headers)

    async def _events(self, request: web.Request) -> web.StreamResponse:
        """Everything of the last two minutes, then what comes, until the viewer or we go."""
        guest, transport = self._admitted(request), request.transport
        headers = {"content-type": "text/event-stream", "cache-control": "no-store"}
        answer = web.StreamResponse(headers=headers)
        await answer.prepare(request)
        if transport is None:
            return answer
        transport.get_extra_info("socket").setsockopt(
            socket.SOL_SOCKET, socket.SO_SNDBUF, SEND_BUFFER_BYTES
        )
        queue: asyncio.Queue[bytes | None] = asyncio.Queue()
        past = [document for kept in self._past.values() for document in kept]
        queue.put_nowait(b"retry: 1000\n" + _event("begin", None) + _event("past", past))
        self._viewers.add(queue)
        try:
            while (part := await _next(queue)) is not None:
                async with asyncio.timeout(QUIET_SECONDS):
                    await answer.write(part)
                if transport.get_write_buffer_size() > MOST_WAITING_BYTES:
                    guest.close()
                self._web.heard(guest)
        except TimeoutError:
            guest.close()
        finally:
            self._viewers.discard(queue)
        return answer


async def _next(queue: asyncio.Queue[bytes | None]) -> bytes | None:
    """What to send next; a comment when nothing has come for a while."""
    try:
        async with asyncio.timeout(QUIET_SECONDS):
            return await queue.get()
    except TimeoutError:
        return b":\n\n"


def _event(name: str, data: object) -> bytes:
    return f"event: {name}\ndata: {json.dumps(data)}\n\n".encode()


def _place(written: str) -> tuple[str, int]:
    """An address of this machine and a port, 0 for any.

    Raises:
        InputError: it is none.
    """
    try:
        plain = written.count(":") > 1 and not written.startswith("[")
        parts = urlsplit(f"//[{written}]" if plain else f"//{written}")
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if not host or parts.path:
        raise InputError(
            f'"{written}" is no address of this machine', "write 0.0.0.0, 0.0.0.0:8080 or one of it"
        )
    return host, port or 0
