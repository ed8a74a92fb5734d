"""Why each setting has its value: the limit that decided it, as a fact.

Sentences are made in :mod:`eager_kestrel.core.words`; here only what they are made from.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from math import inf
from typing import TYPE_CHECKING, Literal

import numpy as np

from eager_kestrel.core.choice.candidates import LEGIBLE_PIXELS, text_height
from eager_kestrel.core.choice.candidates_table import CandidatesTable, rebuilt
from eager_kestrel.core.choice.limits import AUDIO_SHARE, LEAST_VIDEO_KBPS, viewers_kbps
from eager_kestrel.core.choice.scored import LIMITS, ScoredCandidates
from eager_kestrel.core.division.knapsack import CELL_KBPS
from eager_kestrel.core.plan.encoder_settings import BUFFER_SECONDS
from eager_kestrel.core.plan.plan import AudioSettings, Reason, VideoSettings
from eager_kestrel.core.resolution import Resolution, frame_rate_text, resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import facts
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import points

if TYPE_CHECKING:
    from eager_kestrel.core.choice.budget import Budget
    from eager_kestrel.core.choice.candidates import Candidate
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.show.machine import Machine
    from eager_kestrel.core.show.show import Show

BECAUSE: tuple[Literal["own", "named", "customary", "safest"], ...] = (
    "own",
    "named",
    "customary",
    "safest",
)
"""How a resolution recommends itself among those that are tied, by its rank."""


def audio_reason(guide: Guide, audio: AudioSettings, choice: Choice) -> Reason:
    """Why audio has its bitrate."""
    chosen, rules = audio.bitrate_kbps, guide.audio
    least, most = rules.least.kbps, rules.most.kbps
    recommended = rules.recommended.bitrate
    value = f"{chosen:g} kbit/s"
    if recommended is not None and chosen == recommended.kbps:
        return Reason.of(value, facts.audio_recommended(platform=guide.title, kbps=chosen))
    share: Literal["viewers", "share of the total"] = "share of the total"
    if choice.field.most_of_viewers_kbps < choice.safe_kbps:
        share = "viewers"
    fact = facts.audio_shared(
        limited_by="guide" if chosen in (least, most) else share,
        platform=guide.title,
        least_kbps=least,
        most_kbps=most,
        share=AUDIO_SHARE,
    )
    return Reason.of(value, fact)


def video_reasons(
    guide: Guide, show: Show, choice: Choice, waterfall: Budget, video: VideoSettings
) -> tuple[Reason, ...]:
    """Why each figure of the chosen candidate is what it is."""
    best, name, weighed = choice.best, guide.title, choice.weighed
    resolution, rate = video.resolution, video.frame_rate
    buffer = facts.buffer_sized(
        limited_by="budget" if video.buffer_kbit >= video.most_kbps * BUFFER_SECONDS else "level",
        level=video.level,
    )
    colour = f"{video.pixel_format}, {video.colour}, {video.colour_range} range"
    bitrate = Bitrate.from_kbps(float(weighed.target_kbps[best])).in_kbps()
    return (
        Reason.of(bitrate, _bitrate(guide, show, choice, waterfall)),
        Reason.of(str(resolution), _resolution(guide, show, choice)),
        Reason.of(frame_rate_text(rate), _frame_rate(guide, show, choice)),
        Reason.of(f"{video.keyframe_seconds:g} s", _keyframes(guide, video)),
        Reason.of(video.rate_control, _rate_control(name, video)),
        Reason.of(f"{video.buffer_kbit:,.0f} kbit", buffer),
        Reason.of(
            video.profile,
            facts.profile_taken(
                platform=name, recommended=guide.video.recommended.profile == video.profile
            ),
        ),
        Reason.of(video.level, facts.level_needed(codec=video.codec)),
        Reason.of(str(video.b_frames), _b_frames(guide, video)),
        *_preset(choice.field.show, choice.field.table, video),
        Reason.of(colour, facts.colour_read(platform=name)),
        *_resize(show, video),
    )


RULED_BY: dict[str, tuple[str, ...]] = {
    "bitrate": ("video.ceiling", "video.floor", "rungs"),
    "resolution": ("video.largest", "video.resolutions", "video.shapes"),
    "frame rate": ("video.fastest", "video.frame_rates"),
    "keyframes": ("video.keyframes",),
    "rate control": ("video.rate_control",),
    "profile": ("video.codecs", "video.profiles"),
    "b-frames": ("video.b_frames",),
    "audio": (
        "audio.codecs",
        "audio.least",
        "audio.most",
        "audio.channels",
        "audio.sample_rates_hz",
    ),
}
"""By what a reason is about, the guide's keys it rests on."""


