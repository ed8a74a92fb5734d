"""Candidates: the pictures and frame rates worth weighing for a source and a guide.

Pictures have the wanted shape and both sides divisible by 8, so that no encoder pads them (for 16:9
these are multiples of 128x72), plus those the guide names. Frame rates divide the source's evenly,
since dropping every other frame is smooth and dropping one in five is not.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from fractions import Fraction
from math import gcd, lcm

from eager_kestrel.core.picture import Picture, Shape

SMALLEST_PIXELS = 256 * 144


@dataclass(frozen=True, slots=True)
class Candidate:
    """A picture at a frame rate."""

    picture: Picture
    frame_rate: Fraction
    even: bool
    """Whether the frame rate divides the source's."""


def even_ladder(shape: Shape, largest: Picture) -> list[Picture]:
    """Pictures of exactly this shape, sides divisible by 8, from small to ``largest``."""
    step = lcm(8 // gcd(shape.across, 8), 8 // gcd(shape.down, 8))
    width, height = shape.across * step, shape.down * step
    count = min(largest.width // width, largest.height // height)
    ladder = [Picture(width * n, height * n) for n in range(1, count + 1)]
    return [p for p in ladder if p.pixels >= SMALLEST_PIXELS]


def nearest_shape(source: Picture, allowed: Iterable[Shape]) -> Shape:
    """The source's own shape where it is allowed or nothing is said, else the nearest to it."""
    own = source.width / source.height
    return min(allowed, key=lambda s: abs(s.across / s.down - own), default=source.shape)


def frame_rates(source: Fraction, allowed: Iterable[Fraction]) -> list[tuple[Fraction, bool]]:
    """Allowed rates up to the source's, each with whether it divides it; even ones alone if any."""
    possible = sorted({rate for rate in allowed if rate <= source}, reverse=True)
    even = [rate for rate in possible if (source / rate).denominator == 1]
    return [(rate, True) for rate in even] or [(rate, False) for rate in possible]


def candidates(
    shape: Shape,
    source: Picture,
    source_rate: Fraction,
    largest: Picture,
    named: Iterable[Picture],
    allowed_rates: Iterable[Fraction],
    only_named: bool = False,
    rewarded_from_lines: int | None = None,
) -> list[Candidate]:
    """Every picture and frame rate worth weighing, smallest picture first.

    Args:
        shape: of the picture to send.
        source: nothing larger is considered.
        source_rate: frames a second of the source.
        largest: the guide's.
        named: pictures the guide names; taken where they have the shape.
        allowed_rates: frame rates the guide takes.
        only_named: whether the guide takes no other pictures.
        rewarded_from_lines: pictures of so many lines are delivered better, so the least of them is
            weighed even when the source has fewer.
    """
    bound = Picture(min(source.width, largest.width), min(source.height, largest.height))
    pictures = set() if only_named else {*even_ladder(shape, bound)}
    pictures |= {
        p
        for p in ((*named,) if only_named else (*named, bound))
        if shape.fits(p)
        and p.width <= bound.width
        and p.height <= bound.height
        and p.width % 2 == p.height % 2 == 0
    }
    if rewarded_from_lines is not None and bound.lines < rewarded_from_lines:
        larger = [*even_ladder(shape, largest), *(p for p in named if shape.fits(p))]
        rewarded = [p for p in larger if p.lines >= rewarded_from_lines]
        if rewarded and not only_named:
            pictures.add(min(rewarded, key=lambda p: p.pixels))
    rates = frame_rates(source_rate, allowed_rates)
    ordered = sorted(pictures, key=lambda p: (p.pixels, p.width))
    return [Candidate(p, rate, even) for p in ordered for rate, even in rates]
