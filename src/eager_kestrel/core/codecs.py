"""The codecs there are: names, profiles, levels, encoders and what carries them, in one entry each.

A new codec is an entry of :data:`CODECS` and its factor in the quality table; what its bits look
like is for :mod:`eager_kestrel.wire`.

- ITU-T H.264 (08/2021), Table A-1; MaxBR and MaxCPB are in units of 1000 bit(/s) for baseline and
  main and of 1250 for high (cpbBrVclFactor, Table A-2); sides at most sqrt(8 MaxFS) (A.3.1).
- ITU-T H.265 (08/2021), Tables A.8 and A.9, main tier; sides at most sqrt(8 MaxLumaPs) (A.4.1).
- AV1 Bitstream and Decoding Process Specification (2019), Annex A.3, main tier; the buffer holds
  one second at the highest bitrate (Annex E.2).
- What carries them: FLV 10.1 knows neither HEVC nor AV1 (the published enhancement of RTMP does),
  and ISO/IEC 13818-1 has no mapping of AV1.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import isqrt
from typing import TYPE_CHECKING, Final, Literal

from eager_kestrel.core.errors import NoPlanError

if TYPE_CHECKING:
    from eager_kestrel.core.resolution import Resolution

Codec = Literal["h264", "hevc", "av1"]
AudioCodec = Literal["aac", "opus", "mp3"]
AUDIO_CODECS: Final[dict[AudioCodec, str]] = {"aac": "AAC", "opus": "Opus", "mp3": "MP3"}
"""As people write them, by the names of guides and settings."""

_H264_FACTOR = {"baseline": 1.0, "main": 1.0, "high": 1.25}


@dataclass(frozen=True, slots=True)
class Level:
    """Limits of one level; areas in 16x16 blocks for H.264 and in luma samples for the others."""

    codec: str
    name: str
    area_per_second: int
    area: int
    longest_across: int
    longest_down: int
    max_kbps: int
    max_buffer_kbit: int

    def _factor(self, profile: str) -> float:
        return _H264_FACTOR.get(profile, 1.0) if self.codec == "h264" else 1.0

    def bitrate_kbps(self, profile: str) -> float:
        """The most video of that profile may run at."""
        return self.max_kbps * self._factor(profile)

    def buffer_kbit(self, profile: str) -> float:
        """The largest decoder buffer for that profile."""
        return self.max_buffer_kbit * self._factor(profile)

    def takes(self, resolution: Resolution, frame_rate: Fraction) -> bool:
        """Whether picture size, side lengths and rate fit."""
        blocks = self.codec == "h264"
        area = resolution.macroblocks if blocks else resolution.pixels
        unit = 16 if blocks else 1
        return (
            area <= self.area
            and area * frame_rate <= self.area_per_second
            and -(-resolution.width // unit) <= self.longest_across
            and -(-resolution.height // unit) <= self.longest_down
        )


def _h264(name: str, per_second: int, area: int, kbps: int, buffer: int) -> Level:
    side = isqrt(8 * area)
    return Level("h264", name, per_second, area, side, side, kbps, buffer)


def _h265(name: str, area: int, per_second: int, kbps: int, buffer: int) -> Level:
    side = isqrt(8 * area)
    return Level("hevc", name, per_second, area, side, side, kbps, buffer)


def _av1(name: str, area: int, across: int, down: int, per_second: int, kbps: int) -> Level:
    return Level("av1", name, per_second, area, across, down, kbps, kbps)


H264_LEVELS = (
    _h264("1", 1_485, 99, 64, 175),
    _h264("1.1", 3_000, 396, 192, 500),
    _h264("1.2", 6_000, 396, 384, 1_000),
    _h264("1.3", 11_880, 396, 768, 2_000),
    _h264("2", 11_880, 396, 2_000, 2_000),
    _h264("2.1", 19_800, 792, 4_000, 4_000),
    _h264("2.2", 20_250, 1_620, 4_000, 4_000),
    _h264("3", 40_500, 1_620, 10_000, 10_000),
    _h264("3.1", 108_000, 3_600, 14_000, 14_000),
    _h264("3.2", 216_000, 5_120, 20_000, 20_000),
    _h264("4", 245_760, 8_192, 20_000, 25_000),
    _h264("4.1", 245_760, 8_192, 50_000, 62_500),
    _h264("4.2", 522_240, 8_704, 50_000, 62_500),
    _h264("5", 589_824, 22_080, 135_000, 135_000),
    _h264("5.1", 983_040, 36_864, 240_000, 240_000),
    _h264("5.2", 2_073_600, 36_864, 240_000, 240_000),
    _h264("6", 4_177_920, 139_264, 240_000, 240_000),
    _h264("6.1", 8_355_840, 139_264, 480_000, 480_000),
    _h264("6.2", 16_711_680, 139_264, 800_000, 800_000),
)
H265_LEVELS = (
    _h265("1", 36_864, 552_960, 128, 350),
    _h265("2", 122_880, 3_686_400, 1_500, 1_500),
    _h265("2.1", 245_760, 7_372_800, 3_000, 3_000),
    _h265("3", 552_960, 16_588_800, 6_000, 6_000),
    _h265("3.1", 983_040, 33_177_600, 10_000, 10_000),
    _h265("4", 2_228_224, 66_846_720, 12_000, 12_000),
    _h265("4.1", 2_228_224, 133_693_440, 20_000, 20_000),
    _h265("5", 8_912_896, 267_386_880, 25_000, 25_000),
    _h265("5.1", 8_912_896, 534_773_760, 40_000, 40_000),
    _h265("5.2", 8_912_896, 1_069_547_520, 60_000, 60_000),
    _h265("6", 35_651_584, 1_069_547_520, 60_000, 60_000),
    _h265("6.1", 35_651_584, 2_139_095_040, 120_000, 120_000),
    _h265("6.2", 35_651_584, 4_278_190_080, 240_000, 240_000),
)
AV1_LEVELS = (
    _av1("2.0", 147_456, 2_048, 1_152, 4_423_680, 1_500),
    _av1("2.1", 278_784, 2_816, 1_584, 8_363_520, 3_000),
    _av1("3.0", 665_856, 4_352, 2_448, 19_975_680, 6_000),
    _av1("3.1", 1_065_024, 5_504, 3_096, 31_950_720, 10_000),
    _av1("4.0", 2_359_296, 6_144, 3_456, 70_778_880, 12_000),
    _av1("4.1", 2_359_296, 6_144, 3_456, 141_557_760, 20_000),
    _av1("5.0", 8_912_896, 8_192, 4_352, 267_386_880, 30_000),
    _av1("5.1", 8_912_896, 8_192, 4_352, 534_773_760, 40_000),
    _av1("5.2", 8_912_896, 8_192, 4_352, 1_069_547_520, 60_000),
    _av1("5.3", 8_912_896, 8_192, 4_352, 1_069_547_520, 60_000),
    _av1("6.0", 35_651_584, 16_384, 8_704, 1_069_547_520, 60_000),
    _av1("6.1", 35_651_584, 16_384, 8_704, 2_139_095_040, 100_000),
    _av1("6.2", 35_651_584, 16_384, 8_704, 4_278_190_080, 160_000),
    _av1("6.3", 35_651_584, 16_384, 8_704, 4_278_190_080, 160_000),
)


@dataclass(frozen=True, slots=True)
class VideoCodec:
    """Everything about a codec that guides, plans and checks have to know."""

    title: str
    """As people write it."""
    other_names: tuple[str, ...]
    """What people and the media library call it as well."""
    profiles: tuple[str, ...]
    """The most efficient first."""
    levels: tuple[Level, ...]
    level_table: str
    """Where the standard lists them."""
    encoder: str
    """The library whose presets were measured."""
    preset: str
    """The usual one: most machines hold it in real time, and the quality model speaks of it."""
    in_rtmp: bool
    """Whether RTMP carries it without the published enhancement."""
    in_ts: bool
    """Whether MPEG-TS has a mapping of it."""


CODECS: Final[dict[Codec, VideoCodec]] = {
    "h264": VideoCodec(
        title="H.264",
        other_names=("h.264", "avc"),
        profiles=("high", "main", "baseline"),
        levels=H264_LEVELS,
        level_table="H.264 level that fits (table A-1)",
        encoder="libx264",
        preset="veryfast",
        in_rtmp=True,
        in_ts=True,
    ),
    "hevc": VideoCodec(
        title="HEVC",
        other_names=("h265", "h.265"),
        profiles=("main", "main10"),
        levels=H265_LEVELS,
        level_table="H.265 level that fits (table A.8)",
        encoder="libx265",
        preset="veryfast",
        in_rtmp=False,
        in_ts=True,
    ),
    "av1": VideoCodec(
        title="AV1",
        other_names=("libdav1d", "libaom-av1"),
        profiles=("main",),
        levels=AV1_LEVELS,
        level_table="AV1 level that fits (annex A)",
        encoder="libsvtav1",
        preset="8",
        in_rtmp=False,
        in_ts=False,
    ),
}
CODEC_NAMES: Final[dict[str, str]] = dict(AUDIO_CODECS) | {
    name: codec.title for name, codec in CODECS.items()
}
"""As people write them, by the names of guides and settings."""


def codec_named(text: str) -> str:
    """A codec by any of its names; a text that is none of them as it is."""
    names = (name for name, codec in CODECS.items() if text.strip().lower() in codec.other_names)
    return next(names, text)


def level_rank(codec: Codec, name: str) -> int | None:
    """Position of a level among its codec's, lowest first; None when there is none so called."""
    names = [level.name for level in CODECS[codec].levels]
    same = (name, f"{name}.0", name.removesuffix(".0"))
    return next((names.index(written) for written in same if written in names), None)


def least_level(
    codec: Codec,
    resolution: Resolution,
    frame_rate: Fraction,
    profile: str,
    kbps: float,
    buffer_kbit: float = 0.0,
) -> Level:
    """The least level that holds resolution, frame rate, bitrate (kbit/s) and buffer (kbit).

    Raises:
        NoPlanError: no level does.
    """
    for level in CODECS[codec].levels:
        if (
            level.takes(resolution, frame_rate)
            and kbps <= level.bitrate_kbps(profile)
            and buffer_kbit <= level.buffer_kbit(profile)
        ):
            return level
    rate = float(frame_rate)
    wanted = f"{resolution} at {rate:g} fps and {kbps:,.0f} kbit/s"
    raise NoPlanError(f"no level of {codec} holds {wanted}")
