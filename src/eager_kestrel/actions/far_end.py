"""An endpoint of your own: takes uploads by HTTP and RTMP from those who hold its token."""

from __future__ import annotations

import contextlib
import secrets
import ssl
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from eager_kestrel.actions.receiving import APP, Key
from eager_kestrel.core.errors import InputError, UnitError
from eager_kestrel.core.units import DataSize, parse_seconds
from eager_kestrel.files.keys import TOKEN_VARIABLE, known_token
from eager_kestrel.net.addresses import listener
from eager_kestrel.net.http_endpoint import Bounds, FarEnd, Ledger
from eager_kestrel.net.receiving import IngestServer, ReceivedTag
from eager_kestrel.net.web_server import WebServer

TOKEN_BYTES = 18
LEAST_TOKEN = 12
"""Characters; a shorter one can be guessed."""


def bounds_of(run: str, longest: str, hour: str) -> Bounds:
    """The most that is taken, as written.

    Raises:
        UnitError: one of them cannot be read, or an hour holds less than a run.
    """
    run_bytes, hour_bytes = DataSize.parse(run).bytes, DataSize.parse(hour).bytes
    if hour_bytes < run_bytes:
        raise UnitError(f'"{hour}" an hour is less than "{run}" a run', "give the hour more")
    return Bounds(run_bytes, parse_seconds(longest), hour_bytes)


def token_of() -> Key:
    """The token that is kept, else a new one.

    Raises:
        InputError: the one that is kept is short enough to be guessed.
    """
    kept = known_token("far-end")
    if kept is not None and len(kept) < LEAST_TOKEN:
        raise InputError(
            f"the token in {TOKEN_VARIABLE} has {len(kept)} characters, which can be guessed",
            f"make it {LEAST_TOKEN} or more, or leave it to the program",
        )
    return Key(kept or secrets.token_urlsafe(TOKEN_BYTES), own=kept is not None)


def certificate_of(certificate: Path | None, private_key: Path | None) -> ssl.SSLContext | None:
    """TLS by a certificate and its key as PEM files.

    Raises:
        InputError: one is missing, or they are none.
    """
    if certificate is None and private_key is None:
        return None
    if certificate is None or private_key is None:
        raise InputError("a certificate goes with its key", "give --certificate and --private-key")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    try:
        context.load_cert_chain(certificate, private_key)
    except (OSError, ssl.SSLError) as error:
        raise InputError(
            f"{certificate} and {private_key} are no certificate and key "
            f"({error.strerror or error})",
            "give two PEM files that belong together",
        ) from None
    return context


class _Visitor:
    """What an RTMP publisher meets: the token as key, the ledger's bounds, and nothing kept."""

    def __init__(self, ledger: Ledger, tell: Callable[[str], None]) -> None:
        self._ledger, self._tell = ledger, tell
        self._number = self._bytes = 0
        self._run = ""

    def asked(self, app: str, key: str, address: str) -> str | None:
        if app != APP:
            return f"the app is {APP}"
        known = self._ledger.knows(key, address)
        if known is None:
            return "too many wrong keys; try again in a minute"
        if not known:
            return "the key is not this one's token"
        self._number += 1
        self._run, self._bytes = f"rtmp {self._number}", 0
        return self._ledger.begin(self._run)

    def heard(self, count: int) -> str | None:
        self._bytes += count
        return self._ledger.add(self._run, count)

    def arrived(self, piece: ReceivedTag) -> str | None:
        """Counted as it was heard."""

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        """Counted as it was heard."""

    def left(self, why: str) -> None:
        self._tell(f"rtmp: {self._bytes:,} bytes, {why}")
        self._ledger.end(self._run)


@dataclass(frozen=True, slots=True)
class EndpointState:
    """An endpoint that is up."""

    token: Key = field(repr=False)
    ledger: Ledger
    port: int
    rtmp_port: int | None
    secure: bool
    web: WebServer


@dataclass(frozen=True, slots=True)
class Listening:
    """Where an endpoint listens; port 0 takes a free one."""

    host: str | None = None
    """One address of this machine; None for all."""
    port: int = 0
    rtmp_port: int | None = None
    """None: no RTMP."""
    certificate: ssl.SSLContext | None = None
    """None: no TLS."""
    proxy: str | None = None
    """The address of one in front, which names its clients."""


@contextlib.contextmanager
def far_end(
    token: Key,
    bounds: Bounds,
    where: Listening = Listening(),
    tell: Callable[[str], None] = lambda _: None,
) -> Iterator[EndpointState]:
    """An endpoint while the ``with`` block runs.

    Raises:
        NetworkError: a port cannot be had.
    """
    ledger = Ledger(token.value, bounds)
    with contextlib.ExitStack() as stack:
        web = stack.enter_context(
            WebServer(
                listener(where.host, where.port),
                FarEnd(ledger, tell).routes,
                where.certificate,
                tell,
                where.proxy,
                ledger.met_stranger,
            )
        )
        taken: int | None = None
        if where.rtmp_port is not None:
            ingest = IngestServer(
                _Visitor(ledger, tell), listening=listener(where.host, where.rtmp_port)
            )
            taken = stack.enter_context(ingest).port
        yield EndpointState(token, ledger, web.port, taken, web.secure, web)
