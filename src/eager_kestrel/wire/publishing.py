"""An RTMP connection that publishes one stream: both ends as state machines without a socket.

The published RTMP 1.0 specification: handshake (5.2), protocol control messages (5.4), user control
messages (6.2), commands on the connection and the stream (7.2). Bytes go in with :meth:`receive`,
events come out; bytes to send collect in ``outgoing``.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, TypeAlias

from eager_kestrel.core.errors import ProtocolError
from eager_kestrel.wire import amf0
from eager_kestrel.wire.chunks import CHUNK_BYTES, SET_CHUNK_SIZE, ChunkReader, ChunkWriter, Message
from eager_kestrel.wire.flv import AUDIO, DATA, VIDEO

VERSION = 3
RANDOM_BYTES = 1528
OPENING_BYTES = 1 + 8 + RANDOM_BYTES
"""C0 and C1 together."""


def opening(milliseconds: int, random: bytes) -> bytes:
    """C0 and C1.

    Args:
        milliseconds: the sender's epoch, modulo 2**32.
        random: exactly 1,528 bytes.

    Raises:
        ValueError: ``random`` has another length.
    """
    if len(random) != RANDOM_BYTES:
        raise ValueError(f"{RANDOM_BYTES} random bytes are needed, not {len(random)}")
    return bytes([VERSION]) + (milliseconds % 2**32).to_bytes(4, "big") + bytes(4) + random


def opening_answer(client_opening: bytes) -> bytes:
    """S0, S1 and S2 for a client's C0 and C1; S1 carries the client's own random bytes back."""
    hello = client_opening[1:OPENING_BYTES]
    return bytes([VERSION]) + bytes(8) + hello[8:] + hello


def is_opening_answer(first_byte: bytes) -> bool:
    """Whether an answer begins as S0 does."""
    return first_byte == bytes([VERSION])


ACKNOWLEDGEMENT, USER_CONTROL, WINDOW_SIZE, PEER_BANDWIDTH, COMMAND = 3, 4, 5, 6, 20
COMMAND_AMF3, DATA_AMF3 = 17, 15
PING, PONG, STREAM_BEGIN = 6, 7, 0
MOST_WAITING_BYTES = 65_536
"""To be sent, before pings are not answered any more."""
WINDOW_BYTES = 2_500_000
ECHO_BYTES = OPENING_BYTES - 1
CONTROL_CHUNKS, COMMAND_CHUNKS, AUDIO_CHUNKS, VIDEO_CHUNKS = 2, 3, 4, 6
STREAM = 1
Kind = Literal["audio", "video", "data"]
KINDS: dict[int, Kind] = {AUDIO: "audio", VIDEO: "video"}
TLS_ALERT, TLS_HANDSHAKE = b"\x15", b"\x16"
"""The first byte of what a TLS server says to strangers (RFC 8446 section 5.1)."""
MOST_COMMANDS, COMMANDS_SECONDS = 256, 10.0
"""So many in so long; a peer that only talks is cut off. Some servers send a hundred in a show."""


@dataclass(frozen=True, slots=True)
class Ready:
    """The other end takes the stream: send, or expect, media."""


@dataclass(frozen=True, slots=True)
class Refused:
    """The other end does not take the stream, or ended it."""

    why: str


@dataclass(frozen=True, slots=True)
class WantsToPublish:
    """Somebody asks to publish; answer with ``accept`` or ``refuse``."""

    app: str
    key: str


@dataclass(frozen=True, slots=True)
class Media:
    """A piece of the stream."""

    kind: Kind
    milliseconds: int
    payload: bytes


@dataclass(frozen=True, slots=True)
class Ended:
    """The publisher ended its stream."""


Event: TypeAlias = Ready | Refused | WantsToPublish | Media | Ended


class Peer:
    """What both ends share: handshake, chunks, acknowledgements, pings."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        """Before anything was exchanged."""
        self.outgoing = bytearray()
        self._clock, self._counted_since = clock, clock()
        self._reader, self._writer = ChunkReader(), ChunkWriter()
        self._opening = bytearray()
        self._shaken = False
        self._received = self._acknowledged = 0
        self._their_window = WINDOW_BYTES
        self._commands = 0

    def receive(self, data: bytes) -> list[Event]:
        """Take bytes of the other end.

        Raises:
            ProtocolError: they break the protocol.
        """
        if not self._shaken:
            self._opening += data
            data = self._shake()
            if not self._shaken:
                return []
        self._received += len(data)
        events: list[Event] = []
        for message in self._reader.feed(data):
            events += self._message(message)
        return events

    @property
    def greeted(self) -> bool:
        """Whether the other end has answered at all."""
        return self._shaken or bool(self._opening)

    def acknowledge(self) -> None:
        """Say how much has come, if half a window of the other end is not acknowledged."""
        if self._received - self._acknowledged >= self._their_window // 2:
            self._acknowledged = self._received
            self._control(ACKNOWLEDGEMENT, (self._received % 2**32).to_bytes(4, "big"))

    def _shake(self) -> bytes:
        """Continue the handshake; returns what came after it."""
        raise NotImplementedError

    def _command(self, name: str, values: list[amf0.Value], stream: int) -> list[Event]:
        raise NotImplementedError

    def _message(self, message: Message) -> list[Event]:
        payload = message.payload
        if message.kind == WINDOW_SIZE and len(payload) >= 4:
            self._their_window = max(2, int.from_bytes(payload[:4], "big"))
        elif message.kind == USER_CONTROL and payload[:2] == PING.to_bytes(2, "big"):
            if len(self.outgoing) > MOST_WAITING_BYTES:
                return []  # it asks, and does not read the answers
            self._control(USER_CONTROL, PONG.to_bytes(2, "big") + payload[2:6])
        elif message.kind in (COMMAND, COMMAND_AMF3):
            return self._named(payload[1:] if message.kind == COMMAND_AMF3 else payload, message)
        elif message.kind in (AUDIO, VIDEO, DATA, DATA_AMF3):
            return self._media(message)
        return []

    def _named(self, payload: bytes, message: Message) -> list[Event]:
        if (now := self._clock()) - self._counted_since > COMMANDS_SECONDS:
            self._commands, self._counted_since = 0, now
        self._commands += 1
        if self._commands > MOST_COMMANDS:
            raise ProtocolError("too many commands")
        try:
            values = amf0.decode(payload)
        except ProtocolError:
            return []  # what follows can be read all the same
        if not values or not isinstance(values[0], str):
            return []
        return self._command(values[0], values[1:], message.stream)

    def _media(self, message: Message) -> list[Event]:  # noqa: ARG002 - for the receiving end
        return []

    def _control(self, kind: int, payload: bytes) -> None:
        self.outgoing += self._writer.message(CONTROL_CHUNKS, Message(kind, 0, 0, payload))

    def _say(self, *values: amf0.Value, stream: int = 0) -> None:
        message = Message(COMMAND, stream, 0, amf0.encode(*values))
        self.outgoing += self._writer.message(COMMAND_CHUNKS, message)

    def _larger_chunks(self) -> None:
        self._control(SET_CHUNK_SIZE, CHUNK_BYTES.to_bytes(4, "big"))
        self._writer.chunk_bytes = CHUNK_BYTES


class Publisher(Peer):
    """The sending end."""

    def __init__(self, app: str, address: str, key: str, random: bytes) -> None:
        """Begin a connection; the handshake is in ``outgoing``.

        Args:
            address: of the ingest without key.
            random: 1,528 bytes.
        """
        super().__init__()
        self._app, self._address, self._key = app, address, key
        self.outgoing += opening(0, random)

    def _shake(self) -> bytes:
        if self._opening[:1] in (TLS_ALERT, TLS_HANDSHAKE):
            raise ProtocolError("it speaks TLS; write rtmps:// instead of rtmp://")
        if self._opening[:1] not in (b"", bytes([VERSION])):
            raise ProtocolError("it does not answer as RTMP does")
        whole = OPENING_BYTES + ECHO_BYTES
        if len(self._opening) < whole:
            return b""
        self._shaken = True
        self.outgoing += self._opening[1:OPENING_BYTES]  # C2 echoes S1
        self._larger_chunks()
        about: dict[str, amf0.Value] = {
            "app": self._app,
            "type": "nonprivate",
            "flashVer": "EagerKestrel/1",
            "tcUrl": self._address,
            "fourCcList": ["av01", "hvc1", "avc1"],
        }
        self._say("connect", 1, about)
        return bytes(self._opening[whole:])

    def _command(self, name: str, values: list[amf0.Value], stream: int) -> list[Event]:  # noqa: ARG002
        number = values[0] if values and isinstance(values[0], float) else 0.0
        if name == "_error":
            return [Refused(_why(values, "the ingest server refused the connection"))]
        if name == "_result" and number == 1:
            self._say("releaseStream", 2, None, self._key)
            self._say("FCPublish", 3, None, self._key)
            self._say("createStream", 4, None)
        elif name == "_result" and number == 4:
            self._say("publish", 5, None, self._key, "live", stream=STREAM)
        elif name == "onStatus":
            return self._status(values)
        return []

    def _status(self, values: list[amf0.Value]) -> list[Event]:
        about = next((v for v in values if isinstance(v, dict)), {})
        if about.get("code") == "NetStream.Publish.Start":
            return [Ready()]
        if about.get("level") == "error" or "Unpublish" in str(about.get("code", "")):
            return [Refused(_why(values, "the ingest server ended the stream"))]
        return []

    def send(self, kind: int, milliseconds: int, payload: bytes) -> bytes:
        """A piece of media as bytes; it does not pass through ``outgoing``."""
        chunks = VIDEO_CHUNKS if kind == VIDEO else AUDIO_CHUNKS
        return self._writer.message(chunks, Message(kind, STREAM, milliseconds, payload))

    def about(self, values: dict[str, amf0.Value]) -> bytes:
        """The stream's metadata as bytes."""
        payload = amf0.encode("@setDataFrame", "onMetaData", values)
        return self._writer.message(AUDIO_CHUNKS, Message(DATA, STREAM, 0, payload))

    def end(self) -> bytes:
        """The end of the stream as bytes."""
        before = len(self.outgoing)
        self._say("FCUnpublish", 6, None, self._key)
        self._say("deleteStream", 7, None, float(STREAM))
        said = bytes(self.outgoing[before:])
        del self.outgoing[before:]
        return said