def with_guesses(guide: Guide, reasons: tuple[Reason, ...]) -> tuple[Reason, ...]:
    """Reasons, with what the guide only guesses said to be a guess."""
    return tuple(
        one.model_copy(update={"text": words.a_guess(one.text, guide.title)})
        if one.about in guessed(guide, reasons)
        else one
        for one in reasons
    )


def guessed(guide: Guide, reasons: tuple[Reason, ...]) -> tuple[str, ...]:
    """What is limited by a guess of the guide."""
    return tuple(
        one.about
        for one in reasons
        if one.limited_by == "guide" and any(map(guide.guesses, RULED_BY.get(one.about, ())))
    )


def as_asked(show: Show, reasons: tuple[Reason, ...]) -> tuple[Reason, ...]:
    """Reasons, with what somebody asked for said to be that."""
    pinned = {"resolution": show.resolution, "frame rate": show.fps_sent}
    return tuple(
        Reason(about=one.about, value=one.value, limited_by="wish", text=words.pinned(one.about))
        if pinned.get(one.about) is not None
        else one
        for one in reasons
    )


def _b_frames(guide: Guide, video: VideoSettings) -> facts.Fact:
    recommended = guide.video.recommended.b_frames == video.b_frames
    few = video.b_frames == 0 or video.b_frames == guide.video.b_frames
    bound: Literal["guide", "no visible gain"] = (
        "guide" if few or recommended else "no visible gain"
    )
    return facts.b_frames_taken(limited_by=bound, platform=guide.title, recommended=recommended)


def _keyframes(guide: Guide, video: VideoSettings) -> facts.Fact:
    return facts.keyframes_ruled(
        platform=guide.title,
        seconds=video.keyframe_seconds,
        fps=video.frame_rate,
        frames=video.keyframe_frames,
        rule=guide.video.keyframes.words(),
    )


def _rate_control(name: str, video: VideoSettings) -> facts.Fact:
    if video.peak_kbps is None:
        return facts.rate_control_ruled(platform=name)
    return facts.variable_preferred(
        platform=name, target_kbps=video.bitrate_kbps, peak_kbps=video.peak_kbps
    )


def _preset(show: Show, table: QualityTable, video: VideoSettings) -> tuple[Reason, ...]:
    if video.preset is None:
        return ()
    share = show.machine.share
    load = show.machine.load_of(video.codec, video.preset, video.pixels_per_second)
    factors = table.preset.get(video.codec, {})
    takes = factors.get(video.preset, 1.0)
    usual = next((name for name, factor in factors.items() if factor == 1), "")
    return (
        Reason.of(
            video.preset, facts.preset_held(share=share, load=load, takes=takes, usual=usual)
        ),
    )


def _resize(show: Show, video: VideoSettings) -> tuple[Reason, ...]:
    return (
        ()
        if video.resize is None
        else (Reason.of(video.resize, facts.resized_for(motion=show.motion)),)
    )


