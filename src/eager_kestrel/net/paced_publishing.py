"""Publishing at a pace that may change at any moment, seeing how long bytes are on their way."""

from __future__ import annotations

import contextlib
import select
import ssl
import time

from eager_kestrel.core.errors import NetworkError
from eager_kestrel.net.pacing import Pacer, Waits
from eager_kestrel.net.publishing import CONNECT_SECONDS, Publication, PublishTarget

GOODBYE_SECONDS = 1.0
SEND_BUFFER_BYTES = 4 * 2**20
"""Room for what a long way holds; what is not sent yet is bounded apart from it."""


class PacedPublication(Publication):
    """One connection that publishes no faster than it is told. Not for several threads."""

    def __init__(
        self,
        target: PublishTarget,
        key: str,
        pace: Pacer,
        context: ssl.SSLContext | None = None,
        timeout_seconds: float = CONNECT_SECONDS,
    ) -> None:
        """As :class:`Publication`, and raises as it does; ``pace`` holds once it has begun."""
        self._pace: Pacer | None = None
        self._refused = 0
        super().__init__(target, key, context, timeout_seconds, SEND_BUFFER_BYTES)
        self._pace, self._waits = pace, Waits(self._count)
        self._begun_with = self._count.delivered_bytes()

    def _write(self) -> None:
        """Hand over what is due, in whole packets where there is enough."""
        if self._pace is None:
            super()._write()
            return
        while self._queued:  # TLS wants what it could not take again, no shorter
            wanted = self._refused or min(self._pace.write_bytes, self._queued)
            if self._pace.allowed() < wanted:
                return
            self.keep_unsent_below(2 * wanted)
            before = self.written
            self._gather(wanted)
            self._write_some(wanted)
            count = self.written - before
            self._refused = wanted - count
            if not count:
                return
            self._pace.spend(count)
            self._waits.handed_over(time.perf_counter())

    def _gather(self, wanted: int) -> None:
        """Put so many bytes together at the head, so that they leave in whole packets."""
        parts, length = [], 0
        while length < wanted:
            part = self._out.popleft()
            parts.append(part)
            length += len(part)
        whole = memoryview(b"".join(parts))
        if length > wanted:
            self._out.appendleft(whole[wanted:])
        self._out.appendleft(whole[:wanted])

    def close(self) -> None:
        """Send what is queued, a moment at most, then end the stream and the connection."""
        self._pace, until = None, time.perf_counter() + GOODBYE_SECONDS
        with contextlib.suppress(OSError, NetworkError):
            while self._queued and (left := until - time.perf_counter()) > 0:
                select.select([], [self._socket], [], left)
                self._write()
        super().close()

    @property
    def counted_by_kernel(self) -> str:
        """How what the other end has is counted."""
        return self._count.kind

    @property
    def address(self) -> str:
        """Of the other end."""
        with contextlib.suppress(OSError):
            return str(self._socket.getpeername()[0])
        return ""

    def carried_bytes(self) -> int:
        """That the other end has since the stream began, as the kernel counts, TLS and all."""
        return max(0, self._acknowledged() - self._begun_with)

    def waits(self) -> tuple[float | None, float]:
        """As :meth:`Waits.look` has it."""
        return self._waits.look(self._acknowledged())
