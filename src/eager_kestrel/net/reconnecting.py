"""One publication after another to the same ingest: when one breaks, the next carries on."""

from __future__ import annotations

import ssl
import threading
import time
from dataclasses import dataclass, field
from typing import Protocol, Self

from eager_kestrel.core.errors import KestrelError, NetworkError
from eager_kestrel.net.publishing import (
    CONNECT_SECONDS,
    SEND_BUFFER_BYTES,
    Publication,
    PublishTarget,
)
from eager_kestrel.wire import flv

FIRST_WAIT, LONGEST_WAIT = 1.0, 8.0
"""Before connecting again, in seconds; doubled each time."""
AGAIN_SECONDS = 3.0
"""The most that connecting again may take; the show goes on meanwhile."""


class OutgoingTag(Protocol):
    """What a stand-in gives to send."""

    @property
    def kind(self) -> int:
        """8 audio, 9 video, 18 data."""

    @property
    def milliseconds(self) -> int:
        """Its time in the stream."""

    @property
    def payload(self) -> bytes:
        """What is sent."""

    @property
    def frame(self) -> bool:
        """Whether it is a frame of video."""


@dataclass(frozen=True, slots=True)
class PublishTerms:
    """On which a stand-in is sent."""

    frame_seconds: float
    """Between two frames."""
    asked_seconds: float
    """It has to hold for."""
    context: ssl.SSLContext | None = None
    """For RTMPS, in place of the system's certificates."""
    timeout_seconds: float = CONNECT_SECONDS
    first_wait_seconds: float = FIRST_WAIT
    unsent_bytes: int = SEND_BUFFER_BYTES
    """That may sit in the system's send buffer."""
    stop: threading.Event | None = None
    """Ends it before its time."""


@dataclass
class Reconnecting:
    """The connection of a rehearsal, whichever it is just now. Not for several threads."""

    target: PublishTarget
    key: str
    terms: PublishTerms
    began: float
    """``time.perf_counter`` at which seconds are counted from."""
    publication: Publication | None
    counted_by: str
    broken: list[tuple[float, str]] = field(default_factory=list)
    """When it was refused or broke, and what was said."""
    reconnects: int = 0
    lost_frames: int = 0
    _before: int = 0
    _headers: dict[int, OutgoingTag] = field(default_factory=dict)
    """The latest of each kind."""
    _wait: float = FIRST_WAIT
    _again_at: float = 0.0
    _waiting_for_keyframe: bool = False

    @classmethod
    def to(cls, target: PublishTarget, key: str, terms: PublishTerms) -> Self:
        """Connect and wait until the ingest takes the stream.

        Raises:
            NetworkError: it cannot be reached, or does not answer in time.
            EndpointError: it refuses the stream.
        """
        opened = _opened(target, key, terms, terms.timeout_seconds)
        return cls(
            target, key, terms, time.perf_counter(), opened, opened.counted_by,
            _wait=terms.first_wait_seconds,
        )  # fmt: skip

    def seconds(self) -> float:
        """Since it was first connected."""
        return time.perf_counter() - self.began

    def send(self, piece: OutgoingTag, due: float) -> None:
        """Hand a piece over; a frame is lost while there is no connection or no keyframe yet."""
        if _is_header(piece):  # a program may describe its stream anew
            self._headers[piece.kind] = piece
        if self.publication is None or not self._fresh(piece):
            self.lost_frames += piece.frame
            return
        watched = due if piece.frame else None
        self.publication.send(piece.kind, piece.milliseconds, piece.payload, watched)

    def _fresh(self, piece: OutgoingTag) -> bool:
        """After a break nothing is sent before the next keyframe."""
        if self._waiting_for_keyframe and piece.frame:
            self._waiting_for_keyframe = not flv.read_video(piece.payload).keyframe
        return not self._waiting_for_keyframe

    def look(self, wait_seconds: float) -> list[float]:
        """How late each frame was that arrived since the last look, in seconds.

        Raises:
            NetworkError: the connection broke, or the ingest ended it.
        """
        if self.publication is None:
            time.sleep(wait_seconds)
            return []
        return self.publication.look(wait_seconds)

    def broke(self, error: KestrelError) -> None:
        """Note why, let go of the connection, and say when to try again."""
        self.broken.append((round(self.seconds(), 3), error.what))
        if self.publication is not None:
            self._before += max(0, self.publication.delivered_bytes())
            self.lost_frames += self.publication.waiting()
            self.publication.close()
            self.publication = None
        self._again_at = time.perf_counter() + self._wait
        self._wait = min(2 * self._wait, LONGEST_WAIT)

    def try_again(self) -> None:
        """Connect anew when it is time to, and begin with the codecs' headers."""
        if not self.due_again():
            return
        try:
            opened = self.opened_again()
        except NetworkError as error:
            self.broke(error)
            return
        self.resume(opened)

    def due_again(self) -> bool:
        """Whether there is no connection, and it is time to try for one."""
        return self.publication is None and time.perf_counter() >= self._again_at

    def opened_again(self) -> Publication:
        """A new connection; nothing of this is touched.

        Raises:
            NetworkError: it cannot be had.
        """
        at_most = min(self.terms.timeout_seconds, AGAIN_SECONDS)
        return _opened(self.target, self.key, self.terms, at_most)

    def resume(self, publication: Publication) -> None:
        """Go on by a new connection, from the next keyframe."""
        self.publication = publication
        self.reconnects += 1
        self._wait = self.terms.first_wait_seconds
        for piece in self._headers.values():
            publication.send(piece.kind, piece.milliseconds, piece.payload, None)
        self._waiting_for_keyframe = True

    def delivered_bytes(self) -> int:
        """That the other end has, over all connections."""
        return self._before + (self.publication.delivered_bytes() if self.publication else 0)

    def backlog_seconds(self) -> float:
        """How long the oldest frame on its way has waited."""
        return self.publication.backlog_seconds() if self.publication else 0.0

    def round_trip_ms(self) -> float | None:
        """As the system smooths it; None where it does not tell."""
        return self.publication.round_trip_ms() if self.publication else None

    def window_closed_seconds(self) -> float | None:
        """How long the other end's window was closed, of this connection; None where not told."""
        return self.publication.window_closed_seconds() if self.publication else None

    def close(self) -> None:
        """End the stream."""
        if self.publication is not None:
            self.publication.close()


def _opened(
    target: PublishTarget, key: str, terms: PublishTerms, timeout_seconds: float
) -> Publication:
    return Publication(target, key, terms.context, timeout_seconds, terms.unsent_bytes)


def _is_header(piece: OutgoingTag) -> bool:
    """Whether it says how to decode what follows, and so has to come first on every connection."""
    return not piece.frame and flv.part_of(piece.kind, piece.payload) == "header"
