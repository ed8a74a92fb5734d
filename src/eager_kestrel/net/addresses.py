"""Parse addresses of endpoints, and open sockets to them."""

from __future__ import annotations

import contextlib
import ipaddress
import os
import re
import selectors
import socket
import threading
from base64 import b64encode
from concurrent.futures import Future
from dataclasses import dataclass
from typing import Any, TypeVar
from urllib.parse import SplitResult, urlsplit, urlunsplit

from eager_kestrel.core.errors import EndpointError, InputError, NetworkError, printable

RTMP_SCHEMES = ("rtmp", "rtmps")
PORTS = {"http": 80, "https": 443, "rtmp": 1935, "rtmps": 443}
MOST_CHARACTERS = 2000
_LABEL = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)")
_CONTROL = re.compile(r"[\x00-\x20\x7f-\x9f\u2028\u2029\u200b-\u200f\u202a-\u202e]")


def tls_error(error: OSError, where: str) -> EndpointError:
    """Why there is no TLS with somebody, and what to do."""
    import ssl  # takes a while, and light commands do without

    from eager_kestrel.core.words.runs import OWN_AUTHORITY

    if isinstance(error, ssl.SSLCertVerificationError):
        return EndpointError(
            f"its certificate is not trusted ({error.verify_message})",
            f"check the name; {OWN_AUTHORITY}",
            where,
        )
    return EndpointError("it does not speak TLS correctly", "check scheme and port", where)


