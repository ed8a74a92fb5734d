"""A private RTMP ingest server: takes one publisher at a time and hands on what arrives.

The protocol is in :mod:`eager_kestrel.wire.publishing`; here are the sockets, one thread a
connection, each with a time limit on silence.
"""

from __future__ import annotations

import contextlib
import socket
import threading
import time
from dataclasses import dataclass
from typing import Protocol, Self

from eager_kestrel.core.errors import ProtocolError
from eager_kestrel.net.addresses import LOOPBACK, listener, set_option, socket_ready
from eager_kestrel.wire import flv
from eager_kestrel.wire.publishing import Ended, Event, Media, Receiver, WantsToPublish

RECEIVE_BYTES = 65_536
SILENCE_SECONDS = 10.0
"""A publisher that says nothing for so long is gone."""
HANDSHAKE_SECONDS = 5.0
GOODBYE_SECONDS = 1.0
"""From connecting to publishing, in all, however lively the talk."""
QUIET_SECONDS = 0.01
"""Acknowledgements wait for a pause: a publisher that closes with one unread resets the connection,
and loses what it has not sent."""
LOOK_SECONDS = 0.2
MOST_UNASKED_BYTES = 65_536
"""Many times what it takes to ask to publish; whoever sends more is sent away."""
SWITCH_LIMIT = 16
"""Connections at once; for one more, the one that has waited longest without publishing goes."""


@dataclass(frozen=True, slots=True)
class ReceivedTag:
    """One audio or video message that arrived."""

    kind: str
    codec: str
    header: bool
    """A codec's configuration, no frame."""
    keyframe: bool
    sent_ms: int
    shown_ms: int
    size: int
    """Bytes of the frame itself."""
    at: float
    """When it was here, ``time.perf_counter``."""
    tag: bytes
    """The same as a tag of an FLV file."""

    @property
    def payload(self) -> bytes:
        """The message's body, as it came."""
        return self.tag[flv.TAG_BYTES : -flv.SIZE_BYTES]


class Visitor(Protocol):
    """Who is told what happens; an answer ends or refuses the stream and says why."""

    def asked(self, app: str, key: str, address: str) -> str | None:
        """Somebody at an address wants to publish."""

    def heard(self, count: int) -> str | None:
        """So many bytes of the publisher were read, whatever they are."""

    def arrived(self, piece: ReceivedTag) -> str | None:
        """A piece of the stream is here."""

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        """What is no frame and no configuration: a description, say, or not understood."""

    def left(self, why: str) -> None:
        """The publisher ended, broke off or was cut off."""


