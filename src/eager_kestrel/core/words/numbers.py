"""How numbers are written, and sentences as data: a :class:`Sentence` is a text with typed gaps.

Every sentence of this package is listed once; callers give values in the order of its gaps. A gap
says how its value is written: ``{upload:rate}`` is ``5.4 Mbit/s``, ``{share:.0%}`` is ``70%``,
``{runs:count|run|runs}`` is ``1 run`` or ``2 runs``.
"""

from __future__ import annotations

import string
from collections.abc import Callable, Iterable
from fractions import Fraction
from functools import cached_property
from typing import Any, Final

from eager_kestrel.core.resolution import Resolution, frame_rate_text, resolution_at
from eager_kestrel.core.units import Bitrate


def kbit(kbps: float) -> str:
    """``5,400 kbit/s``: what is typed into an encoder."""
    return Bitrate.from_kbps(kbps).in_kbps()


def rate(kbps: float) -> str:
    """``5.4 Mbit/s``: what people say of a connection."""
    return str(Bitrate.from_kbps(kbps))


def both(kbps: float) -> str:
    """``5,400 kbit/s = 5.4 Mbit/s``: encoders and people want different ones."""
    found = Bitrate.from_kbps(kbps)
    return found.in_kbps() if found.bits_per_second < 10**6 else f"{found.in_kbps()} = {found}"


def settings(resolution: Resolution, frame_rate: Fraction, kbps: float) -> str:
    """``1920x1080 at 60, 6,000 kbit/s``."""
    return f"{resolution_at(resolution, frame_rate)}, {kbit(kbps)}"


def counted(count: int, one: str, several: str = "") -> str:
    """``1 breach``, ``2,000 breaches``."""
    return f"{count:,} {one if count == 1 else several or one + 's'}"


LOOKS = ((20, "bad"), (40, "poor"), (60, "fair"), (80, "good"), (100, "excellent"))
"""What the authors of VMAF call its values (docs/quality-model.md)."""
GOOD_FROM = 70
"""Points from which the nearest of them is good."""


def looks(quality: float) -> str:
    """``78/100 (good)``: a quality of 0 to 1 as a number out of 100 and a word."""
    return f"{points(quality)}/100 ({look_word(quality)})"


def points(quality: float) -> int:
    """A quality of 0 to 1 out of 100, as every sentence rounds it.

    Two candidates are only compared in words when these differ.
    """
    return round(100 * quality)


def quality_with_range(quality: float, low: float, high: float, seen: str | None = None) -> str:
    """``78/100 (good; 65 to 86 depending on the footage)``.

    Args:
        seen: what of the streamer's own footage was looked at: ``6 s of clip.mp4``.
    """
    whose = f"by your own footage, {seen}" if seen else "depending on the footage"
    between = f"{points(low)} to {points(high)} {whose}"
    if points(low) == points(high):
        return f"{looks(quality)} {whose}" if seen else looks(quality)
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


def some_seconds(seconds: float) -> str:
    """``4 s``, ``0.4 s``; ``3 min`` from two minutes on."""
    if seconds >= 120:
        return f"{seconds / 60:,.0f} min"
    if seconds >= 9.95 or f"{seconds:.1f}".endswith(".0"):
        return f"{seconds:,.0f} s"
    return f"{seconds:.1f} s"


def observed(seconds: float) -> str:
    """A length of time that was observed: ``80 s``, ``4 min``, ``2.5 h``."""
    if seconds < 100:
        return f"{seconds:.0f} s"
    if seconds < 6000:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.1f}".removesuffix(".0") + " h"


def lasting(seconds: float) -> str:
    """``2 h 10 min``."""
    minutes = round(seconds / 60)
    if minutes < 2:
        return duration(round(seconds))
    if minutes < 60:
        return f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if rest else f"{hours} h"


def mbit(kbps: float) -> str:
    """``6.24``: Mbit/s in three figures, where a heading has the unit."""
    return f"{kbps / 1000:.3g}"


def platforms(name: str, verb: str) -> str:
    """``Oxbow takes``, ``Oxbow and Gatepost take``: a subject and a verb that agrees with it."""
    return f"{name} {verb}" if " and " in name else f"{name} {verb}s"


FORMS: Final[dict[str, Callable[[Any], str]]] = {
    "kbit": kbit,
    "rate": rate,
    "both": both,
    "looks": looks,
    "points": lambda quality: str(points(quality)),
    "fps": frame_rate_text,
    "seconds": some_seconds,
    "observed": observed,
    "lasting": lasting,
    "and": " and ".join,
    "or": " or ".join,
    "list": ", ".join,
}
"""Ways to write a value, by the name a gap gives."""


class _Filler(string.Formatter):
    """Fills gaps as :data:`FORMS` says; other formats are those of Python."""

    def format_field(self, value: Any, format_spec: str) -> str:
        """Write one value."""
        if format_spec in FORMS:
            return FORMS[format_spec](value)
        kind, _, words = format_spec.partition("|")
        if kind == "count":
            return counted(value, *words.split("|"))
        if kind == "verb":
            return platforms(value, words)
        return str(super().format_field(value, format_spec))


_FILLER: Final = _Filler()


def filled(text: str, values: dict[str, Any]) -> str:
    """A text with its gaps filled."""
    return _FILLER.vformat(text, (), values)


class Sentence:
    """A text with gaps. Call it with their values, in order of appearance or by name."""

    def __init__(self, text: str, gaps: str = "") -> None:
        """``gaps`` names them in another order than that of appearance."""
        self.text, self._gaps = text, gaps

    @cached_property
    def gaps(self) -> tuple[str, ...]:
        """Their names, in the order of values."""
        fields = (name for _, name, _, _ in string.Formatter().parse(self.text) if name)
        return tuple(self._gaps.split() or dict.fromkeys(name.split(".")[0] for name in fields))

    def __call__(self, *values: Any, **named: Any) -> str:
        """The text with its gaps filled."""
        return filled(self.text, dict(zip(self.gaps, values, strict=False)) | named)


def joined(parts: Iterable[str | None], separator: str = "; ") -> str:
    """The parts that are there, in a row."""
    return separator.join(part for part in parts if part)
