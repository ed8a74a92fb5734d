"""Find the upload address from what the user gives.

A bare origin is first asked for the responsiveness configuration of the IETF ippm working group
(``/.well-known/nq``, draft-ietf-ippm-responsiveness, its ``upload_url``). A redirect that keeps
the method (307, 308; RFC 9110 section 15.4) is followed once; any other is refused, since it would
turn the upload into a download.
"""

from __future__ import annotations

import json
import socket
import struct
import sys
import urllib.request
from dataclasses import dataclass, field, replace
from typing import Literal
from urllib.parse import unquote, urljoin

import httpx
import psutil

from eager_kestrel.core.connection.summarising import EndpointCount
from eager_kestrel.core.errors import EndpointError, InputError, NetworkError
from eager_kestrel.net.addresses import Address, parse_address, shown_url
from eager_kestrel.net.exchange import exchange, status_error

ANY_IPV4, ANY_IPV6 = "0.0.0.0", "::"  # noqa: S104 - to leave from, not to listen on
CONNECT_SECONDS = 10.0
ANSWER_SECONDS = 20.0
"""Longer than any stall worth sitting out."""
UNSENT_BYTES = 131_072
"""What may sit unsent in this machine; at 2 Mbit/s half a second, discarded when a phase ends."""
TCP_NOTSENT_LOWAT = {"linux": 25, "darwin": 0x201}.get(sys.platform)
ABORTIVE_CLOSE = struct.pack("hh" if sys.platform == "win32" else "ii", 1, 0)
HEADERS = {
    "Accept": "*/*",
    "Accept-Encoding": "identity",
    "Content-Type": "application/octet-stream",
}

SCHEMES = ("http", "https")
EXAMPLE = "https://HOST/PATH"

FoundBy = Literal["given", "responsiveness configuration", "redirect"]
SocketOption = tuple[int, int, int] | tuple[int, int, bytes]


@dataclass(frozen=True, slots=True)
class UploadTarget:
    """An address that takes uploads, and the way to it."""

    url: str
    bind: str | None = None
    """Local address to leave from."""
    proxy: str | None = None
    found_by: FoundBy = "given"
    estimate: bool = False
    """Count by the portable estimate even where the kernel counts."""
    token: str | None = field(default=None, repr=False)
    """Of an endpoint that asks for one; it never leaves its origin."""
    run: str = ""
    """By which an endpoint that counts tells runs apart."""

    @property
    def shown(self) -> str:
        """The address without user information and query, for output and history."""
        return shown_url(self.url)

    def client(self) -> httpx.Client:
        """An HTTP/1.1 client of one connection, whose close is abortive and queue bounded."""
        transport = httpx.HTTPTransport(
            http1=True,
            http2=False,
            limits=httpx.Limits(max_connections=1, max_keepalive_connections=1),
            local_address=self.bind,
            proxy=None if self.proxy is None else _proxy(self.proxy),
            socket_options=_socket_options(),
        )
        timeout = httpx.Timeout(ANSWER_SECONDS, connect=CONNECT_SECONDS)
        own = {"Authorization": f"Bearer {self.token}"} if self.token else {}
        if self.run:
            own["Kestrel-Run"] = self.run
        return httpx.Client(transport=transport, timeout=timeout, headers=HEADERS | own)


def _socket_options() -> list[SocketOption]:
    options: list[SocketOption] = [
        (socket.SOL_SOCKET, socket.SO_LINGER, ABORTIVE_CLOSE),
    ]
    if TCP_NOTSENT_LOWAT is not None:
        options.append((socket.IPPROTO_TCP, TCP_NOTSENT_LOWAT, UNSENT_BYTES))
    return options


