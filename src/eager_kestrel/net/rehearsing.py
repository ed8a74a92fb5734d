"""Sending a show in real time: one thread encodes at its pace, this one sends and watches."""

from __future__ import annotations

import queue
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import chain
from typing import Protocol

from eager_kestrel.core.checks.rehearsal import GIVE_UP_SECONDS, LATE_SECONDS, Moment, Sent
from eager_kestrel.core.errors import KestrelError, NetworkError
from eager_kestrel.net.publishing import CONNECT_SECONDS, SEND_BUFFER_BYTES, Publication, Target

LOOK_SECONDS = 0.01
MOMENT_SECONDS = 0.1
FIRST_WAIT, LONGEST_WAIT = 1.0, 8.0
"""Before connecting again, in seconds; doubled each time."""
MOST_BREAKS = 3
"""After so many breaks in one rehearsal it is over."""


class Piece(Protocol):
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


class Encoded(Protocol):
    """One frame's worth."""

    @property
    def number(self) -> int:
        """Which frame."""

    @property
    def encode_ms(self) -> float:
        """What encoding it took."""

    @property
    def tags(self) -> tuple[Piece, ...]:
        """What came of it; perhaps nothing yet."""


@dataclass(slots=True)
class _Pace:
    """What the encoding thread tells."""

    encode_ms: list[float] = field(default_factory=list)
    behind: float = 0.0
    error: BaseException | None = None


def _encode(
    steps: Iterator[Encoded], frame_seconds: float, began: float, stop: threading.Event,
    ready: queue.Queue[tuple[float, Piece]], pace: _Pace,
) -> None:  # fmt: skip
    """Encode each frame when it is due, never sooner."""
    try:
        for step in steps:
            due = began + step.number * frame_seconds
            if step.number:
                pace.encode_ms.append(step.encode_ms)
            pace.behind = max(0.0, time.monotonic() - due - frame_seconds)
            for tag in step.tags:
                ready.put((began + tag.milliseconds / 1000, tag))
            if stop.wait(max(0.0, due + frame_seconds - time.monotonic())):
                return
    except BaseException as error:  # noqa: BLE001 - told to the thread that waits
        pace.error = error


