"""Small servers on loopback that live in a background thread, so that blocking code can use them.

Everything binds to 127.0.0.1 and ends with its ``with`` block: tasks are cancelled, sockets closed.
"""

from __future__ import annotations

import abc
import asyncio
import contextlib
import os
import socket
import struct
import threading
from collections.abc import Callable, Coroutine
from typing import Any, Protocol, Self, TypeAlias

from eager_kestrel.core.errors import NetworkError

LOOPBACK = "127.0.0.1"
START_SECONDS = 10.0


def listening_socket(port: int = 0, receive_buffer_bytes: int | None = None) -> socket.socket:
    """A non-blocking listener on loopback.

    A small receive buffer has to be asked for before connections are accepted; small segments keep
    its window from opening in 64 KiB steps, which is what loopback would do.

    Raises:
        NetworkError: the port is taken.
    """
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    if os.name == "posix":  # elsewhere the option lets two programs share a port
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if receive_buffer_bytes is not None:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, receive_buffer_bytes)
        with contextlib.suppress(OSError, AttributeError):
            listener.setsockopt(socket.IPPROTO_TCP, socket.TCP_MAXSEG, 1448)
    try:
        listener.bind((LOOPBACK, port))
    except OSError as error:
        listener.close()
        raise NetworkError(
            f"port {port} cannot be used ({error.strerror})", "choose another with --port"
        ) from None
    listener.listen(64)
    listener.setblocking(False)
    return listener


class HasOptions(Protocol):
    """A socket, or the part of one that asyncio lends out."""

    def setsockopt(self, level: int, option: int, value: bytes, /) -> None:
        """As :meth:`socket.socket.setsockopt`."""


def reset_when_closed(connection: HasOptions) -> None:
    """Make the close abortive (SO_LINGER of zero), so that the peer sees a reset."""
    with contextlib.suppress(OSError):
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))


Handler: TypeAlias = Callable[[socket.socket], Coroutine[Any, Any, None]]
"""Serves one connection."""


class LoopbackServer(abc.ABC):
    """Accepts on a listener and handles each connection, in a thread of its own."""

    def __init__(self, listener: socket.socket) -> None:
        self._listeners: list[tuple[socket.socket, Handler]] = [(listener, self.handle)]
        self.port: int = listener.getsockname()[1]
        """Where it listens."""
        self._loop = asyncio.new_event_loop()
        self._tasks: set[asyncio.Task[None]] = set()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="practice", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        self._ready.wait(START_SECONDS)
        return self

    def __exit__(self, *_: object) -> None:
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join(START_SECONDS)

    @abc.abstractmethod
    async def handle(self, connection: socket.socket, /) -> None:
        """Serve one connection; it is closed afterwards."""

    def _run(self) -> None:
        try:
            self._loop.run_until_complete(self._serve())
        finally:
            self._loop.close()

    async def _serve(self) -> None:
        self._stop = asyncio.Event()
        for listener, handle in self._listeners:
            self._track(self._accept(listener, handle))
        self._ready.set()
        await self._stop.wait()
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        for listener, _ in self._listeners:
            listener.close()

    def _track(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = self._loop.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return task

    async def _accept(self, listener: socket.socket, handle: Handler) -> None:
        while True:
            try:
                connection, _ = await self._loop.sock_accept(listener)
            except OSError:
                await asyncio.sleep(0.05)
                continue
            connection.setblocking(False)
            with contextlib.suppress(OSError):
                connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            self._track(self._handle(connection, handle))

    async def _handle(self, connection: socket.socket, handle: Handler) -> None:
        try:
            await handle(connection)
        except OSError:
            pass  # the peer went away, as peers of a practice server may
        finally:
            connection.close()
