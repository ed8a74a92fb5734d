"""Rates, sizes, times and shares, read strictly and said plainly.

People slip by factors of 8 and 1000 between megabits, megabytes and kilobits, so a number without
a unit is refused, bytes are said back as bits, and a lower-case ``mb`` asks which was meant.
Prefixes are decimal (SI, IEC 80000-13): 1 kbit/s = 1000 bit/s. Binary ones (``MiB``) must say so.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from datetime import datetime, time
from typing import Self

from eager_kestrel.core.errors import InputError, UnitError

_QUANTITY = re.compile(r"([+-]?[0-9]+(?:\.[0-9]+)?|[+-]?\.[0-9]+)\s*([^\s0-9].*)?")
_PREFIX = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9}
_BINARY = {"Ki": 2**10, "Mi": 2**20, "Gi": 2**30}

_BITS = re.compile(r"([kKMGmg]?)(?:[bB]its?/s|[bB]its?|bps|b/s|b)")
_RATE_BYTES = re.compile(r"([kKMGm]|[KMG]i|)(?:Bps|B/s|[Bb]ytes?/s)")
_SIZE_BYTES = re.compile(r"([kKMG]|[KMG]i|)(?:B|[Bb]ytes?)")
_ASKS = re.compile(r"[mg]b(?:/s)?|[MGK]BPS|[MGK]B/S")
_SECONDS = {
    "ms": 0.001,
    "s": 1.0,
    "sec": 1.0,
    "second": 1.0,
    "seconds": 1.0,
    "min": 60.0,
    "minute": 60.0,
    "minutes": 60.0,
    "h": 3600.0,
    "hour": 3600.0,
    "hours": 3600.0,
    "d": 86400.0,
    "day": 86400.0,
    "days": 86400.0,
}


def _split(text: str, kind: str, examples: str) -> tuple[float, str]:
    """Split ``"12 Mbit/s"`` into number and unit; refuse what is not of that form."""
    if re.search(r"[0-9],[0-9]", text):
        raise UnitError(
            f'"{text}" has a comma, which may separate thousands or decimals',
            "write it without one, such as 4500 or 4.5, with the unit",
        )
    match = _QUANTITY.fullmatch(text.strip())
    if match is None:
        raise UnitError(f'"{text}" is not {kind}', f"write {examples}")
    number, unit = float(match[1]), (match[2] or "").strip()
    if not math.isfinite(number) or number < 0:
        raise UnitError(f'"{text}" is not {kind} of zero or more', f"write {examples}")
    return number, unit


def _plain(number: float) -> str:
    return f"{number:g}"


@dataclass(frozen=True, order=True, slots=True)
class Bitrate:
    """A rate of delivery, exact to one bit a second."""

    bits_per_second: int

    @classmethod
    def from_kbps(cls, kbps: float) -> Self:
        """From kbit/s (1000 bit/s), to the nearest bit a second."""
        return cls(round(kbps * 1000))

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``"12 Mbit/s"``, ``"6000 kbit/s"``, ``"8 Mbps"``, ``"1.5 MB/s"`` (bytes).

        Raises:
            UnitError: no unit (``18``), an ambiguous one (``mb``), an unknown one, or zero.
        """
        both = re.fullmatch(r"\s*([0-9.]+)\s*/\s*([0-9.]+)\s*([a-zA-Z/]+)\s*", text)
        if both is not None:
            raise UnitError(
                f'"{text.strip()}" is two rates', f"write {both[2]} {both[3]} if that is the upload"
            )
        number, unit = _split(text, "a bitrate", '"6 Mbit/s" or "6000 kbit/s"')
        n = _plain(number)
        if not unit:
            raise UnitError(f"{n} has no unit", f"write {n} Mbit/s or {n} kbit/s")
        if _ASKS.fullmatch(unit):
            g = "G" if unit[0] in "gG" else "K" if unit[0] == "K" else "M"
            bit = "kbit/s" if g == "K" else f"{g}bit/s"
            raise UnitError(
                f'"{n} {unit}" may mean bits or bytes',
                f"write {n} {bit} for bits or {n} {'kB' if g == 'K' else g + 'B'}/s for bytes",
            )
        factor = _bit_factor(unit)
        if factor is None:
            if _SIZE_BYTES.fullmatch(unit):
                raise UnitError(f'"{n} {unit}" is a size, not a rate', f"write {n} {unit}/s")
            raise UnitError(f'"{unit}" is not a unit of bitrate', f"write {n} Mbit/s or {n} kbit/s")
        rate = cls(round(number * factor))
        if rate.bits_per_second <= 0:
            raise UnitError(
                f'"{text.strip()}" is not a bitrate above zero', "write one such as 6 Mbit/s"
            )
        if rate.bits_per_second > 10**12:
            raise UnitError(f"{n} {unit} is more than 1000 Gbit/s", "check the unit")
        return rate

    @property
    def kbps(self) -> float:
        """In kbit/s (1000 bit/s)."""
        return self.bits_per_second / 1000

    @property
    def mbps(self) -> float:
        """In Mbit/s (1,000,000 bit/s)."""
        return self.bits_per_second / 1_000_000

    def rounded_down(self) -> Self:
        """The next settings figure below: steps of 50 under 2,000 kbit/s and of 100 above."""
        step = 50_000 if self.bits_per_second < 2_000_000 else 100_000
        return type(self)(self.bits_per_second // step * step)

    def in_kbps(self) -> str:
        """``5,400 kbit/s``, as encoders ask for it."""
        return f"{self.kbps:,.0f} kbit/s"

    def __str__(self) -> str:
        """``5.4 Mbit/s`` from one megabit up, ``640 kbit/s`` below."""
        if self.bits_per_second < 999_500:
            return self.in_kbps()
        digits = 2 if self.bits_per_second < 9_995_000 else 1 if self.mbps < 99.95 else 0
        number = f"{self.mbps:,.{digits}f}"
        return f"{number.rstrip('0').rstrip('.') if '.' in number else number} Mbit/s"


def _bit_factor(unit: str) -> float | None:
    if match := _BITS.fullmatch(unit):
        return _PREFIX[match[1].lower()]
    if match := _RATE_BYTES.fullmatch(unit):
        return 8 * (_BINARY.get(match[1]) or _PREFIX[match[1].lower()])
    return None


@dataclass(frozen=True, order=True, slots=True)
class DataSize:
    """An amount of data in bytes."""

    bytes: int

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``"200 MB"``, ``"1 GiB"``, ``"1.5 GB"``.

        Raises:
            UnitError: no unit, an ambiguous one (``mb``), bits, or zero.
        """
        number, unit = _split(text, "an amount of data", '"200 MB" or "1 GB"')
        n = _plain(number)
        if not unit:
            raise UnitError(f"{n} has no unit", f"write {n} MB or {n} GB")
        match = _SIZE_BYTES.fullmatch(unit)
        if match is None:
            raise UnitError(f'"{n} {unit}" is not a clear amount of bytes', f"write {n} MB")
        size = cls(round(number * (_BINARY.get(match[1]) or _PREFIX[match[1].lower()])))
        if size.bytes <= 0:
            raise UnitError(
                f'"{text.strip()}" is not an amount of data above zero', "write one such as 300 MB"
            )
        return size

    def __str__(self) -> str:
        """``48.3 MB`` with decimal prefixes."""
        for factor, prefix in ((10**9, "G"), (10**6, "M"), (10**3, "k")):
            if self.bytes >= factor:
                return f"{self.bytes / factor:.3g} {prefix}B"
        return f"{self.bytes} B"


def parse_seconds(text: str, *, bare: bool = False) -> float:
    """Read a length of time (``"2 s"``, ``"10min"``, ``"500 ms"``) into seconds.

    Args:
        text: as written.
        bare: whether a number alone is seconds, since what asks for it says so.

    Raises:
        UnitError: no unit or an unknown one.
    """
    if bare and re.fullmatch(r"\s*[0-9]+(?:\.[0-9]+)?\s*", text):
        return float(text)
    number, unit = _split(text, "a length of time", '"2 s", "10 min" or "500 ms"')
    if unit not in _SECONDS:
        said = f'"{unit}" is not a unit of time' if unit else f"{_plain(number)} has no unit"
        raise UnitError(said, f"write {_plain(number)} s or {_plain(number)} min")
    return number * _SECONDS[unit]


WEEKS_A_MONTH = 365.25 / 12 / 7
MOST_HOURS = 744
"""In a month of 31 days."""


def parse_hours_a_month(text: str) -> float:
    """Read how long somebody streams (``"12"``, ``"12 h"``, ``"3 h a week"``) into hours a month.

    Raises:
        UnitError: it is none of these.
    """
    match = re.fullmatch(
        r"\s*([0-9]+(?:\.[0-9]+)?)\s*(?:h|hours?)?\s*(?:(?:a|an|per|/)\s*(day|week|month))?\s*",
        text.lower(),
    )
    days = {"day": 7 * WEEKS_A_MONTH, "week": WEEKS_A_MONTH}
    hours = round(float(match[1]) * days.get(match[2], 1.0), 2) if match else 0.0
    if not 0 < hours <= MOST_HOURS:
        instead = f'write "12 h a month" or "3 h a week", up to {MOST_HOURS} hours a month'
        raise UnitError(f'"{text}" is not how long you stream', instead)
    return hours


def parse_stutter(text: str) -> float:
    """Read stutter that is accepted (``"20 s/h"``, ``"20 s an hour"``) into seconds an hour.

    Raises:
        UnitError: it is none, or more than the hour itself.
    """
    match = re.fullmatch(
        r"\s*([0-9]+(?:\.[0-9]+)?)\s*(s|min)\s*(?:/|per|an|a)\s*(?:h|hour)\s*", text
    )
    if match is None:
        raise UnitError(f'"{text.strip()}" is not an amount of stutter an hour', 'write "20 s/h"')
    seconds = float(match[1]) * (60 if match[2] == "min" else 1)
    if seconds > 3600:
        raise UnitError(f'"{text.strip()}" is more than the hour has', 'write "20 s/h"')
    return seconds


def parse_pixels(text: str) -> float:
    """Read a height (``"20 px"``) in pixels.

    Raises:
        UnitError: no such unit, or nothing that could be seen.
    """
    match = re.fullmatch(r"\s*([0-9]+(?:\.[0-9]+)?)\s*(?:px|pixels?)\s*", text)
    if match is None or float(match[1]) <= 0:
        raise UnitError(f'"{text.strip()}" is not a height in pixels', 'write "20 px"')
    return float(match[1])


def parse_share(text: str) -> float:
    """Read a share (``"70 %"``) into a fraction above 0 and up to 1.

    Raises:
        UnitError: no per cent sign, or outside 0 to 100 %.
    """
    number, unit = _split(text, "a share", '"70 %"')
    if unit != "%":
        meant = number * 100 if number <= 1 else number
        raise UnitError(f'"{text.strip()}" has no per cent sign', f'write "{_plain(meant)} %"')
    if not 0 < number <= 100:
        raise UnitError(f"{_plain(number)} % is not a share", "write one above 0 % and up to 100 %")
    return number / 100


def parse_sample_rate(text: str) -> int:
    """Read ``"48 kHz"`` or ``"44100 Hz"`` as samples per second.

    Raises:
        UnitError: it is neither.
    """
    match = re.fullmatch(r"(?i)([0-9]+(?:\.[0-9]+)?) *(k?)hz", text.strip())
    if match is None:
        raise UnitError(f'"{text}" is not a sample rate', 'write "48 kHz" or "44100 Hz"')
    return round(float(match[1]) * (1000 if match[2] else 1))


NEAR_MINUTES = 90


def parse_time_of_day(text: str) -> time:
    """Read ``"20:00"``, ``"20.00"``, ``"8:30"``, ``"20"`` or ``"8 pm"``.

    Raises:
        InputError: it is none.
    """
    match = re.fullmatch(r"\s*([0-9]{1,2})(?:[:.]([0-9]{2}))?\s*(am|pm)?\s*", text.lower())
    hour, minute = (int(match[1]), int(match[2] or 0)) if match else (24, 0)
    if match and match[3]:
        hour = hour % 12 + 12 * (match[3] == "pm") if 1 <= hour <= 12 else 24
    if hour < 24 and minute < 60:
        return time(hour, minute)
    raise InputError(f'"{text}" is not a time of day', "write one such as 20:00")


def minutes_apart(one: time | datetime, other: time | datetime) -> int:
    """Minutes between two times of day, round midnight too."""
    minutes = abs(60 * (one.hour - other.hour) + one.minute - other.minute)
    return min(minutes, 1440 - minutes)


def near_moment(moment: datetime, wanted: time) -> bool:
    """Whether it is within an hour and a half of a time of day."""
    return minutes_apart(moment, wanted) <= NEAR_MINUTES
