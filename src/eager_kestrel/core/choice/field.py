"""Choosing a picture, frame rate and bitrate: every candidate at every safe rate, as arrays.

Each candidate gets the most bitrate it may have (the least of budget, guide, level, viewers and
the point of no visible gain, rounded down), then the quality model picks. Ties go to the lower
bitrate, then to the smaller picture. A :class:`Field` is prepared once and answers for one safe
rate or for thousands.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import inf

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats, Indices
from eager_kestrel.core.choice.candidates import Candidate, candidates, nearest_shape
from eager_kestrel.core.choice.limits import (
    AUDIO_SHARE,
    VARIABLE_TARGET,
    all_viewers_kbps,
    audio_steps,
    delivered_shares,
    level_limits,
    overheads,
    rate_control,
    rounded_down,
    rung_limits,
    viewers_kbps,
)
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.choice.quality import QualityTable, clean_kbps, quality
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words.facts import BitrateBound

TIE = 1e-9

LIMITS: tuple[BitrateBound, ...] = ("budget", "guide", "level", "viewers", "no visible gain")


@dataclass(frozen=True, slots=True)
class Weighed:
    """All candidates of a destination with their bitrate and quality; arrays of one length."""

    candidates: list[Candidate]
    audio_kbps: float
    limits_kbps: Floats
    """Shape (5, n), in the order of ``LIMITS``."""
    kbps: Floats
    """What the line has to bear: constant bitrate, or the peak of variable."""
    target_kbps: Floats
    """What the encoder aims at: the same, or less where bitrate is variable."""
    floors_kbps: Floats
    quality: Floats
    allowed: Flags
    encodable: Flags
    """Whether this machine encodes it in time."""

    def order(self) -> list[int]:
        """Indices of the allowed candidates, best first."""
        indices = np.flatnonzero(self.allowed)
        pixels = np.array([c.picture.pixels for c in self.candidates], dtype=np.float64)
        rounded = np.round(self.quality[indices] / TIE)
        keys = (pixels[indices], self.kbps[indices], -rounded)
        return [int(i) for i in indices[np.lexsort(keys)]]

    def limit(self, index: int) -> BitrateBound:
        """What bound the bitrate of a candidate."""
        return LIMITS[int(np.argmin(self.limits_kbps[:, index]))]

    def option(self, index: int) -> Option:
        """A candidate as it stands in a plan."""
        chosen = self.candidates[index]
        return Option(
            picture=chosen.picture,
            frame_rate=chosen.frame_rate,
            bitrate_kbps=float(self.target_kbps[index]),
            quality=round(float(self.quality[index]), 4),
        )


@dataclass(frozen=True, slots=True)
class Field:
    """All candidates of a show for a guide, smallest picture first; arrays of shape (n,)."""

    candidates: list[Candidate]
    codec: Codec
    pixels: Floats
    fps: Floats
    per_byte: Floats
    fixed_kbps: Floats
    rules_kbps: Floats
    """Shape (4, n): guide, level, viewers (of everything sent), no visible gain."""
    floors_kbps: Floats
    smooth: Flags
    encodable: Flags
    delivered: Floats
    """What is left of the quality after the platform's own copies, 0..1."""
    seen_pixels: Floats
    """Pixels of detail: those of the picture, but no more than the source has."""
    audio_steps: Floats
    """Audio bitrates to choose from, ascending."""
    table: QualityTable
    show: Show
    target_share: float = 1.0
    """Of the peak that is aimed at; 1 for constant bitrate."""
    copies: int = 1
    """How many times the encode is sent; ``per_byte`` and ``fixed_kbps`` are of all of them."""

    def audio_kbps(self, safe_kbps: Floats) -> Floats:
        """The highest customary audio bitrate within its share of each total, else the least."""
        most = AUDIO_SHARE * safe_kbps[:, None] / self.copies + 1e-9
        affordable = self.audio_steps[None, :] <= most
        steps = np.where(affordable, self.audio_steps, self.audio_steps[0])
        return np.asarray(steps.max(axis=1), dtype=np.float64)

    def limits_kbps(self, safe_kbps: Floats) -> Floats:
        """Every limit of every candidate at every safe rate; shape (5, len(safe), n)."""
        audio = self.audio_kbps(safe_kbps)[:, None]
        budget = (safe_kbps[:, None] - self.fixed_kbps) / self.per_byte - audio
        guide, level, viewers, clean = self.rules_kbps
        left_for_viewers = (viewers - self.fixed_kbps) / self.per_byte - audio
        return np.stack(np.broadcast_arrays(budget, guide, level, left_for_viewers, clean))

    def target_kbps(self, kbps: Floats) -> Floats:
        """What the encoder aims at below a peak."""
        return kbps if self.target_share == 1 else rounded_down(kbps * self.target_share)

    def weigh(self, safe_kbps: Floats) -> tuple[Floats, Floats, Flags]:
        """Bitrate (kbit/s), quality and whether it is allowed; each of shape (len(safe), n)."""
        kbps = rounded_down(self.limits_kbps(safe_kbps).min(axis=0))
        target = self.target_kbps(kbps)
        judged = self.delivered * quality(
            self.table, self.show.motion, self.codec, self.pixels, self.fps, target,
            seen=self.seen_pixels,
        )  # fmt: skip
        return kbps, judged, (target >= self.floors_kbps) & self.smooth & self.encodable

    def best(self, safe_kbps: Floats) -> Indices:
        """Index of the chosen candidate at every safe rate; -1 where none is allowed."""
        if not self.candidates:
            return np.full(safe_kbps.size, -1, dtype=np.intp)
        return best_of(*self.weigh(safe_kbps))

    def at(self, safe_kbps: float) -> Weighed:
        """Everything weighed at one safe rate."""
        safe = np.array([safe_kbps])
        kbps, judged, allowed = self.weigh(safe)
        return Weighed(
            candidates=self.candidates,
            audio_kbps=float(self.audio_kbps(safe)[0]),
            limits_kbps=self.limits_kbps(safe)[:, 0],
            kbps=kbps[0],
            target_kbps=self.target_kbps(kbps)[0],
            floors_kbps=self.floors_kbps,
            quality=judged[0],
            allowed=allowed[0],
            encodable=self.encodable,
        )


