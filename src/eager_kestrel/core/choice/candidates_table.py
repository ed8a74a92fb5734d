"""Choose a resolution, frame rate and bitrate: every candidate at every safe rate, as arrays.

Each candidate gets the highest bitrate it may have: the lowest of budget, guide, level, viewers and
the point above which more bitrate is invisible, rounded down. The quality model then scores it on
every scene of the show's kind of motion. Of the candidates that are about as good as the best, one
is taken (:mod:`eager_kestrel.core.choice.scored`). A :class:`CandidatesTable` is prepared once and
answers for one safe rate or for thousands.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from math import inf
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats, Indices
from eager_kestrel.core.choice import quality, scored
from eager_kestrel.core.choice.candidates import CLOSE, Candidate, candidates, legible, pinned
from eager_kestrel.core.choice.limits import (
    AUDIO_SHARE,
    LEAST_VIDEO_KBPS,
    VARIABLE_TARGET,
    audio_steps,
    delivered_shares,
    level_limits,
    overheads,
    preset_takes,
    rate_control,
    rounded_down,
    rounded_up,
    row_limits,
    viewers_kbps,
)
from eager_kestrel.core.choice.scored import LIMITS, ScoredCandidates, ScoredRows
from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.resolution import Resolution, at_1000_1001
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


@dataclass(frozen=True)
class CandidatesTable:
    """All candidates of a show for a guide, smallest resolution first; arrays of shape (n,)."""

    candidates: list[Candidate]
    codec: Codec
    pixels: Floats
    fps: Floats
    per_byte: Floats
    fixed_kbps: Floats
    rules_kbps: Floats
    """Shape (4, n): guide, level, viewers (of everything sent), no visible gain."""
    enough_kbps: Floats
    """Where no gain is visible any more, whatever the minimums; the fourth rule without them."""
    min_kbps: Floats
    recommended_kbps: Floats
    """Of the guide, 0 where it says none: so much is sent though the gain is not visible."""
    smooth: Flags
    wished: Flags
    """Whether the guide advises this frame rate; all of them where it advises none."""
    encodable: Flags
    delivered: Floats
    """What is left of the quality after the platform's own copies and uneven steps, 0..1."""
    seen_pixels: Floats
    """Pixels of detail: those of the resolution, but no more than the source has."""
    seen_fps: Floats
    """Frames a second that differ: those sent, but no more than the source has."""
    audio_steps: Floats
    """Audio bitrates to choose from, ascending."""
    takes: Floats
    """Of the usual bitrate, what each takes at its preset for the same look."""
    ranks: Indices
    """Preference rank of each resolution."""
    table: quality.QualityTable
    show: Show
    guide: Guide
    """What satisfies all that get the encode."""
    members: tuple[Guide, ...]
    target_share: float = 1.0
    """Of the peak that is aimed at; 1 for constant bitrate."""
    min_quality: float = 0.0
    """That is wished for; of candidates about the same none is taken below it."""
    copies: int = 1
    """How many times the encode is sent; ``per_byte`` and ``fixed_kbps`` are of all of them."""

    def _sendable(self, safe_kbps: Floats) -> Floats:
        """Return the most that can be sent at each safe rate: viewers may receive less."""
        return np.asarray(np.minimum(safe_kbps, self.most_of_viewers_kbps), dtype=np.float64)

    @cached_property
    def most_of_viewers_kbps(self) -> float:
        """The most of all copies together that viewers of every candidate receive."""
        return float(self.rules_kbps[2].min(initial=inf))

    @cached_property
    def _audio_begins(self) -> tuple[Floats, Floats]:
        """Of each audio step but the first, the totals that reach it, and those that take it.

        It is taken once video has as much beside it as it had before.
        """
        dearest = self.per_byte.max(initial=1.0)
        reached = self.audio_steps[1:] / AUDIO_SHARE * self.copies
        return reached, reached + np.diff(self.audio_steps) * dearest

    def audio_kbps(self, safe_kbps: Floats) -> Floats:
        """The highest customary audio bitrate within its share of each total, else the least."""
        _, taken = self._audio_begins
        most = self._sendable(safe_kbps)[:, None] + 1e-9
        return np.asarray(self.audio_steps[(taken <= most).sum(axis=1)], dtype=np.float64)

    def limits_kbps(self, safe_kbps: Floats) -> Floats:
        """Every limit of every candidate at every safe rate; shape (5, len(safe), n).

        While a total grows into the next audio step, video stays as it is: it never loses to audio.
        """
        audio = self.audio_kbps(safe_kbps)[:, None]
        reached, taken = self._audio_begins
        sendable = self._sendable(safe_kbps)[:, None]
        growing = (reached <= sendable) & (sendable < taken)
        held = np.where(growing, reached, inf).min(axis=1, initial=inf)
        by_line = safe_kbps <= sendable[:, 0]
        safe = np.where(by_line, np.minimum(safe_kbps, held), safe_kbps)[:, None]
        budget = (safe - self.fixed_kbps) / self.per_byte - audio
        guide, level, viewers, clean = self.rules_kbps
        most = np.minimum(viewers, np.where(by_line, inf, held)[:, None])
        left_for_viewers = (most - self.fixed_kbps) / self.per_byte - audio
        limits = np.empty((len(LIMITS), *budget.shape))
        for row, limit in zip(limits, (budget, guide, level, left_for_viewers, clean), strict=True):
            row[:] = limit
        return limits

    def target_kbps(self, kbps: Floats) -> Floats:
        """What the encoder aims at below a peak: a share of it, but never under the minimum."""
        if self.target_share == 1:
            return kbps
        share = rounded_down(kbps * self.target_share)
        return np.minimum(kbps, np.maximum(share, rounded_up(self.min_kbps)))

    def weigh(self, safe_kbps: Floats) -> ScoredRows:
        """Everything at some safe rates."""
        return self._weighed(self.limits_kbps(safe_kbps))

    @cached_property
    def _smooth(self) -> Floats:
        return quality.smoothness(self.table, self.show.motion, self.seen_fps)

    @cached_property
    def _clean_scenes(self) -> Floats:
        """Quality on every scene at any bitrate one likes; shape (scenes, 1, n)."""
        shown = quality.detail(self.table, self.show.motion, self.seen_pixels)
        return np.asarray((self.delivered * self._smooth * shown)[:, None], dtype=np.float64)

    @cached_property
    def _half_kbps(self) -> Floats:
        """Bitrate at which compression leaves half, by scene; shape (scenes, n)."""
        motion = self.show.motion
        half = quality.half_kbps(self.table, motion, self.codec, self.pixels, self.fps)
        return np.asarray(half * self.takes, dtype=np.float64)

    def _weighed(self, limits: Floats) -> ScoredRows:
        kbps = rounded_down(limits.min(axis=0))
        target = self.target_kbps(kbps)
        left = quality.compression(self.table, self.show.motion, target, self._half_kbps)
        scenes = self._clean_scenes * left
        mean = self.table.motion[self.show.motion].mean(scenes)
        allowed = (target >= self.min_kbps) & self.smooth & self.encodable
        return ScoredRows(kbps, scenes, mean, _as_wished(allowed, self.wished))

    def without_minimums(self) -> CandidatesTable:
        """The same candidates for a guide that takes as little as one likes."""
        rules = self.rules_kbps.copy()
        rules[3] = self.enough_kbps
        return replace(
            self, min_kbps=np.full_like(self.min_kbps, LEAST_VIDEO_KBPS), rules_kbps=rules
        )

    def at_any_rate(self) -> CandidatesTable:
        """The same candidates for a guide that recommends no frame rate."""
        return replace(self, wished=np.ones_like(self.wished))

    def in_room(self, room: float) -> CandidatesTable:
        """The same candidates with so much of what may be used of the machine, 1 being all."""
        machine, speed = self.show.machine, self.pixels * self.fps
        if not any(encoder.codec == self.codec for encoder in machine.encoders):
            return self
        takes = preset_takes(self.show, self.table, self.codec, speed, room)
        holds = speed <= machine.most_pixels(self.codec) * room * (1 + 1e-9)
        return self._encoded(takes, self.encodable & holds)

    def _encoded(self, takes: Floats, encodable: Flags) -> CandidatesTable:
        """The same candidates at other presets."""
        rules = self.rules_kbps.copy()
        clean = quality.clean_kbps(self.table, self.show.motion, self.codec, self.pixels, self.fps)
        enough, rules[3] = _enough(
            np.maximum(clean * takes, self.recommended_kbps), self.min_kbps, self.target_share
        )
        return replace(self, takes=takes, rules_kbps=rules, enough_kbps=enough, encodable=encodable)

    def allowed_without(self, limits_kbps: Floats, freed: Collection[str]) -> Flags:
        """Which candidates could be sent if some limits were gone; one more is the machine.

        Args:
            limits_kbps: at a safe rate; shape (5, n).
        """
        limits = limits_kbps.copy()
        limits[[limit in freed for limit in LIMITS]] = inf
        target = self.target_kbps(rounded_down(limits.min(axis=0)))
        encodable = self.encodable | ("machine" in freed)
        return np.asarray((target >= self.min_kbps) & self.smooth & encodable, dtype=np.bool_)

    def on_any_machine(self) -> CandidatesTable:
        """The same candidates for a machine that encodes all of them in time, none the worse."""
        return self._encoded(np.minimum(self.takes, 1.0), np.ones_like(self.encodable))

    def without_limit(self, limit: BitrateBound) -> CandidatesTable:
        """The same candidates if one of the rules set no limit to a bitrate."""
        rules = self.rules_kbps.copy()
        rules[LIMITS.index(limit) - 1] = inf
        return replace(self, rules_kbps=rules)

    def among_best(self, best: Indices, rows: ScoredRows) -> Flags:
        """Which are as good as the best of each row."""
        near = scored.as_good_as(best, rows.scenes, rows.quality, self.table, self.min_quality)
        return np.asarray(near & rows.allowed, dtype=np.bool_)

    def choose(self, rows: ScoredRows) -> tuple[Indices, Indices]:
        """Return the best candidate of each row and the one to take, or -1 if none is allowed."""
        best, chosen, _ = self._choice(rows)
        return best, chosen

    def _choice(self, rows: ScoredRows) -> tuple[Indices, Indices, Flags]:
        """The best, the one to take of those as good as it, and which those are."""
        if not self.candidates:
            nothing = np.full(len(rows.kbps), -1, dtype=np.intp)
            return nothing, nothing, np.zeros_like(rows.allowed)
        best = scored.best_of(rows.kbps, rows.quality, rows.allowed)
        among = self.among_best(best, rows)
        rivals = rows.allowed & (self.fps == self.fps[np.maximum(best, 0)][:, None])
        shown = np.minimum(self.seen_pixels, self.table.viewed_on.pixels)
        usual = self.ranks < scored.ANY
        chosen = scored.preferred(among & rivals, rows.quality, shown, usual, self.table)
        return best, chosen, among

    def chosen(self, safe_kbps: Floats) -> Indices:
        """Index of the candidate to take at every safe rate; -1 where none is allowed."""
        return self.choose(self.weigh(safe_kbps))[1]

    def at(self, safe_kbps: float) -> ScoredCandidates:
        """Everything weighed at one safe rate."""
        safe = np.array([safe_kbps])
        limits = self.limits_kbps(safe)
        rows = self._weighed(limits)
        best, chosen, among = self._choice(rows)
        some = best[0] >= 0

        def tied() -> Flags:
            if not some:
                return np.zeros(len(self.candidates), dtype=np.bool_)
            near = scored.tied_with(chosen, rows.scenes, rows.quality, self.table)[0]
            same_rate = self.fps == self.fps[chosen[0]]
            return np.asarray(near & rows.allowed[0] & same_rate, dtype=np.bool_)

        return ScoredCandidates(
            candidates=self.candidates,
            audio_kbps=float(self.audio_kbps(safe)[0]),
            limits_kbps=limits[:, 0],
            kbps=rows.kbps[0],
            target_kbps=self.target_kbps(rows.kbps)[0],
            min_kbps=self.min_kbps,
            quality=rows.quality[0],
            scenes=rows.scenes[:, 0],
            smoothness=self._smooth,
            allowed=rows.allowed[0],
            encodable=self.encodable,
            tied_with=tied,
            among_best=among[0],
            chosen=int(chosen[0]) if some else None,
        )