def _bitrate(guide: Guide, show: Show, choice: Choice, waterfall: Budget) -> facts.Fact:
    weighed, best = choice.with_room, choice.best
    budget_kbps, ceiling_kbps, level, _, clean = (float(x) for x in weighed.limits_kbps[:, best])
    viewers = min(viewers_kbps(member, show) for member in choice.field.members)
    return facts.bitrate_bounded(
        weighed.limit(best, CELL_KBPS if len(show.destinations) > 1 else 0.0),
        platform=guide.title,
        motion=show.motion,
        kbps={
            "safe": waterfall.safe_kbps,
            "budget": round(budget_kbps, 3),
            "ceiling": ceiling_kbps,
            "clean": round(clean, 1),
            "level": level,
            "viewers": viewers if viewers < inf else 0.0,
        },
        of="your data cap" if waterfall.capped else "your connection",
        copies="" if choice.field.copies == 1 else f" for {choice.field.copies} copies",
    )


@dataclass(frozen=True)
class Choice:
    """A chosen candidate, and what would be chosen instead if one limit were gone.

    A setting is limited by the limit without which it would be another: so it is asked, limit by
    limit, and nothing is said that asking does not bear out.
    """

    field: CandidatesTable
    weighed: ScoredCandidates
    best: int
    safe_kbps: float
    """What it was allotted."""
    room_kbps: float
    """With what no destination uses."""

    @cached_property
    def with_room(self) -> ScoredCandidates:
        """Weighed with all the room there is, if that changes nothing: what limits it then."""
        roomy = self.field.at(max(self.safe_kbps, self.room_kbps))
        same = roomy.chosen == self.best and roomy.kbps[self.best] == self.weighed.kbps[self.best]
        return roomy if same else self.weighed

    @property
    def now(self) -> Candidate:
        """What is chosen."""
        return self.weighed.candidates[self.best]

    def otherwise(self, field: CandidatesTable) -> Candidate:
        """What other limits would choose; the same where they allow nothing."""
        index = field.at(self.safe_kbps).chosen
        return self.now if index is None else field.candidates[index]

    @cached_property
    def freed(self) -> tuple[tuple[Candidate, Literal["floor", "machine", "both"]], ...]:
        """What would be chosen without the guide's floors, on any machine, and without either."""
        free = self.field.without_floors()
        return (
            (self.otherwise(free), "floor"),
            (self.otherwise(self.field.on_any_machine()), "machine"),
            (self.otherwise(free.on_any_machine()), "both"),
        )

    @cached_property
    def of_larger_source(self) -> Candidate:
        """If the source had twice the lines."""
        show = self.field.show
        source = Resolution(2 * show.source.width, 2 * show.source.height)
        return self.otherwise(rebuilt(self.field, show.model_copy(update={"source": source})))

    @cached_property
    def of_faster_source(self) -> Candidate:
        """If the source had twice the frames a second."""
        show = self.field.show
        update = {"frame_rate": min(2 * show.frame_rate, Fraction(480))}
        return self.otherwise(rebuilt(self.field, show.model_copy(update=update)))

    @cached_property
    def of_any_text(self) -> Candidate:
        """If nothing in it had to be read."""
        show = self.field.show.model_copy(update={"smallest_text": None})
        return self.otherwise(rebuilt(self.field, show))

    @cached_property
    def of_larger_guide(self) -> Candidate:
        """If the platform took any resolution of the source's shape, and any rate."""
        return self.otherwise(rebuilt(self.field, self.field.show, any_resolution))

    def floor_of(self, candidate: Candidate) -> tuple[float, float]:
        """The least bitrate that is taken of a candidate, and what there is for it."""
        at = self.weighed.candidates.index(candidate)
        return float(self.weighed.floors_kbps[at]), float(self.weighed.limits_kbps[:3, at].min())

    def beside_others(self, candidate: Candidate, machine: Machine) -> bool:
        """Whether the machine alone would encode it in time."""
        needs = candidate.resolution.pixels * float(candidate.frame_rate)
        return needs <= machine.most_pixels(self.field.codec)


def any_resolution(guide: Guide) -> Guide:
    """A guide that takes every resolution and rate, with everything else as it is."""
    video = guide.video.model_copy(
        update={
            "largest": Resolution(16384, 16384),
            "resolutions": (),
            "fastest": Fraction(480),
            "frame_rates": (),
        }
    )
    return guide.with_rules({"video": video})


