"""Amounts in the words of a guideline page: numbers, units, ranges and what bounds them.

Every character of a text is accounted for: it is part of an amount, of words that bound one
(``up to``, ``recommended``), of words that say nothing here, or it is left over, and then whoever
reads it has to ask.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from itertools import pairwise, product
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from eager_kestrel.core.guide.page import Bound

Kind = Literal["bitrate", "time", "rate", "samples", "count"]
Plausible = tuple[float, float]

VIDEO_KBPS: Plausible = (64.0, 400_000.0)
AUDIO_KBPS: Plausible = (8.0, 1_000.0)
SECONDS: Plausible = (0.2, 20.0)
"""What these can be on a guideline page; anything else has another unit."""

_SPACE = " \u00a0\u202f\u2009"
_NUMBER = rf"[0-9]{{1,3}}(?:[{_SPACE}][0-9]{{3}})+(?![0-9])(?:[.,][0-9]+)?|[0-9]+(?:[.,'’][0-9]+)*"
_UNITS: dict[Kind, str] = {
    "bitrate": r"(?:kilo|mega|[kKmM])\s?-?(?:[bB]its?|BITS?|[bB]ytes?|[bB])?"
    r"(?:\s?(?:/|[pP]er\s)\s?[sS](?:ec(?:ond)?s?)?|[pP][sS])?(?![a-zA-Z])",
    "time": r"(?:s|secs?|seconds?|sek|frames?|ms)(?![a-zA-Z])",
    "rate": r"(?:fps|hz|p(?![a-z])|frames?(?:\s?(?:/|per\s)\s?s(?:ec(?:ond)?)?)?)(?![a-zA-Z])",
    "samples": r"k?hz(?![a-zA-Z])",
    "count": r"(?!)",
}
_BOUND_WORDS: tuple[tuple[Bound, str], ...] = (
    ("ceiling", r"no more than|not more than|(?:do |must |should )?not (?:to )?"
     r"(?:exceed(?:ing)?|go (?:above|over))|"
     r"(?:don'?t|never) (?:exceed|go (?:above|over))|not above|or (?:less|lower|below|fewer)|"
     r"up to|at most|max(?:imum)?\.?|highest|upper limit|limit(?:ed to)?|ceiling|peak|under|"
     r"below|cap(?:ped at)?|[<≤]=?"),
    ("floor", r"no less than|not less than|or (?:more|higher|above)|at least|min(?:imum)?\.?|"
     r"lowest|least|lower limit|[>≥]=?|\+"),
    ("advised", r"recommend(?:ed|ation|s)?|advised?|ideal(?:ly)?|target|suggest(?:ed)?|optimal|"
     r"optimum|best|prefer(?:red|ably)?|we like|typical(?:ly)?|average|about|around|[~≈]|default"),
)  # fmt: skip
_FROM = r"from|between"
_CONNECT = r"[-–—]|\bto\b|until|\.\.+"
_BREAK = r"[,;()\[\]/|\n:.]|\band\b|\bor\b|&"
_FILLERS = """
    a an the of for is are be it its at in on by with to set use using please we you your should
    must can will video stream streams streaming bitrate rate bit bits per second value values
    every each interval keyframe keyframes key frame frames and or as this that these
