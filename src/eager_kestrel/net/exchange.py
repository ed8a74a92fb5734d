"""One small request and its answer, within bounds of time and size."""

from __future__ import annotations

import contextlib
import errno
import os
import socket
import ssl
import threading
import time
from dataclasses import dataclass, field
from typing import Any

import httpx

from eager_kestrel.core.connection.endpoints import AnswerTimes
from eager_kestrel.core.errors import EndpointError, NetworkError
from eager_kestrel.net.addresses import parse_address, tls_error
from eager_kestrel.wire.publishing import RANDOM_BYTES, is_opening_answer, opening


def _causes(error: BaseException) -> list[BaseException]:
    chain: list[BaseException] = []
    seen: BaseException | None = error
    while seen is not None and seen not in chain:
        chain.append(seen)
        seen = seen.__cause__ or seen.__context__
    return chain


_BY_ERRNO = {
    errno.ECONNREFUSED: ("nothing listens there", "check the address and port"),
    errno.ENETUNREACH: ("there is no route to it", "check that this machine is online"),
    errno.EHOSTUNREACH: ("there is no route to it", "check that this machine is online"),
    errno.EADDRNOTAVAIL: ("this machine has no such address", "give one of its own to --bind"),
}


def network_error(error: BaseException, where: str) -> NetworkError:
    """Turn an error of httpx or the socket library into one of ours."""
    chain = _causes(error)
    text = " ".join(str(cause) for cause in chain).lower()
    secure = [cause for cause in chain if isinstance(cause, ssl.SSLError)]
    if secure:
        distrusted = [c for c in secure if isinstance(c, ssl.SSLCertVerificationError)]
        return tls_error((distrusted or secure)[0], where)
    if "name or service not known" in text or "getaddrinfo" in text or "name resolution" in text:
        return NetworkError("the name does not resolve", "check the spelling and your DNS", where)
    for cause in chain:
        if isinstance(cause, OSError) and cause.errno in _BY_ERRNO:
            return NetworkError(*_BY_ERRNO[cause.errno], where)
    return _by_kind(error, where)


def _by_kind(error: BaseException, where: str) -> NetworkError:
    if isinstance(error, httpx.ConnectTimeout):
        return NetworkError("it did not answer in time", "check the address, or try later", where)
    if isinstance(error, httpx.TimeoutException):
        return EndpointError("it stopped answering", "try again, or another endpoint", where)
    if isinstance(error, httpx.UnsupportedProtocol):
        return NetworkError("only http and https can be measured", "write https://...", where)
    if isinstance(error, httpx.ConnectError):
        return NetworkError("it cannot be reached", "check address and network", where)
    return EndpointError("it broke the connection", "try again, or another endpoint", where)


def status_error(status: int, where: str, location: str = "") -> EndpointError:
    """The endpoint answered an upload with something other than success."""
    if 300 <= status < 400:
        to = f" to {location}" if location else ""
        return EndpointError(f"it redirects{to} ({status})", "measure that address instead", where)
    if status == 413:
        return EndpointError(
            "it does not take uploads that large (413)", "give another endpoint", where
        )
    if status in (404, 405, 501):
        return EndpointError(
            f"it does not take uploads by POST ({status})", "give the upload address", where
        )
    if status == 401:
        return EndpointError(f"it requires a token ({status})", "give the right --token", where)
    if status in (403, 407):
        return EndpointError(f"it refuses uploads ({status})", "give one that is open", where)
    if status == 429:
        return EndpointError(
            f"it accepts no more for now ({status})", "try later, or raise its limits", where
        )
    if status >= 500:
        return EndpointError(f"it answered {status}", "try later, or another endpoint", where)
    return EndpointError(f"it answered {status}", "give another endpoint", where)


