"""From uplink, guides and show to a plan: the place where everything meets.

The budget is computed in :mod:`eager_kestrel.core.budget`, candidates are weighed in
:mod:`eager_kestrel.core.choose`; here the winner becomes a settings card with a reason for each
figure.
"""

from __future__ import annotations

import re
from fractions import Fraction
from math import inf

from eager_kestrel.core.budget import Budget, budget, destination_steps
from eager_kestrel.core.card import BUFFER_SECONDS, audio_at, settings_at
from eager_kestrel.core.choose import (
    AUDIO_SHARE,
    LEAST_VIDEO_KBPS,
    Weighed,
    field_of,
    viewers_kbps,
)
from eager_kestrel.core.guide import Guide
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.plan import (
    Bound,
    DestinationPlan,
    Inputs,
    Plan,
    Reason,
    VideoSettings,
)
from eager_kestrel.core.prose import reason
from eager_kestrel.core.quality import QualityTable
from eager_kestrel.core.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.uplink import Uplink
from eager_kestrel.core.whatif import Standpoint, offers, step_up, steps_down

RUNNERS_UP = 3


def plan(
    uplink: Uplink, show: Show, guides: dict[str, Guide], table: QualityTable, version: str
) -> Plan:
    """Plan a show for its destination.

    Args:
        uplink: what the line carries.
        show: with one destination; several share the line in a later version.
        guides: by platform name.
        table: of the quality model.
        version: of the program, recorded in the plan.

    Raises:
        NotFoundError: a destination's standing is not in its guide.
    """
    waterfall = budget(uplink, show.safe_share, show.reserves)
    destination = show.destinations[0]
    planned = plan_destination(destination, guides[destination.platform], show, waterfall, table)
    return Plan(
        version=version,
        inputs=Inputs.of(show),
        uplink=uplink,
        budget=waterfall,
        destinations=(planned,),
        total_kbps=planned.total_kbps,
        quality_basis=table.basis,
        warnings=_warnings(
            guides[destination.platform].under(destination.standing), planned, uplink, show
        ),
    )


def plan_destination(
    destination: Destination, guide: Guide, show: Show, waterfall: Budget, table: QualityTable
) -> DestinationPlan:
    """Settings for one destination that may use the whole safe rate."""
    ruled = guide.under(destination.standing)
    codec = ruled.codec(destination.codec)
    field = field_of(show, ruled, table, codec)
    weighed = field.at(waterfall.safe_kbps)
    audio = audio_at(ruled, weighed.audio_kbps)
    order = weighed.order()
    top_rate = min(show.frame_rate, max(ruled.video.taken_rates))
    rate = weighed.candidates[order[0]].frame_rate if order else top_rate
    extra = overhead(ruled.transports[0], rate, audio.sample_rate_hz)
    common = {
        "platform": guide.name,
        "title": guide.title,
        "standing": destination.standing,
        "transport": ruled.transports[0],
        "ingest": tuple(point.url for point in ruled.ingest),
        "guide_checked": guide.checked.isoformat(),
        "budget_steps": destination_steps(
            waterfall.safe_kbps, ruled.transports[0], extra, audio.bitrate_kbps
        ),
    }
    if not order:
        why = _infeasible(ruled, show, weighed, waterfall)
        return DestinationPlan(**common, feasible=False, infeasible_because=why)
    best = order[0]
    video = settings_at(ruled, field, weighed, best)
    total = round(extra.total_kbps(video.bitrate_kbps, audio.bitrate_kbps), 3)
    line = Standpoint.of(ruled, field, weighed, best, waterfall)
    reasons = (
        *_video_reasons(ruled, show, weighed, order, waterfall, video),
        _audio_reason(ruled, audio.bitrate_kbps),
    )
    return DestinationPlan(
        **common,
        feasible=True,
        video=video,
        audio=audio,
        quality=weighed.option(best).quality,
        total_kbps=total,
        bound_by={re.sub("[ -]", "_", r.about): r.bound_by for r in reasons},
        reasons=reasons,
        runners_up=tuple(weighed.option(i) for i in order[1 : 1 + RUNNERS_UP]),
        steps_down=steps_down(line, total),
        step_up=step_up(line),
        offers=offers(line, destination, guide, show, table),
    )


def _audio_reason(guide: Guide, chosen: float) -> Reason:
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