def best_of(kbps: Floats, judged: Floats, allowed: Flags) -> Indices:
    """Index of the best allowed candidate in each row, the cheaper of equals; -1 where none is."""
    rounded = np.where(allowed, np.round(judged / TIE), -1.0)
    tied = allowed & (rounded == rounded.max(axis=1, keepdims=True))
    chosen = np.argmin(np.where(tied, kbps, inf), axis=1)
    return np.where(allowed.any(axis=1), chosen, -1)


def field_of(
    show: Show,
    guide: Guide,
    table: QualityTable,
    codec: Codec,
    members: Sequence[Guide] = (),
    *,
    relayed: bool = False,
) -> Field:
    """The candidates of a show for a guide, or for one encode that several platforms get.

    Args:
        show: source, frame rate and motion.
        guide: with the standing applied; for several, what satisfies all of them.
        table: of the quality model.
        codec: already chosen.
        members: the guides of all that get the encode, each with its own rungs and transport; left
            out, the guide itself.
        relayed: whether only the first is sent to, and passes it on.
    """
    members = members or (guide,)
    senders = members[:1] if relayed else members
    found = _candidates(show, guide, members)
    pixels = np.array([c.picture.pixels for c in found], dtype=np.float64)
    fps = np.array([float(c.frame_rate) for c in found], dtype=np.float64)
    floors, ceilings = rung_limits(members, found, codec)
    per_byte, fixed = overheads(senders, found, guide.audio.sample_rates_hz[0])
    viewers = all_viewers_kbps([viewers_kbps(m, show) for m in members], per_byte, fixed)
    share = 1.0 if rate_control(guide) == "constant" else VARIABLE_TARGET
    clean = clean_kbps(table, show.motion, codec, pixels, fps)
    enough = np.ceil(np.maximum(clean, floors) / share / 100) * 100  # a floor outweighs it
    return Field(
        candidates=found,
        codec=codec,
        pixels=pixels,
        fps=fps,
        per_byte=per_byte.sum(axis=0),
        fixed_kbps=fixed.sum(axis=0),
        rules_kbps=np.stack([ceilings, level_limits(guide, codec, found, fps), viewers, enough]),
        floors_kbps=floors,
        smooth=fps >= min(table.motion[show.motion].least_fps, fps.max(initial=0.0)),
        encodable=pixels * fps <= show.machine.most_pixels(codec),
        delivered=delivered_shares(members, table, found),
        seen_pixels=np.minimum(pixels, show.source.pixels),
        audio_steps=audio_steps(guide),
        table=table,
        show=show,
        target_share=share,
        copies=len(senders),
    )


def _candidates(show: Show, guide: Guide, members: Sequence[Guide]) -> list[Candidate]:
    rules = guide.video
    return candidates(
        nearest_shape(show.source, rules.shapes),
        show.source,
        show.frame_rate,
        rules.largest,
        rules.pictures or [rung.picture for member in members for rung in member.rungs],
        rules.taken_rates,
        only_named=bool(rules.pictures),
        rewarded_from_lines=guide.delivery.better_from_lines,
    )
