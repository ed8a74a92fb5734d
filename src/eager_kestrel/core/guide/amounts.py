"""Amounts in the words of a guideline page: numbers, units, ranges, and their qualifiers.

There is no grammar beyond that. An amount is bounded by the last bounding word before it in its
clause, or by one that follows it directly; a person confirms what is made of it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

Bound = Literal["at least", "recommended", "at most"]
Kind = Literal["bitrate", "time", "rate", "samples", "count"]

VIDEO_KBPS = (64.0, 400_000.0)
AUDIO_KBPS = (8.0, 1_000.0)
PLAUSIBLE: dict[Kind, tuple[float, float]] = {
    "bitrate": VIDEO_KBPS,
    "time": (0.2, 20.0),
    "rate": (5.0, 240.0),
    "samples": (8_000.0, 192_000.0),
    "count": (0.0, 16.0),
}
"""What these can be on a guideline page; decides what ``4.500`` means."""
MOST_SECONDS = 12.0
"""A bare keyframe interval above this is in frames: nobody waits so long for a keyframe."""

_SPACE = " \u00a0\u202f\u2009"
_WORDS = ("zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten")
_NUMBER = (
    rf"[0-9]{{1,3}}(?:[{_SPACE}'’][0-9]{{3}})+(?![0-9])(?:[.,][0-9]+)?|[0-9]+(?:[.,][0-9]+)*"
    rf"|\b(?:{'|'.join(_WORDS)})\b"
)
UNITS: dict[Kind, str] = {
    "bitrate": r"(?:kilo|mega|[kKmM])\s?-?(?:[bB]its?|BITS?|[bB]ytes?|[bB])?"
    r"(?:\s?(?:/|[pP]er\s)\s?[sS](?:ec(?:ond)?s?)?|[pP][sS])?(?![a-zA-Z])",
    "time": r"(?:ms|secs?\b|seconds?|sek|s|frames?)(?![a-zA-Z])",
    "rate": r"(?:fps|[hH]z|frames?\s?(?:/|per\s|a\s)\s?s(?:ec(?:ond)?)?|p(?![a-z]))(?![a-zA-Z])",
    "samples": r"[kK]?[hH][zZ](?![a-zA-Z])",
    "count": r"(?!)",
}
_RANGE = r"\s*(?:[-–—]|\bto\b|\band\b(?=\s*[0-9]))\s*"
_BOUNDS: tuple[tuple[Bound, str], ...] = (
    (
        "at most",
        r"no more than|not more than|no longer than|(?:not|never|n't)(?: to)? "
        r"(?:exceed\w*|go (?:above|over))|not above|up to|at most|max(?:imum)?|highest|upper limit|"
        r"limit(?:ed to)?|ceiling|peak|under|below|capped at|≤|<=?|or (?:less|lower|below|fewer)",
    ),
    (
        "at least",
        r"no less than|not less than|not (?:below|under)|at least|min(?:imum)?|lowest|"
        r"lower limit|≥|>=?|or (?:more|higher|above)",
    ),
    (
        "recommended",
        r"recommend\w*|advis\w*|ideal\w*|target|suggest\w*|optimal|optimum|best|"
        r"prefer\w*|we like|typical\w*|average|about|around|default|[~≈]",
    ),
)
_ALL_BOUNDS = re.compile(
    "|".join(f"(?P<b{n}>(?<![a-z]){words}(?![a-z]))" for n, (_, words) in enumerate(_BOUNDS)),
    re.IGNORECASE,
)
_BEHIND = re.compile(
    rf"\s*,?\s*\(?\s*(?:{_ALL_BOUNDS.pattern})\s*(?:[).,;|/]|$|\bor\b)", re.IGNORECASE
)
_NOT_BELOW = re.compile(r"(?i)not (?:below|under)|no less than|not less than")
_CLAUSE = re.compile(r"[;|]|\.(?=\s|$)|\bbut\b")


@dataclass(frozen=True, slots=True)
class Amount:
    """One amount, or the two ends of a range."""

    low: float
    high: float | None = None
    bound: Bound | None = None
    unit: str = ""
    """As written."""

    @property
    def ends(self) -> tuple[float, ...]:
        """One or two values, ascending."""
        return (self.low,) if self.high is None else (self.low, self.high)


def bound_in(text: str) -> Bound | None:
    """Return what the last bounding word of a text says, or None if it has none."""
    found = None
    for match in _ALL_BOUNDS.finditer(text):
        found = _BOUNDS[int((match.lastgroup or "b0")[1:])][0]
        if _NOT_BELOW.fullmatch(match[0]):
            found = "at least"
    return found


def without_bounds(text: str) -> str:
    """The text without bounding words, so that ``not exceed`` denies nothing."""
    return _ALL_BOUNDS.sub(" ", text)


def values_of(number: str) -> list[float]:
    """What a written number may be: ``4.5`` is one, ``51.000`` may be 51 or 51,000."""
    if number.lower() in _WORDS:
        return [float(_WORDS.index(number.lower()))]
    plain = re.sub(rf"[{_SPACE}'’]", "", number)
    marks = [c for c in plain if c in ".,"]
    if not marks:
        return [float(plain)]
    whole, _, rest = plain.rpartition(marks[-1])
    decimal = float(re.sub(r"[.,]", "", whole) + "." + rest)
    thousands = float(re.sub(r"[.,]", "", plain))
    grouped = all(len(part) == 3 for part in re.split(r"[.,]", plain)[1:])
    if len(set(marks)) == 2 or not grouped or whole == "0":
        return [decimal]
    return [thousands] if len(marks) > 1 else [thousands, decimal]


def factors_of(unit: str) -> tuple[float, ...]:
    """How many kbit/s one of a written unit is; two where bits and bytes cannot be told apart."""
    factor = 1000.0 if unit[0] in "mM" else 1.0
    body = re.sub(r"(?i)^(?:kilo|mega|[km])\s?-?", "", unit)
    if re.match(r"(?i)byte", body):
        return (factor * 8,)
    if not body.startswith("B") or re.match(r"(?i)bit", body):
        return (factor,)
    return (factor, factor * 8) if re.search(r"P?S$", body) else (factor * 8,)


def amounts_in(
    text: str, kind: Kind, unit: str = "", plausible: tuple[float, float] | None = None
) -> list[list[Amount]]:
    """Every amount of one kind in a text; of each the readings there are, the likelier first.

    Args:
        kind: of amount; bitrates come back in kbit/s, sample rates in Hz, all else as written.
        unit: of numbers that carry none; where it is empty they count as no amounts of bitrate.
        plausible: what an amount can be; else what is usual for the kind.
    """
    pattern = re.compile(
        rf"(?<![\w.,])(?P<low>{_NUMBER})(?:\s?-?(?P<u1>{UNITS[kind]}))?"
        rf"(?:{_RANGE}(?P<high>{_NUMBER})(?:\s?-?(?P<u2>{UNITS[kind]}))?)?(?![\w])",
        re.IGNORECASE if kind in ("time", "rate") else 0,
    )
    found: list[list[Amount]] = []
    text = re.sub(r"(?i)\b(max|min|approx|rec)\.", r"\1", text)
    matches = list(pattern.finditer(text))
    for number, match in enumerate(matches):
        bound = _bound_of(text, matches[number - 1].end() if number else 0, match)
        units = (match["u1"] or match["u2"] or unit, match["u2"] or match["u1"] or unit)
        readings = _readings(match, kind, units, plausible or PLAUSIBLE[kind])
        if readings:
            found.append(
                [Amount(min(r), max(r) if len(r) > 1 else None, bound, units[0]) for r in readings]
            )
    return found


def _bound_of(text: str, begin: int, match: re.Match[str]) -> Bound | None:
    """What bounds an amount: words right behind it, as ``(recommended)``, else words before it."""
    behind = _BEHIND.match(text, match.end())
    if behind is not None:
        return bound_in(behind[0])
    of_the_last = _BEHIND.match(text, begin) if begin else None
    if of_the_last is not None and of_the_last.end() <= match.start():
        begin = of_the_last.end()
    return bound_in(_CLAUSE.split(text[begin : match.start()])[-1])


def _readings(
    match: re.Match[str], kind: Kind, units: tuple[str, str], plausible: tuple[float, float]
) -> list[tuple[float, ...]]:
    """What the numbers of a match may be."""
    if kind == "bitrate" and not units[0]:
        return []
    low, high = plausible
    pairs = [(n, u) for n, u in zip((match["low"], match["high"]), units, strict=True) if n]
    known = [factors_of(u) if kind == "bitrate" else (_factor(kind, u),) for _, u in pairs]
    found = []
    for factors in zip(*known, strict=False):
        ways = [[v * f for v in values_of(n)] for (n, _), f in zip(pairs, factors, strict=True)]
        if kind != "time" or (units[0] and not units[0].lower().startswith("frame")):
            ways = [[v for v in way if low <= v <= high] for way in ways]
        if all(ways):
            found += [tuple(way) for way in zip(*ways, strict=False)]
    return list(dict.fromkeys(found))


def _factor(kind: Kind, unit: str) -> float:
    if kind == "samples":
        return 1000.0 if unit.lower().startswith("k") else 1.0
    if kind == "time" and unit.lower() == "ms":
        return 0.001
    return 1.0


@dataclass(frozen=True, slots=True)
class Grid:
    """A table with every span written out, so that all rows are as wide."""

    rows: tuple[tuple[str, ...], ...]
    headings: int = 1
    """Rows at the top that name the columns."""
    title: str = ""
    """Its caption and the heading it stands under."""


@dataclass(frozen=True, slots=True)
class Page:
    """A guideline page."""

    grids: tuple[Grid, ...] = ()
    lines: tuple[str, ...] = ()
    """Sentences, list items and ``Key: value`` lines outside of tables."""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A value for one key of a guide, and the words of the page it came from."""

    key: str
    value: str
    """As a person would type it; :mod:`eager_kestrel.core.guide.questions` reads it."""
    text: str
    doubt: str = ""
    """Why nobody should take it unseen; empty where the words say it plainly."""
    quoted: bool = True
    """Whether the words stand on the page, and not in answers given before."""