@dataclass
class Rehearser:
    """Sends one show and notes what happens."""

    target: Target
    key: str
    steps: Iterator[Encoded]
    frame_seconds: float
    asked_seconds: float
    context: ssl.SSLContext | None = None
    timeout_seconds: float = CONNECT_SECONDS
    first_wait: float = FIRST_WAIT
    tell: Callable[[Moment], None] = lambda _: None
    unsent_bytes: int = SEND_BUFFER_BYTES

    def run(self) -> Sent:
        """Send until the time is up, or it is clear that it does not hold.

        Raises:
            NetworkError: the ingest cannot be reached, or does not answer in time.
            EndpointError: it refuses the stream from the start.
        """
        first = next(self.steps)  # opening encoders takes a while, and is not the show
        steps = chain([first], self.steps)
        self._publication: Publication | None = Publication(
            self.target, self.key, self.context, self.timeout_seconds, self.unsent_bytes
        )
        self._counted_by = self._publication.counted_by
        self._broken: list[tuple[float, str]] = []
        self._reconnects = self._late = self._lost = self._frames = self._before = 0
        self._moments: list[Moment] = []
        self._headers: list[Piece] = []
        self._wait, self._again_at = self.first_wait, 0.0
        self._waiting_for_keyframe = False
        pace, stop = _Pace(), threading.Event()
        ready: queue.Queue[tuple[float, Piece]] = queue.Queue()
        self._began = time.monotonic()
        encoder = threading.Thread(
            target=_encode,
            args=(steps, self.frame_seconds, self._began, stop, ready, pace),
            daemon=True,
        )
        encoder.start()
        try:
            while not self._done(pace):
                self._turn(ready, pace)
            self._note(pace)
        finally:
            stop.set()
            encoder.join(5)
            if self._publication is not None:
                self._publication.close()
        if pace.error is not None:
            raise pace.error
        return Sent(
            seconds=self._seconds(),
            frames=self._frames,
            late_frames=self._late,
            lost_frames=self._lost,
            encode_ms=tuple(round(ms, 3) for ms in pace.encode_ms),
            moments=tuple(self._moments),
            reconnects=self._reconnects,
            broken=tuple(self._broken),
            counted_by=self._counted_by,
        )

    def _seconds(self) -> float:
        return time.monotonic() - self._began

    def _done(self, pace: _Pace) -> bool:
        if pace.error is not None or len(self._broken) >= MOST_BREAKS:
            return True
        backlog = self._publication.backlog_seconds() if self._publication else 0.0
        hopeless = max(backlog, pace.behind) > GIVE_UP_SECONDS
        return hopeless or self._seconds() >= self.asked_seconds

    def _turn(self, ready: queue.Queue[tuple[float, Piece]], pace: _Pace) -> None:
        """Send what is ready, look what arrived, note how it stands."""
        if self._publication is None:
            self._try_again()
        try:
            self._send(ready)
            if self._publication is not None:
                late = self._publication.look(LOOK_SECONDS)
                self._late += sum(seconds > LATE_SECONDS for seconds in late)
            else:
                time.sleep(LOOK_SECONDS)
        except NetworkError as error:
            self._broke(error)
        if not self._moments or self._seconds() - self._moments[-1].seconds >= MOMENT_SECONDS:
            self._note(pace)

    def _send(self, ready: queue.Queue[tuple[float, Piece]]) -> None:
        while True:
            try:
                due, piece = ready.get_nowait()
            except queue.Empty:
                return
            header = not piece.frame and (piece.kind == 18 or piece.payload[1:2] == b"\x00")
            if header and len(self._headers) < 8:
                self._headers.append(piece)
            self._frames += piece.frame
            if self._publication is None or not self._fresh(piece):
                self._lost += piece.frame
                continue
            self._publication.send(
                piece.kind, piece.milliseconds, piece.payload, due if piece.frame else None
            )

    def _fresh(self, piece: Piece) -> bool:
        """After a break nothing is sent before the next keyframe."""
        if self._waiting_for_keyframe and piece.frame:
            self._waiting_for_keyframe = piece.payload[0] >> 4 & 0x07 != 1
        return not self._waiting_for_keyframe

    def _note(self, pace: _Pace) -> None:
        there = self._publication
        moment = Moment(
            seconds=round(self._seconds(), 3),
            backlog_seconds=round(there.backlog_seconds(), 3) if there else 0.0,
            encoder_seconds=round(pace.behind, 3),
            delivered_bytes=self._before + (there.delivered_bytes() if there else 0),
            round_trip_ms=there.round_trip_ms() if there else None,
        )
        self._moments.append(moment)
        self.tell(moment)

    def _broke(self, error: KestrelError) -> None:
        """Note why, and when to try again."""
        assert self._publication is not None
        self._broken.append((round(self._seconds(), 3), error.what))
        self._before += max(0, self._publication.delivered_bytes())
        self._lost += self._publication.waiting()
        self._publication.close()
        self._publication = None
        self._again_at = time.monotonic() + self._wait
        self._wait = min(2 * self._wait, LONGEST_WAIT)

    def _try_again(self) -> None:
        if time.monotonic() < self._again_at:
            return
        try:
            self._publication = Publication(
                self.target,
                self.key,
                self.context,
                min(self.timeout_seconds, 3.0),
                self.unsent_bytes,
            )
        except NetworkError as error:
            self._broken.append((round(self._seconds(), 3), error.what))
            self._again_at = time.monotonic() + self._wait
            self._wait = min(2 * self._wait, LONGEST_WAIT)
            return
        self._reconnects += 1
        for piece in self._headers:
            self._publication.send(piece.kind, piece.milliseconds, piece.payload, None)
        self._waiting_for_keyframe = True
