"""What is chosen over a range of one input: upload, share, motion or standing.

The same :class:`eager_kestrel.core.choice.field.Field` answers for a thousand uplinks at once.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.budget import budget, budget_of
from eager_kestrel.core.choice.field import CandidatesTable, candidates_table
from eager_kestrel.core.choice.what_if import OVER, Over, Point, Sweep
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.uplink import Uplink, assumed_uplink
from eager_kestrel.core.names import nearest_name
from eager_kestrel.core.show.show import MOTIONS, Show
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide

POINTS = 79
"""Of a range: 1 to 40 Mbit/s in steps of a half."""


@dataclass(frozen=True, slots=True)
class Range:
    """What to sweep: numbers for upload (Mbit/s) and share (per cent), else every name."""

    over: Over
    begin: float = 0.0
    end: float = 0.0


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
    wanted: Range, show: Show, guide: Guide, codec: str | None, table: QualityTable,
    uplink: Uplink | None,
) -> Sweep:  # fmt: skip
    """What is chosen at each value, everything else as it is.

    Args:
        wanted: what to vary.
        show: what is streamed.
        guide: with its standing applied, which holds unless standings are swept.
        codec: that is asked for; None leaves it to the guide.
        table: of the quality model.
        uplink: for everything but a sweep of uploads, which needs none.
    """
    if wanted.over in ("upload", "share"):
        field = candidates_table(show, guide, table, guide.codec(codec))
        names, values, rates = zip(*values_of(wanted, show, uplink), strict=True)
        points = _points(field, names, values, list(rates))
        return Sweep(platform=guide.name, over=wanted.over, points=points)
    if uplink is None:
        raise ValueError(f"a sweep of {wanted.over} needs an uplink")
    safe = budget_of(uplink, show).safe_kbps
    found: list[Point] = []
    if wanted.over == "motion":
        for motion in MOTIONS:
            moving = show.model_copy(update={"motion": motion})
            found += _points(
                candidates_table(moving, guide, table, guide.codec(codec)), [motion], [None], [safe]
            )
    else:
        for standing in (None, *guide.ordinary.standings):
            ruled = guide.under(standing)
            field = candidates_table(show, ruled, table, ruled.codec(codec))
            found += _points(field, [standing or "ordinary"], [None], [safe])
    return Sweep(platform=guide.name, over=wanted.over, points=tuple(found))


def values_of(wanted: Range, show: Show, uplink: Uplink | None) -> list[tuple[str, float, float]]:
    """Of a range of uploads or shares: each value in words, as a number, and its safe rate."""
    values = np.linspace(wanted.begin, wanted.end, POINTS).tolist()
    if wanted.over == "upload":
        lines = [assumed_uplink(Bitrate.from_kbps(value * 1000)) for value in values]
        safe = [budget(line, show.safe_share, show.reserves).safe_kbps for line in lines]
        names = [f"{value:.4g} Mbit/s" for value in values]
        return list(zip(names, values, safe, strict=True))
    if uplink is None:
        raise ValueError("a sweep of shares needs an uplink")
    shares = [value / 100 for value in values]
    safe = [budget(uplink, share, show.reserves).safe_kbps for share in shares]
    return list(zip([f"{share:.1%}" for share in shares], shares, safe, strict=True))


def _points(
    field: CandidatesTable, names: Sequence[str], values: Sequence[float | None], safe: list[float]
) -> tuple[Point, ...]:
    chosen = field.chosen(np.array(safe))
    return tuple(
        Point(
            at=name,
            value=value,
            safe_kbps=round(kbps, 3),
            chosen=field.at(kbps).option(int(index)) if index >= 0 else None,
        )
        for name, value, kbps, index in zip(names, values, safe, chosen, strict=True)
    )