"""
FILLERS = frozenset(_FILLERS.split())


@dataclass(frozen=True, slots=True)
class Amount:
    """One amount, or the two ends of a range."""

    low: float
    high: float | None = None
    bound: Bound | None = None
    unit: str = ""
    """As written."""
    text: str = ""

    @property
    def ends(self) -> tuple[float, ...]:
        """One or two values, ascending."""
        return (self.low,) if self.high is None else (self.low, self.high)


@dataclass
class Reading:
    """Everything in a text."""

    amounts: list[Amount] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    """Words and signs that were not understood."""
    unsure: list[str] = field(default_factory=list)
    """Numbers that may mean two things, in words."""
    no_unit: bool = False

    @property
    def whole(self) -> bool:
        """Whether nothing is left and nothing is unsure."""
        return not self.left and not self.unsure and not self.no_unit


@dataclass(frozen=True, slots=True)
class _Token:
    kind: str
    text: str
    unit: str = ""
    bound: Bound | None = None


def _tokens(text: str, kind: Kind) -> list[_Token]:
    number = rf"(?P<number>{_NUMBER})(?:[{_SPACE}-]?(?P<unit>{_UNITS[kind]}))?"
    bounds = "|".join(rf"(?P<{name}>(?<![a-z]){words}(?![a-z]))" for name, words in _BOUND_WORDS)
    pattern = re.compile(
        rf"{number}|{bounds}|(?P<from>\b(?:{_FROM})\b)|(?P<connect>{_CONNECT})|(?P<break>{_BREAK})"
        r"|(?P<word>[^\W\d_][\w'’-]*)|(?P<space>\s+)|(?P<other>.)",
        re.IGNORECASE,
    )
    found = []
    for match in pattern.finditer(text):
        name = match.lastgroup if match["number"] is None else "number"
        if name == "space" or name is None:
            continue
        if name in ("floor", "advised", "ceiling"):
            bound = next(b for b, _ in _BOUND_WORDS if b == name)
            found.append(_Token("bound", match[0], bound=bound))
        elif name == "number":
            found.append(_Token("number", match["number"], unit=(match["unit"] or "").strip()))
        else:
            found.append(_Token(name, match[0]))
    return found


def values_of(number: str) -> list[float]:
    """What a written number may be: ``4.5`` is one, ``51.000`` may be 51 or 51,000."""
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


def bitrate_factor(unit: str) -> float | None:
    """How many kbit/s one of a written unit is; None where bits and bytes cannot be told apart."""
    factor = 1000.0 if unit[0] in "mM" else 1.0
    body = re.sub(r"(?i)^(?:kilo|mega|[km])\s?-?", "", unit)
    if re.match(r"(?i)byte", body):
        return factor * 8
    if not body.startswith("B") or re.match(r"(?i)bit", body):
        return factor
    if re.search(r"P?S$", body):  # KBPS, MB/S: shouted, so the B says nothing
        return None
    return factor * 8


def read_amounts(
    text: str,
    kind: Kind,
    outside: str = "",
    plausible: Plausible = (0.0, float("inf")),
    fillers: frozenset[str] = FILLERS,
) -> Reading:
    """Every amount of one kind in a text.

    Args:
        text: a cell or a sentence.
        kind: of amount; bitrates come back in kbit/s, all else as written with its unit.
        outside: the unit of numbers that carry none, from a heading or an answer.
        plausible: what an amount can be; decides what ``4.500`` means.
        fillers: lower-case words that say nothing here.
    """
    done = Reading()
    for clause in _clauses(_tokens(text, kind)):
        _read_clause(done, clause, kind, outside, plausible, fillers)
    return done


def _clauses(tokens: list[_Token]) -> list[list[_Token]]:
    """Parts between commas and the like, but ``between 2 and 4`` and ``4.5 / 9`` as they stand."""
    found: list[list[_Token]] = [[]]
    for index, token in enumerate(tokens):
        if token.kind != "break":
            found[-1].append(token)
            continue
        waiting = [t for t in found[-1] if t.kind == "number"]
        opened = any(t.kind == "from" for t in found[-1])
        numbered = index + 1 < len(tokens) and tokens[index + 1].kind == "number"
        if token.text.lower() == "and" and opened and len(waiting) == 1 and numbered:
            found[-1].append(_Token("connect", token.text))
        else:
            found.append([])
    return [clause for clause in found if clause]


def _read_clause(
    done: Reading,
    clause: list[_Token],
    kind: Kind,
    outside: str,
    plausible: Plausible,
    fillers: frozenset[str],
) -> None:
    numbers = [t for t in clause if t.kind == "number"]
    bounds = list(dict.fromkeys(t.bound for t in clause if t.bound is not None))
    ranged = len(numbers) == 2 and any(
        a.kind == "number" and b.kind == "connect" and c.kind == "number"
        for (a, b), (_, c) in pairwise(pairwise(clause))
    )
    done.left += [t.text for t in clause if t.kind in ("word", "other")
                  and t.text.lower() not in fillers]  # fmt: skip
    done.left += [t.text for t in clause if t.kind == "connect" and not ranged
                  and t.text.lower() != "to"]  # fmt: skip
    if not numbers:
        if bounds:
            _bound_of_last(done, bounds)
        return
    if len(numbers) > 1 and not ranged:
        done.left += [f"{n.text}{n.unit}" for n in numbers[1:]]
        numbers = numbers[:1]
    if len(bounds) > 1:
        done.unsure.append(" ".join(t.text for t in clause))
    units = [n.unit for n in numbers]
    units = [unit or units[-1] or outside for unit in units]
    if kind == "bitrate" and not all(units):
        done.no_unit = True
        return
    shown = " ".join(t.text + (f" {t.unit}" if t.unit else "") for t in clause)
    ends = _meant(done, [n.text for n in numbers], units, kind, plausible, shown)
    if ends:
        bound = bounds[0] if len(bounds) == 1 else None
        high = max(ends) if ranged else None
        done.amounts.append(Amount(min(ends), high, bound, units[-1], shown))


def _bound_of_last(done: Reading, bounds: list[Bound]) -> None:
    """``6,000 kbit/s (recommended)``: words in brackets after an amount bound it."""
    if len(bounds) != 1 or not done.amounts or done.amounts[-1].bound not in (None, bounds[0]):
        done.left += [f'"{bound}" of nothing' for bound in bounds]
        return
    last = done.amounts[-1]
    done.amounts[-1] = Amount(last.low, last.high, bounds[0], last.unit, last.text)


def _meant(
    done: Reading, numbers: list[str], units: list[str], kind: Kind, plausible: Plausible, text: str
) -> list[float]:
    """The one plausible meaning of the numbers of a clause; none, with a remark, if unsure."""
    factors = [1.0] * len(numbers)
    if kind == "bitrate":
        known = [bitrate_factor(unit) for unit in units]
        if None in known:
            done.unsure.append(f'"{text}" may mean bits or bytes')
            return []
        factors = [factor for factor in known if factor is not None]
    low, high = plausible
    possible = [
        [value * factor for value in values_of(number) if low <= value * factor <= high]
        for number, factor in zip(numbers, factors, strict=True)
    ]
    ways = [list(way) for way in product(*possible)]
    if len(ways) == 1 or (len(ways) > 1 and all(len(set(p)) == 1 for p in possible)):
        return ways[0]
    said = "may mean two amounts" if ways else "is no likely amount; check its unit"
    done.unsure.append(f'"{text}" {said}')
    return []
