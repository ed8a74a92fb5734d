"""A guideline page as it was read, and the quantities its words name.

A unit gives a number its dimension, and no dimension turns into another: seconds are never a
bitrate, bytes a second never bits. The digits of one number stay together (``9,500``, ``9 500``,
``9'500``, ``2.5``). Where a separator can be read in two ways, both readings stay, unless only one
of them is a quantity that a guideline page can mean.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import product
from typing import Literal, NamedTuple

Dimension = Literal["bitrate", "bytes", "seconds", "frames", "fps", "hertz", "lines", "none"]
Bound = Literal["min", "max", "recommended"]


class Line(NamedTuple):
    """A line of text, and the headings it stands under."""

    text: str
    heading: str


class Grid(NamedTuple):
    """A table: rows of one width, and the headings it stands under."""

    rows: tuple[tuple[str, ...], ...]
    title: str


class Page(NamedTuple):
    """A page: its lines and its tables."""

    lines: tuple[Line, ...]
    grids: tuple[Grid, ...]


_NUMBER = (
    r"(?:[0-9]{1,3}(?:[ ,.'’\u00a0\u202f][0-9]{3})+(?![0-9])(?:[.,][0-9]+)?|[0-9]+(?:[.,][0-9]+)?)"
)
_UNITS: tuple[tuple[Dimension, str, float], ...] = (
    ("fps", r"fps|frames?(?: ?/ ?| per | a )s(?:ec(?:ond)?)?", 1.0),
    (
        "bitrate",
        r"(?:[kK](?:[bB]it/?s?|bps|b/s|bits?(?:/s| per second)|ilobits?(?: per second|/s)?)|Kbp?s)",
        1.0,
    ),
    (
        "bitrate",
        r"(?:[mM](?:[bB]it/?s?|bps|b/s|bits?(?:/s| per second)|egabits?(?: per second|/s)?))",
        1e3,
    ),
    ("bitrate", r"bps|bits?(?:/s| per second)", 1e-3),
    ("bytes", r"[kK](?:B/s|Bps|(?:ilo)?bytes?(?:/s| per second))", 8.0),
    ("bytes", r"[mM](?:B/s|Bps|(?:ega)?bytes?(?:/s| per second))", 8e3),
    ("hertz", r"kHz|khz|KHz", 1e3),
    ("hertz", r"[Hh]z", 1.0),
    ("frames", r"frames?", 1.0),
    ("seconds", r"s(?:ec(?:ond)?s?)?\.?|seconds?", 1.0),
    ("lines", r"[pP](?:x|ixels?)?", 1.0),
)
_UNIT = "|".join(f"(?P<u{n}>{unit})" for n, (_, unit, _) in enumerate(_UNITS))
_QUANTITY = re.compile(
    rf"(?<![A-Za-z0-9.,:x×])(?P<low>{_NUMBER})(?:\s?(?P<lowunit>[kKmM]?[A-Za-z/]{{1,6}})?\s?(?:-|–|—|\bto\b)\s?"
    rf"(?P<high>{_NUMBER}))?(?:\s?-?(?:{_UNIT})(?![A-Za-z0-9]))?(?![0-9x×]|:[0-9])"
)
PLAUSIBLE: dict[Dimension, tuple[float, float]] = {
    "bitrate": (32.0, 300_000.0),
    "seconds": (0.1, 30.0),
    "fps": (5.0, 300.0),
    "hertz": (8_000.0, 192_000.0),
    "frames": (1.0, 1_000.0),
}
"""What a guideline page can mean."""
_BOUNDS: tuple[tuple[Bound, str], ...] = (
    (
        "max",
        r"\bat (?:the )?most\b|\bat the latest\b|\bmax(?:imum|\.)?\b|\bup to\b|\bhighest\b|≤|"
        r"\b(?:no|not) (?:more|higher|longer|larger|greater|faster) than\b|\bupper limit\b|"
        r"\b(?:(?:must|should|may) )?(?:not|never) exceed(?:ing|s)?\b|\blimit(?:ed to)?\b|"
        r"\bceiling\b|\bor (?:less|lower|below)\b|\bcap(?:ped at)?\b|\blargest\b",
    ),
    (
        "min",
        r"\bat (?:the )?least\b|\bmin(?:imum|\.)?\b|\bor (?:more|higher|above)\b|\blowest\b|≥|"
        r"\b(?:no|not) (?:less|lower|shorter|smaller|slower) than\b|\blower limit\b|\bfloor\b",
    ),
    (
        "recommended",
        r"\brecommend\w*|\bsuggest\w*|\bideal(?:ly)?\b|\boptimal\b|\btarget\b|\badvise\w*|"
        r"\bprefer\w*|\bbest\b|\btypical(?:ly)?\b|\busual(?:ly)?\b",
    ),
)
_PARTS = re.compile(r"[;()]|,(?=\s)|\s[-–—]\s(?=[A-Za-z])|\band\b|\bbut\b|(?<=[a-z0-9)])\.(?=\s|$)")


@dataclass(frozen=True, slots=True)
class Quantity:
    """A number or a range with its unit; rates are in kbit/s, the rest in the unit's base."""

    dimension: Dimension
    low: float
    high: float | None
    at: int
    """Where in the text it begins."""
    doubtful: bool = False
    """Whether it can be read in two ways."""


