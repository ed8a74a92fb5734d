"""Candidates with the bitrate and quality that a safe rate gives each of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats
from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.choice.quality import expected_range
from eager_kestrel.core.choice.ties import kinds_of
from eager_kestrel.core.document import Spread
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution, is_customary
from eager_kestrel.core.words.numbers import settings
from eager_kestrel.core.words.plans import BitrateBound


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