CONNECTED = (
    "connection.connect_tcp.complete",
    "connection.start_tls.complete",
    "proxy.start_tls.complete",
)
"""Events of httpcore's trace extension that come with a new socket."""
MOST_SECONDS = 20.0
"""Of one exchange, from connecting to the end of the answer, interim answers and all."""
MOST_BYTES = 65_536
"""Of an answer's body; nobody asks for one to be compressed, and none is unpacked."""


@dataclass(frozen=True, slots=True)
class Answer:
    """What came back."""

    status: int
    headers: httpx.Headers
    body: bytes


@dataclass(slots=True)
class _Watch:
    """Cuts a connection off when its time is up."""

    late: bool = False
    _socket: socket.socket | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def trace(self, event: str, info: dict[str, Any]) -> None:
        """Hear of the connection (httpcore's trace extension)."""
        if event in CONNECTED:
            with self._lock:
                self._socket = info["return_value"].get_extra_info("socket")
                if self.late:
                    self._cut()

    def end(self) -> None:
        """Time is up."""
        with self._lock:
            self.late = True
            self._cut()

    def _cut(self) -> None:
        if self._socket is not None:
            with contextlib.suppress(OSError):
                socket.socket.shutdown(self._socket, socket.SHUT_RDWR)


def exchange(
    client: httpx.Client,
    method: str,
    url: str,
    where: str,
    content: bytes | None = None,
    seconds: float = MOST_SECONDS,
) -> Answer:
    """Ask once.

    Args:
        seconds: for all of it.

    Raises:
        NetworkError: it cannot be reached.
        EndpointError: it broke a bound, and says which.
    """
    watch = _Watch()
    timer = threading.Timer(seconds, watch.end)
    timer.daemon = True
    timer.start()
    try:
        asked = client.stream(method, url, content=content, extensions={"trace": watch.trace})
        with asked as response:
            body = bounded_body(response)
            if body is None:
                raise EndpointError(
                    f"its answer to a small request is longer than {MOST_BYTES // 1024} KiB",
                    "give an address that answers uploads",
                    where,
                )
            return Answer(response.status_code, response.headers, body)
    except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
        if watch.late:
            raise EndpointError(
                f"it had not answered a small request after {seconds:g} s",
                "try again, or another endpoint",
                where,
            ) from None
        raise network_error(error, where) from None
    finally:
        timer.cancel()


def bounded_body(response: httpx.Response) -> bytes | None:
    """A body as it came, not unpacked; None when it is too long, and then it is left unread."""
    body = bytearray()
    for part in response.iter_raw(8192):
        body += part
        if len(body) > MOST_BYTES:
            return None
    return bytes(body)


def reach(url: str, timeout_seconds: float) -> AnswerTimes:
    """One try.

    Args:
        url: ``rtmp://``, ``rtmps://`` or ``https://``.
        timeout_seconds: for connecting and again for the answer.

    Raises:
        InputError: another kind of address.
    """
    point = parse_address(url, ("rtmp", "rtmps", "https"), "rtmps://HOST/APP")
    began = time.perf_counter()
    try:
        connection = socket.create_connection((point.host, point.port), timeout=timeout_seconds)
    except OSError as error:
        return AnswerTimes(failure=_why(error))
    with connection:
        connected = time.perf_counter()
        connect_ms = (connected - began) * 1000
        try:
            if point.scheme == "rtmp":
                connection.sendall(opening(0, os.urandom(RANDOM_BYTES)))
                if not is_opening_answer(connection.recv(1)):
                    raise OSError("it does not speak RTMP")
            else:
                with ssl.create_default_context().wrap_socket(
                    connection, server_hostname=point.host
                ):
                    pass
        except OSError as error:
            return AnswerTimes(connect_ms=connect_ms, failure=_why(error))
        return AnswerTimes(
            connect_ms=connect_ms, answer_ms=(time.perf_counter() - connected) * 1000
        )


def _why(error: OSError) -> str:
    if isinstance(error, TimeoutError):
        return "it did not answer in time"
    found = network_error(error, "").what
    return str(error) if "broke the connection" in found and error.errno is None else found
