"""Pictures, frame rates, codecs, keyframes and audio in the words of a guideline page.

Each reader returns what it understood and what of the text is left over; see
:mod:`eager_kestrel.core.guide.amounts` for amounts.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, TypeVar

from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.amounts import SECONDS, Reading, read_amounts
from eager_kestrel.core.guide.rules import AudioCodec, Codec, Keyframes
from eager_kestrel.core.picture import Picture, Shape, parse_frame_rate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.page import Bound

T = TypeVar("T")

_EXACT = re.compile(r"([0-9]{3,5})\s*(?:px)?\s*[x×*X]\s*([0-9]{3,5})\s*(?:px|pixels)?(?![0-9])")
_LINES = re.compile(
    r"(?<![0-9.])([0-9]{3,4})\s*(?:p|i|lines)(?![a-z])"
    r"\s*(?:[@/]?\s*([0-9]{2,3}(?:\.[0-9]+)?)(?![0-9]))?",
    re.IGNORECASE,
)
_NAMES = {"8k": 4320, "4k": 2160, "uhd": 2160, "ultra hd": 2160, "qhd": 1440, "2k": 1440,
          "full hd": 1080, "fhd": 1080, "hd": 720, "sd": 480}  # fmt: skip
_NAME = re.compile(rf"(?i)\b(?:{'|'.join(sorted(_NAMES, key=len, reverse=True))})\b")
_UPRIGHT = re.compile(r"(?i)\b(?:vertical|upright|portrait)\b")
_LYING = re.compile(r"(?i)\b(?:horizontal|landscape|widescreen)\b")
_FPS = re.compile(
    r"(?i)@?\s*(?<![0-9.])([0-9]{2,3}(?:\.[0-9]+)?)\s*(?:fps|hz|frames(?:\s?(?:/|per\s)\s?s\w*)?)(?![a-z])"
)
_EMPTY_WORDS = re.compile(
    r"(?i)\b(?:at|up to|max(?:imum)?|resolution|picture|video|quality|or|pixels|the|and)\b"
    r"|[()@,/:|·•=-]"
)
_CODEC_NAMES: tuple[tuple[Codec, str], ...] = (
    ("h264", r"h\.?\s?264(?:\s*/?\s*\(?avc\)?)?|avc|x264"),
    ("hevc", r"h\.?\s?265(?:\s*/?\s*\(?hevc\)?)?|hevc(?:\s*/?\s*\(?h\.?265\)?)?|x265"),
    ("av1", r"av1"),
)
_AUDIO_NAMES: tuple[tuple[AudioCodec, str], ...] = (
    ("aac", r"(?:he-?)?aac(?:-?lc)?"), ("opus", r"opus"), ("mp3", r"mp3"),
)  # fmt: skip
MOST_SECONDS = 12.0
"""A bare keyframe interval above this is in frames: nobody waits so long for a keyframe."""


def codecs_in(text: str) -> tuple[tuple[Codec, ...], str]:
    """Video codecs that are named, in order of the list, and the rest of the text."""
    return _named(_CODEC_NAMES, text)


def audio_codecs_in(text: str) -> tuple[tuple[AudioCodec, ...], str]:
    """Audio codecs that are named, and the rest of the text."""
    return _named(_AUDIO_NAMES, text)


def _named(names: tuple[tuple[T, str], ...], text: str) -> tuple[tuple[T, ...], str]:
    found: list[T] = []
    for name, pattern in names:
        text, count = re.subn(rf"(?i)(?<![a-z0-9]){pattern}(?![a-z0-9])", " ", text)
        if count:
            found.append(name)
    return tuple(found), text


@dataclass(frozen=True, slots=True)
class PictureRead:
    """A picture as it stands in a cell."""

    picture: Picture
    frame_rate: str
    """Written with it, or empty."""
    left: str


def picture_in(text: str, shape: str) -> PictureRead | None:
    """The picture of a cell: both sides where they are given, else lines, else a customary name.

    Args:
        text: of the cell.
        shape: of pictures given by their lines.
    """
    rest, fps = text, ""
    if (match := _FPS.search(rest)) is not None:
        fps, rest = match[1], rest[: match.start()] + " " + rest[match.end() :]
    exact, lines = _EXACT.search(rest), _LINES.search(rest)
    named = next(iter(_NAME.findall(rest)), None)
    upright = _UPRIGHT.search(rest) is not None
    if lines is not None and lines[2] and not fps:
        fps = lines[2]
    count = int(lines[1]) if lines else _NAMES[named.lower()] if named else 0
    if exact is not None:
        picture = Picture(int(exact[1]), int(exact[2]))
    elif 100 <= count <= 8640:
        picture = _of_lines(count, Shape.parse(shape), upright=upright)
    else:
        return None
    for pattern in (_EXACT, _LINES, _NAME, _UPRIGHT, _LYING):
        rest = pattern.sub(" ", rest)
    left = _EMPTY_WORDS.sub(" ", rest).split()
    if exact is not None and lines is not None and int(lines[1]) not in (
        picture.width, picture.height
    ):  # fmt: skip
        left.append(lines[0])  # 1600x900 is not 1080p
    return PictureRead(picture, fps, " ".join(left))


def _of_lines(count: int, shape: Shape, *, upright: bool) -> Picture:
    if upright and shape.across > shape.down:
        shape = Shape(shape.down, shape.across)
    if shape.across >= shape.down:
        return Picture(round(count * shape.across / shape.down / 2) * 2, count)
    return Picture(count, round(count * shape.down / shape.across / 2) * 2)


@dataclass(frozen=True, slots=True)
class RatesRead:
    """Frame rates as they stand in a cell or sentence, fastest last."""

    fastest: Fraction
    advised: Fraction | None
    listed: tuple[Fraction, ...]
    """All that are named, without a bound."""


_RATE_FILLERS = """
    fps frame frames rate rates per second a of the or and is are use set to at any video sec hz
    your should be must match matching source please we accept take takes supported for