def rate_text(kbps: float) -> str:
    """A bitrate as a guide has it: ``6000 kbit/s``."""
    return f"{kbps:.10g} kbit/s"


def bounds_in(text: str) -> set[Bound]:
    """Which limits the words of a text speak of."""
    return {bound for bound, words in _BOUNDS if re.search(words, text, re.IGNORECASE)}


def without_bounds(text: str) -> str:
    """A text without the words for limits, some of which look like denials."""
    for _, words in _BOUNDS:
        text = re.sub(words, " ", text, flags=re.IGNORECASE)
    return text


def parts_of(text: str) -> list[str]:
    """Parts of a sentence that hold one statement each."""
    plain = re.sub(r"(?i)\b(max|min|approx|rec|incl)\.(?=\s)", r"\1", text)
    return [part for piece in _PARTS.split(plain) if (part := piece.strip())]


def quantities(text: str, unit: str = "") -> list[Quantity]:
    """Every quantity a text names.

    Args:
        unit: of numbers that stand alone, as a heading has it.
    """
    found = []
    for match in _QUANTITY.finditer(text):
        number = next((n for n in range(len(_UNITS)) if match[f"u{n}"] is not None), None)
        dimension, factor = dimension_of(unit)
        if number is not None:
            dimension, _, factor = _UNITS[number]
        found.append(_quantity(match, dimension, factor))
    return found


def dimension_of(unit: str) -> tuple[Dimension, float]:
    """What a unit alone measures, and what one of it is in the dimension's base."""
    for dimension, pattern, factor in _UNITS:
        if re.fullmatch(pattern, unit):
            return dimension, factor
    return "none", 1.0


def unit_in(text: str) -> str:
    """The unit that a heading names for its numbers: ``Bitrate (Mbit/s)``; empty for none."""
    for word in re.findall(r"[A-Za-z]+(?:/[A-Za-z]+)?", text):
        if len(word) > 1 and dimension_of(word)[0] in ("bitrate", "bytes", "fps", "hertz"):
            return str(word)
    return ""


def _quantity(match: re.Match[str], dimension: Dimension, factor: float) -> Quantity:
    low, high = readings(match["low"]), readings(match["high"] or "0")
    least, most = PLAUSIBLE.get(dimension, (0.0, 1e12))
    whole = dimension == "bitrate" and factor == 1  # nobody writes fractions of a kbit/s
    odd = match["lowunit"] is not None and dimension_of(match["lowunit"]) != (dimension, factor)
    pairs = [
        (a * factor, b * factor)
        for a, b in product(low, high)
        if least <= a * factor <= most
        and not (whole and (a % 1 or b % 1))
        and (match["high"] is None or (a < b and least <= b * factor <= most))
    ]
    (first, last), *more = pairs or [(low[0] * factor, high[0] * factor)]
    return Quantity(
        dimension,
        first,
        last if match["high"] else None,
        match.start(),
        bool(more) or not pairs or odd,
    )


def readings(number: str) -> list[float]:
    """Every value that a written number can mean, the likelier first."""
    marks = {mark for mark in " '’\u00a0\u202f" if mark in number}
    plain = number
    for mark in marks:
        plain = plain.replace(mark, "")
    if "," in plain and "." in plain:  # the last one is the decimal mark
        last = max(plain.rfind(","), plain.rfind("."))
        return [float(re.sub(r"[.,]", "", plain[:last]) + "." + plain[last + 1 :])]
    pieces = re.split(r"[.,]", plain)
    if len(pieces) == 1:
        return [float(plain)]
    whole = float("".join(pieces))
    if len(pieces) > 2 or (marks and len(pieces[-1]) == 3):
        return [whole]
    decimal = float(".".join(pieces))
    return [decimal] if len(pieces[1]) != 3 or pieces[0] == "0" else [whole, decimal]
