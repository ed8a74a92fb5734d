"""Resolutions and frame rates, exact."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from math import ceil, gcd
from typing import Self

from eager_kestrel.core.errors import UnitError

MOST_RATE = 1000
"""Frames a second; more is no video."""


@dataclass(frozen=True, order=True, slots=True)
class Resolution:
    """A resolution in luma samples. Ordered by width, then height."""

    width: int
    height: int

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``"1920x1080"`` (``×`` and spaces are fine), or ``"1080p"`` for 16:9.

        Raises:
            UnitError: not of that form, or a side outside 16 to 16384.
        """
        match = re.fullmatch(r"\s*([0-9]{1,6})\s*[x×X]\s*([0-9]{1,6})\s*", text)
        if match is None and (lines := re.fullmatch(r"\s*([0-9]{3,4})[pP]\s*", text)):
            count = int(lines[1])
            return cls(round(count * 16 / 9 / 2) * 2, count)
        if match is None:
            lines = re.fullmatch(r"\s*([0-9]{3,4})[pP]?[0-9]*\s*", text)
            raise UnitError(
                f'"{text}" is not a resolution',
                f"write both sides, for example {round(int(lines[1]) * 16 / 9 / 2) * 2}x{lines[1]}"
                if lines
                else "write width x height, for example 1920x1080",
            )
        resolution = cls(int(match[1]), int(match[2]))
        if not all(16 <= side <= 16384 for side in (resolution.width, resolution.height)):
            raise UnitError(
                f"a resolution of {resolution} has a side outside 16 to 16384", "check it"
            )
        return resolution

    @property
    def pixels(self) -> int:
        """Luma samples in one frame."""
        return self.width * self.height

    @property
    def lines(self) -> int:
        """The shorter side, as people count lines of a resolution that may stand upright."""
        return min(self.width, self.height)

    @property
    def macroblocks(self) -> int:
        """16x16 blocks that cover it (ITU-T H.264 PicSizeInMbs)."""
        return -(-self.width // 16) * -(-self.height // 16)

    @property
    def shape(self) -> AspectRatio:
        """Its aspect ratio in lowest terms."""
        divisor = gcd(self.width, self.height)
        return AspectRatio(self.width // divisor, self.height // divisor)

    def within(self, largest: Resolution) -> bool:
        """Whether no side is longer than that side of another."""
        return self.width <= largest.width and self.height <= largest.height

    def __str__(self) -> str:
        return f"{self.width}x{self.height}"


CUSTOMARY_LINES = (144, 180, 240, 270, 360, 480, 540, 720, 900, 1080, 1440, 2160, 4320)
"""Resolutions of so many lines are what people ask for and programs list."""


def nearest_customary(lines: int) -> int:
    """The customary number of lines nearest to some, in proportion."""
    return min(CUSTOMARY_LINES, key=lambda known: max(known / lines, lines / known))


def is_customary(resolution: Resolution) -> bool:
    """Whether it has a customary number of lines, standing or lying."""
    return resolution.lines in CUSTOMARY_LINES


@dataclass(frozen=True, slots=True)
class AspectRatio:
    """An aspect ratio with square samples, in lowest terms."""

    across: int
    down: int

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``"16:9"``.

        Raises:
            UnitError: not two whole numbers above zero with a colon.
        """
        match = re.fullmatch(r"\s*([1-9][0-9]{0,3})\s*:\s*([1-9][0-9]{0,3})\s*", text)
        if match is None:
            raise UnitError(f'"{text}" is not a resolution shape', "write one such as 16:9 or 9:16")
        across, down = int(match[1]), int(match[2])
        divisor = gcd(across, down)
        return cls(across // divisor, down // divisor)

    def fits(self, resolution: Resolution) -> bool:
        """Whether the resolution has this shape to within one sample a side (848x480 is 16:9)."""
        exact = resolution.width * self.down / self.across
        return abs(exact - resolution.height) <= max(2.0, resolution.height * 0.01)

    def with_lines(self, lines: int) -> Resolution:
        """The resolution of this shape with so many on its shorter side, both sides even."""
        along = round(lines * max(self.across, self.down) / min(self.across, self.down) / 2) * 2
        return Resolution(along, lines) if self.across >= self.down else Resolution(lines, along)

    def __str__(self) -> str:
        return f"{self.across}:{self.down}"


def parse_frame_rate(text: str) -> Fraction:
    """Read frames a second: ``"60"``, ``"30000/1001"``, or ``"29.97"`` (taken as 30000/1001).

    Raises:
        UnitError: not a number above 0 and up to ``MOST_RATE``.
    """
    plain = re.sub(r"\s*(?:fps|Hz|frames/s)$", "", text.strip())
    if re.fullmatch(r"[0-9]+\.[0-9]+", plain):
        plain = plain.rstrip("0").rstrip(".")  # 59.940 is 59.94
    try:
        rate = _of_1000_1001(plain) or Fraction(plain)
    except (ValueError, ZeroDivisionError):
        rate = Fraction(0)
    if not 0 < rate <= MOST_RATE:
        raise UnitError(
            f'"{text}" is not a frame rate', "write one such as 30, 59.94 or 30000/1001"
        )
    return rate


MOST_INTERLACED = 30
"""Frames a second: an interlaced rate above that is one of fields."""


def of_fields(text: str) -> str | None:
    """Fields a second of an interlaced rate: 50 of ``25i`` or ``50i``; None for other rates.

    Raises:
        UnitError: it is no rate.
    """
    plain = text.strip().lower()
    if not plain.endswith("i"):
        return None
    rate = parse_frame_rate(plain.removesuffix("i"))
    return frame_rate_text(rate if rate > MOST_INTERLACED else 2 * rate)


def _of_1000_1001(written: str) -> Fraction | None:
    """The rate of the 1000/1001 family that is written so, such as 24000/1001 for 23.98."""
    match = re.fullmatch(r"[0-9]+\.([0-9]{1,3})", written)
    if match is None:
        return None
    whole = ceil(float(written))
    rate = at_1000_1001(Fraction(whole))
    return rate if f"{float(rate):.{len(match[1])}f}" == written else None


def at_1000_1001(rate: Fraction) -> Fraction:
    """The rate of the 1000/1001 family that goes by the same name: 30000/1001 for 30."""
    return rate * 1000 / 1001


def other_name(rate: Fraction) -> Fraction:
    """The rate that goes by the same name: 60 for 59.94, and 59.94 for 60."""
    return Fraction(round(rate)) if rate.denominator % 1001 == 0 else at_1000_1001(rate)


def divides_evenly(source: Fraction, rate: Fraction) -> bool:
    """Whether frames of a source go into a rate in equal steps, to two in a thousand.

    Every second one of 60 into 29.97: one more is dropped in half a minute, which nobody sees. Or
    each of 15 twice into 30.
    """
    parts = max(source / rate, rate / source)
    whole = round(parts)
    return whole >= 1 and abs(parts - whole) <= parts / 500


def frame_rate_text(rate: Fraction) -> str:
    """``60``, ``29.97`` or ``12.5``: as people say it; exact for whole rates."""
    if rate.denominator == 1:
        return str(rate.numerator)
    return f"{float(rate):.3f}".rstrip("0").rstrip(".")


def resolution_at(resolution: Resolution | str, rate: Fraction | float) -> str:
    """``1920x1080 at 60 fps``, as it is written everywhere."""
    known = rate if isinstance(rate, Fraction) else Fraction(rate).limit_denominator(1001)
    return f"{resolution} at {frame_rate_text(known)} fps"


def with_frame_rate(text: str) -> tuple[str, str | None]:
    """``"1080p60"`` or ``"1920x1080@60"`` as its resolution and frame rate; others as they are."""
    match = re.fullmatch(
        r"\s*([0-9]{3,4}[pP]|[0-9]+\s*[x×X]\s*[0-9]+\s*@)\s*([0-9]{2,3}(?:\.[0-9]+)?i?)\s*", text
    )
    return (match[1].rstrip("@ "), match[2]) if match else (text, None)
