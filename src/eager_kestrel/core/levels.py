"""Levels of ITU-T H.264: the least whose limits hold a stream, and the bitrate one allows.

Table A-1 of ITU-T H.264 (08/2021). MaxBR and MaxCPB are in units of 1000 bit(/s) for the baseline
and main profiles and of 1250 for high (cpbBrVclFactor, Table A-2).
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

from eager_kestrel.core.errors import NoPlanError
from eager_kestrel.core.picture import Picture

_VCL_FACTOR = {"baseline": 1.0, "main": 1.0, "high": 1.25}


@dataclass(frozen=True, slots=True)
class Level:
    """One row of Table A-1."""

    name: str
    macroblocks_per_second: int
    macroblocks: int
    max_br: int
    max_cpb: int

    def bitrate_kbps(self, profile: str) -> float:
        """MaxBR in kbit/s for the profile."""
        return self.max_br * _VCL_FACTOR[profile]

    def buffer_kbit(self, profile: str) -> float:
        """MaxCPB in kbit for the profile."""
        return self.max_cpb * _VCL_FACTOR[profile]

    def takes(self, picture: Picture, frame_rate: Fraction) -> bool:
        """Whether picture size, side lengths (A.3.1: at most sqrt(8 MaxFS)) and rate fit."""
        widest_squared = 8 * self.macroblocks
        sides = (-(-picture.width // 16), -(-picture.height // 16))
        return (
            picture.macroblocks <= self.macroblocks
            and picture.macroblocks * frame_rate <= self.macroblocks_per_second
            and all(side * side <= widest_squared for side in sides)
        )


H264_LEVELS = (
    Level("1", 1_485, 99, 64, 175),
    Level("1.1", 3_000, 396, 192, 500),
    Level("1.2", 6_000, 396, 384, 1_000),
    Level("1.3", 11_880, 396, 768, 2_000),
    Level("2", 11_880, 396, 2_000, 2_000),
    Level("2.1", 19_800, 792, 4_000, 4_000),
    Level("2.2", 20_250, 1_620, 4_000, 4_000),
    Level("3", 40_500, 1_620, 10_000, 10_000),
    Level("3.1", 108_000, 3_600, 14_000, 14_000),
    Level("3.2", 216_000, 5_120, 20_000, 20_000),
    Level("4", 245_760, 8_192, 20_000, 25_000),
    Level("4.1", 245_760, 8_192, 50_000, 62_500),
    Level("4.2", 522_240, 8_704, 50_000, 62_500),
    Level("5", 589_824, 22_080, 135_000, 135_000),
    Level("5.1", 983_040, 36_864, 240_000, 240_000),
    Level("5.2", 2_073_600, 36_864, 240_000, 240_000),
    Level("6", 4_177_920, 139_264, 240_000, 240_000),
    Level("6.1", 8_355_840, 139_264, 480_000, 480_000),
    Level("6.2", 16_711_680, 139_264, 800_000, 800_000),
)


def h264_level(
    picture: Picture, frame_rate: Fraction, profile: str, kbps: float, buffer_kbit: float
) -> Level:
    """The least level that holds picture, frame rate, bitrate (kbit/s) and buffer (kbit).

    Raises:
        NoPlanError: no level does.
    """
    for level in H264_LEVELS:
        if (
            level.takes(picture, frame_rate)
            and kbps <= level.bitrate_kbps(profile)
            and buffer_kbit <= level.buffer_kbit(profile)
        ):
            return level
    raise NoPlanError(
        f"no H.264 level holds {picture} at {float(frame_rate):g} and {kbps:g} kbit/s"
    )
