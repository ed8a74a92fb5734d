"""Profile and level of a stream, from the codec's own headers, and those within its frames.

- H.264: the AVCDecoderConfigurationRecord (ISO/IEC 14496-15, section 5.3.3) or, in MPEG-TS, the
  sequence parameter set itself (ITU-T H.264, section 7.3.2.1.1): profile_idc, constraint flags,
  level_idc.
- H.265: the HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, section 8.3.3) or the profile_tier_
  level of the sequence parameter set (ITU-T H.265, section 7.3.3).
- AV1: the AV1CodecConfigurationRecord (AV1 in ISO-BMFF, section 2.3): seq_profile, seq_level_idx_0.
"""

from __future__ import annotations

from dataclasses import dataclass

START_CODE = b"\x00\x00\x01"
H264_PROFILES = {
    66: "baseline",
    77: "main",
    88: "extended",
    100: "high",
    110: "high10",
    122: "high422",
    244: "high444",
}
HEVC_PROFILES = {1: "main", 2: "main10", 3: "mainstillresolution", 4: "rext"}
H264_SPS, HEVC_SPS = 7, 33


@dataclass(frozen=True, slots=True)
class ProfileAndLevel:
    """As the standards name them."""

    profile: str
    level: str


def profile_and_level(codec: str, header: bytes) -> ProfileAndLevel | None:
    """The profile and level of a codec's header; None where it cannot be read.

    Args:
        codec: ``h264``, ``hevc`` or ``av1``.
    """
    readers = {"h264": _h264, "hevc": _hevc, "av1": _av1}
    reader = readers.get(codec)
    return reader(header) if reader is not None else None


SET_TYPES = {"h264": (0x1F, 0, H264_SPS), "hevc": (0x3F, 1, HEVC_SPS)}
"""Of a unit's first byte: mask, shift and the type of a sequence parameter set."""
IN_FRONT = 512
"""Bytes of a frame in which its parameter sets stand."""


def sequence_sets(codec: str, frame: bytes) -> bytes:
    """The sequence parameter sets in front of an H.264 or H.265 keyframe; empty without any.

    Args:
        frame: with start codes (H.264 annex B), or each unit behind its length in four bytes
            (ISO/IEC 14496-15).
    """
    if codec not in SET_TYPES:
        return b""
    mask, shift, wanted = SET_TYPES[codec]
    front = frame[:IN_FRONT]
    marked = front.startswith((START_CODE, b"\x00" + START_CODE))
    units = _units(front) if marked else _behind_lengths(front)
    return b"".join(unit for unit in units if unit[0] >> shift & mask == wanted)


def _behind_lengths(front: bytes) -> list[bytes]:
    found, at = [], 0
    while at + 4 < len(front):
        end = at + 4 + int.from_bytes(front[at : at + 4], "big")
        if end > len(front):
            break
        found.append(front[at + 4 : end])
        at = end
    return [unit for unit in found if unit]


def _units(header: bytes) -> list[bytes]:
    """The units between start codes."""
    return [part.rstrip(b"\x00") for part in header.split(START_CODE)[1:] if part]


def _h264(header: bytes) -> ProfileAndLevel | None:
    if header[:1] == b"\x01" and len(header) >= 4:
        return _h264_named(header[1], header[2], header[3])
    for unit in _units(header):
        if unit[0] & 0x1F == H264_SPS and len(unit) >= 4:
            return _h264_named(unit[1], unit[2], unit[3])
    return None


def _h264_named(profile: int, constraints: int, level: int) -> ProfileAndLevel:
    name = H264_PROFILES.get(profile, f"profile {profile}")
    if level == 11 and constraints & 0x10 and profile in (66, 77, 88):
        return ProfileAndLevel(name, "1b")  # constraint_set3_flag, H.264 section A.3.1
    whole, tenth = divmod(level, 10)
    return ProfileAndLevel(name, f"{whole}.{tenth}" if tenth else f"{whole}")


def _hevc(header: bytes) -> ProfileAndLevel | None:
    if header[:1] == b"\x01" and len(header) >= 13:
        return _hevc_named(header[1] & 0x1F, header[12])
    for unit in _units(header):
        if unit[0] >> 1 & 0x3F == HEVC_SPS:
            plain = unit.replace(b"\x00\x00\x03", b"\x00\x00")  # emulation prevention, 7.4.2
            if len(plain) >= 15:
                return _hevc_named(plain[3] & 0x1F, plain[14])
    return None


def _hevc_named(profile: int, level: int) -> ProfileAndLevel:
    whole, tenth = divmod(level // 3, 10)
    name = HEVC_PROFILES.get(profile, f"profile {profile}")
    return ProfileAndLevel(name, f"{whole}.{tenth}" if tenth else f"{whole}")


def _av1(header: bytes) -> ProfileAndLevel | None:
    if len(header) < 2 or header[0] & 0x7F != 1:
        return None
    profile, level = header[1] >> 5, header[1] & 0x1F
    name = {0: "main", 1: "high", 2: "professional"}.get(profile, f"profile {profile}")
    return ProfileAndLevel(name, f"{2 + (level >> 2)}.{level & 3}")
