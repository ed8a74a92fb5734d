"""Why each figure of a chosen candidate is what it is: the constraint that bound it, with facts.

Sentences are made in :mod:`eager_kestrel.core.plan.prose`; here only what they are made from.
"""

from __future__ import annotations

from fractions import Fraction
from math import inf

from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.field import AUDIO_SHARE, LEAST_VIDEO_KBPS, Weighed, viewers_kbps
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.picture import frame_rate_text
from eager_kestrel.core.plan.card import BUFFER_SECONDS
from eager_kestrel.core.plan.plan import AudioSettings, Bound, Reason, VideoSettings
from eager_kestrel.core.plan.prose import reason
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate


def audio_reason(guide: Guide, audio: AudioSettings) -> Reason:
    """Why audio has its bitrate."""
    chosen = audio.bitrate_kbps
    least, most = guide.audio.least.kbps, guide.audio.most.kbps
    at_an_end = chosen in (least, most)
    return reason(
        "audio",
        f"{chosen:g} kbit/s",
        "guide" if at_an_end else "share of the total",
        platform=guide.title,
        least_kbps=least,
        most_kbps=most,
        share=AUDIO_SHARE,
    )


def video_reasons(
    guide: Guide,
    show: Show,
    weighed: Weighed,
    order: list[int],
    waterfall: Budget,
    video: VideoSettings,
) -> tuple[Reason, ...]:
    """Why each figure of the winner, ``order[0]``, is what it is."""
    best = order[0]
    rate = weighed.candidates[best].frame_rate
    name = guide.title
    fps = frame_rate_text(rate)
    seconds, frames = video.keyframe_seconds, video.keyframe_frames
    return (
        _bitrate_reason(guide, show, weighed, best, waterfall),
        _picture_reason(guide, show, weighed, best),
        _frame_rate_reason(guide, show, weighed, order),
        reason(
            "keyframes", f"{seconds:g} s", "guide",
            platform=name, seconds=seconds, fps=fps, frames=float(frames),
            rule=guide.video.keyframes.words(),
        ),
        _rate_control_reason(name, video),
        reason(
            "buffer", f"{video.buffer_kbit:g} kbit",
            "budget" if video.buffer_kbit >= video.most_kbps * BUFFER_SECONDS else "level",
            level=video.level,
        ),
        reason("profile", video.profile, "guide", platform=name),
        reason("level", video.level, "level", codec=video.codec),
        reason("b-frames", str(video.b_frames), "guide", platform=name),
        *_machine_reasons(show, video),
        reason(
            "colour", f"{video.pixel_format}, {video.colour}, {video.colour_range} range", "guide",
            platform=name,
        ),
        *_resize_reasons(show, video),
    )  # fmt: skip


def _rate_control_reason(name: str, video: VideoSettings) -> Reason:
    if video.peak_kbps is None:
        return reason("rate control", video.rate_control, "guide", platform=name)
    facts = {"target_kbps": video.bitrate_kbps, "peak_kbps": video.peak_kbps}
    return reason("rate control", video.rate_control, "budget", platform=name, **facts)


def _machine_reasons(show: Show, video: VideoSettings) -> tuple[Reason, ...]:
    if video.preset is None:
        return ()
    rate = Fraction(video.frame_rate)
    load = show.machine.load(video.codec, video.width * video.height * float(rate))
    facts = {"share": show.machine.share, "load": load * show.machine.share}
    return (reason("preset", video.preset, "machine", **facts),)


def _resize_reasons(show: Show, video: VideoSettings) -> tuple[Reason, ...]:
    if video.resize is None:
        return ()
    return (reason("resize", video.resize, "content", motion=show.motion),)


def _bitrate_reason(
    guide: Guide, show: Show, weighed: Weighed, best: int, waterfall: Budget
) -> Reason:
    budget_kbps, ceiling_kbps, level, viewers, clean = (
        float(x) for x in weighed.limits_kbps[:, best]
    )
    return reason(
        "bitrate",
        Bitrate.from_kbps(float(weighed.target_kbps[best])).in_kbps(),
        weighed.limit(best),
        platform=guide.title,
        motion=show.motion,
        safe_kbps=waterfall.safe_kbps,
        budget_kbps=round(budget_kbps, 3),
        ceiling_kbps=ceiling_kbps,
        clean_kbps=round(clean, 1),
        level_kbps=level,
        viewers_kbps=viewers_kbps(guide, show) if viewers < inf else 0.0,
    )


