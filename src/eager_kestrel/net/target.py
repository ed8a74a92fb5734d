"""Where to upload: from what a person gives to an address that takes POST.

A bare origin is first asked for the responsiveness configuration of the IETF ippm working group
(``/.well-known/nq``, draft-ietf-ippm-responsiveness, its ``upload_url``). A redirect that keeps
the method (307, 308; RFC 9110 section 15.4) is followed once; any other is refused, since it would
turn the upload into a download.
"""

from __future__ import annotations

import socket
import struct
import sys
import urllib.request
from dataclasses import dataclass, replace
from typing import Literal
from urllib.parse import urljoin, urlsplit, urlunsplit

import httpx
import psutil

from eager_kestrel.core.errors import EndpointError, InputError
from eager_kestrel.net.failures import network_error, status_error

ANY_IPV4, ANY_IPV6 = "0.0.0.0", "::"  # noqa: S104 - to leave from, not to listen on
CONNECT_SECONDS = 10.0
ANSWER_SECONDS = 20.0
"""Longer than any stall worth sitting out."""
UNSENT_BYTES = 131_072
"""What may sit unsent in this machine; at 2 Mbit/s half a second, discarded when a phase ends."""
TCP_NOTSENT_LOWAT = {"linux": 25, "darwin": 0x201}.get(sys.platform)
ABORTIVE_CLOSE = struct.pack("hh" if sys.platform == "win32" else "ii", 1, 0)
HEADERS = {"Accept": "*/*", "Content-Type": "application/octet-stream"}

FoundBy = Literal["given", "responsiveness configuration", "redirect"]
SocketOption = tuple[int, int, int] | tuple[int, int, bytes]


@dataclass(frozen=True, slots=True)
class Target:
    """An address that takes uploads, and the way to it."""

    url: str
    bind: str | None = None
    """Local address to leave from."""
    proxy: str | None = None
    found_by: FoundBy = "given"
    estimate: bool = False
    """Count by the portable estimate even where the kernel counts."""

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
            proxy=self.proxy,
            socket_options=_socket_options(),
        )
        timeout = httpx.Timeout(ANSWER_SECONDS, connect=CONNECT_SECONDS)
        return httpx.Client(transport=transport, timeout=timeout, headers=HEADERS)


def shown_url(url: str) -> str:
    """An address without user information, query and fragment."""
    parts = urlsplit(url)
    host = parts.hostname or ""
    host = f"[{host}]" if ":" in host else host
    return urlunsplit(
        (parts.scheme, f"{host}:{parts.port}" if parts.port else host, parts.path, "", "")
    )


def _socket_options() -> list[SocketOption]:
    options: list[SocketOption] = [
        (socket.SOL_SOCKET, socket.SO_LINGER, ABORTIVE_CLOSE),
    ]
    if TCP_NOTSENT_LOWAT is not None:
        options.append((socket.IPPROTO_TCP, TCP_NOTSENT_LOWAT, UNSENT_BYTES))
    return options


def find_target(url: str, bind: str | None = None, *, estimate: bool = False) -> Target:
    """Settle where to upload and make sure that it takes POST.

    Args:
        url: ``http(s)://...``; a bare origin may name its upload address itself.
        bind: local address to leave from.
        estimate: count by the portable estimate.

    Raises:
        InputError: not an http(s) address.
        NetworkError: it cannot be reached.
        EndpointError: it does not take uploads.
    """
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise InputError(f'"{url}" is not an address to upload to', "write https://host/path")
    if bind is not None:
        _require_own_address(bind)
    target = Target(url=url, bind=bind, proxy=_proxy_for(url), estimate=estimate)
    with target.client() as client:
        if parts.path in ("", "/") and not parts.query:
            target = _configured(client, target)
        status, location = _try_post(client, target)
        if status in (307, 308) and location:
            target = replace(target, url=urljoin(target.url, location), found_by="redirect")
            status, location = _try_post(client, target)
    if not 200 <= status < 300:
        raise status_error(status, target.shown, shown_url(urljoin(target.url, location)))
    return target


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


def _proxy_for(url: str) -> str | None:
    """The proxy the environment names for an address, if any."""
    parts = urlsplit(url)
    if not parts.hostname or urllib.request.proxy_bypass(parts.hostname):
        return None
    proxies = urllib.request.getproxies()
    found = proxies.get(parts.scheme) or proxies.get("all")
    return found if found is None or "://" in found else f"http://{found}"


def _try_post(client: httpx.Client, target: Target) -> tuple[int, str]:
    try:
        response = client.post(target.url, content=b"k")
    except httpx.HTTPError as error:
        raise network_error(error, target.shown) from error
    return response.status_code, response.headers.get("location", "")


def _configured(client: httpx.Client, target: Target) -> Target:
    """The upload address the origin names in its responsiveness configuration, if it has one."""
    try:
        response = client.get(urljoin(target.url, "/.well-known/nq"))
    except httpx.HTTPError as error:
        raise network_error(error, target.shown) from error
    if response.status_code != 200:
        return target
    try:
        named = response.json()["urls"]["upload_url"]
    except (ValueError, KeyError, TypeError):
        return target
    found = urljoin(target.url, str(named))
    if urlsplit(found).scheme not in ("http", "https"):
        raise EndpointError(
            "its responsiveness configuration names no http address", "give one", target.shown
        )
    return replace(target, url=found, found_by="responsiveness configuration")
