"""RTMP chunk streams: messages to bytes and back.

The published RTMP 1.0 specification, section 5.3: basic headers of one to three bytes (5.3.1.1),
message headers of type 0 to 3 (5.3.1.2), extended timestamps (5.3.1.3), and the protocol control
messages that belong to this layer: set chunk size (5.4.1) and abort (5.4.2).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from eager_kestrel.core.errors import ProtocolError

SET_CHUNK_SIZE, ABORT = 1, 2
FIRST_CHUNK_BYTES = 128
"""Before a peer says otherwise (5.4.1)."""
CHUNK_BYTES = 4096
EXTENDED = 0xFFFFFF
HEADER_BYTES = (11, 7, 3, 0)
"""Of message headers by type."""
MOST_MESSAGE_BYTES = 8 * 1024 * 1024
"""A keyframe of half a second at 100 Mbit/s is smaller."""
MOST_DATA_BYTES = 256 * 1024
"""Of anything but video: nobody describes a stream at such length."""
VIDEO = 9
MOST_STREAMS = 64
MOST_HELD_BYTES = 16 * 1024 * 1024
"""Of all unfinished messages together."""


@dataclass(frozen=True, slots=True)
class Message:
    """One message."""

    kind: int
    """Its type id: 8 audio, 9 video, 18 data, 20 command and the rest."""
    stream: int
    timestamp: int
    """Milliseconds, modulo 2**32."""
    payload: bytes


@dataclass(slots=True)
class _Incoming:
    """What is remembered of a chunk stream that comes in."""

    timestamp: int = 0
    delta: int = 0
    length: int = 0
    kind: int = 0
    stream: int = 0
    extended: bool = False
    stamp: int = 0
    """Of the last header that had one."""
    begun: bool = False
    parts: bytearray = field(default_factory=bytearray)


class ChunkReader:
    """Turns bytes into messages; what is not whole yet is kept."""

    def __init__(self) -> None:
        """For a peer that has not set its chunk size yet."""
        self._chunk_bytes = FIRST_CHUNK_BYTES
        self._waiting = bytearray()
        self._streams: dict[int, _Incoming] = {}
        self._held = 0

    def feed(self, data: bytes) -> Iterator[Message]:
        """Every message that is whole with these bytes.

        Raises:
            ProtocolError: a header makes no sense, or a message is longer than is sane.
        """
        self._waiting += data
        while (taken := self._chunk()) is not None:
            if taken.payload is None:
                continue
            message = taken.payload
            if message.kind == SET_CHUNK_SIZE:
                self._set_chunk_bytes(message.payload)
            elif message.kind == ABORT and len(message.payload) >= 4:
                stream = self._streams.get(int.from_bytes(message.payload[:4], "big"))
                if stream is not None:
                    self._held -= len(stream.parts)
                    stream.parts.clear()
                    stream.begun = False
            else:
                yield message

    def _set_chunk_bytes(self, payload: bytes) -> None:
        size = int.from_bytes(payload[:4], "big")
        if len(payload) < 4 or not FIRST_CHUNK_BYTES <= size <= 0x7FFFFFFF:
            raise ProtocolError(f"a chunk size of {size} is not allowed")
        self._chunk_bytes = min(size, 0xFFFFFF)  # no message is longer, so larger ones are the same

    def _chunk(self) -> _Taken | None:
        """Take one chunk; None when it is not all there."""
        data = self._waiting
        if not data:
            return None
        kind, number, at = data[0] >> 6, data[0] & 0x3F, 1
        if number < 2:
            at += number + 1
            if len(data) < at:
                return None
            number = 64 + data[1] + (data[2] << 8 if number == 1 else 0)
        header = HEADER_BYTES[kind]
        if len(data) < at + header:
            return None
        stream = self._stream(number, kind)
        fields = bytes(data[at : at + header])
        at += header
        stamp = int.from_bytes(fields[:3], "big") if header >= 3 else 0
        extended = stamp == EXTENDED if header >= 3 else stream.extended
        if extended:
            if len(data) < at + 4:
                return None
            stamp = int.from_bytes(data[at : at + 4], "big")
            # Some do not say it again in what follows; then these are bytes of the message.
            at += 4 if kind < 3 or stamp == stream.stamp else 0
        length = int.from_bytes(fields[3:6], "big") if header >= 7 else stream.length
        whole = fields[6] if header >= 7 else stream.kind
        if length > (MOST_MESSAGE_BYTES if whole == VIDEO else MOST_DATA_BYTES):
            raise ProtocolError(f"a message of {length:,} bytes is too long")
        want = min(self._chunk_bytes, length - len(stream.parts))
        if len(data) < at + want:
            return None
        self._begin(stream, kind, fields, stamp, extended)
        self._held += want
        if self._held > MOST_HELD_BYTES:
            raise ProtocolError("too much is left unfinished")
        stream.parts += data[at : at + want]
        del data[: at + want]
        return _Taken(self._whole(stream))

    def _stream(self, number: int, kind: int) -> _Incoming:
        stream = self._streams.get(number)
        if stream is None:
            if kind != 0:
                raise ProtocolError(f"chunk stream {number} begins without a full header")
            if len(self._streams) >= MOST_STREAMS:
                raise ProtocolError("too many chunk streams")
            stream = self._streams[number] = _Incoming()
        if stream.begun and kind != 3:
            raise ProtocolError(f"a message on chunk stream {number} is interrupted by another")
        return stream

    def _begin(
        self, stream: _Incoming, kind: int, fields: bytes, stamp: int, extended: bool
    ) -> None:
        """Take over the header of a chunk that begins a message."""
        if stream.begun:
            return
        stream.begun = True
        if len(fields) >= 3:
            stream.extended, stream.stamp = extended, stamp
            stream.delta = stamp
        if len(fields) >= 7:
            stream.length, stream.kind = int.from_bytes(fields[3:6], "big"), fields[6]
        if kind == 0:
            stream.stream = int.from_bytes(fields[7:11], "little")
            stream.timestamp = stamp
        else:
            stream.timestamp = (stream.timestamp + stream.delta) % 2**32

    def _whole(self, stream: _Incoming) -> Message | None:
        if len(stream.parts) < stream.length:
            return None
        message = Message(stream.kind, stream.stream, stream.timestamp, bytes(stream.parts))
        self._held -= len(stream.parts)
        stream.parts.clear()
        stream.begun = False
        return message


@dataclass(frozen=True, slots=True)
class _Taken:
    """A chunk was taken; with it, perhaps, a whole message."""

    payload: Message | None


class ChunkWriter:
    """Turns messages into bytes, with the shortest header each may have."""

    def __init__(self) -> None:
        """With the chunk size every connection begins with."""
        self.chunk_bytes = FIRST_CHUNK_BYTES
        self._last: dict[int, tuple[int, int]] = {}

    def message(self, number: int, message: Message) -> bytes:
        """A message on a chunk stream, 2 to 63.

        Raises:
            ValueError: the chunk stream has no one-byte header, or the message is too long.
        """
        if not 2 <= number <= 63 or len(message.payload) > 0xFFFFFF:
            raise ValueError("not a chunk stream or message this writes")
        before, stream = self._last.get(number, (0, -1))
        step = message.timestamp - before
        short = stream == message.stream and step >= 0
        stamp = step if short else message.timestamp
        self._last[number] = (message.timestamp, message.stream)
        long = stamp >= EXTENDED
        out = bytearray([(1 if short else 0) << 6 | number])
        out += min(stamp, EXTENDED).to_bytes(3, "big")
        out += len(message.payload).to_bytes(3, "big") + bytes([message.kind])
        if not short:
            out += message.stream.to_bytes(4, "little")
        extra = stamp.to_bytes(4, "big") if long else b""
        out += extra
        for at in range(0, max(1, len(message.payload)), self.chunk_bytes):
            if at:
                out += bytes([3 << 6 | number]) + extra
            out += message.payload[at : at + self.chunk_bytes]
        return bytes(out)
