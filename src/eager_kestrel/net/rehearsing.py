"""Send a rehearsal in real time: one thread encodes, this one sends and watches."""

from __future__ import annotations

import queue
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import chain
from math import ceil
from typing import Protocol, Self

from eager_kestrel.core.checks.causes import GIVE_UP_SECONDS, StreamSample
from eager_kestrel.core.checks.rehearsal import Sent, start_seconds
from eager_kestrel.core.connection.run import is_loopback
from eager_kestrel.core.errors import KestrelError, NetworkError, interruptible
from eager_kestrel.core.stutter import LATE_SECONDS
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
    backups: tuple[PublishTarget, ...] = ()
    """Servers to use, in this order, when the target cannot be reached."""


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
    start_seconds: float = 0.0
    """In which it gets up to speed."""
    went_over: list[tuple[float, str]] = field(default_factory=list)
    """When it went over to another server, and to which."""
    _before: int = 0
    _headers: dict[int, OutgoingTag] = field(default_factory=dict)
    """The latest of each kind."""
    _wait: float = FIRST_WAIT
    _again_at: float = 0.0
    _waiting_for_keyframe: bool = False
    _turn: int = 0
    """Whose turn it is, of all servers."""

    @classmethod
    def to(cls, target: PublishTarget, key: str, terms: PublishTerms) -> Self:
        """Connect and wait until the ingest takes the stream.

        Raises:
            NetworkError: it cannot be reached, or does not answer in time.
            EndpointError: it refuses the stream.
        """
        opened, turn = _first_opened((target, *terms.backups), key, terms)
        began = time.perf_counter()
        taken = (target, *terms.backups)[turn]
        return cls(
            target,
            key,
            terms,
            began,
            opened,
            opened.counted_by,
            start_seconds=start_seconds(opened.round_trip_ms(), terms.asked_seconds),
            went_over=[(0.0, taken.url)] if turn else [],
            _wait=terms.first_wait_seconds,
            _turn=turn,
        )

    @property
    def server(self) -> PublishTarget:
        """To which it goes, or would go next."""
        servers = (self.target, *self.terms.backups)
        return servers[self._turn % len(servers)]

    def seconds(self) -> float:
        """Since it was first connected."""
        return time.perf_counter() - self.began

    def send(self, piece: OutgoingTag, due: float) -> None:
        """Hand a piece over; a frame is lost while there is no connection or no keyframe yet."""
        if (
            not piece.frame and flv.part_of(piece.kind, piece.payload) == "header"
        ):  # a program may describe its stream anew
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
            NetworkError: the connection broke, or the ingest server ended it.
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
        else:  # the same server could not be reached again
            self._turn += 1
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
        return _opened(self.server, self.key, self.terms, at_most)

    def resume(self, publication: Publication) -> None:
        """Go on by a new connection, from the next keyframe."""
        self.publication = publication
        self.reconnects += 1
        last = self.went_over[-1][1] if self.went_over else self.target.url
        if self.server.url != last:
            self.went_over.append((round(self.seconds(), 3), self.server.url))
        self._wait = self.terms.first_wait_seconds
        for piece in self._headers.values():
            publication.send(piece.kind, piece.milliseconds, piece.payload, None)
        self._waiting_for_keyframe = True

    def delivered_bytes(self) -> int:
        """That the other end has, over all connections."""
        return self._before + (self.publication.delivered_bytes() if self.publication else 0)

    def queued_bytes(self) -> int:
        """Handed over, and not carried."""
        return self.publication.queued_bytes if self.publication else 0

    def queued_seconds(self) -> float:
        """How long the oldest frame on its way has waited."""
        return self.publication.queued_seconds() if self.publication else 0.0

    def round_trip_ms(self) -> float | None:
        """Smoothed by the system; None if it does not report it."""
        return self.publication.round_trip_ms() if self.publication else None

    @property
    def at_home(self) -> bool:
        """Whether it goes to this machine: what passes on from here has round trips of its own."""
        return is_loopback(f"//{self.server.host}")

    def min_round_trip_ms(self) -> float | None:
        """The least lately; None if the system does not report it."""
        return self.publication.min_round_trip_ms() if self.publication else None

    def window_closed_seconds(self) -> float | None:
        """How long the other end's window was closed, of this connection; None where not told."""
        return self.publication.window_closed_seconds() if self.publication else None

    def close(self) -> None:
        """End the stream."""
        if self.publication is not None:
            self.publication.close()


def _first_opened(
    servers: tuple[PublishTarget, ...], key: str, terms: PublishTerms
) -> tuple[Publication, int]:
    """A connection to the first server that takes the stream, and which that is.

    Raises:
        NetworkError: none does; says what the first said.
    """
    first: NetworkError | None = None
    for turn, server in enumerate(servers):
        try:
            return _opened(server, key, terms, terms.timeout_seconds), turn
        except NetworkError as error:
            first = first or error
    assert first is not None
    raise first


def _opened(
    target: PublishTarget, key: str, terms: PublishTerms, timeout_seconds: float
) -> Publication:
    return Publication(target, key, terms.context, timeout_seconds, terms.unsent_bytes)


LOOK_SECONDS = 0.01
MOMENT_SECONDS = 0.1
MOST_BREAKS = 3
"""After so many breaks in one rehearsal it is over."""
ENCODER_SECONDS = 5.0
"""The most to wait for the encoding thread at the end."""

Ready = queue.Queue[tuple[float, OutgoingTag]]
"""Pieces that were encoded, with the moment each was due (``time.perf_counter``)."""