def _video_reasons(
    guide: Guide,
    show: Show,
    weighed: Weighed,
    order: list[int],
    waterfall: Budget,
    video: VideoSettings,
) -> tuple[Reason, ...]:
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
        reason("rate control", video.rate_control, "guide", platform=name),
        reason(
            "buffer", f"{video.buffer_kbit:g} kbit",
            "budget" if video.buffer_kbit >= video.bitrate_kbps * BUFFER_SECONDS else "level",
            level=video.level,
        ),
        reason("profile", video.profile, "guide", platform=name),
        reason("level", video.level, "level"),
        reason("b-frames", str(video.b_frames), "guide", platform=name),
    )  # fmt: skip


def _bitrate_reason(
    guide: Guide, show: Show, weighed: Weighed, best: int, waterfall: Budget
) -> Reason:
    budget_kbps, ceiling_kbps, level, viewers, clean = (
        float(x) for x in weighed.limits_kbps[:, best]
    )
    return reason(
        "bitrate",
        Bitrate.from_kbps(float(weighed.kbps[best])).in_kbps(),
        weighed.limit(best),
        platform=guide.title,
        motion=show.motion,
        safe_kbps=waterfall.safe_kbps,
        budget_kbps=round(budget_kbps, 3),
        ceiling_kbps=ceiling_kbps,
        clean_kbps=round(clean, 1),
        level_kbps=level,
        viewers_kbps=viewers_kbps(guide) if viewers < inf else 0.0,
    )


def _picture_reason(guide: Guide, show: Show, weighed: Weighed, best: int) -> Reason:
    chosen = weighed.candidates[best]
    larger = [
        i
        for i, c in enumerate(weighed.candidates)
        if c.frame_rate == chosen.frame_rate and c.picture.pixels > chosen.picture.pixels
    ]
    value = str(chosen.picture)
    if not larger:
        source, largest = show.source, guide.video.largest
        in_full = source.width >= largest.width and source.height >= largest.height
        bound: Bound = "guide" if in_full and source != largest else "source"
        return reason("picture", value, bound, platform=guide.title)
    after = min(larger, key=lambda i: weighed.candidates[i].picture.pixels)
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
        bound: Bound = "source" if chosen.frame_rate == show.frame_rate else "guide"
        return reason("frame rate", value, bound, platform=guide.title)
    other = max(faster, key=lambda i: float(weighed.quality[i]))
    return reason(
        "frame rate",
        value,
        "quality at this picture",
        other=frame_rate_text(weighed.candidates[other].frame_rate),
        other_quality=float(weighed.quality[other]),
        quality=float(weighed.quality[order[0]]),
    )


def _infeasible(guide: Guide, show: Show, weighed: Weighed, waterfall: Budget) -> str:
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
    left = max(0.0, float(weighed.limits_kbps[0].max()))
    needed = float(weighed.floors_kbps.min())
    rule = "the least it takes" if needed > LEAST_VIDEO_KBPS else "the least worth sending"
    return (
        f"{Bitrate.from_kbps(waterfall.safe_kbps).in_kbps()} may be sent and "
        f"{Bitrate.from_kbps(left).in_kbps()} of it is left for video to {guide.title}; "
        f"{rule} is {Bitrate.from_kbps(needed).in_kbps()}"
    )


def _warnings(
    guide: Guide, planned: DestinationPlan, uplink: Uplink, show: Show
) -> tuple[str, ...]:
    found: list[str] = []
    if uplink.basis == "assumed":
        what = "rests on imported readings" if uplink.runs else "is a bare number nobody measured"
        found.append(f"the upload {what}; run eager-kestrel measure")
    elif uplink.basis == "one run":
        found.append("one run is not evidence yet; measure again at the hour of the show")
    if planned.video is not None:
        found += _misfits(guide, planned.video, show)
    if planned.feasible and guide.delivery.transcodes != "always":
        open_ = guide.delivery.transcodes == "when there is capacity"
        when = "may get" if open_ else "always get"
        total = Bitrate.from_kbps(planned.total_kbps)
        found.append(
            f"viewers {when} exactly what you send: a connection slower than {total} will buffer"
        )
    return tuple(found)


def _misfits(guide: Guide, video: VideoSettings, show: Show) -> list[str]:
    """Where the source does not fit what is sent: shape and frame rate."""
    found = []
    sent, rate = Picture(video.width, video.height), Fraction(video.frame_rate)
    if not sent.shape.fits(show.source):
        found.append(
            f"your source is {show.source.shape} and {guide.title} gets {sent}: crop or pad it, "
            "do not stretch it"
        )
    if (show.frame_rate / rate).denominator != 1:
        found.append(
            f"{frame_rate_text(rate)} does not divide {frame_rate_text(show.frame_rate)} frames a "
            f"second, so motion will judder: set the source to {frame_rate_text(rate)} or "
            f"{frame_rate_text(2 * rate)}"
        )
    return found
