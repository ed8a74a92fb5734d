"""Sockets that others connect to, and options a system may refuse."""

from __future__ import annotations

import contextlib
import os
import socket
import threading
from concurrent.futures import Future
from typing import TypeVar

from eager_kestrel.core.errors import NetworkError

LOOPBACK = "127.0.0.1"


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
        what = os.strerror(error.errno) if error.errno else str(error)
        raise NetworkError(
            f"port {port}{of} cannot be used ({what})", f"choose another with --port{other}"
        ) from None


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
