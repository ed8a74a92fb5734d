"""Candidates with the bitrate and quality that a safe rate gives each; which of them is taken.

Two candidates are about the same when they differ by less than the table's ``tie`` on average
over the scenes of a kind, and by less than ``noticeable`` on every one of them. One is as good as
another when it does not fall behind it by more than that. Among candidates at the best one's frame
rate that are as good as it, the one that is expected to lose least is the one with the highest mean
over all scenes. Around it the mean is flat, so of those within the table's ``flat`` of it the
largest is taken: people watch full screen, and a show has calmer moments than its scene. Or the
usual resolution nearest to it that lies within ``flat``, too: the source's own, one the guide
names, a common one.

Where quality is poor the model's curves are steep and everything is near 0, so there both bands
narrow in proportion; that also keeps more bitrate from ever choosing a smaller resolution.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import cached_property
from math import inf
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats
from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.choice.quality import expected_range
from eager_kestrel.core.document import Spread
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution, is_customary, nearest_customary
from eager_kestrel.core.words.numbers import settings
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Indices
    from eager_kestrel.core.choice.quality import QualityTable

TIE = 1e-9
BESIDE = 0.115
"""As the logarithm of lines: 648 is beside 720, 1008 beside 900, and 600 beside neither."""
FULL_BAND_FROM = 0.5
"""Quality from which on the whole band counts."""
OWN, NAMED, CUSTOMARY, ANY = range(4)
"""Preference rank of a candidate's resolution, the best first."""


def ranks_of(
    found: Sequence[Candidate], source: Resolution, named: Collection[Resolution]
) -> Indices:
    """Preference rank of each candidate resolution: own size, named by the guide, common, other."""

    def rank(resolution: Resolution) -> int:
        if resolution == source:
            return OWN
        if resolution in named:
            return NAMED
        return CUSTOMARY if is_customary(resolution) else ANY

    return np.array([rank(c.resolution) for c in found], dtype=np.intp)


def best_of(kbps: Floats, judged: Floats, allowed: Flags) -> Indices:
    """Index of the best allowed candidate in each row, the cheaper of equals; -1 where none is."""
    rounded = np.where(allowed, np.round(judged / TIE), -1.0)
    tied = allowed & (rounded == rounded.max(axis=1, keepdims=True))
    chosen = np.argmin(np.where(tied, kbps, inf), axis=1)
    return np.where(allowed.any(axis=1), chosen, -1)


def band_of(top: Floats, band: float) -> Floats:
    """How far below the best quality ``top`` nobody could tell; of the same shape."""
    return np.asarray(band * np.minimum(1.0, top / FULL_BAND_FROM), dtype=np.float64)


def as_good_as(
    index: Indices, scenes: Floats, judged: Floats, table: QualityTable, least: float = 0.0
) -> Flags:
    """Of each row, the candidates that are no worse than one of them, so far as anybody could tell.

    Args:
        index: of that one in each row; shape (rows,).
        scenes: quality on every scene; shape (scenes, rows, n).
        judged: their mean; shape (rows, n).
        least: that none of them may fall under, where that one does not.
    """
    top, behind = _beside(index, scenes, judged)
    enough = judged >= np.maximum(top - band_of(top, table.tie), np.minimum(top, least)) - TIE
    not_behind = behind.max(axis=0) <= band_of(top, table.noticeable) + TIE
    return np.asarray(enough & not_behind & (index >= 0)[:, None], dtype=np.bool_)


def tied_with(index: Indices, scenes: Floats, judged: Floats, table: QualityTable) -> Flags:
    """Of each row, the candidates that are about the same quality as one of them.

    Arguments as of :func:`as_good_as`.
    """
    top, behind = _beside(index, scenes, judged)
    tied = np.abs(judged - top) <= band_of(top, table.tie) + TIE
    apart = np.abs(behind).max(axis=0) <= band_of(top, table.noticeable) + TIE
    return np.asarray(tied & apart & (index >= 0)[:, None], dtype=np.bool_)


def _beside(index: Indices, scenes: Floats, judged: Floats) -> tuple[Floats, Floats]:
    """Quality of one candidate of each row, and how far all fall behind it on every scene."""
    rows, there = np.arange(index.size), np.maximum(index, 0)
    return judged[rows, there][:, None], scenes[:, rows, there][:, :, None] - scenes


