"""Filler that decoders skip, to make a frame as long as constant bitrate wants it.

H.264: NAL unit type 12, filler data (ITU-T H.264, section 7.3.2.7). H.265: type 38 (ITU-T H.265,
section 7.3.2.8). AV1: OBU type 15, padding (AV1 specification, section 5.8).
"""

from __future__ import annotations

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