@dataclass(frozen=True, slots=True)
class Address:
    """An address whose host and port are known to be ones."""

    scheme: str
    host: str
    """ASCII; without brackets."""
    port: int
    path: str
    query: str = ""
    user: str | None = None
    password: str | None = None

    @property
    def shown(self) -> str:
        """Without user information and query."""
        return shown_url(self.url)

    @property
    def authority(self) -> str:
        """Host, and port where it is not the scheme's own."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return host if self.port == PORTS[self.scheme] else f"{host}:{self.port}"

    @property
    def url(self) -> str:
        """Whole, but for user information."""
        return urlunsplit((self.scheme, self.authority, self.path, self.query, ""))


def parse_address(text: str, schemes: tuple[str, ...], example: str) -> Address:
    """Read an address.

    Args:
        text: as written, or as an endpoint names it.

    Raises:
        InputError: it is none; names what is wrong, and repeats nothing that may be secret.
    """
    write = f"write {example}"
    if len(text) > MOST_CHARACTERS:
        raise InputError(f"an address of {len(text):,} characters is too long", write)
    if _CONTROL.search(text.strip()):
        raise InputError("the address has a space or a control character in it", write)
    parts = _split(text.strip(), write)
    if parts.scheme not in schemes:
        said = f"{parts.scheme}://" if parts.scheme else "an address without a scheme"
        raise InputError(f"{said} is not {' or '.join(f'{s}://' for s in schemes)}", write)
    try:
        port = parts.port
    except ValueError:
        raise InputError("the port must be 1 to 65535", write) from None
    if port == 0:
        raise InputError("the port must be 1 to 65535", write)
    return Address(
        scheme=parts.scheme,
        host=_host(parts.hostname or "", write),
        port=port or PORTS[parts.scheme],
        path=parts.path,
        query=parts.query,
        user=parts.username,
        password=parts.password,
    )


def _split(text: str, write: str) -> SplitResult:
    try:
        parts = urlsplit(text)
        _ = parts.hostname, parts.username
    except ValueError:
        raise InputError("the host in brackets is no IPv6 address", write) from None
    return parts


def _host(host: str, write: str) -> str:
    if not host:
        raise InputError("the address names no host", write)
    if ":" in host:
        try:
            return str(ipaddress.IPv6Address(host.partition("%")[0]))
        except ValueError:
            raise InputError(f'"{_plain(host)}" is not an IPv6 address', write) from None
    try:
        ascii_host = host if host.isascii() else host.encode("idna").decode("ascii")
    except UnicodeError:
        raise InputError(f'"{_plain(host)}" is not a host name', write) from None
    labels = ascii_host.removesuffix(".").split(".")
    if len(ascii_host) > 253 or not all(_LABEL.fullmatch(label) for label in labels):
        raise InputError(f'"{_plain(host)}" is not a host name', write)
    if re.fullmatch(r"[0-9.]+", ascii_host):
        try:
            ipaddress.IPv4Address(ascii_host)
        except ValueError:
            raise InputError(f'"{_plain(host)}" is not an IPv4 address', write) from None
    return ascii_host


def _plain(host: str) -> str:
    return host if len(host) <= 60 else f"{host[:57]}..."


def shown_url(url: str) -> str:
    """An address without user information, query and fragment, for output and history.

    Of what cannot be read as one only the scheme is shown.
    """
    try:
        parts = urlsplit(url)
        host = parts.hostname or ""
        port = parts.port
    except ValueError:
        return f"{url.partition(':')[0]}://..." if ":" in url else "..."
    host = f"[{host}]" if ":" in host else host
    return plain_text(
        urlunsplit((parts.scheme, f"{host}:{port}" if port else host, parts.path, "", ""))
    )


def plain_text(said: Any, most: int = 200) -> str:
    """What an endpoint says, in a line a terminal may show: no escape codes, no line breaks."""
    text = " ".join(printable(str(said)).split())
    return text if len(text) <= most else f"{text[: most - 3]}..."


def without_key(text: str, key: str) -> str:
    """A text without a stream key, however an endpoint wrote it.

    In another case, encoded, backwards, or with something between its signs.
    """
    if len(key) < 2:
        return text
    cases = {key, key.upper(), key.lower(), key.casefold()}  # ß comes back as SS
    written = {form for case in cases for form in (case, case[::-1])}
    apart = [r"[\W_]*?".join(map(re.escape, form)) for form in written]
    encoded = [re.escape(form) for case in cases for form in _encoded(case)]
    for form in sorted([*encoded, *apart], key=len, reverse=True):
        text = re.sub(form, "(the key)", text, flags=re.IGNORECASE)
    return text


def _encoded(key: str) -> set[str]:
    """In the ways a server may encode it: of base64 what does not depend on its neighbours."""
    from urllib.parse import quote

    raw = key.encode()
    forms = {quote(key, safe=""), "".join(f"%{byte:02X}" for byte in raw), raw.hex()}
    for before in range(3):
        inside = b64encode(bytes(before) + raw).decode().rstrip("=")
        whole = inside[-(-before * 8 // 6) : (before + len(raw)) * 8 // 6]
        forms |= {whole, whole.translate(str.maketrans("+/", "-_"))}
    return {form for form in forms if len(form) > 1}


def is_ingest(url: str) -> bool:
    """Whether an address is one to publish to."""
    return url.strip().partition("://")[0].lower() in RTMP_SCHEMES


LOOPBACK = "127.0.0.1"


def socket_ready(
    connection: socket.socket, seconds: float, *, reads: bool = True, writes: bool = False
) -> tuple[bool, bool]:
    """Wait until a connection can be read or written, for a while; returns which.

    Unlike ``select`` this works however many files the program has open.
    """
    wanted = (selectors.EVENT_READ if reads else 0) | (selectors.EVENT_WRITE if writes else 0)
    with selectors.DefaultSelector() as selector:
        selector.register(connection, wanted)
        found = selector.select(max(0.0, seconds))
    events = found[0][1] if found else 0
    return bool(events & selectors.EVENT_READ), bool(events & selectors.EVENT_WRITE)


def set_option(connection: socket.socket, level: int, option: int, value: int) -> None:
    """Set a socket option, where the system lets it be set; it works without, only less well."""
    with contextlib.suppress(OSError):
        connection.setsockopt(level, option, value)


def listener(host: str | None, port: int) -> socket.socket:
    """A listening socket for IPv4 and IPv6, or for one address of this machine.

    Raises:
        NetworkError: the address or the port cannot be had.
    """
    try:
        if host is not None:
            family = socket.AF_INET6 if ":" in host else socket.AF_INET
            return socket.create_server((host, port), family=family, backlog=256)
        if socket.has_dualstack_ipv6():
            return socket.create_server(
                ("", port), family=socket.AF_INET6, dualstack_ipv6=True, backlog=256
            )
        return socket.create_server(("", port), backlog=256)
    except OSError as error:
        of, other = (f" of {host}", " or --bind") if host not in (None, LOOPBACK) else ("", "")
        number = error.errno or 0  # below 0: of looking up a name
        what = os.strerror(number) if number > 0 else "it is no address of this machine"
        raise NetworkError(
            f"port {port}{of} cannot be used ({what})", f"choose another with --port{other}"
        ) from None


def own_address() -> str:
    """The address by which others of the household reach this machine; nothing is sent for it."""
    with contextlib.suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asks:
        asks.connect(("192.0.2.1", 9))  # of no host (RFC 5737): the system says which way it is
        return str(asks.getsockname()[0])
    return LOOPBACK


T = TypeVar("T")

WAKE_SECONDS = 0.5


def wait_for(event: threading.Event) -> None:
    """Wait until an event is set."""
    while not event.wait(WAKE_SECONDS):
        pass


def wait_for_end(thread: threading.Thread) -> None:
    """Wait until a thread has ended."""
    while thread.is_alive():
        thread.join(WAKE_SECONDS)


def result_of(future: Future[T]) -> T:
    """Wait for a future; return its result, or raise its exception."""
    while not future.done():
        try:
            future.exception(WAKE_SECONDS)
        except TimeoutError:
            continue
    return future.result()
