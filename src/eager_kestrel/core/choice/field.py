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
from eager_kestrel.core.choice.quality import QualityTable, clean_kbps, quality
from eager_kestrel.core.guide.guide import Codec, Guide, RateControl
from eager_kestrel.core.levels import LEVELS, Level, level_rank
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.plan.plan import Bound, Option
from eager_kestrel.core.show.show import Show

LEAST_VIDEO_KBPS = 100.0
"""Below this no picture of any size is worth sending."""
TIE = 1e-9
VARIABLE_TARGET = 0.80
"""Of the peak: what is left above it is what variable bitrate is for. The line bears the peak."""

AUDIO_STEPS_KBPS = (32.0, 48.0, 64.0, 96.0, 128.0, 160.0, 192.0, 256.0, 320.0)
AUDIO_SHARE = 0.05
"""Of everything sent, once there is plenty."""

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
    rules = guide.video
    found = candidates(
        nearest_shape(show.source, rules.shapes),
        show.source,
        show.frame_rate,
        rules.largest,
        rules.pictures or [rung.picture for member in members for rung in member.rungs],
        rules.taken_rates,
        only_named=bool(rules.pictures),
        rewarded_from_lines=guide.delivery.better_from_lines,
    )
    pixels = np.array([c.picture.pixels for c in found], dtype=np.float64)
    fps = np.array([float(c.frame_rate) for c in found], dtype=np.float64)
    floors, ceilings = _rungs(members, found, codec)
    floors = np.maximum(floors, LEAST_VIDEO_KBPS)
    per_byte, fixed = _overheads(senders, found, guide.audio.sample_rates_hz[0])
    clean = clean_kbps(table, show.motion, codec, pixels, fps)
    share = 1.0 if rate_control(guide) == "constant" else VARIABLE_TARGET
    profile = rules.profiles_of(codec)[0]
    most = [viewers_kbps(member, show) for member in members]
    limits = np.stack(
        [
            ceilings,
            _level_kbps(_allowed_levels(guide, codec), found, fps, profile),
            _viewers(most, per_byte, fixed),
            # a platform's floor outweighs what can be seen
            np.ceil(np.maximum(clean, floors) / share / 100) * 100,
        ]
    )
    return Field(
        candidates=found,
        codec=codec,
        pixels=pixels,
        fps=fps,
        per_byte=per_byte.sum(axis=0),
        fixed_kbps=fixed.sum(axis=0),
        rules_kbps=limits,
        floors_kbps=floors,
        smooth=fps >= min(table.motion[show.motion].least_fps, fps.max(initial=0.0)),
        encodable=pixels * fps <= show.machine.most_pixels(codec),
        delivered=_delivered(members, table, found),
        seen_pixels=np.minimum(pixels, show.source.pixels),
        audio_steps=_audio_steps(guide),
        table=table,
        show=show,
        target_share=share,
        copies=len(senders),
    )


def _rungs(members: Sequence[Guide], found: list[Candidate], codec: Codec) -> tuple[Floats, Floats]:
    """The highest floor and the lowest ceiling of each candidate, in kbit/s."""
    floors, ceilings = np.zeros(len(found)), np.full(len(found), inf)
    for member in members:
        rows = member.rung_table(codec, member.transports[0])
        said = [member.within_rules(rows.limits(c.picture, c.frame_rate)) for c in found]
        floor = np.array([s.floor.kbps if s.floor else 0.0 for s in said], dtype=np.float64)
        ceiling = np.array([s.ceiling.kbps if s.ceiling else inf for s in said], dtype=np.float64)
        floors, ceilings = np.maximum(floors, floor), np.minimum(ceilings, ceiling)
    return floors, ceilings


def _overheads(
    members: Sequence[Guide], found: list[Candidate], sample_rate_hz: int
) -> tuple[Floats, Floats]:
    """What each copy adds per byte and per second; both of shape (members, candidates)."""
    per_byte, fixed = np.empty((len(members), len(found))), np.empty((len(members), len(found)))
    for row, member in enumerate(members):
        rates = {c.frame_rate for c in found}
        extra = {rate: overhead(member.transports[0], rate, sample_rate_hz) for rate in rates}
        per_byte[row] = [extra[c.frame_rate].per_byte for c in found]
        fixed[row] = [extra[c.frame_rate].fixed_kbps for c in found]
    return per_byte, fixed


def _viewers(most: list[float], per_byte: Floats, fixed: Floats) -> Floats:
    """The most of all copies together that every platform's viewers take of their own."""
    each = (np.array(most)[:, None] - fixed) / per_byte  # a relay's one copy is everybody's
    return np.asarray(each.min(axis=0) * per_byte.sum(axis=0) + fixed.sum(axis=0), dtype=np.float64)


def rate_control(guide: Guide) -> RateControl:
    """Constant bitrate where it is taken, unless the platform would rather have variable."""
    taken, advised = guide.video.rate_control, guide.video.advised.rate_control
    if advised is not None and advised in taken:
        return advised
    return "constant" if "constant" in taken else "variable"


def _delivered(members: Sequence[Guide], table: QualityTable, found: list[Candidate]) -> Floats:
    """Where large pictures are delivered with a better codec, the others lose a little.

    The mean over those that share an encode; by weight, raising one could lower its own quality.
    """
    shares = np.ones((len(members), len(found)))
    for row, member in enumerate(members):
        lines = member.delivery.better_from_lines
        if lines is not None:
            small = np.array([c.picture.lines < lines for c in found], dtype=bool)
            shares[row, small] = table.ordinary_delivery
    return np.asarray(shares.mean(axis=0), dtype=np.float64)


def _audio_steps(guide: Guide) -> Floats:
    """Customary audio bitrates in the guide's range, and its ends; none above what it advises."""
    rules = guide.audio
    least, most = rules.least.kbps, (rules.advised.bitrate or rules.most).kbps
    steps = {least, most, *(step for step in AUDIO_STEPS_KBPS if least <= step <= most)}
    return np.array(sorted(steps), dtype=np.float64)


def viewers_kbps(guide: Guide, show: Show) -> float:
    """What the slowest viewers can take of everything sent; endless where smaller copies are sure.

    Engine of delivery: without transcodes everyone receives the full rate.
    """
    if guide.delivery.transcodes == "always":
        return inf
    slowest = (guide.delivery.slowest_viewer, show.viewers)
    return min((rate.kbps for rate in slowest if rate is not None), default=inf)


def _allowed_levels(guide: Guide, codec: Codec) -> list[Level]:
    """Levels of a codec up to the highest the guide takes."""
    highest = guide.video.highest_level.get(codec)
    rank = None if highest is None else level_rank(codec, highest)
    return list(LEVELS[codec] if rank is None else LEVELS[codec][: rank + 1])


def _level_kbps(levels: list[Level], found: list[Candidate], fps: Floats, profile: str) -> Floats:
    """The most bitrate any allowed level gives each candidate; 0 where none holds it."""
    blocks = levels[0].codec == "h264"
    unit = 16 if blocks else 1
    across = np.array([-(-c.picture.width // unit) for c in found], dtype=np.float64)
    down = np.array([-(-c.picture.height // unit) for c in found], dtype=np.float64)
    most = np.zeros(len(found))
    for level in levels:
        holds = (
            (across * down <= level.area)
            & (across * down * fps <= level.area_per_second * (1 + 1e-12))
            & (across <= level.longest_across)
            & (down <= level.longest_down)
        )
        most = np.where(holds, np.maximum(most, level.bitrate_kbps(profile)), most)
    return np.asarray(most, dtype=np.float64)
