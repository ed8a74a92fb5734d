"""Plan a show: settings for each destination, the total, and warnings."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.choice.budget import Budget, beside, budget_of, destination_steps
from eager_kestrel.core.choice.choice import Choice
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.refusal import Refusal, refused
from eager_kestrel.core.codecs import CODECS, Codec
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.division.divide import DestinationContext, alone, divide
from eager_kestrel.core.overhead import overhead, srt_latency_ms
from eager_kestrel.core.plan.alternatives import OfferSearch, fallbacks, frame_rate_trade
from eager_kestrel.core.plan.plan import (
    Adaptive,
    DataUse,
    DestinationPlan,
    Fallback,
    Inputs,
    LocalCopy,
    NotFollowed,
    Plan,
)
from eager_kestrel.core.resolution import divides_evenly
from eager_kestrel.core.settings.audio import audio_settings
from eager_kestrel.core.settings.resolution import frame_fit
from eager_kestrel.core.settings.setting import Why
from eager_kestrel.core.settings.table import (
    EXPLAINED,
    against_guide,
    reasons_of,
    unverified,
    video_settings,
)
from eager_kestrel.core.settings.values import VideoSettings
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words import plans as words, runs as run_words
from eager_kestrel.core.words.numbers import look_word
from eager_kestrel.version import __version__

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


LOW = ("bad", "poor")


def plan_warnings(
    show: Show, guides: list[Guide], planned: list[DestinationPlan], uplink: Uplink
) -> tuple[str, ...]:
    """Warnings about the uplink and each destination."""
    found: list[str] = []
    if uplink.may_be_burst:
        found.append(run_words.burst_possible(uplink.watched_seconds or 0.0))
    if uplink.contradicted_kbps is not None and uplink.runs_floor_kbps is not None:
        found.append(run_words.contradicted(uplink.contradicted_kbps, uplink.runs_floor_kbps))
    titles = Counter(destination.title for destination in planned if destination.feasible)
    found += [words.same_platform(title, n) for title, n in titles.items() if n > 1]
    for guide, destination in zip(guides, planned, strict=True):
        if destination.video is None:
            continue
        found += _not_carried(destination.video.codec, destination.transport)
        found += _misfits(guide, destination.video, show)
        if destination.quality is not None and look_word(destination.quality) in LOW:
            helps = [o.text for o in destination.offers if look_word(o.gives.quality) not in LOW]
            way_out = helps[0] if helps else words.NO_OFFER
            found.append(words.low_quality(guide.title, destination.quality, way_out))
        passed_on = destination.payload_kbps
        if guide.delivery.transcodes == "never":
            found.append(words.viewers_buffer(guide.title, passed_on, sometimes=False))
    return tuple(dict.fromkeys(found))


def plan_remarks(guides: list[Guide], planned: list[DestinationPlan]) -> tuple[str, ...]:
    """What is worth knowing: viewers who may get exactly what is sent."""
    found = [
        words.viewers_buffer(guide.title, destination.payload_kbps, sometimes=True)
        for guide, destination in zip(guides, planned, strict=True)
        if destination.video is not None and guide.delivery.transcodes == "when there is capacity"
    ]
    return tuple(dict.fromkeys(found))


def _not_carried(codec: Codec, transport: str) -> list[str]:
    """What a transport needs to carry a codec."""
    known = CODECS[codec]
    if transport in ("hls", "srt"):
        return [] if known.in_ts else [words.no_pieces(known.title)]
    return [] if known.in_rtmp else [words.enhanced_rtmp(known.title)]


def _misfits(guide: Guide, video: VideoSettings, show: Show) -> list[str]:
    """Where the source does not fit what is sent: shape and frame rate."""
    found = []
    fit = frame_fit(show.picture, video.resolution)
    if fit is not None:
        found.append(
            words.other_shape(
                guide.title,
                show.picture,
                video.resolution,
                video.resolution.shape,
                fit.crop,
                fit.kept_share,
                fit.pad,
                fit.used_share,
                show.fit,
            )
        )
    if not divides_evenly(show.source_fps, video.frame_rate):
        found.append(words.judder(video.frame_rate, show.source_fps))
    return found


RUNNERS_UP = 3


def plan(
    uplink: Uplink,
    show: Show,
    guides: dict[str, Guide],
    table: QualityTable,
    free_bytes: int | None = None,
    *,
    look_further: bool = True,
) -> Plan:
    """Plan a show for its destinations.

    Args:
        show: with one destination, or several that share the connection.
        free_bytes: on the disk a local copy would go to, when one was named.

    Raises:
        NotFoundError: a destination's tier is not in its guide, or it does not take its codec.
    """
    budget = budget_of(uplink, show)
    ruled = [guides[d.platform].under(d.tier) for d in show.destinations]
    split = None
    if len(show.destinations) == 1:
        contexts: tuple[DestinationContext, ...] = (
            alone(show.destinations[0], ruled[0], show, table, budget),
        )
    else:
        split, contexts = divide(show, ruled, table, budget)
    planned = [_with_delay(_at(context, show, budget), uplink) for context in contexts]
    if look_further and not budget.capped:
        planned = OfferSearch(show, ruled, table, budget).with_offers(planned)
    total = round(sum(destination.total_kbps for destination in planned), 3)
    return Plan(
        version=__version__,
        inputs=Inputs.of(show),
        uplink=uplink,
        budget=budget,
        destinations=tuple(planned),
        split=split,
        total_kbps=total,
        quality_basis=table.basis,
        own_footage=table.own_footage,
        data=DataUse.of(total, show.hours_a_month, show.cap),
        local_copy=LocalCopy.of(show, table, max(d.payload_kbps for d in planned), free_bytes),
        warnings=plan_warnings(show, ruled, planned, uplink),
        remarks=plan_remarks(ruled, planned),
    )


def _at(context: DestinationContext, show: Show, budget: Budget) -> DestinationPlan:
    """Settings at one place of the connection, or why there are none."""
    if context.left_out is not None:
        alone = context.choices.at(budget.safe_kbps)
        least, said, do = context.destination.min_quality, context.left_out, words.FEWER
        if budget.capped:
            said, do = f"{words.cap_leaves(budget.safe_kbps)}: {said}", words.MORE_DATA
        own = refused(context.rules, context.choices, alone, budget, least)
        return _without_settings(context, own or Refusal(said, do, {}))
    return _planned(context, show, beside(budget, context.others_kbps))


def _without_settings(
    context: DestinationContext, refusal: Refusal | None, **more: Any
) -> DestinationPlan:
    assert refusal is not None
    return DestinationPlan(
        **_common(context),
        feasible=False,
        infeasible_because=refusal.text,
        instead=refusal.instead,
        limited_by=refusal.limited_by,
        **more,
    )


def _common(context: DestinationContext) -> dict[str, Any]:
    """What is said of a destination whether it has settings or not."""
    return {
        "platform": context.guide.name,
        "title": context.guide.title,
        "tier": context.guide.tier,
        "transport": context.transport,
        "servers": _servers(context),
        "guide_checked": context.guide.checked.isoformat(),
    }


def _with_delay(destination: DestinationPlan, uplink: Uplink) -> DestinationPlan:
    """SRT needs a delay, by how long a packet that is sent again takes."""
    if destination.transport != "srt" or not destination.feasible:
        return destination
    return destination.model_copy(update={"latency_ms": srt_latency_ms(uplink.round_trip_ms)})


def _servers(context: DestinationContext) -> tuple[str, ...]:
    """The addresses that take the transport: SRT has some of its own."""
    srt = context.transport == "srt"
    return tuple(url for url in context.guide.addresses if url.startswith("srt:") is srt)


def _planned(context: DestinationContext, show: Show, budget: Budget) -> DestinationPlan:
    """Settings from a place's candidates; the waterfall goes down to what its encode may use."""
    rules, choices, transport = context.rules, context.choices, context.transport
    scored = choices.at(context.safe_kbps)
    audio = audio_settings(rules, show, scored.audio_kbps)
    best = scored.chosen
    top_rate = min(show.source_fps, max(rules.video.taken_rates))
    rate = top_rate if best is None else scored.candidates[best].frame_rate
    extra = overhead(transport, rate, audio.sample_rate_hz)
    sound = (audio.codec, audio.bitrate_kbps)
    refusal = refused(rules, choices, scored, budget, context.destination.min_quality)
    if best is None or refusal is not None:
        safe_kbps = context.safe_kbps / choices.copies
        steps = destination_steps(safe_kbps, transport, extra, sound)
        return _without_settings(context, refusal, budget_steps=steps)
    video = video_settings(rules, choices, scored, best)
    choice = Choice(
        choices, scored, best, context.safe_kbps, budget.safe_kbps, len(show.destinations) > 1
    )
    offered = round(choice.offered_kbps / choices.copies, 3)
    steps = destination_steps(offered, transport, extra, sound, choice.left_kbps)
    reasons = reasons_of(Why(rules, show, choice, budget, video, audio))
    cheaper = fallbacks(rules, scored, best, choices, budget, transport)
    made = DestinationPlan(
        **_common(context),
        feasible=True,
        budget_steps=steps,
        video=video,
        audio=audio,
        quality=scored.option(best).quality,
        quality_range=scored.option(best).quality_range,
        frame_rate_trade=frame_rate_trade(scored, best),
        total_kbps=round(extra.total_kbps(video.max_kbps, audio.bitrate_kbps), 3),
        payload_kbps=round(video.max_kbps + audio.bitrate_kbps, 3),
        held_back_by=choice.held_back_by,
        limited_by={reason.setting: reason.limited_by for reason in reasons},
        unverified=unverified(rules, reasons),
        reasons=reasons,
        runners_up=tuple(scored.option(i) for i in scored.others(RUNNERS_UP)),
        fallbacks=cheaper,
        adaptive=_adaptive(video, cheaper, float(scored.min_kbps[best])),
        fit=frame_fit(show.picture, video.resolution, show.fit),
    )
    return made.model_copy(update={"not_followed": _not_followed(made, context)})


def _not_followed(made: DestinationPlan, context: DestinationContext) -> tuple[NotFollowed, ...]:
    """Where a plan is not quite as its platform would like it, and why."""
    because = {r.setting: r.text for r in made.reasons if r.setting in EXPLAINED}
    otherwise = words.ONE_FOR_ALL if len(context.choices.members) > 1 else words.AS_ASKED
    return tuple(
        NotFollowed(
            rule=one.rule,
            text=words.not_followed(
                context.guide.title,
                one.wanted,
                one.found,
                because.get(one.setting, otherwise),
            ),
        )
        for one in against_guide(made.settings, context.guide)
        if one.severity == "caution"
    )


def _adaptive(video: VideoSettings, cheaper: tuple[Fallback, ...], floor: float) -> Adaptive:
    """Return the range for an encoder that adapts by itself.

    Its floor is the last useful fallback, but never below what the platform accepts of this
    resolution, because such an encoder keeps its resolution.
    """
    least = min((step.video.bitrate_kbps for step in cheaper), default=video.bitrate_kbps)
    return Adaptive(
        min_kbps=min(max(least, floor), video.bitrate_kbps), max_kbps=video.bitrate_kbps
    )