class IngestServer:
    """Listens while its ``with`` block runs."""

    def __init__(
        self, visitor: Visitor, port: int = 0, listening: socket.socket | None = None
    ) -> None:
        """Listen on loopback, or take a socket that listens.

        Raises:
            NetworkError: the port is taken.
        """
        self._visitor = visitor
        self._busy = threading.Lock()
        self._stop = threading.Event()
        self._threads: list[threading.Thread] = []
        self._open: list[_PublisherConnection] = []
        """Oldest first."""
        self._listener = listening or listener(LOOPBACK, port)
        self._listener.settimeout(LOOK_SECONDS)
        self.port: int = self._listener.getsockname()[1]
        """Where it listens."""

    def __enter__(self) -> Self:
        self._run(self._accept)
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        for thread in self._threads:
            thread.join(SILENCE_SECONDS)
        self._listener.close()

    def _run(self, work: object, *arguments: object) -> None:
        thread = threading.Thread(target=work, args=arguments, daemon=True)  # type: ignore[arg-type]
        self._threads = [t for t in self._threads if t.is_alive()] + [thread]
        thread.start()

    def _accept(self) -> None:
        while not self._stop.is_set():
            with contextlib.suppress(TimeoutError, OSError):
                connection, _ = self._listener.accept()
                self._open = [known for known in self._open if not known.ended]
                if len(self._open) >= SWITCH_LIMIT and not self._make_room():
                    connection.close()
                    continue
                publisher = _PublisherConnection(self._visitor, self._busy, connection)
                self._open.append(publisher)
                self._run(self._serve, publisher, connection)

    def _make_room(self) -> bool:
        """Send the one away that has waited longest without publishing, if there is one."""
        idle = next((known for known in self._open if not known.publishing), None)
        if idle is None:
            return False
        idle.send_away()
        self._open.remove(idle)
        return True

    def _serve(self, publisher: _PublisherConnection, connection: socket.socket) -> None:
        with connection:
            set_option(connection, socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            connection.setblocking(False)
            publisher.serve(self._stop)


class _PublisherConnection:
    """One connection, from handshake to end."""

    def __init__(self, visitor: Visitor, busy: threading.Lock, connection: socket.socket) -> None:
        self._visitor, self._busy, self._socket = visitor, busy, connection
        self._ingest = Receiver()
        self._over: str | None = None
        self._address = ""
        with contextlib.suppress(OSError):
            self._address = str(connection.getpeername()[0]).removeprefix("::ffff:")
        self._unasked = 0
        """Bytes read before it published."""
        self._begun = self._heard_at = time.perf_counter()
        self.publishing = False
        self.ended = False

    def send_away(self) -> None:
        """End it from another thread."""
        self.ended = True
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)

    def serve(self, stop: threading.Event) -> None:
        try:
            why = self._talk(stop)
            if self.publishing:
                self._visitor.left(why)
        finally:
            if self.publishing:
                self._busy.release()
            self._see_off()
            self.ended = True

    def _see_off(self) -> None:
        """After a stream has ended in order, or was cut off, read on until the other end closes.

        A publisher says goodbye in several messages; closing between them would reset the
        connection under it, and it would take its own stream for broken. One that was cut off still
        sends, and a reset would lose the reason.
        """
        until = time.perf_counter() + GOODBYE_SECONDS
        with contextlib.suppress(OSError):
            while self.publishing and self._over and (left := until - time.perf_counter()) > 0:
                if socket_ready(self._socket, left)[0] and not self._socket.recv(RECEIVE_BYTES):
                    return

    def _talk(self, stop: threading.Event) -> str:
        """Until it ends; returns why it did."""
        try:
            while not stop.is_set():
                if (why := self._listen()) is not None:
                    return why
        except ProtocolError as error:
            return f"it broke the protocol: {error}"
        except OSError as error:
            return f"the connection broke ({error.strerror or error})"
        return "stopped"

    def _listen(self) -> str | None:
        """Take in what comes, for a moment; why it is over, once it is."""
        now = time.perf_counter()
        if not self.publishing and now - self._begun > HANDSHAKE_SECONDS:
            return f"it did not publish within {HANDSHAKE_SECONDS:g} s"
        if not self._readable():
            silent = time.perf_counter() - self._heard_at > SILENCE_SECONDS
            return f"nothing came for {SILENCE_SECONDS:g} s" if silent else None
        data = self._socket.recv(RECEIVE_BYTES)
        if not data:
            return "the connection was closed"
        self._heard_at = time.perf_counter()
        if not self._may_send(len(data)):
            return "it sent too much before publishing"
        for event in self._ingest.receive(data):
            self._took(event, self._heard_at)
        self._answer()
        return self._over

    def _readable(self) -> bool:
        """Whether something has come; where nothing does, what came is acknowledged."""
        if not socket_ready(self._socket, QUIET_SECONDS)[0]:
            self._ingest.acknowledge()
            self._answer()
        return socket_ready(self._socket, LOOK_SECONDS)[0]

    def _answer(self) -> None:
        """Send what is to be said.

        A publisher that closes with something unread resets the connection: it cannot be answered
        any more, and what it sent before still waits to be read.
        """
        out = self._ingest.outgoing
        while out:
            if not socket_ready(self._socket, SILENCE_SECONDS, reads=False, writes=True)[1]:
                raise OSError("it does not read")
            try:
                del out[: self._socket.send(out)]
            except (ConnectionResetError, BrokenPipeError):
                out.clear()

    def _took(self, event: Event, at: float) -> None:
        if self._over is not None:
            return
        if isinstance(event, WantsToPublish):
            self._asked(event)
        elif isinstance(event, Media):
            piece = _piece(event, at)
            if piece is None:
                code = {"audio": flv.AUDIO, "video": flv.VIDEO}.get(event.kind, flv.DATA)
                self._visitor.besides(code, event.milliseconds, event.payload)
            elif (why := self._visitor.arrived(piece)) is not None:
                self._cut_off(why)
        elif isinstance(event, Ended):
            self._over = "ended"

    def _may_send(self, count: int) -> bool:
        """Count what was read; whether it goes on."""
        if not self.publishing:
            self._unasked += count
            return self._unasked <= MOST_UNASKED_BYTES
        if (refused := self._visitor.heard(count)) is not None:
            self._cut_off(refused)
        return True

    def _cut_off(self, why: str) -> None:
        self._ingest.refuse(why)
        self._over = f"cut off: {why}"

    def _asked(self, event: WantsToPublish) -> None:
        if not self._busy.acquire(blocking=False):
            refusal: str | None = "another stream is coming in"
        else:
            refusal = self._visitor.asked(event.app, event.key, self._address)
            if refusal is not None:
                self._busy.release()
        if refusal is not None:
            self._ingest.refuse(refusal)
            self._over = f"refused: {refusal}"
            return
        self.publishing = True
        self._ingest.accept()


def _piece(event: Media, at: float) -> ReceivedTag | None:
    """A message as a piece; None for what is no frame and no configuration, or not understood."""
    kind = {"video": flv.VIDEO, "audio": flv.AUDIO}.get(event.kind, flv.DATA)
    if event.kind == "data" or flv.part_of(kind, event.payload) in ("end", "other"):
        return None
    if event.kind == "video":
        video = flv.read_video(event.payload)
        tag = flv.file_tag(flv.VIDEO, event.milliseconds, event.payload)
        return ReceivedTag(
            "video",
            video.codec,
            video.part == "header",
            video.keyframe,
            event.milliseconds,
            event.milliseconds + video.offset_ms,
            len(video.body),
            at,
            tag,
        )
    audio = flv.read_audio(event.payload)
    tag = flv.file_tag(flv.AUDIO, event.milliseconds, event.payload)
    return ReceivedTag(
        "audio",
        audio.codec,
        audio.part == "header",
        False,
        event.milliseconds,
        event.milliseconds,
        len(audio.body),
        at,
        tag,
    )


def file_beginning() -> bytes:
    """What an FLV file of pieces begins with."""
    return flv.file_header()
