"""Plans, what-ifs, forecasts, guides and explanations as blocks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from itertools import groupby
from typing import TYPE_CHECKING

from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words import runs as run_words
from eager_kestrel.core.words.numbers import (
    CODEC_NAMES,
    both,
    kbit,
    looks,
    mbit,
    observed,
    quality_with_range,
    rate,
    some_seconds,
)
from eager_kestrel.report.blocks import (
    Bar,
    Block,
    Cell,
    Heading,
    Note,
    Part,
    Parts,
    Rows,
    Styled,
    Table,
    named,
)

if TYPE_CHECKING:
    from eager_kestrel.core.choice.candidates_table import Option
    from eager_kestrel.core.choice.what_if import Comparison, Need, Needs, Sweep
    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.plan.plan import (
        DestinationPlan,
        Plan,
    )
    from eager_kestrel.core.stutter import StutterSeen

CHANNELS = {1: "mono", 2: "stereo"}
MOST_STEPS = 3
"""Fallbacks in a brief answer."""
FEW = 2
"""Answers of ``need`` up to which each is written out as well."""


ROOM_TO_ADAPT = 0.9
"""A range from a larger share of the bitrate is none."""


def plan_blocks(plan: Plan, *, why: bool = False, full: bool = False) -> Iterator[Block]:
    """What to type, whether it will hold, and what to do when it struggles.

    Args:
        why: what limited each value, every reason, and the budget as well.
        full: every setting as well.
    """
    why = why or full
    yield from answer_blocks(plan, why=why, full=full)
    if not why:
        return
    yield Heading("Why")
    for alike in sent_alike(plan):
        yield from reason_blocks(plan, alike)
    if plan.split is not None:
        yield from split_blocks(plan)
    yield Heading("Budget")
    yield budget_table(plan)
    if plan.inputs.machine:
        yield Rows((("machine", plan.inputs.machine),))
    for remark in plan.remarks:
        yield Note(remark)


def answer_blocks(
    plan: Plan, *, why: bool = False, full: bool = False, page: bool = False
) -> Iterator[Block]:
    """A card for all that get the same, with its fallbacks; then tonight, and what is wrong.

    Args:
        page: nobody can ask for more: every address, and no reason where none is asked for.
    """
    for there in plan.destinations:
        if not there.feasible:
            yield Note(f"{title_of(plan, [there])}: no settings", "bad")
            yield Note(there.infeasible_because)
    sent = sent_alike(plan)
    for alike in sent:
        made = card(plan, alike, why=why, full=full)
        yield replace(made, below=tuple(_below_card(alike, why=why, page=page or full)))
    if sent:
        yield Rows(tuple(_of_all(plan, why=why, full=full)))
    if plan.split is not None:
        for name in plan.split.left_out:
            yield Note(f"{name} is left out: {plan.split.left_out_because}", mark="✗")
    for warning in plan.warnings:
        yield Note(warning, mark="!")


def sent_alike(plan: Plan) -> list[list[DestinationPlan]]:
    """The destinations that have settings, those that get the same together."""
    sent: dict[str, list[DestinationPlan]] = {}
    for there in plan.destinations:
        if there.video is not None and there.audio is not None:
            same = there.video.model_dump_json() + there.audio.model_dump_json()
            sent.setdefault(same, []).append(there)
    return list(sent.values())


def _below_card(
    alike: Sequence[DestinationPlan], *, why: bool, page: bool
) -> Iterator[tuple[Cell, ...]]:
    """Where to send, what to do when it struggles, and why the bitrate is no higher."""
    for there in alike:
        if there.ingest:
            name = "send to" if len(alike) == 1 else f"{there.title}: send to"
            more = len(there.ingest) - 1
            said = words.other_ingests(there.ingest[0], more) if more else there.ingest[0]
            yield Styled(name, "name"), " or ".join(there.ingest) if page else said
    first = alike[0]
    if first.fallbacks:
        steps = first.fallbacks if why and not page else first.fallbacks[:MOST_STEPS]
        yield Styled("if it struggles", "name"), "; ".join(step.video.words for step in steps)
    reason = next((r for r in first.reasons if r.about == "bitrate"), None)
    if reason is not None and not (why or page):
        yield Styled(f"why {reason.value}", "name"), words.why_bitrate(reason.text)


def _of_all(plan: Plan, *, why: bool, full: bool) -> Iterator[tuple[Cell, ...]]:
    """Whether the upload holds it, and what it takes."""
    held = plan.stutter is None or plan.stutter.within(plan.inputs.stutter_limit)
    if plan.tonight:
        yield Styled("tonight", "name"), Styled(plan.tonight, "" if held else "bad")
    if why or plan.data.cap_gb is not None:
        yield Styled("data", "name"), data_said(plan)
    if full or plan.local_copy.free_hours is not None:
        yield Styled("local copy", "name"), copy_said(plan)


def places(alike: Sequence[DestinationPlan]) -> str:
    """``Oxbow (hearth) and Fernlight``."""
    return " and ".join(t.title + (f" ({t.tier})" if t.tier else "") for t in alike)


def title_of(plan: Plan, alike: Sequence[DestinationPlan]) -> str:
    """``The Wheel on Oxbow (hearth)``."""
    return f"{plan.inputs.title or 'Your stream'} on {places(alike)}"


def source_of(plan: Plan) -> str:
    """``a source of 1920x1080 at 60, lively``."""
    asked = plan.inputs
    return f"a source of {resolution_at(asked.source, asked.frame_rate)}, {asked.motion}"


def card(plan: Plan, alike: Sequence[DestinationPlan], *, why: bool, full: bool) -> Rows:
    """What to type for destinations that get the same; ``why`` adds what limited it."""
    rows = [
        (
            name,
            Styled(value, "strong"),
            *([Styled(_limit(alike, key), "name")] if why and key else ()),
        )
        for name, value, key in _card_rows(plan, alike, full=full)
        if why or key
    ]
    return Rows(
        tuple(rows),
        title_of(plan, alike),
        subtitle=f"from {source_of(plan)}",
        notes="limited by" if why else "",
    )


def _limit(alike: Sequence[DestinationPlan], key: str) -> str:
    """What limited a setting; an unverified rule is said to be one."""
    limits = (t.limited_by.get(key, "") + " (unverified)" * (key in t.guessed) for t in alike)
    return " and ".join(dict.fromkeys(limits))


def _card_rows(
    plan: Plan, alike: Sequence[DestinationPlan], *, full: bool
) -> Iterator[tuple[str, str, str]]:
    """Each setting with its value and the key of its limit; what is no setting has no key."""
    there = alike[0]
    video, audio = there.video, there.audio
    assert video is not None
    assert audio is not None
    yield "resolution", str(video.resolution), "resolution"
    yield "frame rate", f"{frame_rate_text(video.frame_rate)} fps", "frame_rate"
    yield "video bitrate", f"{both(video.bitrate_kbps)}, {video.rate_control}", "bitrate"
    if video.peak_kbps is not None:
        yield "peak", both(video.peak_kbps), "bitrate"
    frames = f"every {video.keyframe_seconds:g} s = {video.keyframe_frames} frames"
    yield "keyframes", frames, "keyframes"
    codec = CODEC_NAMES[video.codec]
    if full:
        yield "buffer", f"{video.buffer_kbit:,.0f} kbit", "buffer"
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
    quality = there.quality or 0.0
    spread = there.quality_range or (quality, quality)
    yield "predicted quality", quality_with_range(quality, *spread), ""
    if there.frame_rate_trade is not None:
        yield "smooth or sharp", trade_said(there), ""
    total = sum(one.total_kbps for one in alike)
    yield "total", words.total(total, plan.budget.safe_kbps), ""


def trade_said(there: DestinationPlan) -> str:
    """What the frame rate gives and takes; empty if there is no other."""
    trade, video = there.frame_rate_trade, there.video
    if trade is None or video is None:
        return ""
    return words.frame_rate_trade(
        video.frame_rate, trade.sharpness, trade.frame_rate, trade.other_sharpness
    )


def reason_blocks(plan: Plan, alike: Sequence[DestinationPlan]) -> Iterator[Block]:
    """Reasons, what more would give, what else was near, how far an encoder may adapt."""
    there = alike[0]
    if len(alike) < len(plan.destinations):
        yield Heading(places(alike), level=3)
    reasons = ((Styled(r.about, "name"), f"{r.value}: {r.text}") for r in there.reasons)
    more = ((Styled(name, "name"), said) for name, said in beside(there))
    yield Rows((*reasons, *more))
    yield from notes_of(alike)
    if there.runners_up:
        others = [(o.resolution, o.frame_rate, o.quality) for o in there.runners_up]
        yield Note(words.next_best(others))


def notes_of(alike: Sequence[DestinationPlan]) -> Iterator[Block]:
    """What more would give, and what the platforms would rather have."""
    for text in dict.fromkeys(offer.text for there in alike for offer in there.offers):
        yield Note(text, mark="↑")
    for text in dict.fromkeys(one.text for there in alike for one in there.not_followed):
        yield Note(text)


def beside(there: DestinationPlan) -> list[tuple[str, str]]:
    """How far an encoder may adapt, and when to reconnect."""
    back, found = there.reconnect, []
    if there.adaptive is not None:
        low, high = there.adaptive.floor_kbps, there.adaptive.ceiling_kbps
        narrow = low > ROOM_TO_ADAPT * high
        said = words.no_adapting(low) if narrow else words.adapting(low, high)
        found.append(("adapting", said))
    times = (back.first_seconds, back.factor, back.longest_seconds, back.give_up_seconds)
    return [*found, ("reconnect", words.reconnecting(*times))]


def budget_table(plan: Plan) -> Table:
    """From the upload down to the safe rate, and of a single destination to its video."""
    steps = [*plan.budget.steps]
    if len(plan.destinations) == 1:
        steps += plan.destinations[0].budget_steps
    safe, typical = len(plan.budget.steps) - 1, max(plan.uplink.typical_kbps, 1.0)
    rows: list[tuple[Cell, ...]] = []
    for number, step in enumerate(steps):
        end = "safe rate" if number == safe else "left for video" if step.name == "audio" else ""
        share = step.after_kbps / typical
        rows.append(
            (
                Styled(step.name.removeprefix("reserve: "), "dim"),
                Styled(Bitrate.from_kbps(step.after_kbps).in_kbps(), "strong" if end else ""),
                Bar(share, 1.0),
                Styled(f"{step.why} → {end}" if end else step.why, "dim"),
            )
        )
    return Table(("step", ">after", "", "why"), tuple(rows))


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
        f"Upload: {plan.uplink.said}.",
        f"Safe share: {plan.inputs.safe_share:.0%} of typical, and never above the floor.",
        f"Quality: {plan.quality_basis} ({words.SCALE}).",
        *([f"Machine: {plan.inputs.machine}."] if plan.inputs.machine else []),
        *(f"Guide of {d.title}: checked {d.guide_checked}." for d in plan.destinations),
        f"Planned {made}by eager-kestrel {plan.version}.",
    ]


# Several destinations


def parts_of(plan: Plan) -> Parts:
    """The upload from left to right: destinations, unused, reserves, and headroom."""
    parts = []
    for there in plan.destinations:
        if (video := there.video) is not None:
            quality = there.quality or 0.0
            said = words.part(video.resolution, video.frame_rate, video.bitrate_kbps, quality)
            name = there.title + (f" ({there.tier})" if there.tier else "")
            parts.append(Part(name, there.total_kbps, said, "good"))
    unused = plan.budget.safe_kbps - plan.total_kbps
    parts.append(Part("unused", unused, words.UNUSED, ""))
    kept = min(plan.budget.reserved_kbps, plan.uplink.typical_kbps)
    names = ", ".join(reserve.name for reserve in plan.inputs.reserves)
    parts.append(Part("reserves", kept, names, "mind"))
    capped = plan.budget.steps[-1] if plan.budget.capped else None
    cut = 0.0 if capped is None else capped.before_kbps - capped.after_kbps
    parts.append(Part("data cap", cut, "" if capped is None else capped.why, "bad"))
    headroom = plan.uplink.typical_kbps - plan.budget.safe_kbps - kept - cut
    parts.append(Part("headroom", headroom, words.HEADROOM, "dim"))
    return Parts(tuple(part for part in parts if part.kbps > 0))


def split_blocks(plan: Plan) -> Iterator[Block]:
    """How the upload is divided, and how else it could be."""
    split = plan.split
    assert split is not None
    yield Heading("The upload, divided")
    yield parts_of(plan)
    yield Rows(((Styled("division", "name"), split.text),))
    for entry in split.leave_out_first:
        yield Note(entry.text, mark="−")
    if split.relay is not None:
        yield Note(split.relay.text, mark="⇉")


# What-ifs


def sweep_blocks(found: Sweep) -> Iterator[Block]:
    """A row wherever the choice of resolution or frame rate changes, with its range."""
    series: list[tuple[str, list[Option | None]]] = [
        (found.platform, [point.chosen for point in found.points])
    ]
    series += [(other.platform, list(other.chosen)) for other in found.beside]
    at = [point.at for point in found.points]
    for platform, chosen in series:
        if found.beside:
            yield Heading(platform)
        rows = []
        for choice, group in groupby(zip(at, chosen, strict=True), lambda point: _choice(point[1])):
            ends = [*group]
            (first, begin), (last, end) = ends[0], ends[-1]
            span = _span(first, last)
            if begin is None or end is None:
                rows.append((span, Styled("no settings", "dim"), "-", "-"))
                continue
            rates = _span(f"{begin.bitrate_kbps:,.0f}", f"{end.bitrate_kbps:,.0f}")
            quality = _span(looks(begin.quality), looks(end.quality))
            rows.append((span, Styled(choice, "strong"), f"{rates} kbit/s", quality))
        yield Table((f">{found.over}", "resolution", ">video", ">quality"), tuple(rows))


def _choice(option: Option | None) -> str:
    return "" if option is None else resolution_at(option.resolution, option.frame_rate)


def _span(first: str, last: str) -> str:
    return first if first == last else f"{first} to {last}"


def comparison_blocks(found: Comparison) -> Iterator[Block]:
    """A column for each candidate, the planned one marked."""
    finalists = found.finalists
    names = [resolution_at(f.resolution, f.frame_rate) for f in finalists]
    planned = [" (planned)" if f.chosen else "" for f in finalists]
    rows = {
        "video bitrate": [kbit(f.bitrate_kbps) for f in finalists],
        "quality": [looks(f.quality) for f in finalists],
        "smoothness": [f"{f.smoothness:.0%}" for f in finalists],
        "limited by": [str(f.limited_by) for f in finalists],
        "total": [kbit(f.total_kbps) for f in finalists],
        "needs an upload of": [rate(f.upload_kbps) for f in finalists],
        "cannot be sent": [f.refused for f in finalists],
    }
    headings = ("", *(name + mark for name, mark in zip(names, planned, strict=True)))
    yield Table(
        headings,
        tuple((Styled(name, "dim"), *cells) for name, cells in rows.items() if any(cells)),
    )


def need_blocks(found: Needs) -> Iterator[Block]:
    """A table for each platform, and a few answers in words as well."""
    where = [f"{n.platform}:{n.tier}" if n.tier else n.platform for n in found.needs]
    for place in dict.fromkeys(where):
        if len(set(where)) > 1:
            yield Heading(place)
        yield Table(
            (
                "resolution",
                "among the\nbest, Mbit/s",
                "video,\nkbit/s",
                ">good\nfrom",
                ">no gain\nbeyond",
                "better then",
            ),
            tuple(_need_row(n) for n, at in zip(found.needs, where, strict=True) if at == place),
        )
    for answer in found.needs:
        if len(found.needs) <= FEW and answer.possible:
            yield Note(_need_said(answer))


def _need_row(answer: Need) -> tuple[Cell, ...]:
    name = resolution_at(answer.resolution, answer.fps)
    if not answer.possible or answer.full_kbps is None:
        return (Styled(name, "dim"), Styled("not taken", "dim"), "", "", "", "")
    good = "never" if answer.good_kbps is None else mbit(answer.good_kbps)
    full = mbit(answer.full_kbps)
    then = Styled(_choice(answer.then or answer.better), "dim")
    if answer.from_kbps is None:
        faint = (Styled(text, "dim") for text in (name, "never", "", good, full))
        return (*faint, then)
    last, video = answer.until_gives or answer.full_gives, ""
    if answer.from_gives is not None and last is not None:
        video = words.video_span(answer.from_gives.bitrate_kbps, last.bitrate_kbps)
    best = Styled(words.span(answer.from_kbps, answer.until_kbps), "strong")
    return (name, best, video, good, full, then)


def _need_said(answer: Need) -> str:
    def at(upload: float | None, option: Option | None) -> words.SettingsAt | None:
        if upload is None or option is None:
            return None
        return words.SettingsAt(upload, option.words, option.bitrate_kbps, option.quality)

    full = at(answer.full_kbps, answer.full_gives)
    assert full is not None
    return words.in_words(
        resolution_at(answer.resolution, answer.fps),
        at(answer.from_kbps, answer.from_gives),
        at(answer.until_kbps, answer.then),
        answer.good_kbps,
        full,
        at(answer.full_kbps, answer.better),
    )


# Forecasts


def forecast_blocks(found: Forecast) -> Iterator[Block]:
    """The verdict, the rate, each fallback, each hour, and what is not known."""
    seen = found.stutter
    rows = [
        ("sent", run_words.sent(found.said, found.total_kbps, found.reserved_kbps)),
        ("observed", found.evidence),
    ]
    if seen is not None:
        rows += [
            ("stutter", run_words.hourly(seen)),
            ("in the show", run_words.in_the_show(seen, found.lasts_seconds)),
            ("longest queue", f"{seen.worst_queue_seconds:.1f} s"),
        ]
    if found.most_kbps is not None:
        limit = some_seconds(found.limit_seconds_per_hour)
        rows.append(("highest rate", f"{kbit(found.most_kbps)} stays within {limit} an hour"))
    good = seen is not None and seen.within(found.limit_seconds_per_hour)
    yield Note(found.verdict, "strong")
    title = "Forecast, of a simulated connection" if found.practice else "Forecast"
    yield Rows(named(rows), title=title, state="good" if good else "mind")
    yield forecast_steps(found)
    if found.by_hour:
        rows_by_hour = []
        for at in found.by_hour:
            read = at.reading_kbps is not None
            most = at.reading_kbps if read else at.most_kbps
            seconds = "readings" if read else observed(at.observed_seconds)
            highest = "-" if most is None else f"{most:,.0f}"
            rows_by_hour.append((f"{at.hour:02d}:00", seconds, *_rates(at.stutter), highest))
        headings = ("hour", ">observed", ">stutter an hour", "between", ">highest kbit/s")
        yield Table(headings, tuple(rows_by_hour))
    for line in found.unknown:
        yield Note(line, "dim")


def forecast_steps(found: Forecast) -> Table:
    """The plan and its fallbacks, the first within the limit marked."""
    limit = f"within {some_seconds(found.limit_seconds_per_hour)}/h"
    first = next((step for step in found.steps if step.within), None)
    rows = []
    for step in found.steps:
        mark = "first" if step is first else "yes" if step.within else "no"
        cells = (step.settings, f"{step.total_kbps:,.0f}", *_rates(step.stutter), mark)
        rows.append(tuple(Styled(cell, "strong" if step is first else "") for cell in cells))
    return Table(("settings", ">kbit/s", ">stutter an hour", "between", limit), tuple(rows))


def _rates(seen: StutterSeen | None) -> tuple[str, str]:
    if seen is None:
        return "not known", ""
    if seen.high_seconds_per_hour < 0.05:
        return "none", ""
    low, high = seen.low_seconds_per_hour, seen.high_seconds_per_hour
    return some_seconds(seen.seconds_per_hour), f"{some_seconds(low)} to {some_seconds(high)}"


# Guides and words
