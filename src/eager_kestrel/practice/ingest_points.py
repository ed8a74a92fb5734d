"""A practice ingest point: answers the opening of an RTMP handshake after a set delay."""

from __future__ import annotations

import asyncio
import socket
from types import TracebackType
from typing import Self

from eager_kestrel.practice.servers import LoopbackServer, listening_socket
from eager_kestrel.wire.rtmp import OPENING_BYTES, opening_answer


class PracticeIngestPoint:
    """Serves on loopback within its ``with`` block."""

    def __init__(self, delay_ms: float) -> None:
        self._delay_seconds = delay_ms / 1000
        self._server = LoopbackServer(self._serve, listening_socket())

    @property
    def port(self) -> int:
        """Where it listens."""
        return self._server.port

    def __enter__(self) -> Self:
        self._server.__enter__()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._server.__exit__(kind, error, trace)

    async def _serve(self, connection: socket.socket) -> None:
        loop = asyncio.get_running_loop()
        opening = b""
        while len(opening) < OPENING_BYTES:
            part = await loop.sock_recv(connection, OPENING_BYTES - len(opening))
            if not part:
                return
            opening += part
        await asyncio.sleep(self._delay_seconds)
        await loop.sock_sendall(connection, opening_answer(opening))
        await loop.sock_recv(connection, 1)
