"""Rungs: the rows of a guideline page, and what they say of a picture between them."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import TYPE_CHECKING

from pydantic import model_validator

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.guide.rules import Codec, Transport
from eager_kestrel.core.quantities import FrameRate, PictureSize, Rate

if TYPE_CHECKING:
    from eager_kestrel.core.picture import Resolution
    from eager_kestrel.core.units import Bitrate


class Rung(Frozen):
    """A row of the guideline page: a picture at a frame rate and the bitrates it goes with."""

    picture: PictureSize
    frame_rate: FrameRate
    """The row holds up to this rate."""
    codec: Codec | None = None
    """Only for this codec."""
    transport: Transport | None = None
    """Only over this transport."""
    floor: Rate | None = None
    advised: Rate | None = None
    ceiling: Rate | None = None

    @model_validator(mode="after")
    def _ordered(self) -> Rung:
        known = [(n, v) for n in ("floor", "advised", "ceiling") if (v := getattr(self, n))]
        if not known:
            raise ValueError("a rung says nothing without floor, advised or ceiling")
        for (low, a), (high, b) in pairwise(known):
            if a > b:
                raise ValueError(f"{low} ({a}) is above {high} ({b})")
        return self


@dataclass(frozen=True, slots=True)
class RungLimits:
    """What is said of one candidate."""

    floor: Bitrate | None = None
    advised: Bitrate | None = None
    ceiling: Bitrate | None = None


class RungTable:
    """Rungs to look a picture and frame rate up in.

    A picture between two rows gets, cautiously, the ceiling of the smaller and the floor of the
    larger one. Rows for a codec or transport outweigh general ones.
    """

    def __init__(self, rows: list[Rung]) -> None:
        self._rows = rows
        self._fitting: dict[Fraction, tuple[list[Rung], list[int]]] = {}

    def _of_rate(self, frame_rate: Fraction) -> tuple[list[Rung], list[int]]:
        """Rows for a frame rate by size, of one size the slowest last, and their pixels."""
        if frame_rate not in self._fitting:
            fast = [r for r in self._rows if r.frame_rate >= frame_rate] or self._rows
            order = sorted(fast, key=lambda r: (r.picture.pixels, -r.frame_rate))
            self._fitting[frame_rate] = order, [r.picture.pixels for r in order]
        return self._fitting[frame_rate]

    def limits(self, picture: Resolution, frame_rate: Fraction) -> RungLimits:
        """What the rows say; nothing when there are none."""
        rows, sizes = self._of_rate(frame_rate)
        pixels = picture.pixels
        below, above = bisect_right(sizes, pixels), bisect_left(sizes, pixels)
        smaller = rows[below - 1] if below else None
        larger = rows[bisect_right(sizes, sizes[above]) - 1] if above < len(sizes) else None
        low, high = smaller or larger, larger or smaller
        if low is None or high is None:
            return RungLimits()
        exact = low.picture.pixels == pixels
        return RungLimits(
            floor=high.floor if larger is not None else None,
            advised=low.advised if exact else None,
            ceiling=low.ceiling,
        )