def _resolution(guide: Guide, show: Show, choice: Choice) -> facts.Fact:
    chosen, weighed = choice.now, choice.weighed
    if chosen.resolution.pixels > show.source.pixels:
        only = bool(guide.video.resolutions)
        return (
            facts.resolution_only(platform=guide.title)
            if only
            else facts.resolution_rewarded(platform=guide.title)
        )
    if show.smallest_text is not None:
        other = choice.of_any_text.resolution
        if other != chosen.resolution:
            return facts.resolution_legible(
                other=other,
                pixels=text_height(show, other),
                least=LEGIBLE_PIXELS,
            )
    for freed, bound in choice.freed:
        if freed.resolution == chosen.resolution:
            continue
        if bound == "machine":
            beside = choice.beside_others(freed, show.machine)
            return facts.too_slow(
                "resolution", str(freed.resolution), show.machine.share, beside_others=beside
            )
        floor, kbps = choice.floor_of(freed)
        return facts.resolution_under_floor(
            platform=guide.title,
            next=freed.resolution,
            fps=freed.frame_rate,
            floor_kbps=floor,
            kbps=kbps,
            machine_too=bound == "both",
        )
    largest = max(c.resolution.pixels for c in weighed.candidates)
    if chosen.resolution.pixels == largest:
        if choice.of_larger_guide.resolution.pixels > chosen.resolution.pixels:
            return facts.resolution_largest(limited_by="guide", platform=guide.title)
        alone = weighed.tied.sum() == 1
        if alone and choice.of_larger_source.resolution.pixels > chosen.resolution.pixels:
            return facts.resolution_largest(limited_by="source", platform=guide.title)
    return _looks_best(guide, show, choice)


def _looks_best(guide: Guide, show: Show, choice: Choice) -> facts.Fact:
    """No rule stands in the way: what others would look like."""
    chosen, weighed, best = choice.now, choice.weighed, choice.best
    tied = [weighed.candidates[i].resolution for i in np.flatnonzero(weighed.tied)]
    most = max(tied, key=lambda p: p.pixels)
    quality = float(weighed.quality[best])
    worse = [
        i
        for i, c in enumerate(weighed.candidates)
        if c.resolution.pixels > most.pixels
        and c.frame_rate == chosen.frame_rate
        and points(float(weighed.quality[i])) < points(quality)
    ]
    after = min(worse, key=lambda i: weighed.candidates[i].resolution.pixels, default=None)
    if len(tied) > 1:
        smallest, worse_one = min(tied, key=lambda p: p.pixels), None
        if after is not None:
            worse_one = weighed.candidates[after].resolution, float(weighed.quality[after])
        return facts.resolution_tied(
            chosen.resolution,
            facts.Tied(smallest, most, BECAUSE[int(choice.field.ranks[best])]),
            kbps=float(weighed.kbps[best]),
            platform=guide.title,
            quality=quality,
            worse=worse_one,
        )
    if after is None:
        return facts.resolution_enough(kbps=float(weighed.kbps[best]))
    return facts.resolution_looks_best(
        kbps=float(weighed.kbps[after]),
        next=weighed.candidates[after].resolution,
        next_quality=float(weighed.quality[after]),
        quality=quality,
        motion=show.motion,
    )


