"""Relay a stream: what a program sends to us goes to a platform at once.

A piece is written by the thread that took it, when nothing waits before it; so passing on costs no
change of threads. What the connection does not take waits here, for so long and no longer: then the
oldest is left out up to a keyframe. A thread for each destination sees what arrived, and connects
again when the platform hangs up.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections import deque
from dataclasses import dataclass, field

from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.run import is_loopback
from eager_kestrel.core.errors import NetworkError
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.net.publishing import PublishTarget
from eager_kestrel.net.rehearsing import PublishTerms, Reconnecting

MOST_SECONDS = 4.0
"""Of stream that waits here; then frames are left out."""
MOST_BYTES = 16 * 1024 * 1024
PUSHED_BYTES = 131_072
"""Handed to the connection ahead of the system; what is behind can still be left out."""
UNSENT_BYTES = 65_536
"""That the system may hold unsent."""
SEND_BUFFER_BYTES = 4 * 2**20
BUSY_SECONDS, IDLE_SECONDS = 0.004, 0.02
"""Between two looks at what arrived."""
FLUSH_SECONDS = 1.0


@dataclass(frozen=True, slots=True)
class RelayedPacket:
    """A piece of the stream as it goes on."""

    kind: int
    milliseconds: int
    payload: bytes
    header: bool
    """Whether it describes what follows."""
    frame: bool
    """Whether it is a frame of video."""
    keyframe: bool
    due: float
    """When it should have been here, ``time.perf_counter``."""
    at: float
    """When it was."""


@dataclass
class Relay:
    """One destination. :meth:`take` is called by one thread, the rest by another."""

    target: PublishTarget
    key: str = field(repr=False)
    terms: PublishTerms
    patient: bool = False
    """Whether nothing is left out for its age, since the program is held up in its place."""
    frames: int = 0
    late_frames: int = 0
    left_out: int = 0
    """Frames, because too much waited."""
    _line: Reconnecting | None = None
    _queue: deque[RelayedPacket] = field(default_factory=deque)
    _queued_bytes: int = 0
    _skipping: bool = False
    _before: tuple[int, int] = (0, 0)
    """Carried bytes and lost frames of programs that have left."""
    _closed_before: float = 0.0
    _said: str = ""

    def __post_init__(self) -> None:
        """Not connected yet."""
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._tells_window = not is_loopback(f"//{self.target.host}")

    def open(self) -> None:
        """Connect, and begin to watch what arrives.

        Raises:
            NetworkError: it cannot be reached, does not answer, or refuses.
        """
        try:
            line = Reconnecting.to(self.target, self.key, self.terms)
        except NetworkError as error:
            self._said = error.what
            raise
        assert line.publication is not None
        line.publication.keep_unsent_below(UNSENT_BYTES)
        with self._lock:
            self._line = line
        self._stop.clear()
        self._thread = threading.Thread(target=self._watch, name="onward", daemon=True)
        self._thread.start()

    def take(self, piece: RelayedPacket) -> None:
        """Pass a piece on, at once where nothing waits."""
        with self._lock:
            self.frames += piece.frame
            if self._skipping and not piece.header:
                self._skipping = not piece.keyframe
                if self._skipping:
                    self.left_out += piece.frame
                    return
            self._queue.append(piece)
            self._queued_bytes += len(piece.payload)
            self._leave_out()
            self._push()

    @property
    def queued_bytes(self) -> int:
        """That the system has not taken yet."""
        with self._lock:
            publication = self._line.publication if self._line is not None else None
            return self._queued_bytes + (publication.queued_bytes if publication else 0)

    @property
    def opened(self) -> bool:
        """Whether it ever had a connection since the program came; from then on it keeps trying."""
        return self._line is not None

    @property
    def server(self) -> PublishTarget:
        """To which it goes now."""
        return self.target if self._line is None else self._line.server

    @property
    def connected(self) -> bool:
        """Whether there is a connection."""
        return self._line is not None and self._line.publication is not None

    def sample(self, seconds: float, handed_bytes: int) -> StreamSample:
        """How it stands, some seconds after watching began.

        Args:
            handed_bytes: by the program, to whoever passes it on.
        """
        with self._lock:
            line = self._line
            carried, lost = self._before
            return StreamSample(
                seconds=seconds,
                handed_bytes=handed_bytes,
                connected=self.connected,
                carried_bytes=carried + (line.delivered_bytes() if line else 0),
                queued_seconds=self._waiting(),
                round_trip_ms=line.round_trip_ms() if line else None,
                min_round_trip_ms=line.min_round_trip_ms() if line else None,
                window_closed_seconds=self._window_closed(line),
                frames=self.frames,
                late_frames=self.late_frames,
                lost_frames=lost + self.left_out + (line.lost_frames if line else 0),
                said=line.broken[-1][1] if line and line.broken else self._said,
            )

    def close(self, flush_seconds: float = FLUSH_SECONDS) -> None:
        """Send what waits, for at most so long; then end the stream and the connection."""
        until = time.perf_counter() + flush_seconds
        while self.connected and self._anything() and time.perf_counter() < until:
            time.sleep(BUSY_SECONDS)
        self._stop.set()
        if self._thread is not None:
            self._thread.join(self.terms.timeout_seconds)
            self._thread = None
        with self._lock:
            if self._line is None:
                return
            carried, lost = self._before
            self._before = (
                carried + self._line.delivered_bytes(),
                lost + self._line.lost_frames + sum(one.frame for one in self._queue),
            )
            self._said = self._line.broken[-1][1] if self._line.broken else ""
            self._line.close()
            self._line = None
            self._queue.clear()
            self._queued_bytes, self._skipping = 0, False

    def _anything(self) -> bool:
        with self._lock:
            publication = self._line.publication if self._line is not None else None
            return bool(self._queue) or bool(publication and publication.waiting())

    def _waiting(self) -> float:
        oldest = next((one.due for one in self._queue if one.frame), None)
        waited = 0.0 if oldest is None else time.perf_counter() - oldest
        line = self._line
        return max(waited, line.queued_seconds() if line is not None else 0.0, 0.0)

    def _window_closed(self, line: Reconnecting | None) -> float | None:
        """A relay on this machine closes its window for its line, too: then it tells nothing."""
        if line is None or not self._tells_window:
            return None
        now = line.window_closed_seconds()
        return None if now is None else self._closed_before + now

    def _leave_out(self) -> None:
        """Bound what waits: leave out everything before the last keyframe, or up to the next."""
        old = not self.patient and time.perf_counter() - self._queue[0].at > MOST_SECONDS
        if not old and self._queued_bytes <= MOST_BYTES:
            return
        held = list(self._queue)
        keys = [at for at, one in enumerate(held) if at and one.keyframe]
        begin = keys[-1] if keys else len(held)
        self._skipping = not keys
        kept = [one for one in held[:begin] if one.header] + held[begin:]
        self.left_out += sum(one.frame for one in held) - sum(one.frame for one in kept)
        self._queue = deque(kept)
        self._queued_bytes = sum(len(one.payload) for one in kept)

    def _push(self) -> None:
        """Hand over to the connection what it takes."""
        line = self._line
        if line is None:
            return
        try:
            while self._queue and (
                line.publication is None or line.publication.queued_bytes < PUSHED_BYTES
            ):
                one = self._queue.popleft()
                self._queued_bytes -= len(one.payload)
                line.send(one, one.due)
                if line.publication is not None:
                    line.publication.write()
        except NetworkError as error:
            self._broke(line, error)

    def _broke(self, line: Reconnecting, error: NetworkError) -> None:
        self._closed_before += line.window_closed_seconds() or 0.0
        line.broke(error)

    def _watch(self) -> None:
        """See what arrived, write what waits, connect again."""
        line = self._line
        assert line is not None
        while not self._stop.is_set():
            publication = line.publication
            if publication is None:
                self._again(line)
                continue
            publication.wait(BUSY_SECONDS if self._queue else IDLE_SECONDS)
            with self._lock:
                if line.publication is None:
                    continue
                try:
                    late = publication.look(0)
                except NetworkError as error:
                    self._broke(line, error)
                    continue
                self.late_frames += sum(seconds > LATE_SECONDS for seconds in late)
                self._push()

    def _again(self, line: Reconnecting) -> None:
        """Connect again when it is time; the program's pieces are lost meanwhile."""
        if not line.due_again():
            self._stop.wait(IDLE_SECONDS)
            return
        try:
            opened = line.opened_again()
        except NetworkError as error:
            with self._lock:
                line.broke(error)
            return
        with self._lock, contextlib.suppress(NetworkError):
            opened.keep_unsent_below(UNSENT_BYTES)
            line.resume(opened)
