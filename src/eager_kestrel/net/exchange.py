"""One small request and its answer, within bounds of time and size; round trips of such.

Latency under working conditions is what the IETF ippm responsiveness work measures: what a small
request feels while the connection is full. One byte by POST, since that is what the endpoint takes.
"""

from __future__ import annotations

import contextlib
import errno
import os
import socket
import ssl
import threading
import time
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Self

import httpx

from eager_kestrel.core.connection.endpoints import AnswerTimes
from eager_kestrel.core.connection.run import RoundTrip
from eager_kestrel.core.errors import EndpointError, NetworkError
from eager_kestrel.net.addresses import parse_address, tls_error
from eager_kestrel.net.delivered import DeliveredCounter, delivered_counter
from eager_kestrel.wire.publishing import RANDOM_BYTES, is_opening_answer, opening

if TYPE_CHECKING:
    from eager_kestrel.net.target import UploadTarget


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


UNCOUNTED_BYTES = 190
"""What one request costs the upload beside its own bytes: the headers of its two packets and of the
acknowledgement of its answer, 66 bytes of Ethernet, IP and TCP each."""
UNCOUNTED_KBIT = UNCOUNTED_BYTES * 8e-3
LINE_SHARE = 0.001
"""Of the connection that requests may cost in this way."""


class RoundTrips:
    """Sends a small request every so often within its ``with`` block."""

    def __init__(self, target: UploadTarget, began: float, every_seconds: float) -> None:
        """Begin counting time at ``began`` (time.perf_counter)."""
        self._target = target
        self._began = began
        self._every = self._least_every = every_seconds
        self._stop_asked = threading.Event()
        self._taken: list[RoundTrip] = []
        self._counter: DeliveredCounter | None = None
        self._delivered = self._before = self._asked = 0
        self._thread = threading.Thread(target=self._run, name="round trips", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop_asked.set()
        self._thread.join(0.5)

    @property
    def taken(self) -> tuple[RoundTrip, ...]:
        """Those so far."""
        return tuple(self._taken)

    def pace(self, upload_kbps: float) -> None:
        """Ask less often on a slow upload, so that asking does not cost what is being measured."""
        if upload_kbps > 0:
            self._every = max(self._least_every, UNCOUNTED_KBIT / (LINE_SHARE * upload_kbps))

    def delivered_bytes(self) -> int:
        """What the requests themselves took of the connection, as far as the kernel counts it."""
        if self._counter is not None:
            with contextlib.suppress(OSError):
                self._delivered = max(self._delivered, self._counter.delivered_bytes())
        return self._before + self._delivered + self._asked * UNCOUNTED_BYTES

    def _trace(self, event: str, info: dict[str, Any]) -> None:
        """Hear of each new connection, to count on its socket (httpcore's trace extension)."""
        if event in CONNECTED:
            self._before, self._delivered = self._before + self._delivered, 0
            connection = info["return_value"].get_extra_info("socket")
            counter = delivered_counter(connection, lambda: 0)
            self._counter = None if counter.kind.startswith("estimate") else counter

    def _run(self) -> None:
        with self._target.client() as client:
            first = True
            while not self._stop_asked.is_set():
                trip = self._once(client)
                self._asked += trip.round_trip_ms is not None
                if not first and not self._stop_asked.is_set():
                    self._taken.append(trip)  # the first one also opened the connection
                first = False
                spent = time.perf_counter() - self._began - trip.at_seconds
                self._stop_asked.wait(max(0.0, self._every - spent))

    def _once(self, client: httpx.Client) -> RoundTrip:
        sent = time.perf_counter()
        answered: float | None = None
        try:
            asked = client.stream(
                "POST", self._target.url, content=b"k", extensions={"trace": self._trace}
            )
            with asked as response:
                if response.status_code < 400:
                    answered = (time.perf_counter() - sent) * 1000
                if bounded_body(response) is None:
                    answered = None
        except (httpx.HTTPError, OSError):
            answered = None
        return RoundTrip(
            at_seconds=round(sent - self._began, 4),
            round_trip_ms=None if answered is None else round(answered, 3),
        )
