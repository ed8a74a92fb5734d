"""A private ingest server: count what arrives, check it against guides, perhaps record it."""

from __future__ import annotations

import contextlib
import copy
import hmac
import secrets
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from eager_kestrel.core.checks.findings import Findings, ReceivedStream, check_recording
from eager_kestrel.core.checks.stream import AudioFacts, LiveView, StreamWatch, VideoFacts
from eager_kestrel.core.errors import KestrelError, StorageError
from eager_kestrel.files.flv_writer import StreamFile, require_new
from eager_kestrel.files.keys import VARIABLE, known_key
from eager_kestrel.media.recording import stream_facts
from eager_kestrel.net.receiving import IngestServer, ReceivedTag, file_beginning
from eager_kestrel.wire import flv

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

APP = "live"
FACTS_BYTES = 4_000_000
"""Of the beginning of a stream, to learn its codecs from."""
FACTS_FRAMES = 3
FINDINGS_SECONDS = 2.0
"""Between two looks at the guides while a stream comes in."""


@dataclass(frozen=True, slots=True)
class Key:
    """A stream key, and what may be shown of it."""

    value: str = field(repr=False)
    own: bool
    """Whether it is kept somewhere; one made for the evening is shown to be typed."""

    @property
    def shown(self) -> str:
        """Itself where nobody knows it yet, else where it is kept."""
        return f"the key from {VARIABLE} or your keyring" if self.own else self.value


def key_for(name: str) -> Key:
    """The key kept under a name, else a new one for this evening."""
    kept = known_key(name)
    return Key(kept or secrets.token_hex(6), own=kept is not None)


class Policy(Protocol):
    """What a simulated platform would do; a private ingest has none."""

    def arrived(self, piece: ReceivedTag) -> str | None:
        """A reason to cut the stream off; None to go on."""


@dataclass(slots=True)
class _ReceivedStream:
    watch: StreamWatch = field(default_factory=StreamWatch)
    beginning: bytearray = field(default_factory=lambda: bytearray(file_beginning()))
    frames: int = 0
    skipped: int = 0
    file: StreamFile | None = None
    path: Path | None = None
    file_error: str | None = None
    facts: tuple[VideoFacts | None, AudioFacts | None] | None = None


