"""Candidates: the resolutions and frame rates to score for a source and a guide.

Resolutions have the wanted shape and sides divisible by 8, so that no encoder pads them (for 16:9
these are multiples of 128x72), plus common ones and those the guide names. Frame rates that divide
the source's are smooth: dropping every other frame is, dropping one in five is not.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction
from math import gcd, lcm
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import InputError
from eager_kestrel.core.resolution import (
    CUSTOMARY_LINES,
    AspectRatio,
    Resolution,
    at_1000_1001,
    divides_evenly,
    frame_rate_text,
    other_name,
)
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import VideoRules
    from eager_kestrel.core.show.show import Show

SMALLEST_PIXELS = 256 * 144
MOST_ENLARGED = 2
"""Times the lines of the source, if a platform rewards more; beyond that it is only blur."""
CLOSE = Fraction(2, 1000)
"""Frame rates this near have one name: 30 and 29.97."""
JUDDER = 0.005
"""Of the quality at most that uneven steps cost from a source of 60 frames a second, in proportion
to how long its frames last: a guess, small enough that the faster of two rates is kept."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A resolution at a frame rate."""

    resolution: Resolution
    frame_rate: Fraction
    even: bool
    """Whether the source's frames go into it in equal steps."""


def even_ladder(shape: AspectRatio, largest: Resolution) -> list[Resolution]:
    """Resolutions of exactly this shape, sides divisible by 8, from small to ``largest``."""
    step = lcm(8 // gcd(shape.across, 8), 8 // gcd(shape.down, 8))
    width, height = shape.across * step, shape.down * step
    count = min(largest.width // width, largest.height // height)
    ladder = [Resolution(width * n, height * n) for n in range(1, count + 1)]
    return [p for p in ladder if p.pixels >= SMALLEST_PIXELS]


def customary_resolutions(shape: AspectRatio, largest: Resolution) -> list[Resolution]:
    """Those of customary lines, from small to ``largest``, with sides divisible by 8.

    For 16:9 with 480 lines that is 848x480; 540 and 900 lines are not divisible.
    """
    made = [shape.with_lines(lines) for lines in CUSTOMARY_LINES if lines % 8 == 0]
    found = [Resolution(p.width // 8 * 8, p.height // 8 * 8) for p in made]
    return [p for p in found if p.pixels >= SMALLEST_PIXELS and p.within(largest) and shape.fits(p)]


def nearest_shape(source: Resolution, allowed: Iterable[AspectRatio]) -> AspectRatio:
    """The source's own shape where it is allowed or nothing is said, else the nearest to it."""
    own = source.width / source.height
    return min(allowed, key=lambda s: abs(s.across / s.down - own), default=source.shape)


def frame_rates(source: Fraction, rules: VideoRules) -> list[tuple[Fraction, bool]]:
    """Rates worth weighing for a source, each with whether it divides the source's, fastest first.

    All that divide it; the fastest that is taken, and its half, where they do not; and where
    nothing as slow as the source is taken, the slowest that it goes into evenly. A source of the
    1000/1001 family stays in it.
    """
    allowed = {*rules.taken_rates}
    if source.denominator % 1001 == 0:
        allowed |= {at_1000_1001(rate) for rate in rules.taken_rates if rate.denominator == 1}
    if rules.takes_rate(source):
        allowed.add(source)
    possible = {rate for rate in allowed if rate <= source * (1 + CLOSE)}
    if not possible:  # frames are sent more than once
        evenly = [rate for rate in allowed if divides_evenly(source, rate)]
        times = min((round(rate / source) for rate in evenly), default=0)
        nearest = min(evenly, key=lambda rate: abs(rate - times * source), default=min(allowed))
        return [(nearest, bool(evenly))]
    even = {rate for rate in possible if divides_evenly(source, rate)}
    exact = {rate for rate in even if (source / rate).denominator == 1}
    even = exact or even
    fastest = max(possible)
    if fastest <= max(even, default=Fraction(0)) * (1 + CLOSE):  # 24 is no faster than 23.976
        return [(rate, True) for rate in sorted(even, reverse=True)]
    uneven = {rate for rate in (fastest, fastest / 2) if rate in possible}
    return [(rate, rate in even) for rate in sorted(even | uneven, reverse=True)]


def candidates(
    source: Resolution,
    source_rate: Fraction,
    rules: VideoRules,
    rows: Iterable[Resolution],
    rewarded_from_lines: int | None = None,
) -> list[Candidate]:
    """Every resolution and frame rate worth weighing, smallest resolution first.

    Args:
        source_rate: frames a second of the source.
        rows: resolutions of the guide's bitrates; taken where they have the shape.
    """
    shape = nearest_shape(source, rules.shapes or [p.shape for p in rules.resolutions])
    largest = rules.max_resolution
    bound = Resolution(min(source.width, largest.width), min(source.height, largest.height))
    if rules.resolutions:
        resolutions = _named(shape, source, bound, rules.resolutions)
    else:
        fitting = [p for p in (*rows, bound) if shape.fits(p) and p.within(bound)]
        resolutions = {*even_ladder(shape, bound), *(p for p in fitting if _even(p))}
        lines = {p.lines for p in resolutions}
        resolutions |= {p for p in customary_resolutions(shape, bound) if p.lines not in lines}
    if rewarded_from_lines is not None and bound.lines < rewarded_from_lines:
        larger = [*even_ladder(shape, largest), *(p for p in rows if shape.fits(p))]
        rewarded = [
            p for p in larger if rewarded_from_lines <= p.lines <= MOST_ENLARGED * source.lines
        ]
        if rewarded and not rules.resolutions:
            resolutions.add(min(rewarded, key=lambda p: p.pixels))
    rates = frame_rates(source_rate, rules)
    ordered = sorted(resolutions, key=lambda p: (p.pixels, p.width))
    return [Candidate(p, rate, even) for p in ordered for rate, even in rates]


def pinned(found: list[Candidate], show: Show, rules: VideoRules, platform: str) -> list[Candidate]:
    """Candidates as somebody insists on, whatever the source: all that the platform takes.

    Raises:
        InputError: it does not take that resolution or frame rate; says what it takes.
    """
    if show.resolution is None and show.fps is None:
        return found
    resolutions = sorted({c.resolution for c in found}, key=lambda p: (p.pixels, p.width))
    if show.resolution is not None:
        if not takes(rules, show.resolution):
            raise InputError(words.not_taken(platform, str(show.resolution)), _taken(rules))
        resolutions = [show.resolution]
    rates = dict.fromkeys((c.frame_rate, c.even) for c in found)
    if show.fps is not None:
        rate = _as_the_source(show.fps, show.source_fps)
        if not rules.takes_rate(rate) and rules.takes_rate(other_name(rate)):
            rate = other_name(rate)
        if not rules.takes_rate(rate):
            raise InputError(
                words.not_taken(platform, f"{frame_rate_text(show.fps)} fps"),
                f"it takes {rules.rates_text()} fps",
            )
        rates = {(rate, divides_evenly(show.source_fps, rate)): None}
    return [Candidate(p, rate, even) for p in resolutions for rate, even in rates]


LEGIBLE_PIXELS = 9.0
"""Letters that are less high cannot be read on: ISO 9241-3 asks for a matrix of 7 x 9."""


def legible(found: list[Candidate], show: Show) -> list[Candidate]:
    """Candidates in which the smallest letters can still be read, unless one was insisted on."""
    if show.smallest_text is None or show.resolution is not None:
        return found
    return [c for c in found if text_height(show, c.resolution) >= LEGIBLE_PIXELS]


def text_height(show: Show, sent: Resolution) -> float:
    """The height of the smallest letters in the sent resolution, in pixels; 0 without any."""
    across, down = sent.width / show.picture.width, sent.height / show.picture.height
    scale = max(across, down) if show.fit == "crop" else min(across, down)
    return (show.smallest_text or 0.0) * scale


def takes(rules: VideoRules, resolution: Resolution) -> bool:
    """Whether a platform takes a resolution."""
    if rules.resolutions and resolution not in rules.resolutions:
        return False
    fits = not rules.shapes or any(shape.fits(resolution) for shape in rules.shapes)
    return fits and resolution.within(rules.max_resolution) and _even(resolution)


def _taken(rules: VideoRules) -> str:
    if rules.resolutions:
        return f"it takes {', '.join(map(str, rules.resolutions))}"
    shapes = f", {words.shape_words(rules.shapes)}" if rules.shapes else ""
    return f"it takes up to {rules.max_resolution}{shapes}, with even sides"


def _as_the_source(asked: Fraction, source: Fraction) -> Fraction:
    """The rate that is meant: 60 of a source of 59.94 is 59.94."""
    family = source.denominator % 1001 == 0 and asked.denominator == 1
    return at_1000_1001(asked) if family else asked


def _even(resolution: Resolution) -> bool:
    return resolution.width % 2 == resolution.height % 2 == 0


def _named(
    shape: AspectRatio, source: Resolution, bound: Resolution, named: Iterable[Resolution]
) -> set[Resolution]:
    """The only resolutions a guide takes, of the nearest shape and no larger than the source.

    Of another shape than the source's, one that shows the whole source padded is not too large.
    """
    fitting = {p for p in named if shape.fits(p) and _even(p)}
    within = {p for p in fitting if p.within(bound)}
    if within or shape.fits(source):
        return within
    return {p for p in fitting if p.width <= source.width or p.height <= source.height}


def steadiness(source: Fraction, even: bool) -> float:
    """What is left of quality when steps are uneven, 1 where they are not."""
    return 1.0 if even else 1.0 - JUDDER * min(2.0, 60 / float(source))
