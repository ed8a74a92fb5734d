"""FLV tag bodies, as RTMP carries them, and FLV files.

Adobe's Video File Format Specification 10.1, annex E.4: video and audio tag headers, AVC and AAC
packets. Others by the enhanced RTMP specification (Veovera, version 2): an extended header with a
FourCC, of video and of audio.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from eager_kestrel.core.errors import ProtocolError

Part = Literal["header", "frame", "end", "other"]
AUDIO, VIDEO, DATA = 8, 9, 18
TAG_BYTES = 11
"""Of a tag's header in a file."""
SIZE_BYTES = 4
"""Of the size that follows it."""
AVC, AAC = 7, 10
FOURCC = {b"avc1": "h264", b"hvc1": "hevc", b"av01": "av1"}
CODES = {codec: code for code, codec in FOURCC.items()}
EXTENDED_HEADER = 0x80
SEQUENCE_START, CODED_FRAMES, SEQUENCE_END, CODED_FRAMES_X, METADATA = 0, 1, 2, 3, 4
AUDIO_CODECS = {10: "aac", 2: "mp3"}
EXTENDED_AUDIO = 9
AUDIO_FOURCC = {b"mp4a": "aac", b"Opus": "opus", b".mp3": "mp3", b"fLaC": "flac", b"ac-3": "ac3"}
EXTENDED_PARTS: dict[int, Part] = {0: "header", 1: "frame", 2: "end"}


@dataclass(frozen=True, slots=True)
class VideoTag:
    """What is in a video tag."""

    codec: str
    part: Part
    keyframe: bool
    offset_ms: int
    """Of when it is shown to when it is sent: the composition time."""
    body: bytes


@dataclass(frozen=True, slots=True)
class AudioTag:
    """What is in an audio tag."""

    codec: str
    part: Part
    body: bytes


def read_video(payload: bytes) -> VideoTag:
    """Read a video tag body.

    Raises:
        ProtocolError: it is cut off, or of a codec nobody sends live.
    """
    if len(payload) < 5:
        raise ProtocolError("a video message is cut off")
    first = payload[0]
    if first & EXTENDED_HEADER:
        return _read_extended(payload)
    if first & 0x0F != AVC:
        raise ProtocolError(f"video codec {first & 0x0F} is not H.264")
    part: Part = {0: "header", 1: "frame", 2: "end"}.get(payload[1], "other")  # type: ignore[assignment]
    return VideoTag("h264", part, first >> 4 == 1, _signed(payload[2:5]), payload[5:])


def _read_extended(payload: bytes) -> VideoTag:
    kind, key = payload[0] & 0x0F, payload[0] >> 4 & 0x07 == 1
    codec = FOURCC.get(payload[1:5])
    if codec is None:
        raise ProtocolError(f"video codec {payload[1:5]!r} is not known")
    if kind == CODED_FRAMES and codec != "av1":
        if len(payload) < 8:
            raise ProtocolError("a video message is cut off")
        return VideoTag(codec, "frame", key, _signed(payload[5:8]), payload[8:])
    parts: dict[int, Part] = {
        SEQUENCE_START: "header",
        CODED_FRAMES: "frame",
        CODED_FRAMES_X: "frame",
        SEQUENCE_END: "end",
    }
    return VideoTag(codec, parts.get(kind, "other"), key, 0, payload[5:])


def _signed(raw: bytes) -> int:
    value = int.from_bytes(raw, "big")
    return value - 0x1000000 if value & 0x800000 else value


def read_audio(payload: bytes) -> AudioTag:
    """Read an audio tag body.

    Raises:
        ProtocolError: it is cut off.
    """
    if not payload:
        raise ProtocolError("an audio message is empty")
    if payload[0] >> 4 == EXTENDED_AUDIO:
        codec = AUDIO_FOURCC.get(payload[1:5], "unknown")
        return AudioTag(codec, EXTENDED_PARTS.get(payload[0] & 0x0F, "other"), payload[5:])
    codec = AUDIO_CODECS.get(payload[0] >> 4, "unknown")
    if codec != "aac":
        return AudioTag(codec, "frame", payload[1:])
    if len(payload) < 2:
        raise ProtocolError("an audio message is cut off")
    return AudioTag(codec, "header" if payload[1] == 0 else "frame", payload[2:])


