"""Connecting to an ingest point and waiting for the first answer of its protocol.

RTMP answers C0 and C1 with S0; over TLS (RTMPS, HTTPS) the end of the handshake is the answer: one
round trip in TLS 1.3 (RFC 8446 section 2) and verified as any client would.
"""

from __future__ import annotations

import os
import socket
import ssl
import time

from eager_kestrel.core.line.ingest_ranking import AnswerTimes
from eager_kestrel.net.addresses import parse_address
from eager_kestrel.net.failures import network_error
from eager_kestrel.wire.rtmp import RANDOM_BYTES, is_opening_answer, opening


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
                _await_rtmp(connection)
            else:
                _await_tls(connection, point.host)
        except OSError as error:
            return AnswerTimes(connect_ms=connect_ms, failure=_why(error))
        return AnswerTimes(
            connect_ms=connect_ms, answer_ms=(time.perf_counter() - connected) * 1000
        )


def _await_rtmp(connection: socket.socket) -> None:
    connection.sendall(opening(0, os.urandom(RANDOM_BYTES)))
    if not is_opening_answer(connection.recv(1)):
        raise OSError("it does not speak RTMP")


def _await_tls(connection: socket.socket, host: str) -> None:
    with ssl.create_default_context().wrap_socket(connection, server_hostname=host):
        pass


def _why(error: OSError) -> str:
    if isinstance(error, TimeoutError):
        return "it did not answer in time"
    found = network_error(error, "").what
    return str(error) if "broke the connection" in found and error.errno is None else found