"""
RATE_FILLERS = frozenset(_RATE_FILLERS.split())


def rates_in(text: str) -> tuple[RatesRead | None, Reading]:
    """Frame rates: ``30 or 60``, ``up to 60``, ``24-60``, ``60 max, 30 recommended``."""
    reading = read_amounts(text, "rate", plausible=(5.0, 240.0), fillers=RATE_FILLERS)
    try:
        ends = [(a, parse_frame_rate(f"{end:g}")) for a in reading.amounts for end in a.ends]
    except UnitError as error:
        reading.unsure.append(error.line())
        return None, reading
    if not ends:
        return None, reading
    wish = next((rate for a, rate in reversed(ends) if a.bound == "advised"), None)
    if any(a.bound == "floor" for a, _ in ends):
        reading.unsure.append(f'"{text}" gives a least frame rate, for which there is no key')
    listed = tuple(sorted({rate for a, rate in ends if a.bound is None and a.high is None}))
    return RatesRead(max(rate for _, rate in ends), wish, listed), reading


_KEYFRAME_FILLERS = """
    keyframe keyframes key frame interval gop size group pictures i-frame i-frames iframe every
    a an the of is be set to at use should must please your each one all we keep it distance
    between with send insert and in length
"""
KEYFRAME_FILLERS = frozenset(_KEYFRAME_FILLERS.split())


def keyframes_in(
    text: str, heading: str, fps: Fraction | None
) -> tuple[dict[str, float] | None, Reading]:
    """A keyframe rule by key (``exactly``, ``at_least``, ``at_most``, ``advised``), in seconds.

    Args:
        text: a cell or a sentence.
        heading: over the cell, which may give the unit.
        fps: frames a second of the row, to turn frames into seconds.
    """
    unit = re.search(
        r"(?i)\b(?:seconds?|secs?|s|frames)\b", re.sub(r"(?i)key ?frames?", "", heading)
    )
    reading = read_amounts(text, "time", unit[0] if unit else "", fillers=KEYFRAME_FILLERS)
    reading.left = [left for left in reading.left if left.lower() not in ("s", "sec")]
    rule: dict[str, float] = {}
    for amount in reading.amounts:
        ends = [_seconds(end, amount.unit, fps) for end in amount.ends]
        known = [end for end in ends if end is not None and SECONDS[0] <= end <= SECONDS[1]]
        if len(known) < len(ends):
            reading.unsure.append(f'"{amount.text}" is no interval in seconds that is known')
            return None, reading
        rule |= _interval_rule(known, amount.bound)
    if len(rule) > 1 and "exactly" in rule:
        rule["advised" if "advised" not in rule else "at_most"] = rule.pop("exactly")
    return rule or None, reading


def _interval_rule(ends: list[float], bound: Bound | None) -> dict[str, float]:
    if len(ends) == 2:
        if bound == "advised":
            return {"advised": ends[1]}
        return {"at_least": ends[0], "at_most": ends[1]}
    keys = {"ceiling": "at_most", "floor": "at_least", "advised": "advised", None: "exactly"}
    return {keys[bound]: ends[0]}


def _seconds(value: float, unit: str, fps: Fraction | None) -> float | None:
    plain = unit.lower()
    if plain == "ms":
        return value / 1000
    if plain.startswith("frame") or (not plain and value > MOST_SECONDS):
        return None if fps is None else round(float(value / fps), 3)
    return value


def rule_of(found: dict[str, float]) -> Keyframes:
    """The rule of a guide from what was read.

    Raises:
        ValueError: it contradicts itself.
    """
    return Keyframes(**found)
