"""Plan a show: settings for each destination, the total, and warnings."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.choice.budget import Budget, beside, budget_of, destination_steps
from eager_kestrel.core.choice.candidates import LEGIBLE_PIXELS
from eager_kestrel.core.choice.choice import Choice
from eager_kestrel.core.choice.limits import LEAST_VIDEO_KBPS
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import LIMITS, ScoredCandidates
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
from eager_kestrel.core.resolution import divides_evenly, resolution_at
from eager_kestrel.core.settings.audio import audio_settings
from eager_kestrel.core.settings.resolution import frame_fit
from eager_kestrel.core.settings.setting import Bound, Why
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
            way_out = destination.offers[0].text if destination.offers else words.NO_OFFER
            found.append(words.low_quality(guide.title, destination.quality, way_out))
        if guide.delivery.transcodes == "never":
            found.append(words.viewers_buffer(guide.title, destination.total_kbps, sometimes=False))
    return tuple(dict.fromkeys(found))


def plan_remarks(
    show: Show, guides: list[Guide], planned: list[DestinationPlan]
) -> tuple[str, ...]:
    """What is worth knowing: viewers who may get exactly what is sent, an interlaced source."""
    found = [
        words.viewers_buffer(guide.title, destination.total_kbps, sometimes=True)
        for guide, destination in zip(guides, planned, strict=True)
        if destination.video is not None and guide.delivery.transcodes == "when there is capacity"
    ]
    if show.interlaced:
        rates = [
            destination.video.frame_rate for destination in planned if destination.video is not None
        ]
        found += [words.deinterlaced(show.source_fps, rate) for rate in rates]
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
    fit = frame_fit(show.source, video.resolution)
    if fit is not None:
        found.append(
            words.other_shape(
                guide.title,
                show.source,
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
        split, contexts = divide(show, ruled, table, budget.safe_kbps)
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
        data=DataUse.of(total, show.hours_a_month, show.cap),
        local_copy=LocalCopy.of(show, table, total, free_bytes),
        warnings=plan_warnings(show, ruled, planned, uplink),
        remarks=plan_remarks(show, ruled, planned),
    )


def _at(context: DestinationContext, show: Show, budget: Budget) -> DestinationPlan:
    """Settings at one place of the connection, or why there are none."""
    if context.left_out is not None:
        because = {"infeasible_because": context.left_out, "instead": words.FEWER}
        if budget.capped:
            said = f"{words.cap_leaves(budget.safe_kbps)}: {context.left_out}"
            because = {"infeasible_because": said, "instead": words.MORE_DATA}
        return DestinationPlan(**_common(context), feasible=False, **because)
    return _planned(context, show, beside(budget, context.others_kbps))


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
    safe_kbps = context.safe_kbps / choices.copies
    steps = destination_steps(safe_kbps, transport, extra, audio.bitrate_kbps, audio.codec)
    why = _refused(context, show, budget, scored)
    if best is None or why is not None:
        said, instead = why or ("", "")
        because = {"infeasible_because": said, "instead": instead}
        bound = _bound(show, scored)
        common = {**_common(context), "budget_steps": steps, "limited_by": bound, **because}
        return DestinationPlan(feasible=False, **common)
    video = video_settings(rules, choices, scored, best)
    choice = Choice(
        choices, scored, best, context.safe_kbps, budget.safe_kbps, len(show.destinations) > 1
    )
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
        limited_by={reason.setting: reason.limited_by for reason in reasons},
        unverified=unverified(rules, reasons),
        reasons=reasons,
        runners_up=tuple(scored.option(i) for i in scored.others(RUNNERS_UP)),
        fallbacks=cheaper,
        adaptive=_adaptive(video, cheaper, float(scored.min_kbps[best])),
        fit=frame_fit(show.source, video.resolution, show.fit),
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


def _bound(show: Show, scored: ScoredCandidates) -> dict[str, Bound]:
    """What left nothing, where it is neither the connection nor a rule."""
    if not scored.candidates and show.smallest_text is not None:
        return {"resolution": "content"}
    return {"bitrate": "viewers"} if scored.chosen is None and viewers_bind(scored) else {}


def viewers_bind(scored: ScoredCandidates) -> bool:
    """Return whether the slowest viewers, and not the upload, leave less than any setting needs."""
    if not scored.candidates:
        return False
    left, viewers = (
        float(scored.limits_kbps[LIMITS.index(limit)].max()) for limit in ("budget", "viewers")
    )
    return viewers < min(max(0.0, left), float(scored.min_kbps.min()))


def infeasible(
    guide: Guide, show: Show, scored: ScoredCandidates, budget: Budget
) -> tuple[str, str]:
    """Which limit leaves nothing to choose from, and what would help."""
    rules, other = guide.video, words.OTHER_PLATFORM
    if not scored.candidates and show.smallest_text is not None:
        return words.no_legible(guide.title, show.smallest_text, LEGIBLE_PIXELS), words.LARGER_TEXT
    if not scored.candidates:
        sizes = ", ".join(map(str, rules.resolutions)) or f"up to {rules.max_resolution}"
        shapes = words.shape_words(rules.shapes)
        source = resolution_at(show.source, show.source_fps)
        said = words.no_resolution(guide.title, sizes, shapes, rules.rates_text(), source)
        return said, words.OTHER_SOURCE
    if float(scored.limits_kbps[2].max()) == 0:
        return words.no_level(guide.title), other
    if not scored.encodable.any():
        return words.machine_too_slow(guide.title), words.FASTER_PRESET
    left = max(0.0, float(scored.limits_kbps[0].max()))
    needed = float(scored.min_kbps.min())
    of_guide = needed > LEAST_VIDEO_KBPS
    if viewers_bind(scored):
        viewers = float(scored.limits_kbps[LIMITS.index("viewers")].max())
        said = words.viewers_too_slow(guide.title, max(0.0, viewers), needed, guide=of_guide)
        return said, words.FASTER_VIEWERS
    guide_kbps = float(scored.limits_kbps[1].max())
    if left >= needed > guide_kbps:
        return words.clashing_rows(guide.title, needed, guide_kbps), words.CORRECT_GUIDE
    said = words.too_little_left(guide.title, left, needed, guide=of_guide)
    missing = needed - left
    if budget.capped:
        return f"{words.cap_leaves(budget.safe_kbps)}: {said}", words.MORE_DATA
    if budget.reserved_kbps and missing <= budget.before_reserves_kbps - budget.safe_kbps:
        before, after = budget.before_reserves_kbps, budget.safe_kbps
        return f"{words.reserves_leave(before, after)}: {said}", words.FREE_RESERVES
    return f"{words.upload_leaves(budget.safe_kbps)}: {said}", words.MORE_UPLOAD


def _refused(
    context: DestinationContext, show: Show, budget: Budget, scored: ScoredCandidates
) -> tuple[str, str] | None:
    """Return why there are no settings and what would help, or None if there are settings."""
    best, least = scored.chosen, context.destination.min_quality
    if best is None:
        return infeasible(context.rules, show, scored, budget)
    looks = float(scored.quality[best])
    if looks >= least:
        return None
    said = words.below_least(context.rules.title, least, scored.option(best).text, looks)
    return said, words.LOWER_LEAST


def _adaptive(video: VideoSettings, cheaper: tuple[Fallback, ...], floor: float) -> Adaptive:
    """Return the range for an encoder that adapts by itself.

    Its floor is the last useful fallback, but never below what the platform accepts of this
    resolution, because such an encoder keeps its resolution.
    """
    least = min((step.video.bitrate_kbps for step in cheaper), default=video.bitrate_kbps)
    return Adaptive(
        min_kbps=min(max(least, floor), video.bitrate_kbps), max_kbps=video.bitrate_kbps
    )