def _picture_reason(guide: Guide, show: Show, weighed: Weighed, best: int) -> Reason:
    chosen = weighed.candidates[best]
    larger = [
        i
        for i, c in enumerate(weighed.candidates)
        if c.frame_rate == chosen.frame_rate and c.picture.pixels > chosen.picture.pixels
    ]
    value = str(chosen.picture)
    if chosen.picture.pixels > show.source.pixels:
        return reason("picture", value, "guide", platform=guide.title, rewarded="yes")
    if not larger:
        source, largest = show.source, guide.video.largest
        in_full = source.width >= largest.width and source.height >= largest.height
        bound: Bound = "guide" if in_full and source != largest else "source"
        return reason("picture", value, bound, platform=guide.title)
    after = min(larger, key=lambda i: weighed.candidates[i].picture.pixels)
    if not weighed.encodable[after] and weighed.kbps[after] >= weighed.floors_kbps[after]:
        next_ = str(weighed.candidates[after].picture)
        return reason("picture", value, "machine", next=next_, share=show.machine.share)
    return reason(
        "picture",
        value,
        "quality at this bitrate",
        kbps=float(weighed.kbps[after]),
        next=str(weighed.candidates[after].picture),
        next_quality=float(weighed.quality[after]),
        quality=float(weighed.quality[best]),
        motion=show.motion,
    )


def _frame_rate_reason(guide: Guide, show: Show, weighed: Weighed, order: list[int]) -> Reason:
    chosen = weighed.candidates[order[0]]
    faster = [
        i
        for i, c in enumerate(weighed.candidates)
        if c.frame_rate > chosen.frame_rate and weighed.kbps[i] >= weighed.floors_kbps[i]
    ]
    value = frame_rate_text(chosen.frame_rate)
    if not faster:
        floors = {
            float(weighed.floors_kbps[i]): frame_rate_text(c.frame_rate)
            for i, c in enumerate(weighed.candidates)
            if c.frame_rate > chosen.frame_rate
        }
        if floors:
            least = min(floors)
            return reason("frame rate", value, "guide", platform=guide.title, other=floors[least],
                          floor_kbps=least)  # fmt: skip
        bound: Bound = "source" if chosen.frame_rate == show.frame_rate else "guide"
        return reason("frame rate", value, bound, platform=guide.title)
    other = max(faster, key=lambda i: float(weighed.quality[i]))
    if not weighed.encodable[other] and weighed.quality[other] > weighed.quality[order[0]]:
        other_rate = frame_rate_text(weighed.candidates[other].frame_rate)
        return reason("frame rate", value, "machine", other=other_rate, share=show.machine.share)
    return reason(
        "frame rate",
        value,
        "quality at this picture",
        other=frame_rate_text(weighed.candidates[other].frame_rate),
        other_quality=float(weighed.quality[other]),
        quality=float(weighed.quality[order[0]]),
    )


def infeasible(guide: Guide, show: Show, weighed: Weighed, waterfall: Budget) -> str:
    """Which rule leaves nothing to choose from."""
    if not weighed.candidates:
        shapes = " or ".join(map(str, guide.video.shapes)) or "any shape"
        sizes = ", ".join(map(str, guide.video.pictures)) or f"up to {guide.video.largest}"
        return (
            f"{guide.title} takes {sizes} ({shapes}) at {guide.video.rates_words()}, which a "
            f"source of {show.source} at {frame_rate_text(show.frame_rate)} cannot give"
        )
    if float(weighed.limits_kbps[2].max()) == 0:
        return f"{guide.title} takes no level that holds any of its pictures"
    if not weighed.encodable.any():
        return f"this machine encodes none of the pictures {guide.title} takes in time"
    left = max(0.0, float(weighed.limits_kbps[0].max()))
    needed = float(weighed.floors_kbps.min())
    rule = "the least it takes" if needed > LEAST_VIDEO_KBPS else "the least worth sending"
    return (
        f"{Bitrate.from_kbps(waterfall.safe_kbps).in_kbps()} may be sent and "
        f"{Bitrate.from_kbps(left).in_kbps()} of it is left for video to {guide.title}; "
        f"{rule} is {Bitrate.from_kbps(needed).in_kbps()}"
    )