def preferred(
    near: Flags, judged: Floats, pixels: Floats, usual: Flags, table: QualityTable
) -> Indices:
    """Index of the one to take among those as good as the best in each row; -1 where none is.

    Args:
        near: which are as good as the best; shape (rows, n).
        judged: their mean quality over all scenes; shape (rows, n).
        pixels: of each candidate, as far as they show more; shape (n,).
        usual: which are the source's own, one the guide names, a common one; shape (n,).
    """
    top = np.where(near, judged, 0.0).max(axis=1, keepdims=True)
    flat = near & (judged >= top - band_of(top, table.flat) - TIE)
    largest = np.where(flat, pixels, 1.0).max(axis=1, keepdims=True)
    apart = np.abs(np.log(pixels) - np.log(largest))
    beside = np.where(flat & usual & (apart <= 2 * BESIDE), apart, inf)
    nearest = beside.min(axis=1, keepdims=True)
    among = np.where(np.isfinite(nearest), beside == nearest, flat & (pixels == largest))
    return np.where(near.any(axis=1), np.where(among, judged, -1.0).argmax(axis=1), -1)


def kinds_of(found: Sequence[Candidate]) -> list[tuple[int, float]]:
    """What a person would call each: lines, to the nearest customary ones, and frames a second."""
    return [(nearest_customary(c.resolution.lines), float(c.frame_rate)) for c in found]


class Option(Spread):
    """A resolution at a frame rate, with the bitrate it would get and how that looks."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps",)}

    resolution: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    quality: float
    """0..1 by the model in :mod:`eager_kestrel.core.choice.quality`, mean over its scenes."""
    quality_range: tuple[float, float]
    """The 10th and 90th percentile of footage of that kind."""

    @property
    def text(self) -> str:
        """``1920x1080 at 60, 6,000 kbit/s``."""
        return settings(self.resolution, self.frame_rate, self.bitrate_kbps)


LIMITS: tuple[BitrateBound, ...] = ("budget", "guide", "level", "viewers", "no visible gain")


@dataclass(frozen=True, slots=True)
class ScoredRows:
    """Every candidate at some safe rates; arrays of shape (safe rates, n)."""

    kbps: Floats
    """What the connection has to bear."""
    scenes: Floats
    """Quality on every scene of the kind; shape (scenes, safe rates, n)."""
    quality: Floats
    """Mean over the scenes."""
    allowed: Flags


@dataclass(frozen=True)
class ScoredCandidates:
    """All candidates of a destination with their bitrate and quality; arrays of one length."""

    candidates: list[Candidate]
    audio_kbps: float
    limits_kbps: Floats
    """Shape (5, n), in the order of ``LIMITS``."""
    kbps: Floats
    """What the connection has to bear: constant bitrate, or the peak of variable."""
    target_kbps: Floats
    """What the encoder aims at: the same, or less where bitrate is variable."""
    min_kbps: Floats
    quality: Floats
    """Mean over the scenes of the kind."""
    scenes: Floats
    """On every scene; shape (scenes, n)."""
    smoothness: Floats
    """What each frame rate leaves of it; the rest is how sharp single frames are."""
    allowed: Flags
    encodable: Flags
    """Whether this machine encodes it in time."""
    tied_with: Callable[[], Flags]
    """Which are about the same as the one to take, at its frame rate; see :attr:`tied`."""
    among_best: Flags
    """Whether it is as good as the best, at any frame rate."""
    chosen: int | None
    """Index of the candidate to take, or None if none is allowed."""

    @cached_property
    def tied(self) -> Flags:
        """Whether it is about the same as the one to take, at its frame rate."""
        return self.tied_with()

    def others(self, count: int) -> list[int]:
        """The best of other kinds than the chosen one, best first: other lines, or another rate."""
        if self.chosen is None:
            return []
        kinds = kinds_of(self.candidates)
        found: dict[tuple[int, float], int] = {kinds[self.chosen]: self.chosen}
        by_quality = np.flatnonzero(self.allowed & ~self.tied)
        for index in by_quality[np.argsort(-self.quality[by_quality], kind="stable")]:
            best = found.setdefault(kinds[index], int(index))
            if is_customary(self.candidates[index].resolution) and not is_customary(
                self.candidates[best].resolution
            ):
                found[kinds[index]] = int(index)
        return list(found.values())[1 : 1 + count]

    def limit(self, index: int, spare_kbps: float = 0.0) -> BitrateBound:
        """What limits the bitrate of a candidate.

        Args:
            spare_kbps: how much lower the budget has to be than every other limit to be the one.
        """
        limits = self.limits_kbps[:, index].copy()
        limits[0] += spare_kbps
        return LIMITS[int(np.argmin(limits))]

    def option(self, index: int) -> Option:
        """A candidate as it stands in a plan."""
        chosen = self.candidates[index]
        low, high = expected_range(self.scenes[:, index])
        return Option(
            resolution=chosen.resolution,
            frame_rate=chosen.frame_rate,
            bitrate_kbps=float(self.target_kbps[index]),
            quality=round(float(self.quality[index]), 4),
            quality_range=(round(float(low), 4), round(float(high), 4)),
        )

    def sharpness(self, index: int) -> float:
        """How sharp single frames of a candidate are, 0..1, smoothness aside."""
        return float(self.quality[index] / self.smoothness[index])
