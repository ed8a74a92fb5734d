"""An HTTP endpoint of your own: takes uploads from those who hold its token, and counts them.

The ledger says what it allows a guest: data in a run, data in an hour, uploads at once.
"""

from __future__ import annotations

import hmac
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from aiohttp import web

from eager_kestrel.core.connection.run import Series
from eager_kestrel.core.connection.summarising import EndpointCount
from eager_kestrel.net.web_server import Guest, Told, WebServer

HOUR_SECONDS = 3600.0
SLOT_SECONDS = 10.0
"""An hour is kept in slots."""
MOST_RUNS = 256
"""Runs that are remembered."""
NAMELESS = "-"
"""With which runs begin that nobody will ask for."""
SAMPLE_SECONDS = 0.01
MOST_SAMPLES = 2000
"""Of a run, which fit into a small answer; when there are more, every second one goes."""
WRONG_TOKENS, WRONG_SECONDS = 10, 60.0
"""Wrong tokens from one address in so long before it is not heard any more."""
MOST_ADDRESSES = 4096


@dataclass(frozen=True, slots=True)
class Bounds:
    """The most that is taken."""

    run_bytes: int
    run_seconds: float
    hour_bytes: int
    at_once: int = 16
    """Uploads."""


@dataclass(slots=True)
class RunCount:
    """What was read of one run."""

    began: float
    uploads: int = 0
    bytes: int = 0
    seconds: list[float] = field(default_factory=lambda: [0.0])
    counts: list[int] = field(default_factory=lambda: [0])
    every_seconds: float = SAMPLE_SECONDS
    strangers: int = 0
    """That had come before it began; in a copy, that came since."""

    def note(self, at: float) -> None:
        """A sample, if it is time for one."""
        if at - self.seconds[-1] < self.every_seconds:
            return
        self.seconds.append(round(at, 4))
        self.counts.append(self.bytes)
        if len(self.seconds) > MOST_SAMPLES:
            del self.seconds[1::2], self.counts[1::2]
            self.every_seconds *= 2


class Ledger:
    """Counts guests and turns them away. For several threads.

    Memory is bounded whatever comes: runs, samples and addresses are.
    """

    def __init__(
        self, token: str, bounds: Bounds, now: Callable[[], float] = time.perf_counter
    ) -> None:
        self._token, self._bounds, self._now = token.encode(), bounds, now
        self._lock = threading.Lock()
        self._runs: OrderedDict[str, RunCount] = OrderedDict()
        self._hour: deque[tuple[float, int]] = deque()
        self._hour_bytes = 0
        self._wrong: OrderedDict[str, deque[float]] = OrderedDict()
        self.open = 0
        """Uploads that are coming in."""
        self.strangers = 0
        """That came so far, without the token."""

    def knows(self, token: str, address: str) -> bool | None:
        """Whether a token is the right one; None when its address has guessed too often.

        No token at all is no guess.
        """
        with self._lock:
            now = self._now()
            tried = self._wrong.get(address)
            while tried and tried[0] < now - WRONG_SECONDS:
                tried.popleft()
            if tried is not None and len(tried) >= WRONG_TOKENS:
                return None
            if self.matches(token):
                return True
            if not token:
                return False
            tried = self._wrong.setdefault(address, deque())
            tried.append(now)
            self._wrong.move_to_end(address)
            if len(self._wrong) > MOST_ADDRESSES:
                self._wrong.popitem(last=False)
            return False

    def matches(self, token: str) -> bool:
        """Whether it is the right one, compared in constant time."""
        return hmac.compare_digest(token.encode(errors="replace"), self._token)

    def begin(self, run: str) -> str | None:
        """An upload begins; a reason to refuse it, or None."""
        with self._lock:
            self._forget()
            if self.open >= self._bounds.at_once:
                return f"{self._bounds.at_once} uploads are coming in already"
            if why := self._spent(run):
                return why
            known = self._runs.get(run)
            if known is None:
                known = self._runs[run] = RunCount(self._now(), strangers=self.strangers)
                if len(self._runs) > MOST_RUNS:
                    self._runs.popitem(last=False)
            known.uploads += 1
            self.open += 1
            return None

    def add(self, run: str, count: int) -> str | None:
        """So many bytes of it were read; a reason to end it, or None."""
        with self._lock:
            now, known = self._now(), self._runs.get(run)
            self._forget()
            self._hour_bytes += count
            if self._hour and self._hour[-1][0] > now - SLOT_SECONDS:
                self._hour[-1] = (self._hour[-1][0], self._hour[-1][1] + count)
            else:
                self._hour.append((now, count))
            if known is None:
                return "too many runs since it began"
            if not known.bytes:
                known.began = now
            known.bytes += count
            at = now - known.began
            known.note(at)
            return self._spent(run)

    def end(self, run: str) -> None:
        """An upload is over; what has no name is forgotten."""
        with self._lock:
            self.open -= 1
            if run.startswith(NAMELESS):
                self._runs.pop(run, None)

    def count_of(self, run: str) -> RunCount | None:
        """What was read of a run; None when it is not known, or not any more."""
        with self._lock:
            known = self._runs.get(run)
            if known is None:
                return None
            return replace(
                known,
                seconds=[*known.seconds],
                counts=[*known.counts],
                strangers=self.strangers - known.strangers,
            )

    def met_stranger(self) -> None:
        """One more who went without showing the token."""
        with self._lock:
            self.strangers += 1

    def _spent(self, run: str) -> str | None:
        known = self._runs.get(run)
        if self._hour_bytes >= self._bounds.hour_bytes:
            return "the hour's allowance is used up"
        if known is not None and known.bytes >= self._bounds.run_bytes:
            return "the run's allowance is used up"
        if known is not None and self._now() - known.began > self._bounds.run_seconds:
            return "the run's time is up"
        return None

    def _forget(self) -> None:
        """What is an hour ago does not count any more."""
        while self._hour and self._hour[0][0] <= self._now() - HOUR_SECONDS:
            self._hour_bytes -= self._hour.popleft()[1]


