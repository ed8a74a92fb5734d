"""What is chosen over a range of one input: upload, share, motion or standing.

The same :class:`eager_kestrel.core.choose.Field` answers for a thousand uplinks at once.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import numpy as np

from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.choice.field import Field, field_of
from eager_kestrel.core.choice.quality import MOTIONS, QualityTable
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import Uplink, assumed_uplink
from eager_kestrel.core.names import nearest_name
from eager_kestrel.core.plan.plan import Option
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate

Over = Literal["upload", "share", "motion", "standing"]
OVER: tuple[Over, ...] = ("upload", "share", "motion", "standing")
POINTS = 79
"""Of a range: 1 to 40 Mbit/s in steps of a half."""


@dataclass(frozen=True, slots=True)
class Range:
    """What to sweep: numbers for upload (Mbit/s) and share (per cent), else every name."""

    over: Over
    begin: float = 0.0
    end: float = 0.0


class Point(Frozen):
    """What is chosen at one value."""

    at: str
    """The value in words."""
    value: float | None
    """The value as a number: Mbit/s or 0..1; none for names."""
    safe_kbps: float
    chosen: Option | None
    """None where no settings satisfy the guide."""


class Sweep(Frozen):
    """Everything along the way."""

    format: str = format_name("sweep")
    platform: str
    over: Over
    points: tuple[Point, ...]


def parse_range(text: str) -> Range:
    """Read ``upload=1..40``, ``share=50..80``, ``motion`` or ``standing``.

    Raises:
        InputError: none of these.
    """
    name, _, span = text.partition("=")
    over = next((known for known in OVER if known == name.strip()), None)
    if over is None:
        raise InputError(f'"{name}" cannot be swept', nearest_name(name, [*OVER], ""))
    if over in ("motion", "standing"):
        return Range(over)
    match = re.fullmatch(r"\s*([0-9.]+)\s*\.\.\s*([0-9.]+)\s*", span)
    example = "upload=1..40 (Mbit/s)" if over == "upload" else "share=50..80 (per cent)"
    try:
        begin, end = (float(match[1]), float(match[2])) if match else (0.0, 0.0)
    except ValueError:
        begin = end = 0.0
    highest = 10_000 if over == "upload" else 100
    if not 0 < begin < end <= highest:
        raise InputError(f'"{text}" is no range', f"write {example}")
    return Range(over, begin, end)


def sweep(
    wanted: Range,
    show: Show,
    destination: Destination,
    guide: Guide,
    table: QualityTable,
    uplink: Uplink,
) -> Sweep:
    """What is chosen at each value, everything else as it is.

    Args:
        wanted: what to vary.
        show: what is streamed.
        destination: where to; its standing holds unless standings are swept.
        guide: without any standing applied.
        table: of the quality model.
        uplink: for everything but a sweep of uploads.
    """
    points: list[Point] = []
    if wanted.over in ("upload", "share"):
        values = np.linspace(wanted.begin, wanted.end, POINTS)
        safe, names, numbers = [], [], []
        for value in values:
            if wanted.over == "upload":
                line = assumed_uplink(Bitrate.from_kbps(float(value) * 1000))
                safe.append(budget(line, show.safe_share, show.reserves).safe_kbps)
                names.append(f"{value:.4g} Mbit/s")
                numbers.append(float(value))
            else:
                share = float(value) / 100
                safe.append(budget(uplink, share, show.reserves).safe_kbps)
                names.append(f"{share:.1%}")
                numbers.append(share)
        ruled = guide.under(destination.standing)
        field = field_of(show, ruled, table, ruled.codec(destination.codec))
        points = _points(field, names, numbers, safe)
    else:
        safe_kbps = budget(uplink, show.safe_share, show.reserves).safe_kbps
        standings = [destination.standing]
        motions = list(MOTIONS) if wanted.over == "motion" else [show.motion]
        if wanted.over == "standing":
            standings = [None, *guide.standings]
        for standing in standings:
            for motion in motions:
                ruled = guide.under(standing)
                here = show.model_copy(update={"motion": motion})
                field = field_of(here, ruled, table, ruled.codec(destination.codec))
                name = motion if wanted.over == "motion" else standing or "ordinary"
                points += _points(field, [name], [None], [safe_kbps])
    return Sweep(platform=guide.name, over=wanted.over, points=tuple(points))


def _points(
    field: Field, names: list[str], values: list[float] | list[None], safe: list[float]
) -> list[Point]:
    chosen = field.best(np.array(safe))
    return [
        Point(
            at=name,
            value=value,
            safe_kbps=round(kbps, 3),
            chosen=field.at(kbps).option(int(index)) if index >= 0 else None,
        )
        for name, value, kbps, index in zip(names, values, safe, chosen, strict=True)
    ]
