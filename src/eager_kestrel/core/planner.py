"""From uplink, guides and show to a plan: the place where everything meets.

The budget is computed in :mod:`eager_kestrel.core.budget`, candidates are weighed in
:mod:`eager_kestrel.core.choose`; here the winner becomes a settings card with a reason for each
figure.
"""

from __future__ import annotations

import re
from fractions import Fraction

from eager_kestrel.core.beside import Adaptive, data_use, local_copy
from eager_kestrel.core.budget import Budget, budget, destination_steps
from eager_kestrel.core.card import audio_at, settings_at
from eager_kestrel.core.choose import field_of
from eager_kestrel.core.fitting import frame_fit
from eager_kestrel.core.guide import Guide
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.plan import DestinationPlan, Fallback, Inputs, Plan, VideoSettings
from eager_kestrel.core.quality import QualityTable
from eager_kestrel.core.reasons import audio_reason, infeasible, video_reasons
from eager_kestrel.core.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.uplink import Uplink
from eager_kestrel.core.whatif import Standpoint, offers, step_up, steps_down

RUNNERS_UP = 3


def plan(
    uplink: Uplink,
    show: Show,
    guides: dict[str, Guide],
    table: QualityTable,
    version: str,
    free_bytes: int | None = None,
) -> Plan:
    """Plan a show for its destination.

    Args:
        uplink: what the line carries.
        show: with one destination; several share the line in a later version.
        guides: by platform name.
        table: of the quality model.
        version: of the program, recorded in the plan.
        free_bytes: on the disk a local copy would go to, when one was named.

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
        data=data_use(planned.total_kbps, show.hours_a_month),
        local_copy=local_copy(show, table, planned.total_kbps, free_bytes),
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
    audio = audio_at(ruled, show, weighed.audio_kbps)
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
        why = infeasible(ruled, show, weighed, waterfall)
        return DestinationPlan(**common, feasible=False, infeasible_because=why)
    best = order[0]
    video = settings_at(ruled, field, weighed, best)
    total = round(extra.total_kbps(video.most_kbps, audio.bitrate_kbps), 3)
    line = Standpoint.of(ruled, field, weighed, best, waterfall)
    reasons = (
        *video_reasons(ruled, show, weighed, order, waterfall, video),
        audio_reason(ruled, audio),
    )
    cheaper = steps_down(line, total)
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
        steps_down=cheaper,
        step_up=step_up(line),
        offers=offers(line, destination, guide, show, table),
        adaptive=_adaptive(video, cheaper, float(weighed.floors_kbps[best])),
        fit=frame_fit(show.source, Picture(video.width, video.height)),
    )


def _adaptive(video: VideoSettings, cheaper: tuple[Fallback, ...], floor: float) -> Adaptive:
    """Down to the last step worth sending, but never below what the platform takes of this picture.

    An encoder that adapts by itself keeps its picture, and so the floor of that picture.
    """
    least = min((step.video.bitrate_kbps for step in cheaper), default=video.bitrate_kbps)
    return Adaptive(
        floor_kbps=min(max(least, floor), video.bitrate_kbps), ceiling_kbps=video.bitrate_kbps
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
        fit = frame_fit(show.source, sent)
        assert fit is not None
        found.append(
            f"your source is {show.source.shape} and {guide.title} gets {sent}: cropped to "
            f"{fit.crop_width}x{fit.crop_height} it keeps {fit.kept_share:.0%} of the source, "
            f"padded it fills {fit.used_share:.0%} of the picture; do not stretch it"
        )
    if (show.frame_rate / rate).denominator != 1:
        found.append(
            f"{frame_rate_text(rate)} does not divide {frame_rate_text(show.frame_rate)} frames a "
            f"second, so motion will judder: set the source to {frame_rate_text(rate)} or "
            f"{frame_rate_text(2 * rate)}"
        )
    return found