def find_target(
    url: str,
    bind: str | None = None,
    *,
    estimate: bool = False,
    direct: bool = False,
    token: str | None = None,
) -> UploadTarget:
    """Settle where to upload and make sure that it takes POST.

    Args:
        url: ``http(s)://...``; a bare origin may name its upload address itself.
        estimate: count by the portable estimate.

    Raises:
        InputError: not an http(s) address.
        NetworkError: it cannot be reached.
        EndpointError: it does not take uploads.
    """
    given = parse_address(url, SCHEMES, EXAMPLE)
    if bind is not None:
        _require_own_address(bind)
    proxy = None if direct else _proxy_for(given)
    target = UploadTarget(url=url.strip(), bind=bind, proxy=proxy, estimate=estimate, token=token)
    with target.client() as client:
        if given.path in ("", "/") and not given.query:
            target = _configured(client, target)
        answer = exchange(client, "POST", target.url, target.shown, b"k")
        location = answer.headers.get("location", "")
        if answer.status in (307, 308) and location:
            target = replace(target, url=_named(target, location, "redirect"), found_by="redirect")
            answer = exchange(client, "POST", target.url, target.shown, b"k")
            location = answer.headers.get("location", "")
    if not 200 <= answer.status < 300:
        raise status_error(answer.status, target.shown, shown_location(target.url, location))
    return target


def shown_location(url: str, location: str) -> str:
    """Where a redirect leads, as it may be shown; empty without one."""
    return shown_url(urljoin(url, location)) if location else ""


def _named(target: UploadTarget, url: str, what: str) -> str:
    """An address the endpoint names, if it is one.

    Raises:
        EndpointError: it is none.
    """
    found = urljoin(target.url, url)
    try:
        named = parse_address(found, SCHEMES, EXAMPLE)
    except InputError as error:
        raise EndpointError(
            f"its {what} names no http address ({error.what})", "give one", target.shown
        ) from None
    own = parse_address(target.url, SCHEMES, EXAMPLE)
    if target.token and (named.scheme, named.authority) != (own.scheme, own.authority):
        raise EndpointError(
            f"its {what} leads elsewhere, and a token is not sent there",
            "give that address itself",
            target.shown,
        )
    return found


def counted_there(target: UploadTarget) -> EndpointCount | None:
    """What an endpoint that counts has read of a run; None if it does not, or cannot be asked."""
    url = urljoin(target.url, f"/counted/{target.run}")
    try:
        with target.client() as client:
            answer = exchange(client, "GET", url, target.shown)
        return EndpointCount.model_validate_json(answer.body) if answer.status == 200 else None
    except (NetworkError, ValueError):
        return None


def _require_own_address(bind: str) -> None:
    """Refuse to leave from an address this machine does not have."""
    own = [
        address.address.partition("%")[0]
        for addresses in psutil.net_if_addrs().values()
        for address in addresses
        if address.family in (socket.AF_INET, socket.AF_INET6)
    ]
    if bind not in (*own, ANY_IPV4, ANY_IPV6):
        raise InputError(
            f'this machine has no address "{bind}"', f"give --bind one of {', '.join(own)}"
        )


def _proxy_for(given: Address) -> str | None:
    """The proxy the environment names for an address, if any.

    Raises:
        InputError: it is none that can be used.
    """
    if urllib.request.proxy_bypass(given.host):
        return None
    proxies = urllib.request.getproxies()
    found = proxies.get(given.scheme) or proxies.get("all")
    if not found:
        return None
    written = found if "://" in found else f"http://{found}"
    try:
        parse_address(written, SCHEMES, "http://HOST:PORT")
    except InputError as error:
        raise InputError(
            f"the proxy the environment names cannot be used: {error.what}",
            "correct or unset it, or give --direct",
        ) from None
    return written


def _proxy(written: str) -> httpx.Proxy:
    found = parse_address(written, SCHEMES, "http://HOST:PORT")
    if found.user is None:
        return httpx.Proxy(found.url)
    return httpx.Proxy(found.url, auth=(unquote(found.user), unquote(found.password or "")))


def _configured(client: httpx.Client, target: UploadTarget) -> UploadTarget:
    """The upload address the origin names in its responsiveness configuration, if it has one."""
    answer = exchange(client, "GET", urljoin(target.url, "/.well-known/nq"), target.shown)
    if answer.status != 200:
        return target
    try:
        named = json.loads(answer.body)["urls"]["upload_url"]
    except (ValueError, KeyError, TypeError, RecursionError):
        return target
    found = _named(target, str(named), "responsiveness configuration")
    return replace(target, url=found, found_by="responsiveness configuration")
