"""What the columns of a guideline table hold; each heading is understood whole, or told."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.guide.page import Role, Taken, Understood
from eager_kestrel.core.guide.phrases import codecs_in
from eager_kestrel.core.picture import parse_frame_rate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import Codec

_UPLOAD = re.compile(r"(?i)\bupload|\binternet|\bconnection|\bline speed|\bnetwork")
ROLES_BY_WORD: tuple[tuple[Role, re.Pattern[str]], ...] = (
    ("audio", re.compile(r"audio|sound")),
    ("keyframes", re.compile(r"key ?-?frames?|gop|i-?frame")),
    ("standing", re.compile(r"account|standing|tier|status|membership|\bwho\b")),
    ("frame_rate", re.compile(r"frame ?-?rate|\bfps\b|frames")),
    ("picture", re.compile(r"resolution|picture|size|quality|format|dimension|video mode|^video$")),
    ("codec", re.compile(r"codec|encoder|encoding(?! bit)")),
    ("floor", re.compile(r"\bmin|lowest|least|at least|\bfrom\b")),
    ("ceiling", re.compile(r"\bmax|highest|most|limit|up to|ceiling|\bto\b|\bpeak")),
    ("advised", re.compile(r"recommend|advised|ideal|target|suggest|optimal|best|average")),
    ("bitrate", re.compile(r"bit ?-?rate|kbps|mbps|kbit|mbit|range|data rate|bandwidth")),
)
UNIT = re.compile(r"(?i)\b(?:k|m|kilo|mega)(?:bits?|bytes?|b)(?:\s?/\s?s(?:ec)?|ps)?\b")
_FPS = re.compile(
    r"(?i)@?\s*\b([0-9]{2,3}(?:\.[0-9]+)?)\s*(?:fps|hz|frames(?:\s?/\s?s)?|p)?(?![0-9a-z])"
)
TOTAL = re.compile(
    r"(?i)\b(?:total|incl(?:uding|usive|\.)?(?: of)?|with|and|plus|\+)\s*audio\b|\btotal\b"
)
_HEADING_WORDS = """
    video picture resolution size quality format dimension dimensions mode bitrate bit rate data
    bandwidth range in per second s sec the of for frame frames rate fps at audio sound codec
    encoder encoding keyframe keyframes key interval gop i-frame account standing tier status
    membership who is a and or value kind type stream live frequency hz name distance to from
    minimum min maximum max recommended recommendation target peak ideal suggested optimal best
    average highest lowest least most limit ceiling up at seconds secs setting between
"""
HEADING_WORDS = frozenset(_HEADING_WORDS.split())
BITRATE_ROLES: tuple[Role, ...] = ("floor", "advised", "ceiling", "bitrate")


@dataclass(frozen=True, slots=True)
class Column:
    """What a column holds."""

    heading: str
    role: Role
    unit: str = ""
    frame_rate: Fraction | None = None
    codec: Codec | None = None
    total: bool = False
    """Whether its bitrates include audio."""


def role_by_word(heading: str) -> Role | None:
    """What a heading says of its column; None where it says nothing."""
    plain = heading.lower()
    for role, pattern in ROLES_BY_WORD:
        if pattern.search(plain):
            return role
    return None


def column_of(heading: str, said: Role | None, done: Understood) -> Column:
    """What a column holds by its heading; what is left of the heading is told."""
    rest = heading
    if said == "left out":
        return Column(heading, "left out")
    if said is None and _UPLOAD.search(heading):
        done.taken.append(Taken(f'column "{heading}"', "", "the line, not the stream: left out",
                                heading))  # fmt: skip
        return Column(heading, "left out")
    total = TOTAL.search(rest) is not None
    rest = TOTAL.sub(" ", rest)
    role = said or role_by_word(rest)
    unit = UNIT.search(rest)
    codecs, rest = codecs_in(UNIT.sub(" ", rest))
    fps: Fraction | None = None
    if role in (None, *BITRATE_ROLES, "frame_rate") and (match := _FPS.search(rest)):
        fps, rest = parse_frame_rate(match[1]), _FPS.sub(" ", rest, count=1)
        role = "bitrate" if role in (None, "frame_rate") else role
    if role is None and codecs:
        role = "bitrate"
    left = [
        w
        for w in re.findall(r"[^\W_][\w.'’-]*", rest)
        if w.lower().rstrip(".") not in HEADING_WORDS
    ]
    if role is None or (left and said is None):
        done.unplaced.append(f'column "{heading}": {"nothing" if role is None else "not all"} of '
                             f'it is understood{_shown(left)}')  # fmt: skip
    return Column(heading, role or "left out", unit[0] if unit else "", fps,
                  codecs[0] if len(codecs) == 1 else None, total)  # fmt: skip


def _shown(left: list[str]) -> str:
    return f" (left: {' '.join(left)})" if left else ""