def _frame_rate(guide: Guide, show: Show, choice: Choice) -> facts.Fact:
    chosen, weighed = choice.now, choice.weighed
    for freed, bound in choice.freed:
        if freed.frame_rate == chosen.frame_rate:
            continue
        if bound == "machine":
            beside = choice.beside_others(freed, show.machine)
            rate = f"{frame_rate_text(freed.frame_rate)} fps"
            return facts.too_slow("frame rate", rate, show.machine.share, beside_others=beside)
        floor, _ = choice.floor_of(freed)
        return facts.rate_under_floor(
            platform=guide.title,
            resolution=freed.resolution,
            other=freed.frame_rate,
            floor_kbps=floor,
            machine_too=bound == "both",
        )
    if choice.otherwise(choice.field.at_any_rate()).frame_rate != chosen.frame_rate:
        return facts.rate_recommended(platform=guide.title)
    faster = [i for i, c in enumerate(weighed.candidates) if c.frame_rate > chosen.frame_rate]
    if faster:
        top = float(weighed.quality[choice.best])
        worse = [i for i in faster if points(float(weighed.quality[i])) < points(top)]
        if not worse:
            return facts.rate_enough()
        other = max(worse, key=lambda i: (bool(weighed.allowed[i]), float(weighed.quality[i])))
        return _rate_looks_best(choice, other)
    if choice.of_larger_guide.frame_rate > chosen.frame_rate:
        return facts.rate_fastest(limited_by="guide", platform=guide.title)
    if choice.of_faster_source.frame_rate > chosen.frame_rate:
        return facts.rate_fastest(limited_by="source", platform=guide.title)
    return facts.rate_enough()


def _rate_looks_best(choice: Choice, other: int) -> facts.Fact:
    """The frame rate is the best one's, among all resolutions at each."""
    weighed = choice.weighed
    return facts.rate_looks_best(
        other=weighed.candidates[other].frame_rate,
        other_quality=float(weighed.quality[other]),
        quality=float(weighed.quality[choice.best]),
    )


def viewers_bind(weighed: ScoredCandidates) -> bool:
    """Return whether the slowest viewers, and not the upload, leave less than any setting needs."""
    if not weighed.candidates:
        return False
    left, viewers = (
        float(weighed.limits_kbps[LIMITS.index(limit)].max()) for limit in ("budget", "viewers")
    )
    return viewers < min(max(0.0, left), float(weighed.floors_kbps.min()))


def infeasible(
    guide: Guide, show: Show, weighed: ScoredCandidates, waterfall: Budget
) -> tuple[str, str]:
    """Which limit leaves nothing to choose from, and what would help."""
    rules, other = guide.video, words.OTHER_PLATFORM
    if not weighed.candidates and show.smallest_text is not None:
        return words.no_legible(guide.title, show.smallest_text, LEGIBLE_PIXELS), words.LARGER_TEXT
    if not weighed.candidates:
        sizes = ", ".join(map(str, rules.resolutions)) or f"up to {rules.largest}"
        shapes = words.shape_words(rules.shapes)
        source = resolution_at(show.source, show.frame_rate)
        said = words.no_resolution(guide.title, sizes, shapes, rules.rates_words(), source)
        return said, words.OTHER_SOURCE
    if float(weighed.limits_kbps[2].max()) == 0:
        return words.no_level(guide.title), other
    if not weighed.encodable.any():
        return words.machine_too_slow(guide.title), words.FASTER_PRESET
    left = max(0.0, float(weighed.limits_kbps[0].max()))
    needed = float(weighed.floors_kbps.min())
    of_guide = needed > LEAST_VIDEO_KBPS
    if viewers_bind(weighed):
        viewers = float(weighed.limits_kbps[LIMITS.index("viewers")].max())
        said = words.viewers_too_slow(guide.title, max(0.0, viewers), needed, guide=of_guide)
        return said, words.FASTER_VIEWERS
    guide_kbps = float(weighed.limits_kbps[1].max())
    if left >= needed > guide_kbps:
        return words.clashing_rows(guide.title, needed, guide_kbps), words.CORRECT_GUIDE
    said = words.too_little_left(guide.title, left, needed, guide=of_guide)
    missing = needed - left
    if waterfall.capped:
        return f"{words.cap_leaves(waterfall.safe_kbps)}: {said}", words.MORE_DATA
    if waterfall.reserved_kbps and missing <= waterfall.before_reserves_kbps - waterfall.safe_kbps:
        before, after = waterfall.before_reserves_kbps, waterfall.safe_kbps
        return f"{words.reserves_leave(before, after)}: {said}", words.FREE_RESERVES
    return f"{words.upload_leaves(waterfall.safe_kbps)}: {said}", words.MORE_UPLOAD
