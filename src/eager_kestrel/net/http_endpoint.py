"""An HTTP endpoint of your own: takes uploads from those who hold its token, and counts them."""

from __future__ import annotations

from aiohttp import web

from eager_kestrel.core.connection.run import Series
from eager_kestrel.core.connection.summarising import EndpointCount
from eager_kestrel.net.ledger import NAMELESS, Ledger
from eager_kestrel.net.web_server import Guest, Told, WebServer

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
