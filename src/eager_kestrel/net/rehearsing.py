"""Sending a show in real time: one thread encodes at its pace, this one sends and watches."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import chain
from typing import TYPE_CHECKING, Protocol

from eager_kestrel.core.checks.rehearsal import Moment, Sent
from eager_kestrel.core.checks.verdict import GIVE_UP_SECONDS
from eager_kestrel.core.errors import NetworkError
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.net.reconnecting import OutgoingTag, PublishTerms, Reconnecting

if TYPE_CHECKING:
    from eager_kestrel.net.publishing import PublishTarget

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
    moments: list[Moment] = field(default_factory=list)


def rehearse_once(
    target: PublishTarget,
    key: str,
    steps: Iterator[Encoded],
    terms: PublishTerms,
    tell: Callable[[Moment], None] = lambda _: None,
) -> Sent:
    """Send a stand-in until the time is up, or it is clear that it does not hold.

    Args:
        target: where to.
        key: of the stream; never part of any message.
        steps: what to send, frame by frame.
        terms: how fast, how long, and how patiently.
        tell: called at every moment that is noted.

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
        while not _done(line, pace):
            _turn(line, ready, pace, notes, tell)
        _note(line, pace, notes, tell)
    except KeyboardInterrupt:  # what was learned until then is worth saying
        if not notes.moments:
            raise
    finally:
        pace.stop.set()
        encoder.join(ENCODER_SECONDS)
        line.close()
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
        counted_by=line.counted_by,
    )


def _done(line: Reconnecting, pace: _EncoderState) -> bool:
    stopped = line.terms.stop is not None and line.terms.stop.is_set()
    if stopped or pace.error is not None or len(line.broken) >= MOST_BREAKS:
        return True
    hopeless = max(line.backlog_seconds(), pace.behind) > GIVE_UP_SECONDS
    return hopeless or line.seconds() >= line.terms.asked_seconds


def _turn(
    line: Reconnecting,
    ready: Ready,
    pace: _EncoderState,
    notes: _RehearsalNotes,
    tell: Callable[[Moment], None],
) -> None:
    """Send what is ready, look what arrived, note how it stands."""
    line.try_again()
    try:
        while not ready.empty():
            due, piece = ready.get_nowait()
            notes.frames += piece.frame
            line.send(piece, due)
        notes.late += sum(seconds > LATE_SECONDS for seconds in line.look(LOOK_SECONDS))
    except NetworkError as error:
        line.broke(error)
    if not notes.moments or line.seconds() - notes.moments[-1].seconds >= MOMENT_SECONDS:
        _note(line, pace, notes, tell)


def _note(
    line: Reconnecting, pace: _EncoderState, notes: _RehearsalNotes, tell: Callable[[Moment], None]
) -> None:
    moment = Moment(
        seconds=round(line.seconds(), 3),
        backlog_seconds=round(line.backlog_seconds(), 3),
        encoder_seconds=round(pace.behind, 3),
        delivered_bytes=line.delivered_bytes(),
        round_trip_ms=line.round_trip_ms(),
        window_closed_seconds=line.window_closed_seconds(),
    )
    notes.moments.append(moment)
    tell(moment)
