"""Finalists side by side: what each picture and frame rate somebody has in mind would get."""

from __future__ import annotations

import re
from collections.abc import Sequence
from fractions import Fraction
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from eager_kestrel.core.choice.candidates import CLOSE
from eager_kestrel.core.choice.quality import smoothness
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.errors import InputError, UnitError
from eager_kestrel.core.picture import Resolution, parse_frame_rate, picture_at
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.words import needs as words
from eager_kestrel.core.words.facts import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.choice.budget import Budget
    from eager_kestrel.core.choice.field import CandidatesTable
    from eager_kestrel.core.choice.weighed import ScoredCandidates

Shape = tuple[Resolution, Fraction]


class Finalist(Spread):
    """What one picture and frame rate would get on this line."""

    SPREAD: ClassVar = {"picture": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    picture: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    """What the encoder aims at."""
    quality: float
    """0..1, smoothness in it."""
    smoothness: float
    """0..1, what so many frames a second leave of it."""
    bound_by: BitrateBound
    """What bounds its bitrate."""
    total_kbps: float
    """Everything sent."""
    upload_kbps: float
    """The typical upload that carries it, with the same share and reserves."""
    chosen: bool
    """Whether a plan takes it."""
    refused: str
    """Why it cannot be taken; empty where it can."""


class Comparison(Frozen):
    """Finalists in the order asked."""

    format: str = format_name("comparison")
    platform: str
    standing: str | None
    safe_kbps: float
    finalists: tuple[Finalist, ...]


def parse_shapes(text: str) -> list[Shape]:
    """Read ``"1280x720@60, 1920x1080@30"``.

    Raises:
        UnitError: one is none.
    """
    found = []
    for part in text.split(","):
        match = re.fullmatch(r"\s*(\S+?)\s*(?:@|\s+at\s+)\s*(\S+)\s*", part)
        if match is None:
            raise UnitError(f'"{part.strip()}" is no picture at a rate', "write 1280x720@60")
        found.append((Resolution.parse(match[1]), parse_frame_rate(match[2])))
    return found


def compare(field: CandidatesTable, waterfall: Budget, shapes: Sequence[Shape]) -> Comparison:
    """What each would get.

    Args:
        field: the candidates of a show for one guide.
        waterfall: down to the safe rate.
        shapes: pictures at frame rates, one at the least.

    Raises:
        InputError: the platform takes one of them of this source by no means; says what it takes.
    """
    weighed = field.at(waterfall.safe_kbps)
    return Comparison(
        platform=field.guide.name,
        standing=field.guide.standing,
        safe_kbps=round(waterfall.safe_kbps, 3),
        finalists=tuple(
            _finalist(field, weighed, waterfall, _position(field, shape)) for shape in shapes
        ),
    )


def _position(field: CandidatesTable, shape: Shape) -> int:
    picture, rate = shape
    same = [n for n, c in enumerate(field.candidates) if c.picture == picture]
    off = {n: abs(float(field.candidates[n].frame_rate / rate) - 1) for n in same}
    nearest = min(same, key=lambda n: off[n], default=None)
    if nearest is not None and off[nearest] < CLOSE:
        return nearest
    rates = sorted({c.frame_rate for c in field.candidates if c.picture == picture})
    known = rates or sorted({c.picture for c in field.candidates}, key=lambda p: -p.pixels)[:6]
    raise InputError(
        words.not_taken(field.guide.title, picture_at(picture, rate)),
        words.choose([f"{float(k):g}" if isinstance(k, Fraction) else str(k) for k in known],
                     of_rates=bool(rates)),
    )  # fmt: skip


def _finalist(
    field: CandidatesTable, weighed: ScoredCandidates, waterfall: Budget, at: int
) -> Finalist:
    candidate, kbps = field.candidates[at], float(weighed.kbps[at])
    total = (kbps + weighed.audio_kbps) * float(field.per_byte[at]) + float(field.fixed_kbps[at])
    refused = ""
    if not weighed.encodable[at]:
        refused = words.TOO_SLOW
    elif not weighed.allowed[at]:
        refused = words.under_floor(float(weighed.floors_kbps[at]))
    smooth = smoothness(field.table, field.show.motion, np.array([float(candidate.frame_rate)]))
    return Finalist(
        picture=candidate.picture,
        frame_rate=candidate.frame_rate,
        bitrate_kbps=float(weighed.target_kbps[at]),
        quality=round(float(weighed.quality[at]), 4),
        smoothness=round(float(smooth[0]), 4),
        bound_by=weighed.limit(at),
        total_kbps=round(total, 3),
        upload_kbps=round(waterfall.upload_for(total), 1),
        chosen=weighed.chosen == at,
        refused=refused,
    )