def _why(values: list[amf0.Value], otherwise: str) -> str:
    """What the other end says of an error; never longer than a line."""
    about = next((v for v in values if isinstance(v, dict)), {})
    said = about.get("description") or about.get("code") or otherwise
    return " ".join(str(said).split())


class Receiver(Peer):
    """The receiving end, for one publisher."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        """Before the publisher said anything."""
        super().__init__(clock)
        self._app = ""
        self._publishing = False
        self._answered = False

    def _shake(self) -> bytes:
        if self._opening[:1] not in (b"", bytes([VERSION])):
            raise ProtocolError("not an RTMP handshake")
        if len(self._opening) < OPENING_BYTES:
            return b""
        if not self._answered:
            self._answered = True
            self.outgoing += opening_answer(bytes(self._opening[:OPENING_BYTES]))
        if len(self._opening) < OPENING_BYTES + ECHO_BYTES:
            return b""
        self._shaken = True
        return bytes(self._opening[OPENING_BYTES + ECHO_BYTES :])

    def _command(self, name: str, values: list[amf0.Value], stream: int) -> list[Event]:  # noqa: ARG002
        number = values[0] if values and isinstance(values[0], float) else 0.0
        if name == "connect":
            about = values[1] if len(values) > 1 and isinstance(values[1], dict) else {}
            self._app = str(about.get("app", "")).strip("/")
            self._connected(number)
        elif name == "createStream":
            self._say("_result", number, None, float(STREAM))
        elif name == "publish":
            key = values[2] if len(values) > 2 and isinstance(values[2], str) else ""
            self._publishing = True  # unless it is refused; some do not wait for the answer
            return [WantsToPublish(self._app, key)]
        elif name in ("deleteStream", "FCUnpublish", "closeStream") and self._publishing:
            self._publishing = False
            return [Ended()]
        elif name in ("releaseStream", "FCPublish", "_checkbw"):
            self._say("_result", number, None, None)
        return []

    def _connected(self, number: float) -> None:
        self._control(WINDOW_SIZE, WINDOW_BYTES.to_bytes(4, "big"))
        self._control(PEER_BANDWIDTH, WINDOW_BYTES.to_bytes(4, "big") + b"\x02")
        self._larger_chunks()
        code: dict[str, amf0.Value] = {
            "level": "status",
            "code": "NetConnection.Connect.Success",
            "description": "Connected.",
            "objectEncoding": 0.0,
        }
        self._say("_result", number, {"fmsVer": "EagerKestrel/1", "capabilities": 31.0}, code)

    def accept(self) -> None:
        """Take the stream that was asked for."""
        self._control(USER_CONTROL, STREAM_BEGIN.to_bytes(2, "big") + STREAM.to_bytes(4, "big"))
        self._status("status", "NetStream.Publish.Start", "Publishing.")

    def refuse(self, why: str) -> None:
        """Do not take it, or end it."""
        self._publishing = False
        self._status("error", "NetStream.Publish.BadName", why)

    def _status(self, level: str, code: str, description: str) -> None:
        about: dict[str, amf0.Value] = {"level": level, "code": code, "description": description}
        self._say("onStatus", 0, None, about, stream=STREAM)

    def _media(self, message: Message) -> list[Event]:
        if not self._publishing:
            return []
        return [Media(KINDS.get(message.kind, "data"), message.timestamp, message.payload)]
