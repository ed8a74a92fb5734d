"""From uplink, guides and show to a plan: the place where everything meets.

The budget is computed in :mod:`eager_kestrel.core.choice.budget`, candidates are weighed in
:mod:`eager_kestrel.core.choice.field`; here the winner becomes a settings card with a reason for each
figure.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from eager_kestrel.core.choice.budget import Budget, beside, budget, destination_steps
from eager_kestrel.core.choice.field import Field, field_of
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.plan.alternatives import Standpoint, offers, step_up, steps_down
from eager_kestrel.core.plan.card import audio_at, settings_at
from eager_kestrel.core.plan.data_use import Adaptive, data_use, local_copy
from eager_kestrel.core.plan.framing import frame_fit
from eager_kestrel.core.plan.plan import DestinationPlan, Fallback, Inputs, Plan, VideoSettings
from eager_kestrel.core.plan.reasons import audio_reason, infeasible, video_reasons
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate

RUNNERS_UP = 3


def plan(
    uplink: Uplink,
    show: Show,
    guides: dict[str, Guide],
    table: QualityTable,
    version: str,
    free_bytes: int | None = None,
) -> Plan:
    """Plan a show for its destinations.

    Args:
        uplink: what the line carries.
        show: with one destination, or several that share the line.
        guides: by platform name.
        table: of the quality model.
        version: of the program, recorded in the plan.
        free_bytes: on the disk a local copy would go to, when one was named.

    Raises:
        NotFoundError: a destination's standing is not in its guide, or it does not take its codec.
    """
    waterfall = budget(uplink, show.safe_share, show.reserves)
    split = None
    if len(show.destinations) == 1:
        (destination,) = show.destinations
        place = alone(destination, guides[destination.platform], show, table, waterfall)
        planned = [plan_destination(place, show, waterfall, table)]
    else:
        from eager_kestrel.core.division.divide import divide

        outcome = divide(show, guides, table, waterfall)
        split = outcome.split
        planned = [
            plan_destination(place, show, beside(waterfall, place.others_kbps), table)
            if place.left_out is None
            else _left_out(place)
            for place in outcome.places
        ]
    total = round(sum(there.total_kbps for there in planned), 3)
    return Plan(
        version=version,
        inputs=Inputs.of(show),
        uplink=uplink,
        budget=waterfall,
        destinations=tuple(planned),
        split=split,
        total_kbps=total,
        quality_basis=table.basis,
        data=data_use(total, show.hours_a_month),
        local_copy=local_copy(show, table, total, free_bytes),
        warnings=warnings(show, guides, planned, uplink),
    )


@dataclass(frozen=True, slots=True)
class Place:
    """A destination with the candidates it is planned from."""

    destination: Destination
    guide: Guide
    """Without any standing applied."""
    rules: Guide
    """With the standing applied; where it shares an encode, what satisfies all that do."""
    field: Field
    safe_kbps: float
    """For all copies of the encode."""
    others_kbps: float = 0.0
    """Of the same line, for other encodes."""
    left_out: str | None = None
    """Why it gets nothing."""

    @property
    def transport(self) -> str:
        """How it is sent to this destination."""
        return self.guide.transports[0]


def alone(
    destination: Destination, guide: Guide, show: Show, table: QualityTable, waterfall: Budget
) -> Place:
    """One destination that may use the whole safe rate."""
    ruled = guide.under(destination.standing)
    field = field_of(show, ruled, table, ruled.codec(destination.codec))
    return Place(destination, guide, ruled, field, waterfall.safe_kbps)


def _common(place: Place) -> dict[str, Any]:
    """What is said of a destination whether it has settings or not."""
    return {
        "platform": place.guide.name,
        "title": place.guide.title,
        "standing": place.destination.standing,
        "transport": place.transport,
        "ingest": tuple(point.url for point in place.guide.ingest),
        "guide_checked": place.guide.checked.isoformat(),
    }


def _left_out(place: Place) -> DestinationPlan:
    assert place.left_out is not None
    return DestinationPlan(**_common(place), feasible=False, infeasible_because=place.left_out)


def plan_destination(
    place: Place, show: Show, waterfall: Budget, table: QualityTable
) -> DestinationPlan:
    """Settings for one destination from its candidates.

    Args:
        place: the destination, and how much of the line its encode may use.
        show: what is streamed.
        waterfall: down to what this encode may use.
        table: of the quality model.
    """
    rules, field, transport = place.rules, place.field, place.transport
    weighed = field.at(place.safe_kbps)
    audio = audio_at(rules, show, weighed.audio_kbps)
    order = weighed.order()
    top_rate = min(show.frame_rate, max(rules.video.taken_rates))
    rate = weighed.candidates[order[0]].frame_rate if order else top_rate
    extra = overhead(transport, rate, audio.sample_rate_hz)
    safe_kbps = place.safe_kbps / field.copies
    steps = destination_steps(safe_kbps, transport, extra, audio.bitrate_kbps)
    if not order:
        why = infeasible(rules, show, weighed, waterfall)
        return DestinationPlan(
            **_common(place), feasible=False, infeasible_because=why, budget_steps=steps
        )
    best = order[0]
    video = settings_at(rules, field, weighed, best)
    line = Standpoint.of(rules, field, weighed, best, waterfall, transport)
    reasons = (
        *video_reasons(rules, show, weighed, order, waterfall, video),
        audio_reason(rules, audio),
    )
    cheaper = steps_down(line)
    return DestinationPlan(
        **_common(place),
        feasible=True,
        budget_steps=steps,
        video=video,
        audio=audio,
        quality=weighed.option(best).quality,
        total_kbps=round(extra.total_kbps(video.most_kbps, audio.bitrate_kbps), 3),
        bound_by={re.sub("[ -]", "_", r.about): r.bound_by for r in reasons},
        reasons=reasons,
        runners_up=tuple(weighed.option(i) for i in order[1 : 1 + RUNNERS_UP]),
        steps_down=cheaper,
        step_up=step_up(line),
        offers=offers(line, place.destination, place.guide, show, table),
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


def warnings(
    show: Show, guides: dict[str, Guide], planned: list[DestinationPlan], uplink: Uplink
) -> tuple[str, ...]:
    """What a plan cannot promise, each said once."""
    found: list[str] = []
    if uplink.basis == "assumed":
        what = "rests on imported readings" if uplink.runs else "is a bare number nobody measured"
        found.append(f"the upload {what}; run eager-kestrel measure")
    elif uplink.basis == "one run":
        found.append("one run is not evidence yet; measure again at the hour of the show")
    for destination, there in zip(show.destinations, planned, strict=True):
        guide = guides[destination.platform].under(destination.standing)
        if there.video is None:
            continue
        found += _misfits(guide, there.video, show)
        if guide.delivery.transcodes != "always":
            open_ = guide.delivery.transcodes == "when there is capacity"
            found.append(
                f"viewers of {guide.title} {'may' if open_ else 'always'} get exactly what you "
                f"send: a connection slower than {Bitrate.from_kbps(there.total_kbps)} will buffer"
            )
    return tuple(dict.fromkeys(found))


def _misfits(guide: Guide, video: VideoSettings, show: Show) -> list[str]:
    """Where the source does not fit what is sent: shape and frame rate."""
    found = []
    sent, rate = Picture(video.width, video.height), Fraction(video.frame_rate)
    if not sent.shape.fits(show.source):
        fit = frame_fit(show.source, sent)
        assert fit is not None
        crop, pad = (fit.crop_width, fit.crop_height), (fit.pad_width, fit.pad_height)
        found.append(
            f"your source is {show.source} and {guide.title} gets {sent}, {sent.shape}: cropped, "
            f"it shows {crop[0]}x{crop[1]} of the source ({fit.kept_share:.0%}); padded, the "
            f"source fills {pad[0]}x{pad[1]} of it ({fit.used_share:.0%}); a scene laid out for "
            "it wastes nothing; never stretch it"
        )
    if (show.frame_rate / rate).denominator != 1:
        found.append(
            f"{frame_rate_text(rate)} does not divide {frame_rate_text(show.frame_rate)} frames a "
            f"second, so motion will judder: set the source to {frame_rate_text(rate)} or "
            f"{frame_rate_text(2 * rate)}"
        )
    return found
