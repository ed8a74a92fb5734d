"""A trial: encodes of somebody's own clip, measured, and what follows from them."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from itertools import pairwise
from typing import ClassVar

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, SceneParameters, quality
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.footage.stretches import Stretch
from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.picture import Resolution, picture_at
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.show.show import Motion
from eager_kestrel.core.words.numbers import settings

RANGE_POINTS = 160
NO_LEAD = 0.002
"""A picture that looks better by less is no reason to change."""


class TrialPoint(Spread):
    """One encode of the stretches, as it was measured."""

    SPREAD: ClassVar = {"picture": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    picture: Resolution
    frame_rate: FrameRate
    target_kbps: float
    kbps: float
    """What it took, after the first second of each stretch."""
    xpsnr_db: float
    """Of luma, mean over frames and stretches, each scaled to the viewer's screen."""
    ssim: float
    """0..1, all planes, as XPSNR."""
    vmaf: float | None
    """0..100, where a program that computes it was found."""
    look: float
    """0..1 on the scale of plans, with what its frame rate leaves of smoothness."""
    on_hull: bool
    """Whether no other encode, nor a mix of two, looks better for its bitrate."""

    @property
    def words(self) -> str:
        """``1280x720 at 60, 4,500 kbit/s``."""
        return settings(self.picture, self.frame_rate, self.target_kbps)


class BestBetween(Spread):
    """Between which bitrates a picture and frame rate look best on this footage."""

    SPREAD: ClassVar = {"picture": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    picture: Resolution
    frame_rate: FrameRate
    from_kbps: float
    to_kbps: float

    @property
    def words(self) -> str:
        """``1280x720 at 60``."""
        return picture_at(self.picture, self.frame_rate)


class Footage(Frozen):
    """What was learned of a footage, kept to plan by."""

    format: str = format_name("footage")
    name: str
    clip: str
    """The file's name."""
    taken_at: str
    """ISO 8601 with the offset of the place."""
    version: str
    """Of the program."""
    motion: Motion
    """The kind of motion it behaves like; smoothness is that kind's."""
    parameters: SceneParameters
    encodes: int
    """They rest on."""
    off_by: float
    """How far the encodes lie from the model with them, 0..1."""


class Trial(Frozen):
    """The whole answer of a trial."""

    format: str = format_name("trial")
    version: str
    clip: str
    """The file's name."""
    seconds: float
    codec: Codec
    preset: str
    metric: str
    """What a look was taken from: VMAF, or XPSNR and SSIM."""
    stretches: tuple[Stretch, ...]
    points: tuple[TrialPoint, ...]
    """By picture, frame rate, bitrate."""
    best: tuple[BestBetween, ...]
    """Which picture looks best at which bitrate, by the parameters of this footage."""
    said_motion: Motion
    behaves_like: Motion
    footage: Footage
    one_more_mbit: float
    """How much better it looks with one Mbit/s more than the largest bitrate tried, 0..1."""
    lessons: tuple[str, ...]
    """The same in words."""


def hull(points: Sequence[tuple[float, float]]) -> list[bool]:
    """Which points of (cost, worth) lie on the upper convex hull that rises.

    Andrew's monotone chain (Information Processing Letters 9, 1979).
    """
    order = sorted(range(len(points)), key=lambda n: (points[n][0], -points[n][1]))
    kept: list[int] = []
    for number in order:
        cost, worth = points[number]
        if kept and worth <= points[kept[-1]][1]:
            continue
        while len(kept) > 1 and _below(points[kept[-2]], points[kept[-1]], (cost, worth)):
            kept.pop()
        kept.append(number)
    return [number in kept for number in range(len(points))]


def _below(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> bool:
    """Whether b lies on or under the line from a to c."""
    return (b[1] - a[1]) * (c[0] - a[0]) <= (c[1] - a[1]) * (b[0] - a[0])


def best_between(
    table: QualityTable,
    motion: Motion,
    codec: str,
    shapes: Sequence[tuple[Resolution, Fraction]],
    kbps: tuple[float, float],
    takes: float = 1.0,
) -> tuple[BestBetween, ...]:
    """Which picture and frame rate look best from one bitrate to another.

    Args:
        table: with the parameters of the footage for this kind of motion.
        motion: the kind.
        codec: of all.
        shapes: pictures with their frame rates.
        kbps: from and to, in kbit/s.
        takes: of the usual bitrate, by the preset.
    """
    rates = np.geomspace(kbps[0], kbps[1], RANGE_POINTS)
    looks = np.stack([
        quality(table, motion, codec, np.full_like(rates, picture.pixels),
                np.full_like(rates, float(fps)), rates / takes)
        for picture, fps in shapes
    ])  # fmt: skip
    winner = looks.argmax(axis=0)
    for number in range(1, rates.size):  # a lead nobody sees changes nothing
        before = winner[number - 1]
        if looks[winner[number], number] - looks[before, number] < NO_LEAD:
            winner[number] = before
    changes = [0, *(np.flatnonzero(np.diff(winner)) + 1), rates.size]
    return tuple(
        BestBetween(
            picture=shapes[winner[first]][0], frame_rate=shapes[winner[first]][1],
            from_kbps=round(float(rates[first]), -1), to_kbps=round(float(rates[last - 1]), -1),
        )
        for first, last in pairwise(changes)
    )  # fmt: skip
