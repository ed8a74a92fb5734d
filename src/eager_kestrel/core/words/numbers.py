"""Rates and resolutions as they are written in sentences."""

from __future__ import annotations

from fractions import Fraction

from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.units import Bitrate


def kbit(kbps: float) -> str:
    """``5,400 kbit/s``: what is typed into an encoder."""
    return Bitrate.from_kbps(kbps).in_kbps()


def rate(kbps: float) -> str:
    """``5.4 Mbit/s``: what people say of a line."""
    return str(Bitrate.from_kbps(kbps))


def both(kbps: float) -> str:
    """``5,400 kbit/s = 5.4 Mbit/s``: encoders and people want different ones."""
    found = Bitrate.from_kbps(kbps)
    return found.in_kbps() if found.bits_per_second < 10**6 else f"{found.in_kbps()} = {found}"


def settings(resolution: Resolution, frame_rate: Fraction, kbps: float) -> str:
    """``1920x1080 at 60, 6,000 kbit/s``."""
    return f"{resolution_at(resolution, frame_rate)}, {kbit(kbps)}"


def counted(count: int, one: str, several: str = "") -> str:
    """``1 breach``, ``2 breaches``."""
    return f"{count} {one if count == 1 else several or one + 's'}"


LOOKS = ((20, "bad"), (40, "poor"), (60, "fair"), (80, "good"), (100, "excellent"))
"""What the authors of VMAF call its values (docs/quality-model.md)."""


def looks(quality: float) -> str:
    """``78/100 (good)``: a quality of 0 to 1 as a number out of 100 and a word."""
    return f"{points(quality)}/100 ({look_word(quality)})"


def points(quality: float) -> int:
    """A quality of 0 to 1 out of 100, as every sentence rounds it.

    Two candidates are only compared in words when these differ.
    """
    return round(100 * quality)


def quality_with_range(quality: float, low: float, high: float) -> str:
    """``78/100 (good; 65 to 86 depending on the footage)``."""
    if points(low) == points(high):
        return looks(quality)
    between = f"{points(low)} to {points(high)} depending on the footage"
    return f"{points(quality)}/100 ({look_word(quality)}; {between})"


def look_word(quality: float) -> str:
    """The word whose value is nearest, the higher of two."""
    return min(reversed(LOOKS), key=lambda known: abs(known[0] - points(quality)))[1]


def duration(seconds: float) -> str:
    """``7 days``, ``-3 s``: a length of time in its largest whole unit."""
    for size, name in ((86_400.0, "days"), (3_600.0, "h"), (60.0, "min")):
        if abs(seconds) >= 2 * size:
            return f"{seconds / size:.3g} {name}"
    return f"{seconds:.3g} s"
