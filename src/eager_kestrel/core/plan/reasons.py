"""Why each figure of a chosen candidate is what it is: the limit that bound it, as a fact.

Sentences are made in :mod:`eager_kestrel.core.words`; here only what they are made from.
"""

from __future__ import annotations

from math import inf

from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.field import Weighed
from eager_kestrel.core.choice.limits import AUDIO_SHARE, LEAST_VIDEO_KBPS, viewers_kbps
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.picture import frame_rate_text
from eager_kestrel.core.plan.card import BUFFER_SECONDS
from eager_kestrel.core.plan.plan import AudioSettings, Reason, VideoSettings
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import facts
from eager_kestrel.core.words import plans as words


def audio_reason(guide: Guide, audio: AudioSettings) -> Reason:
    """Why audio has its bitrate."""
    chosen, rules = audio.bitrate_kbps, guide.audio
    least, most = rules.least.kbps, rules.most.kbps
    fact = facts.AudioShared(
        bound_by="guide" if chosen in (least, most) else "share of the total",
        platform=guide.title,
        least_kbps=least,
        most_kbps=most,
        share=AUDIO_SHARE,
    )
    return Reason.of(f"{chosen:g} kbit/s", fact)


def video_reasons(
    guide: Guide,
    show: Show,
    weighed: Weighed,
    order: list[int],
    waterfall: Budget,
    video: VideoSettings,
) -> tuple[Reason, ...]:
    """Why each figure of the winner, ``order[0]``, is what it is."""
    best, name = order[0], guide.title
    picture, rate = video.picture, video.frame_rate
    buffer = facts.BufferSized(
        bound_by="budget" if video.buffer_kbit >= video.most_kbps * BUFFER_SECONDS else "level",
        level=video.level,
    )
    colour = f"{video.pixel_format}, {video.colour}, {video.colour_range} range"
    bitrate = Bitrate.from_kbps(float(weighed.target_kbps[best])).in_kbps()
    return (
        Reason.of(bitrate, _bitrate(guide, show, weighed, best, waterfall)),
        Reason.of(str(picture), _picture(guide, show, weighed, best)),
        Reason.of(frame_rate_text(rate), _frame_rate(guide, show, weighed, order)),
        Reason.of(f"{video.keyframe_seconds:g} s", _keyframes(guide, video)),
        Reason.of(video.rate_control, _rate_control(name, video)),
        Reason.of(f"{video.buffer_kbit:g} kbit", buffer),
        Reason.of(video.profile, facts.ProfileTaken(name)),
        Reason.of(video.level, facts.LevelNeeded(video.codec)),
        Reason.of(str(video.b_frames), facts.BFramesTaken(name)),
        *_preset(show, video),
        Reason.of(colour, facts.ColourRead(name)),
        *_resize(show, video),
    )


def _keyframes(guide: Guide, video: VideoSettings) -> facts.Fact:
    return facts.KeyframesRuled(
        platform=guide.title,
        seconds=video.keyframe_seconds,
        fps=video.frame_rate,
        frames=float(video.keyframe_frames),
        rule=guide.video.keyframes.words(),
    )


def _rate_control(name: str, video: VideoSettings) -> facts.Fact:
    if video.peak_kbps is None:
        return facts.RateControlRuled(name)
    return facts.VariablePreferred(name, video.bitrate_kbps, video.peak_kbps)


def _preset(show: Show, video: VideoSettings) -> tuple[Reason, ...]:
    if video.preset is None:
        return ()
    share = show.machine.share
    load = show.machine.load(video.codec, video.pixels_per_second)
    return (Reason.of(video.preset, facts.PresetHeld(share=share, load=load * share)),)


def _resize(show: Show, video: VideoSettings) -> tuple[Reason, ...]:
    return () if video.resize is None else (Reason.of(video.resize, facts.ResizedFor(show.motion)),)


def _bitrate(
    guide: Guide, show: Show, weighed: Weighed, best: int, waterfall: Budget
) -> facts.Fact:
    budget_kbps, ceiling_kbps, level, viewers, clean = (
        float(x) for x in weighed.limits_kbps[:, best]
    )
    return facts.BitrateBounded(
        bound_by=weighed.limit(best),
        platform=guide.title,
        motion=show.motion,
        safe_kbps=waterfall.safe_kbps,
        budget_kbps=round(budget_kbps, 3),
        ceiling_kbps=ceiling_kbps,
        clean_kbps=round(clean, 1),
        level_kbps=level,
        viewers_kbps=viewers_kbps(guide, show) if viewers < inf else 0.0,
    )


def _picture(guide: Guide, show: Show, weighed: Weighed, best: int) -> facts.Fact:
    chosen = weighed.candidates[best]
    if chosen.picture.pixels > show.source.pixels:
        return facts.PictureRewarded(guide.title)
    larger = [
        i
        for i, c in enumerate(weighed.candidates)
        if c.frame_rate == chosen.frame_rate and c.picture.pixels > chosen.picture.pixels
    ]
    if not larger:
        largest = guide.video.largest
        in_full = largest.within(show.source) and show.source != largest
        return facts.PictureLargest("guide" if in_full else "source", guide.title)
    after = min(larger, key=lambda i: weighed.candidates[i].picture.pixels)
    following = weighed.candidates[after].picture
    if not weighed.encodable[after] and weighed.kbps[after] >= weighed.floors_kbps[after]:
        return facts.PictureTooSlow(following, show.machine.share)
    return facts.PictureLooksBest(
        kbps=float(weighed.kbps[after]),
        next=following,
        next_quality=float(weighed.quality[after]),
        quality=float(weighed.quality[best]),
        motion=show.motion,
    )


def _frame_rate(guide: Guide, show: Show, weighed: Weighed, order: list[int]) -> facts.Fact:
    best = order[0]
    rate = weighed.candidates[best].frame_rate
    faster = [i for i, c in enumerate(weighed.candidates) if c.frame_rate > rate]
    affordable = [i for i in faster if weighed.kbps[i] >= weighed.floors_kbps[i]]
    if affordable:
        other = max(affordable, key=lambda i: float(weighed.quality[i]))
        fps = weighed.candidates[other].frame_rate
        if not weighed.encodable[other] and weighed.quality[other] > weighed.quality[best]:
            return facts.RateTooSlow(fps, show.machine.share)
        qualities = float(weighed.quality[other]), float(weighed.quality[best])
        return facts.RateLooksBest(fps, *qualities)
    if faster:
        floors = {float(weighed.floors_kbps[i]): weighed.candidates[i].frame_rate for i in faster}
        least = min(floors)
        return facts.RateUnderFloor(guide.title, floors[least], least)
    return facts.RateFastest("source" if rate == show.frame_rate else "guide", guide.title)


def infeasible(guide: Guide, show: Show, weighed: Weighed, waterfall: Budget) -> str:
    """Which rule leaves nothing to choose from."""
    rules = guide.video
    if not weighed.candidates:
        sizes = ", ".join(map(str, rules.pictures)) or f"up to {rules.largest}"
        shapes = words.shape_words(rules.shapes)
        return words.no_picture(
            guide.title, sizes, shapes, rules.rates_words(), show.source, show.frame_rate
        )
    if float(weighed.limits_kbps[2].max()) == 0:
        return words.no_level(guide.title)
    if not weighed.encodable.any():
        return words.machine_too_slow(guide.title)
    left = max(0.0, float(weighed.limits_kbps[0].max()))
    needed = float(weighed.floors_kbps.min())
    of_guide = needed > LEAST_VIDEO_KBPS
    return words.too_little_left(guide.title, waterfall.safe_kbps, left, needed, guide=of_guide)