def _as_wished(allowed: Flags, wished: Flags) -> Flags:
    """Of each row the candidates at the recommended frame rate, where any of them is allowed."""
    liked = allowed & wished
    return np.where(liked.any(axis=1, keepdims=True), liked, allowed)


def candidates_table(
    show: Show,
    guide: Guide,
    table: quality.QualityTable,
    codec: Codec,
    members: Sequence[Guide] = (),
    *,
    relayed: bool = False,
) -> CandidatesTable:
    """The candidates of a show for a guide, or for one encode that several platforms get.

    Args:
        relayed: whether only the first is sent to, and passes it on.
    """
    members, table = members or (guide,), table.preferring(show.motion, show.prefer)
    senders = members[:1] if relayed else members
    found = _candidates(show, guide, members)
    pixels = np.array([c.resolution.pixels for c in found], dtype=np.float64)
    fps = np.array([float(c.frame_rate) for c in found], dtype=np.float64)
    lows, highs, recommended = row_limits(members, found, codec)
    per_byte, fixed = overheads(senders, found, guide.audio.sample_rate_hz)
    slowest = min(viewers_kbps(member, show) for member in members)
    viewers = slowest * per_byte.sum(axis=0) + fixed.sum(axis=0)  # they get no copy's headers
    ranks = scored.ranks_of(
        found, show.picture, {size for member in members for size in member.named}
    )
    share = 1.0 if rate_control(guide) == "constant" else VARIABLE_TARGET
    takes = preset_takes(show, table, codec, pixels * fps)
    min_fps = table.motion[show.motion].min_fps
    clean = quality.clean_kbps(table, show.motion, codec, pixels, fps) * takes
    enough, floored = _enough(np.maximum(clean, recommended), lows, share)
    return CandidatesTable(
        candidates=found,
        codec=codec,
        pixels=pixels,
        fps=fps,
        per_byte=per_byte.sum(axis=0),
        fixed_kbps=fixed.sum(axis=0),
        rules_kbps=np.stack([highs, level_limits(guide, codec, found, fps), viewers, floored]),
        enough_kbps=enough,
        min_kbps=lows,
        recommended_kbps=recommended,
        smooth=fps * (1 + float(CLOSE)) >= min(min_fps, fps.max(initial=0.0)),
        wished=_wished(guide, found),
        encodable=pixels * fps <= show.machine.most_pixels(codec),
        delivered=delivered_shares(members, table, found, show.source_fps),
        seen_pixels=np.array(
            [min(c.resolution.pixels, _detail(show, c.resolution)) for c in found],
            dtype=np.float64,
        ),
        seen_fps=np.minimum(fps, float(show.source_fps)),
        audio_steps=audio_steps(guide),
        takes=takes,
        ranks=ranks,
        table=table,
        show=show,
        guide=guide,
        members=tuple(members),
        target_share=share,
        copies=len(senders),
    )


