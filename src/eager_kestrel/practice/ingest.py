"""A simulated platform: obeys its guide, and misbehaves on demand.

The server is that of a private ingest; this only judges what arrives. A platform looks at bitrate
over two seconds, at codec, at how far keyframes are apart.
"""

from __future__ import annotations

import asyncio
import socket
import time
from collections import deque
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from eager_kestrel.practice.servers import LoopbackServer, listening_socket
from eager_kestrel.wire.publishing import OPENING_BYTES, opening_answer

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


WINDOW_SECONDS = 2.0
PATIENCE_SECONDS = 3.0
"""Of bitrate over the maximum before the stream is cut off."""
OVER = 1.10
ANOTHER_MS = 500
"""Times that go back by more belong to another stream; sound and resolution mix by less."""
SLACK_SECONDS = 0.6
"""Past the longest interval before a missing keyframe counts."""


class Arrived(Protocol):
    """What the judge looks at."""

    @property
    def kind(self) -> str:
        """``audio`` or ``video``."""

    @property
    def codec(self) -> str:
        """By name."""

    @property
    def header(self) -> bool:
        """A configuration, no frame."""

    @property
    def keyframe(self) -> bool:
        """Whether it needs no other."""

    @property
    def sent_ms(self) -> int:
        """Its time in the stream."""

    @property
    def size(self) -> int:
        """Bytes."""


@dataclass(frozen=True, slots=True)
class Misbehaviour:
    """Trouble on demand, in seconds of the stream; None for none."""

    stall_at: float | None = None
    stall_seconds: float = 3.0
    hang_up_at: float | None = None
    delay_seconds: float = 0.0
    """Before each piece is taken."""


@dataclass(slots=True)
class Platform:
    """A judge for one stream after another."""

    guide: Guide
    """With its tier applied."""
    trouble: Misbehaviour = field(default_factory=Misbehaviour)
    hung_up: int = 0
    _recent: deque[tuple[int, int]] = field(default_factory=deque)
    _last_key: int | None = None
    _over_since: int | None = None
    _stalled: bool = False
    _began: int | None = None
    _last_ms: int = 0

    def arrived(self, piece: Arrived) -> str | None:
        """A reason to cut the stream off; None to go on."""
        if self._began is None or piece.sent_ms < self._last_ms - ANOTHER_MS:
            self._recent.clear()
            self._last_key = self._over_since = None
            self._began = piece.sent_ms
        self._last_ms = piece.sent_ms
        why = self._misbehaved(piece)
        if why is not None or piece.kind != "video":
            return why
        if piece.codec not in self.guide.video.codecs:
            return f"{piece.codec} is not taken"
        if piece.header:
            return None
        why = self._bitrate(piece) or self._keyframes(piece)
        if why is not None:
            self._began = None
        return why

    def _misbehaved(self, piece: Arrived) -> str | None:
        at = piece.sent_ms / 1000
        if self.trouble.delay_seconds:
            time.sleep(self.trouble.delay_seconds)
        if self.trouble.stall_at is not None and at >= self.trouble.stall_at and not self._stalled:
            self._stalled = True
            time.sleep(self.trouble.stall_seconds)
        hang_up_at = self.trouble.hang_up_at
        if hang_up_at is None or at < hang_up_at or self.hung_up:
            return None
        self.hung_up += 1
        self._began = None
        return "the ingest is being restarted"

    def _bitrate(self, piece: Arrived) -> str | None:
        self._recent.append((piece.sent_ms, piece.size))
        while self._recent[0][0] < piece.sent_ms - WINDOW_SECONDS * 1000:
            self._recent.popleft()
        span = (piece.sent_ms - self._recent[0][0]) / 1000
        if span < WINDOW_SECONDS * 0.9:
            return None
        kbps = sum(size for _, size in self._recent) * 8e-3 / span
        if kbps <= self.guide.video.max_bitrate.kbps * OVER:
            self._over_since = None
            return None
        self._over_since = piece.sent_ms if self._over_since is None else self._over_since
        if piece.sent_ms - self._over_since < PATIENCE_SECONDS * 1000:
            return None
        return f"{kbps:,.0f} kbit/s, the most it takes is {self.guide.video.max_bitrate.in_kbps()}"

    def _keyframes(self, piece: Arrived) -> str | None:
        rule = self.guide.video.keyframes
        longest = rule.exact or rule.max
        if piece.keyframe or self._last_key is None:
            self._last_key = piece.sent_ms
            return None
        since = (piece.sent_ms - self._last_key) / 1000
        if longest is not None and since > longest + SLACK_SECONDS:
            return f"no keyframe for {since:.1f} s, at most {longest:g} s are taken"
        return None

    def health(self) -> str:
        """A line on how the stream looks from here."""
        if len(self._recent) < 2:
            return "waiting for a stream"
        span = (self._recent[-1][0] - self._recent[0][0]) / 1000
        kbps = sum(size for _, size in self._recent) * 8e-3 / span if span else 0.0
        state = "takes it" if self._over_since is None else "over the maximum"
        return f"{state}: {kbps:,.0f} kbit/s"


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