class Reception:
    """What the server tells; ask it how things stand."""

    def __init__(
        self,
        key: str,
        guides: Sequence[Guide],
        record_to: Path | None = None,
        policy: Policy | None = None,
        suffix: str = "",
    ) -> None:
        """Wait for a publisher that knows the key.

        Args:
            record_to: an FLV file; a second stream gets a number.
        """
        self._keys, self._guides = (key.encode(), f"{key}{suffix}".encode()), guides
        self._record_to, self._policy = record_to, policy
        self._now: _ReceivedStream | None = None
        self._count = 0
        self._changed = threading.Condition()
        self.received: list[ReceivedStream] = []
        self.refused = 0
        """How many came with a wrong key or app."""

    def heard(self, count: int) -> str | None:
        """There is no limit to it."""
        del count
        return None

    def asked(self, app: str, key: str, address: str) -> str | None:
        """Only the right key to the right app is let in."""
        del address
        right = [hmac.compare_digest(key.encode(), wanted) for wanted in self._keys]
        if app != APP or not any(right):
            with self._changed:
                self.refused += 1
                self._changed.notify_all()
            return "the key or the app is not known"
        stream = _ReceivedStream()
        if self._record_to is not None:
            name = self._record_to
            if self._count:
                name = name.with_name(f"{name.stem}-{self._count + 1}{name.suffix}")
            try:
                stream.file, stream.path = StreamFile(name, file_beginning()), name
            except KestrelError as error:
                stream.file_error = error.line()
        with self._changed:
            self._count += 1
            self._now = stream
            self._changed.notify_all()
        return None

    def arrived(self, piece: ReceivedTag) -> str | None:
        """Count it, keep it, and ask the policy."""
        stream = self._now
        if stream is None:
            return "no stream is open"
        if stream.frames < FACTS_FRAMES and len(stream.beginning) < FACTS_BYTES:
            stream.beginning += piece.tag
            stream.frames += piece.kind == "video" and not piece.header
        if stream.file is not None and stream.file_error is None:
            try:
                stream.file.add(piece.tag)
            except StorageError as error:
                stream.file_error = error.line()
        with self._changed:
            if piece.kind == "video" and not piece.header:
                stream.watch.video(
                    piece.sent_ms / 1000,
                    piece.shown_ms / 1000,
                    piece.size,
                    piece.keyframe,
                    piece.at,
                )
            elif piece.kind == "audio" and not piece.header:
                stream.watch.audio(piece.sent_ms / 1000, piece.size)
        return self._policy.arrived(piece) if self._policy is not None else None

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        """Count what is not understood."""
        del milliseconds
        if self._now is not None and not flv.understood(kind, payload):
            self._now.skipped += 1

    def left(self, why: str) -> None:
        """Make the report."""
        stream, self._now = self._now, None
        if stream is None:
            return
        if stream.file is not None:
            try:
                stream.file.close()
            except StorageError as error:
                stream.file_error = stream.file_error or error.line()
        video, audio = stream_facts(bytes(stream.beginning))
        report = None
        if video is not None:
            report = stream.watch.report(f"stream {self._count}", video, audio)
        findings = check_recording(report, self._guides) if report is not None else None
        with self._changed:
            self.received.append(
                ReceivedStream(
                    number=self._count,
                    ended=why,
                    findings=findings,
                    worst_delay_seconds=round(stream.watch.worst_delay, 3),
                    late_frames=stream.watch.late_frames,
                    skipped=stream.skipped,
                    file=None if stream.path is None else str(stream.path),
                    file_error=stream.file_error,
                )
            )
            self._changed.notify_all()

    def live(self) -> LiveView | None:
        """How the stream that is coming in goes; None when there is none."""
        with self._changed:
            return self._now.watch.live() if self._now is not None else None

    def so_far(self) -> Findings | None:
        """What is found of the stream that is coming in so far; None before there is enough."""
        with self._changed:
            stream = self._now
            if stream is None or stream.frames < FACTS_FRAMES:
                return None
            watch, beginning = copy.deepcopy(stream.watch), bytes(stream.beginning)
        if stream.facts is None:
            stream.facts = stream_facts(beginning)
        video, audio = stream.facts
        report = watch.report("so far", video, audio) if video is not None else None
        return check_recording(report, self._guides) if report is not None else None

    def wait(self, seconds: float, streams: int) -> bool:
        """Wait until so many streams have come and gone; whether they have."""
        with self._changed:
            return self._changed.wait_for(lambda: len(self.received) >= streams, seconds)


@contextlib.contextmanager
def receive(
    key: str,
    port: int = 0,
    guides: Sequence[Guide] = (),
    record_to: Path | None = None,
    policy: Policy | None = None,
    suffix: str = "",
) -> Iterator[tuple[Reception, str]]:
    """A private ingest while the ``with`` block runs; gives it and its address without key.

    Raises:
        NetworkError: the port is taken.
        InputError: the file to record to already exists, or no FLV file.
    """
    if record_to is not None:
        require_new(record_to)
    taking = Reception(key, guides, record_to, policy, suffix)
    with IngestServer(taking, port) as server:
        yield taking, f"rtmp://127.0.0.1:{server.port}/{APP}"


def wait_for(
    taking: Reception,
    streams: int,
    seconds: float,
    tell: Callable[[LiveView | None, Findings | None], None] = lambda *_: None,
    look_seconds: float = 0.5,
) -> list[ReceivedStream]:
    """Wait for streams and tell how they go.

    Args:
        seconds: how long at most.
        tell: called about twice a second.
        look_seconds: between calls.
    """
    until, looked, found = time.perf_counter() + seconds, 0.0, None
    while time.perf_counter() < until and not taking.wait(look_seconds, streams):
        if time.perf_counter() - looked > FINDINGS_SECONDS:
            looked, found = time.perf_counter(), taking.so_far()
        tell(taking.live(), found)
    return taking.received
