"""What went wrong on the network, in one line a streamer can act on."""

from __future__ import annotations

import errno
import ssl

import httpx

from eager_kestrel.core.errors import EndpointError, NetworkError


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
    certificate = next((c for c in chain if isinstance(c, ssl.SSLCertVerificationError)), None)
    if certificate is not None:
        return EndpointError(
            f"its certificate is not trusted ({certificate.verify_message})",
            "check the name, or measure another endpoint",
            where,
        )
    if any(isinstance(cause, ssl.SSLError) for cause in chain):
        return EndpointError("it does not speak TLS correctly", "check https and port", where)
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