def understood(kind: int, payload: bytes) -> bool:
    """Whether a message of audio or video can be read; of data that is never in doubt."""
    try:
        if kind == VIDEO:
            read_video(payload)
        elif kind == AUDIO:
            read_audio(payload)
    except ProtocolError:
        return False
    return True


def part_of(kind: int, payload: bytes) -> Part:
    """What a message of some kind is: a header, which decoders need first, a frame, or other.

    Data (the stream's description) counts as a header.
    """
    try:
        if kind == VIDEO:
            return read_video(payload).part
        return read_audio(payload).part if kind == AUDIO else "header"
    except ProtocolError:
        return "other"


def video_header(codec: str, record: bytes) -> bytes:
    """The tag body that carries a codec's configuration record."""
    if codec == "h264":
        return bytes([1 << 4 | AVC, 0, 0, 0, 0]) + record
    return bytes([EXTENDED_HEADER | 1 << 4 | SEQUENCE_START]) + CODES[codec] + record


def video_frame(codec: str, body: bytes, *, keyframe: bool, offset_ms: int = 0) -> bytes:
    """The tag body of a frame."""
    kind = 1 if keyframe else 2
    offset = (offset_ms & 0xFFFFFF).to_bytes(3, "big")
    if codec == "h264":
        return bytes([kind << 4 | AVC, 1]) + offset + body
    first = EXTENDED_HEADER | kind << 4
    if codec == "av1":
        return bytes([first | CODED_FRAMES]) + CODES[codec] + body
    return bytes([first | CODED_FRAMES]) + CODES[codec] + offset + body


def aac_header(config: bytes) -> bytes:
    """The tag body with an AudioSpecificConfig."""
    return bytes([AAC << 4 | 0x0F, 0]) + config


def aac_frame(body: bytes) -> bytes:
    """The tag body of an AAC frame."""
    return bytes([AAC << 4 | 0x0F, 1]) + body


def file_header(*, audio: bool = True) -> bytes:
    """The first 13 bytes of an FLV file."""
    return b"FLV\x01" + bytes([1 | (4 if audio else 0)]) + (9).to_bytes(4, "big") + bytes(4)


def file_tag(kind: int, milliseconds: int, payload: bytes) -> bytes:
    """A tag of an FLV file, with the size that follows it (E.4.1)."""
    stamp = milliseconds % 2**32
    head = bytes([kind]) + len(payload).to_bytes(3, "big")
    head += (stamp & 0xFFFFFF).to_bytes(3, "big") + bytes([stamp >> 24]) + bytes(3)
    return head + payload + (len(head) + len(payload)).to_bytes(4, "big")


def take_tag(data: bytearray) -> tuple[int, int, bytes] | None:
    """Take the next whole tag off the front of a file, and the file's header before the first.

    Returns:
        Its kind, its time in ms and its body; None when it is not all there yet.
    """
    if data[:3] == b"FLV":
        del data[: len(file_header())]
    length = int.from_bytes(data[1:4], "big")
    whole = TAG_BYTES + length + SIZE_BYTES
    if len(data) < max(whole, TAG_BYTES):
        return None
    stamp = int.from_bytes(data[4:7], "big") | data[7] << 24
    kind, payload = data[0], bytes(data[TAG_BYTES : TAG_BYTES + length])
    del data[:whole]
    return kind, stamp, payload


LEAST = 16
"""Bytes; a shorter gap is left to the next frame."""


def filler(codec: str, length: int) -> bytes:
    """Filler of exactly so many bytes, for length-prefixed units; empty where it would not fit.

    Args:
        codec: ``h264``, ``hevc`` or ``av1``.
        length: bytes, prefix and all.
    """
    if length < LEAST:
        return b""
    if codec == "av1":
        return _obu(length)
    header = b"\x0c" if codec == "h264" else b"\x4c\x01"
    body = length - 4 - len(header) - 1
    return (length - 4).to_bytes(4, "big") + header + b"\xff" * body + b"\x80"


def _obu(length: int) -> bytes:
    """A padding OBU with its size as four bytes of LEB128, which may be longer than need be."""
    body = length - 5
    size = bytes([body >> shift & 0x7F | (0x80 if shift < 21 else 0) for shift in (0, 7, 14, 21)])
    return bytes([15 << 3 | 2]) + size + b"\xff" * (body - 1) + b"\x80"