def _enough(clean: Floats, lows: Floats, target_share: float) -> tuple[Floats, Floats]:
    """Peaks beyond which nothing is gained, without and with the least that guides take."""
    without, with_ = (
        np.ceil(x / target_share / 100) * 100 for x in (clean, np.maximum(clean, lows))
    )
    return without, with_


def _detail(show: Show, resolution: Resolution) -> float:
    """Pixels a source has for a resolution: all of them, or those of the part of its shape."""
    picture = show.picture
    real = min(1.0, show.source.pixels / picture.pixels)
    if picture.width * resolution.height > picture.height * resolution.width:
        return real * picture.height**2 * resolution.width / resolution.height
    return real * picture.width**2 * resolution.height / resolution.width


def rebuilt(
    field: CandidatesTable, show: Show, change: Callable[[Guide], Guide] = lambda guide: guide
) -> CandidatesTable:
    """The candidates of another show, or for guides that say something else, in the same place."""
    members = tuple(change(member) for member in field.members)
    made = candidates_table(
        show,
        change(field.guide),
        field.table,
        field.codec,
        members,
        relayed=field.copies < len(members),
    )
    return replace(made, min_quality=field.min_quality)


def _candidates(show: Show, guide: Guide, members: Sequence[Guide]) -> list[Candidate]:
    rows = [size for member in members for size in member.named]
    lines = guide.delivery.better_from_lines
    found = candidates(show.picture, show.source_fps, guide.video, rows, lines)
    return legible(pinned(found, show, guide.video, guide.title), show)


def _wished(guide: Guide, found: list[Candidate]) -> Flags:
    wish = guide.video.recommended.frame_rate
    rates = [c.frame_rate for c in found]
    if wish is None:
        return np.ones(len(found), dtype=bool)
    return np.array([rate in (wish, at_1000_1001(wish)) for rate in rates], dtype=bool)


GRID_KBPS = 10.0


def grid(field: CandidatesTable, from_kbps: float = 0.0) -> Floats:
    """Safe rates up to where no candidate gains any more."""
    if not field.candidates:
        return np.empty(0)
    most = field.rules_kbps.min(axis=0).max() * field.per_byte.max() + field.fixed_kbps.max()
    top = most + field.audio_steps[-1] * (field.per_byte.max() + 20) + GRID_KBPS
    begin = np.floor(from_kbps / GRID_KBPS) * GRID_KBPS + GRID_KBPS
    return np.arange(begin, max(top, begin) + GRID_KBPS, GRID_KBPS)
