"""Choosing a picture, frame rate and bitrate: every candidate weighed at once, as arrays.

Each candidate gets the most bitrate it may have (the least of budget, guide and the point of no
visible gain, rounded down), then the quality model picks. Ties go to the lower bitrate, then to
the smaller picture.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import inf

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats
from eager_kestrel.core.candidates import Candidate, candidates, nearest_shape
from eager_kestrel.core.guide import Codec, Guide
from eager_kestrel.core.levels import LEVELS, Level, level_rank
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.plan import Bound, Option
from eager_kestrel.core.quality import QualityTable, clean_kbps, quality
from eager_kestrel.core.show import Show

LEAST_VIDEO_KBPS = 100.0
"""Below this no picture of any size is worth sending."""
TIE = 1e-9

LIMITS: tuple[Bound, ...] = ("budget", "guide", "level", "viewers", "no visible gain")


def rounded_down(kbps: Floats) -> Floats:
    """To 50 below 2,000 kbit/s and to 100 above, never up; exact to a bit a second."""
    bits = np.round(np.maximum(kbps, 0) * 1000)
    step = np.where(bits < 2_000_000, 50_000, 100_000)
    return np.asarray(bits // step * step / 1000, dtype=np.float64)


@dataclass(frozen=True, slots=True)
class Weighed:
    """All candidates of a destination with their bitrate and quality; arrays of one length."""

    candidates: list[Candidate]
    limits_kbps: Floats
    """Shape (5, n), in the order of ``LIMITS``."""
    kbps: Floats
    floors_kbps: Floats
    quality: Floats
    allowed: Flags

    def order(self) -> list[int]:
        """Indices of the allowed candidates, best first."""
        indices = np.flatnonzero(self.allowed)
        pixels = np.array([c.picture.pixels for c in self.candidates], dtype=np.float64)
        rounded = np.round(self.quality[indices] / TIE)
        keys = (pixels[indices], self.kbps[indices], -rounded)
        return [int(i) for i in indices[np.lexsort(keys)]]

    def limit(self, index: int) -> Bound:
        """What bound the bitrate of a candidate."""
        return LIMITS[int(np.argmin(self.limits_kbps[:, index]))]

    def option(self, index: int) -> Option:
        """A candidate as it stands in a plan."""
        chosen = self.candidates[index]
        return Option(
            width=chosen.picture.width,
            height=chosen.picture.height,
            fps=round(float(chosen.frame_rate), 3),
            bitrate_kbps=float(self.kbps[index]),
            quality=round(float(self.quality[index]), 4),
        )


def weigh(
    show: Show,
    guide: Guide,
    table: QualityTable,
    safe_kbps: float,
    audio_kbps: float,
    sample_rate_hz: int,
    codec: Codec,
) -> Weighed:
    """Bitrate and quality of every candidate.

    Args:
        show: source, motion.
        guide: with the standing applied.
        table: of the quality model.
        safe_kbps: everything this destination may be sent.
        audio_kbps: already chosen.
        sample_rate_hz: of the audio; it sets how many headers audio needs.
        codec: already chosen.
    """
    rules = guide.video
    found = candidates(
        nearest_shape(show.source, rules.shapes),
        show.source,
        show.frame_rate,
        rules.largest,
        rules.pictures or [rung.picture for rung in guide.rungs],
        rules.taken_rates,
        only_named=bool(rules.pictures),
    )
    transport, profile = guide.transports[0], rules.profiles_of(codec)[0]
    pixels = np.array([c.picture.pixels for c in found], dtype=np.float64)
    fps = np.array([float(c.frame_rate) for c in found])
    extra = {c.frame_rate: overhead(transport, c.frame_rate, sample_rate_hz) for c in found}
    levels = _allowed_levels(guide, codec)
    viewers = viewers_kbps(guide)
    limits = np.array(
        [
            [extra[c.frame_rate].video_kbps(safe_kbps, audio_kbps) for c in found],
            [guide.ceiling(c.picture, c.frame_rate, codec, transport).kbps for c in found],
            [_level_kbps(levels, c, profile) for c in found],
            [extra[c.frame_rate].video_kbps(viewers, audio_kbps) for c in found],
            np.ceil(clean_kbps(table, show.motion, codec, pixels, fps) / 100) * 100,
        ]
    ).reshape(len(LIMITS), len(found))
    floors = np.array([_floor_kbps(guide, c, codec, transport) for c in found], dtype=np.float64)
    limits[-1] = np.maximum(limits[-1], floors)  # a platform's floor outweighs what can be seen
    kbps = rounded_down(limits.min(axis=0))
    smooth = fps >= min(table.motion[show.motion].least_fps, fps.max(initial=0.0))
    return Weighed(
        candidates=found,
        limits_kbps=limits,
        kbps=kbps,
        floors_kbps=floors,
        quality=quality(table, show.motion, codec, pixels, fps, kbps),
        allowed=(kbps >= floors) & smooth,
    )


def viewers_kbps(guide: Guide) -> float:
    """What the slowest viewers can take of everything sent; endless where smaller copies are sure.

    Engine of delivery: without transcodes everyone receives the full rate.
    """
    slowest = guide.delivery.slowest_viewer
    return inf if guide.delivery.transcodes == "always" or slowest is None else slowest.kbps


def _floor_kbps(guide: Guide, candidate: Candidate, codec: Codec, transport: str) -> float:
    floor = guide.floor(candidate.picture, candidate.frame_rate, codec, transport)
    return max(LEAST_VIDEO_KBPS, 0.0 if floor is None else floor.kbps)


def _allowed_levels(guide: Guide, codec: Codec) -> list[Level]:
    """Levels of a codec up to the highest the guide takes."""
    highest = guide.video.highest_level.get(codec)
    rank = None if highest is None else level_rank(codec, highest)
    return list(LEVELS[codec] if rank is None else LEVELS[codec][: rank + 1])


def _level_kbps(levels: list[Level], candidate: Candidate, profile: str) -> float:
    """The most bitrate any allowed level gives a candidate; 0 when none holds it."""
    return max(
        (
            level.bitrate_kbps(profile)
            for level in levels
            if level.takes(candidate.picture, candidate.frame_rate)
        ),
        default=0.0,
    )