UPLOAD, COUNTED, HEALTH, CONFIGURATION = "/up", "/counted/", "/health", "/.well-known/nq"
RUN_HEADER = "kestrel-run"
WORTH_TELLING_BYTES = 2**20


class FarEnd:
    """What is answered."""

    def __init__(self, ledger: Ledger, tell: Told = lambda _: None) -> None:
        """Begin.

        Args:
            tell: hears a line of each larger upload; never of a token.
        """
        self._ledger, self._tell = ledger, tell
        self._nameless = 0
        """Uploads that did not say of which run they are."""
        self._server: WebServer

    def routes(self, server: WebServer) -> list[web.RouteDef]:
        """Everything that is answered; whoever asks for something else is told where uploads go."""
        self._server = server
        return [
            web.get(HEALTH, self._health),
            web.get(CONFIGURATION, self._configuration),
            web.post(UPLOAD, self._upload),
            web.get(COUNTED + "{run}", self._counted),
            web.route("*", "/{other:.*}", self._other),
        ]

    async def _health(self, _: web.Request) -> web.Response:
        return web.json_response({"healthy": True, "uploads": self._ledger.open})

    async def _configuration(self, request: web.Request) -> web.Response:
        scheme = "https" if self._server.secure else "http"
        urls = {"upload_url": f"{scheme}://{request.host}{UPLOAD}"}
        return web.json_response({"version": 1, "urls": urls})

    async def _other(self, _: web.Request) -> web.Response:
        raise web.HTTPNotFound(reason=f"uploads are POST to {UPLOAD}")

    def _admitted(self, request: web.Request) -> Guest:
        """Who asks, when the token was shown.

        Raises:
            web.HTTPException: it was not.
        """
        word, _, token = request.headers.get("authorization", "").partition(" ")
        token = token.strip() if word.lower() == "bearer" else ""
        known = self._ledger.knows(token, self._server.address(request))
        if known is None:
            raise web.HTTPTooManyRequests(reason="too many wrong tokens")
        if not known:
            said = "wrong token for this endpoint" if token else "this endpoint asks for a token"
            raise web.HTTPUnauthorized(reason=said)
        guest = self._server.guest(request)
        guest.belongs = True
        return guest

    async def _counted(self, request: web.Request) -> web.Response:
        self._admitted(request)
        found = self._ledger.count_of(request.match_info["run"])
        if found is None:
            raise web.HTTPNotFound(reason="no such run")
        counted = EndpointCount(
            run=request.match_info["run"],
            uploads=found.uploads,
            bytes=found.bytes,
            strangers=found.strangers,
            samples=Series(seconds=tuple(found.seconds), delivered_bytes=tuple(found.counts)),
        )
        return web.json_response(counted.model_dump(mode="json"))

    async def _upload(self, request: web.Request) -> web.Response:
        guest = self._admitted(request)
        run = request.headers.get(RUN_HEADER, "").lstrip(NAMELESS)[:64]
        if not run:
            self._nameless += 1
            run = f"{NAMELESS}{self._nameless}"
        if why := self._ledger.begin(run):
            raise web.HTTPTooManyRequests(reason=why)
        taken, why = 0, "it closed"
        try:
            async for part in request.content.iter_any():
                taken += len(part)
                self._server.heard(guest)
                if refused := self._ledger.add(run, len(part)):
                    why = refused
                    raise web.HTTPTooManyRequests(reason=why)
            why = ""
        finally:
            self._ledger.end(run)
            if taken > WORTH_TELLING_BYTES:
                self._tell(f"{guest.address}: {taken:,} bytes{why and f', {why}'}")
        return web.json_response({"received_bytes": taken})
