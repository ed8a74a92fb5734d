"""A practice ingest point: answers the opening of an RTMP handshake after a set delay."""

from __future__ import annotations

import asyncio
import socket

from eager_kestrel.practice.servers import LoopbackServer, listening_socket
from eager_kestrel.wire.rtmp import OPENING_BYTES, opening_answer


class PracticeIngestPoint(LoopbackServer):
    """Serves on loopback within its ``with`` block."""

    def __init__(self, delay_ms: float) -> None:
        super().__init__(listening_socket())
        self._delay_seconds = delay_ms / 1000

    async def handle(self, connection: socket.socket) -> None:
        """Read C0 and C1, wait, answer, and leave closing to the peer."""
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