class Encoded(Protocol):
    """One frame's worth."""

    @property
    def number(self) -> int:
        """Which frame."""

    @property
    def encode_ms(self) -> float:
        """What encoding it took."""

    @property
    def tags(self) -> tuple[OutgoingTag, ...]:
        """What came of it; perhaps nothing yet."""


@dataclass(slots=True)
class _EncoderState:
    """What the encoding thread tells."""

    encode_ms: list[float] = field(default_factory=list)
    behind: float = 0.0
    error: BaseException | None = None
    stop: threading.Event = field(default_factory=threading.Event)


def _encode(
    steps: Iterator[Encoded], frame_seconds: float, began: float, ready: Ready, pace: _EncoderState
) -> None:
    """Encode each frame when it is due, never sooner."""
    try:
        for step in steps:
            due = began + step.number * frame_seconds
            if step.number:
                pace.encode_ms.append(step.encode_ms)
            pace.behind = max(0.0, time.perf_counter() - due - frame_seconds)
            for tag in step.tags:
                ready.put((began + tag.milliseconds / 1000, tag))
            if pace.stop.wait(max(0.0, due + frame_seconds - time.perf_counter())):
                return
    except BaseException as error:  # noqa: BLE001 - told to the thread that waits
        pace.error = error


@dataclass(slots=True)
class _RehearsalNotes:
    """What is counted on the way."""

    frames: int = 0
    late: int = 0
    moments: list[StreamSample] = field(default_factory=list)


def rehearse_once(
    target: PublishTarget,
    key: str,
    steps: Iterator[Encoded],
    terms: PublishTerms,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Sent:
    """Send a stand-in until the time is up, or it is clear that it does not hold.

    Args:
        key: of the stream; never part of any message.

    Raises:
        NetworkError: the ingest cannot be reached, or does not answer in time.
        EndpointError: it refuses the stream from the start.
    """
    first = next(steps)  # opening encoders takes a while, and is not the show
    line = Reconnecting.to(target, key, terms)
    pace, notes, ready = _EncoderState(), _RehearsalNotes(), Ready()
    work = (chain([first], steps), terms.frame_seconds, line.began, ready, pace)
    encoder = threading.Thread(target=_encode, args=work, daemon=True)
    encoder.start()
    try:
        with interruptible() as ctrl_c:
            while not _done(line, pace):
                _turn(line, ready, pace, notes, tell)
            _note(line, pace, notes, tell)
            if line.publication is not None and line.seconds() > line.start_seconds:
                notes.late += line.publication.waiting(LATE_SECONDS)
    finally:
        pace.stop.set()
        encoder.join(ENCODER_SECONDS)
        line.close()
    if ctrl_c.stopped and not notes.moments:
        raise KeyboardInterrupt
    if pace.error is not None:
        raise pace.error
    return _sent(line, pace, notes)


def _sent(line: Reconnecting, pace: _EncoderState, notes: _RehearsalNotes) -> Sent:
    """What became of it, as noted."""
    return Sent(
        seconds=line.seconds(),
        frames=notes.frames,
        late_frames=notes.late,
        lost_frames=line.lost_frames,
        encode_ms=tuple(round(ms, 3) for ms in pace.encode_ms),
        moments=tuple(notes.moments),
        reconnects=line.reconnects,
        broken=tuple(line.broken),
        went_over=tuple(line.went_over),
        counted_by=line.counted_by,
        start_seconds=line.start_seconds,
    )


def _done(line: Reconnecting, pace: _EncoderState) -> bool:
    stopped = line.terms.stop is not None and line.terms.stop.is_set()
    if stopped or pace.error is not None or len(line.broken) >= MOST_BREAKS:
        return True
    hopeless = max(line.queued_seconds(), pace.behind) > GIVE_UP_SECONDS
    return (
        hopeless and line.seconds() > line.start_seconds
    ) or line.seconds() >= line.terms.asked_seconds


def _turn(
    line: Reconnecting,
    ready: Ready,
    pace: _EncoderState,
    notes: _RehearsalNotes,
    tell: Callable[[StreamSample], None],
) -> None:
    """Send what is ready, look what arrived, note how it stands."""
    line.try_again()
    try:
        while not ready.empty():
            due, piece = ready.get_nowait()
            notes.frames += piece.frame
            line.send(piece, due)
        late = sum(seconds > LATE_SECONDS for seconds in line.look(LOOK_SECONDS))
        notes.late += late if line.seconds() > line.start_seconds else 0
    except NetworkError as error:
        line.broke(error)
    if not notes.moments or line.seconds() - notes.moments[-1].seconds >= MOMENT_SECONDS:
        _note(line, pace, notes, tell)


def _note(
    line: Reconnecting,
    pace: _EncoderState,
    notes: _RehearsalNotes,
    tell: Callable[[StreamSample], None],
) -> None:
    delivered = line.delivered_bytes()
    moment = StreamSample(
        seconds=ceil(line.seconds() * 1000) / 1000,  # one after the start stays after it
        connected=line.publication is not None,
        handed_bytes=delivered + line.queued_bytes(),
        carried_bytes=delivered,
        queued_bytes=line.queued_bytes(),
        queued_seconds=round(line.queued_seconds(), 3),
        round_trip_ms=line.round_trip_ms(),
        min_round_trip_ms=None if line.at_home else line.min_round_trip_ms(),
        window_closed_seconds=line.window_closed_seconds(),
        media_late_seconds=round(pace.behind, 3),
    )
    notes.moments.append(moment)
    tell(moment)
