"""Plans as blocks: the brief answer, the reasons, the budget, the division."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODEC_NAMES
from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import both, quality_with_range
from eager_kestrel.report import blocks

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan

CHANNELS = {1: "mono", 2: "stereo"}
MOST_STEPS = 3
"""Fallbacks in a brief answer."""
ROOM_TO_ADAPT = 0.9
"""A range from a larger share of the bitrate is none."""


def plan_blocks(plan: Plan, *, why: bool = False, full: bool = False) -> Iterator[blocks.Block]:
    """What to type, whether it will hold, and what to do when it struggles.

    Args:
        why: what limited each value, every reason, and the budget as well.
        full: every setting as well.
    """
    why = why or full
    yield from answer_blocks(plan, why=why, full=full)
    if not why:
        return
    yield blocks.Heading("Why")
    for alike in sent_alike(plan):
        yield from reason_blocks(plan, alike)
    if plan.split is not None:
        yield from split_blocks(plan)
    yield blocks.Heading("Budget")
    yield budget_table(plan)
    if plan.inputs.machine:
        yield blocks.Rows((("machine", plan.inputs.machine),))
    for remark in plan.remarks:
        yield blocks.Note(remark)


def answer_blocks(
    plan: Plan, *, why: bool = False, full: bool = False, page: bool = False
) -> Iterator[blocks.Block]:
    """A card for all that get the same, with its fallbacks; then tonight, and what is wrong.

    Args:
        page: for a page, which cannot be asked for more: tonight comes first, every address is
            listed, and no command is suggested.
    """
    for destination in plan.destinations:
        if not destination.feasible:
            yield blocks.Note(f"{title_of(plan, [destination])}: no settings", "bad")
            yield blocks.Note(destination.infeasible_because)
    sent = sent_alike(plan)
    whole = [blocks.Rows(tuple(_of_all(plan, why=why, full=full and not page)))] if sent else []
    yield from whole if page else ()
    for alike in sent:
        made = card(plan, alike, why=why, full=full)
        yield replace(made, below=tuple(_below_card(plan, alike, why=why, page=page or full)))
    yield from () if page else whole
    if plan.split is not None:
        for name in plan.split.left_out:
            yield blocks.Note(f"{name} is left out: {plan.split.left_out_because}", mark="✗")
    for warning in plan.warnings:
        yield blocks.Note(warning, mark="!")


def sent_alike(plan: Plan) -> list[list[DestinationPlan]]:
    """The destinations that have settings, those that get the same together."""
    sent: dict[str, list[DestinationPlan]] = {}
    for destination in plan.destinations:
        if destination.video is not None and destination.audio is not None:
            same = destination.video.model_dump_json() + destination.audio.model_dump_json()
            sent.setdefault(same, []).append(destination)
    return list(sent.values())


def _below_card(
    plan: Plan, alike: Sequence[DestinationPlan], *, why: bool, page: bool
) -> Iterator[tuple[blocks.Cell, ...]]:
    """Where to send, what to do when it struggles, and why the bitrate is no higher."""
    for destination in alike:
        if destination.servers:
            name = "send to" if len(alike) == 1 else f"{destination.title}: send to"
            more = len(destination.servers) - 1
            said = (
                words.other_ingests(destination.servers[0], more)
                if more
                else destination.servers[0]
            )
            yield blocks.Styled(name, "name"), " or ".join(destination.servers) if page else said
    first = alike[0]
    steps = first.fallbacks if why and not page else first.fallbacks[:MOST_STEPS]
    said = "; ".join(step.video.text for step in steps)
    yield blocks.Styled("if it struggles", "name"), said or words.NOTHING_LOWER
    if plan.own_footage and not (why or page):
        yield blocks.Styled("quality", "name"), _predicted(plan, first)
    if not (why or page):
        for offer in (offer for offer in first.offers if offer.kind == "machine"):
            yield blocks.Styled("this machine", "name"), f"holds quality back: {offer.text}"
    reason = next((r for r in first.reasons if r.setting == "bitrate"), None)
    if reason is not None and not (why or page):
        yield blocks.Styled(f"why {reason.value}", "name"), words.why_bitrate(reason.text)


def _of_all(plan: Plan, *, why: bool, full: bool) -> Iterator[tuple[blocks.Cell, ...]]:
    """Whether the upload holds it, and what it takes."""
    if plan.total_kbps:
        yield blocks.Styled("upload", "name"), plan.budget.text
    if plan.tonight:
        yield (
            blocks.Styled("tonight", "name"),
            blocks.Styled(plan.tonight, "" if plan.holds else "bad"),
        )
    if why or plan.data.cap_gb is not None:
        yield blocks.Styled("data", "name"), data_said(plan)
    if full or plan.local_copy.free_hours is not None:
        yield blocks.Styled("local copy", "name"), copy_said(plan)


def places(alike: Sequence[DestinationPlan]) -> str:
    """``Oxbow (hearth) and Fernlight``."""
    return " and ".join(t.title + (f" ({t.tier})" if t.tier else "") for t in alike)


def title_of(plan: Plan, alike: Sequence[DestinationPlan]) -> str:
    """``The Wheel on Oxbow (hearth)``."""
    return f"{plan.inputs.title or 'Your stream'} on {places(alike)}"


def source_of(plan: Plan) -> str:
    """``a source of 1920x1080 at 60, lively``."""
    asked = plan.inputs
    size = str(asked.source) if asked.shape is None else f"{asked.source} ({asked.shape})"
    return f"a source of {resolution_at(size, asked.source_fps)}, {asked.motion}"


def card(plan: Plan, alike: Sequence[DestinationPlan], *, why: bool, full: bool) -> blocks.Rows:
    """What to type for destinations that get the same; ``why`` adds what limited it."""
    rows = [
        (
            name,
            blocks.Styled(value, "strong"),
            *([blocks.Styled(_limit(alike, key), "name")] if why and key else ()),
        )
        for name, value, key in _card_rows(plan, alike, full=full)
        if why or key
    ]
    return blocks.Rows(
        tuple(rows),
        title_of(plan, alike),
        subtitle=f"from {source_of(plan)}",
        notes="limited by" if why else "",
    )


def _limit(alike: Sequence[DestinationPlan], key: str) -> str:
    """What limited a setting; an unverified rule is said to be one."""
    limits = (t.limited_by.get(key, "") + " (unverified)" * (key in t.unverified) for t in alike)
    return " and ".join(dict.fromkeys(limits))


def _card_rows(
    plan: Plan, alike: Sequence[DestinationPlan], *, full: bool
) -> Iterator[tuple[str, str, str]]:
    """Each setting with its value and the key of its limit; what is no setting has no key."""
    destination = alike[0]
    video, audio = destination.video, destination.audio
    assert video is not None
    assert audio is not None
    if video.deinterlace is not None:
        yield "deinterlace", f"first, to one frame of each {video.deinterlace}", "deinterlace"
    yield "resolution", str(video.resolution), "resolution"
    yield "frame rate", f"{frame_rate_text(video.frame_rate)} fps", "frame_rate"
    control = f"{video.rate_control} ({'CBR' if video.rate_control == 'constant' else 'VBR'})"
    yield "video bitrate", f"{both(video.bitrate_kbps)}, {control}", "bitrate"
    if video.peak_kbps is not None:
        yield "peak", both(video.peak_kbps), "bitrate"
    seconds, count = video.keyframe_seconds, video.keyframe_frames
    short = count < round(seconds * video.frame_rate)
    frames = f"every {count} frames, just under {seconds:g} s"
    frames = frames if short else f"every {seconds:g} s = {count} frames"
    yield "keyframes", frames, "keyframes"
    codec = CODEC_NAMES[video.codec]
    if full:
        yield "buffer", words.buffer(video.buffer_kbit, video.max_kbps), "buffer"
        form = f"{video.profile}, level {video.level}, {video.b_frames} B-frames"
        yield "codec", f"{codec} {form}", "profile"
    elif video.codec != "h264":
        yield "codec", codec, "profile"
    if video.preset is not None:
        yield "encoder" if video.own_encoder else "preset", video.preset, "preset"
    sound = f"{audio.sample_rate_hz / 1000:g} kHz, {CHANNELS[audio.channels]}"
    yield "audio", f"{CODEC_NAMES[audio.codec]} {audio.bitrate_kbps:g} kbit/s, {sound}", "audio"
    if full:
        resized = f", resized by {video.resize}" if video.resize else ""
        colour = f"{video.pixel_format}, {video.colour}, {video.colour_range} range{resized}"
        yield "colour", colour, "colour"
    yield "predicted quality", _predicted(plan, destination), ""
    if destination.frame_rate_trade is not None:
        yield "smooth or sharp", trade_said(destination), ""
    if destination.latency_ms is not None:
        known = plan.uplink.round_trip_ms is not None
        said = words.srt_latency if known else words.srt_latency_unknown
        yield "delay", said(destination.latency_ms), "transport"
    total = sum(one.total_kbps for one in alike)
    yield "total", words.total(total, plan.budget.safe_kbps), ""


def _predicted(plan: Plan, destination: DestinationPlan) -> str:
    quality = destination.quality or 0.0
    spread = destination.quality_range or (quality, quality)
    return quality_with_range(quality, *spread, plan.own_footage)


def trade_said(destination: DestinationPlan) -> str:
    """What the frame rate gives and takes; empty if there is no other."""
    trade, video = destination.frame_rate_trade, destination.video
    if trade is None or video is None:
        return ""
    return words.frame_rate_trade(
        video.frame_rate, trade.sharpness, trade.frame_rate, trade.other_sharpness
    )


def reason_blocks(plan: Plan, alike: Sequence[DestinationPlan]) -> Iterator[blocks.Block]:
    """Reasons, what more would give, what else was near, how far an encoder may adapt."""
    destination = alike[0]
    if len(alike) < len(plan.destinations):
        yield blocks.Heading(places(alike), level=3)
    reasons = (
        (blocks.Styled(r.title, "name"), f"{r.value}: {r.text}") for r in destination.reasons
    )
    more = ((blocks.Styled(name, "name"), said) for name, said in beside(destination))
    yield blocks.Rows((*reasons, *more))
    yield from notes_of(alike)
    if destination.runners_up:
        others = [(o.resolution, o.frame_rate, o.quality) for o in destination.runners_up]
        yield blocks.Note(words.next_best(others))


def notes_of(alike: Sequence[DestinationPlan]) -> Iterator[blocks.Block]:
    """What more would give, and what the platforms would rather have."""
    for text in dict.fromkeys(offer.text for destination in alike for offer in destination.offers):
        yield blocks.Note(text, mark="↑")
    for text in dict.fromkeys(
        one.text for destination in alike for one in destination.not_followed
    ):
        yield blocks.Note(text)


def beside(destination: DestinationPlan) -> list[tuple[str, str]]:
    """How far an encoder may adapt, and when to reconnect."""
    back, found = destination.reconnect, []
    if destination.adaptive is not None:
        low, high = destination.adaptive.min_kbps, destination.adaptive.max_kbps
        narrow = low > ROOM_TO_ADAPT * high
        said = words.no_adapting(low) if narrow else words.adapting(low, high)
        found.append(("adapting", said))
    times = (back.first_seconds, back.factor, back.longest_seconds, back.give_up_seconds)
    return [*found, ("reconnect", words.reconnecting(*times))]


def budget_table(plan: Plan) -> blocks.Table:
    """From the upload down to the safe rate, and of a single destination to its video."""
    steps = [*plan.budget.steps]
    if len(plan.destinations) == 1:
        steps += plan.destinations[0].budget_steps
    safe, typical = len(plan.budget.steps) - 1, max(plan.uplink.typical_kbps, 1.0)
    rows: list[tuple[blocks.Cell, ...]] = []
    for number, step in enumerate(steps):
        left = number == len(steps) - 1 and number > safe
        end = "safe rate" if number == safe else "left for video" if left else ""
        share = step.after_kbps / typical
        rows.append(
            (
                blocks.Styled(step.name.removeprefix("reserve: "), "dim"),
                blocks.Styled(
                    Bitrate.from_kbps(step.after_kbps).in_kbps(), "strong" if end else ""
                ),
                blocks.Bar(share, 1.0),
                blocks.Styled(f"{step.text} → {end}" if end else step.text, "dim"),
            )
        )
    return blocks.Table(("step", ">after", "", "why"), tuple(rows))


def data_said(plan: Plan) -> str:
    """What the stream sends in an hour and a month."""
    data = plan.data
    said = words.data(data.gb_per_hour, data.gb_per_month, data.hours_a_month)
    if data.cap_gb is None or data.cap_lasts_hours is None:
        return said
    return f"{said}; {words.cap_lasts(data.cap_gb, data.cap_lasts_hours)}"


def copy_said(plan: Plan) -> str:
    """What a local copy takes."""
    copy, room = plan.local_copy, ""
    if copy.free_gb is not None and copy.free_hours is not None:
        room = words.room_left(copy.free_gb, copy.free_hours)
    return words.local_copy(
        f"{resolution_at(copy.resolution, copy.frame_rate)}, "
        f"{CODEC_NAMES[copy.codec]} {both(copy.bitrate_kbps)}",
        copy.keyframe_frames,
        copy.audio_kbps,
        copy.gb_per_hour,
        copy.sent_gb_per_hour,
        room,
    )


def basis(plan: Plan) -> list[str]:
    """What a plan rests on."""
    made = f"{plan.made_at[:16].replace('T', ' ')} " if plan.made_at else ""
    return [
        f"Upload: {plan.uplink.text}.",
        f"Safe rate: {plan.inputs.safe_share:.0%} of typical, or the seen-safe rate if lower.",
        f"Quality: {plan.quality_basis} ({words.SCALE}).",
        *([f"Machine: {plan.inputs.machine}."] if plan.inputs.machine else []),
        *(f"Guide of {d.title}: checked {d.guide_checked}." for d in plan.destinations),
        f"Planned {made}by eager-kestrel {plan.version}.",
    ]


# Several destinations


def parts_of(plan: Plan) -> blocks.Parts:
    """The upload from left to right: destinations, unused, reserves, and headroom."""
    parts = []
    for destination in plan.destinations:
        if (video := destination.video) is not None:
            quality = destination.quality or 0.0
            said = words.part(video.resolution, video.frame_rate, video.bitrate_kbps, quality)
            name = destination.title + (f" ({destination.tier})" if destination.tier else "")
            parts.append(blocks.Part(name, destination.total_kbps, said, "good"))
    unused = plan.budget.safe_kbps - plan.total_kbps
    parts.append(blocks.Part("unused", unused, words.UNUSED, ""))
    kept = min(plan.budget.reserved_kbps, plan.uplink.typical_kbps)
    names = ", ".join(reserve.name for reserve in plan.inputs.reserves)
    parts.append(blocks.Part("reserves", kept, names, "mind"))
    capped = plan.budget.steps[-1] if plan.budget.capped else None
    cut = 0.0 if capped is None else capped.before_kbps - capped.after_kbps
    parts.append(blocks.Part("data cap", cut, "" if capped is None else capped.text, "bad"))
    headroom = plan.uplink.typical_kbps - plan.budget.safe_kbps - kept - cut
    parts.append(blocks.Part("headroom", headroom, words.HEADROOM, "dim"))
    return blocks.Parts(tuple(part for part in parts if part.kbps > 0))


def split_blocks(plan: Plan) -> Iterator[blocks.Block]:
    """How the upload is divided, and how else it could be."""
    split = plan.split
    assert split is not None
    yield blocks.Heading("The upload, divided")
    yield parts_of(plan)
    yield blocks.Rows(((blocks.Styled("division", "name"), split.text),))
    for entry in split.leave_out_first:
        yield blocks.Note(entry.text, mark="−")
    if split.relay is not None:
        yield blocks.Note(split.relay.text, mark="⇉")
