"""What a plan says: its budget, why there is none, alternatives, warnings, a shared connection."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Literal, NamedTuple

from eager_kestrel.core.resolution import (
    AspectRatio,
    Resolution,
    divides_evenly,
    frame_rate_text,
    resolution_at,
)
from eager_kestrel.core.words.numbers import (
    Sentence,
    counted,
    joined,
    kbit,
    looks,
    mbit,
    points,
    rate,
    settings,
)

BitrateBound = Literal["budget", "guide", "level", "viewers", "no visible gain"]
"""What a bitrate can be limited by."""

# Steps of the budget

share_step = Sentence("{share:.0%} of typical; the rest covers variation of the upload")
AFTER = {
    "safe share": "by the share",
    "seen safe": "held in what was observed",
    "headroom": "with headroom",
    "lowest useful": "the lowest of use",
    "data cap": "under the data cap",
    "other destinations": "beside other destinations",
}
"""What is left after a step of the budget."""


def budget_line(
    typical_kbps: float, steps: Sequence[tuple[str, float]], reserved_kbps: float
) -> str:
    """``7,932 kbit/s typical: 4,061 held in what was observed, 3,477 with headroom``.

    Args:
        steps: the name of each step, and what it leaves.
    """
    parts = [f"{left:,.0f} {AFTER[name]}" for name, left in steps if name in AFTER]
    reserves = [left for name, left in steps if name not in AFTER]
    if reserves and reserved_kbps:
        at = next((n for n, (name, _) in enumerate(steps) if name not in AFTER), len(parts))
        parts.insert(at, f"{reserves[-1]:,.0f} beside the reserves")
    return f"{kbit(typical_kbps)} typical: {', '.join(parts)}"


held_step = Sentence(
    "the most that stutters at most {limit:seconds} an hour in the {observed_seconds:observed} "
    "observed"
)
all_step = Sentence("all it carried on average in the {observed_seconds:observed} observed")
headroom_step = Sentence(
    "{headroom:.0%} headroom, for what {observed_seconds:observed} do not show"
)
lowest_step = Sentence(
    "no rate stutters at most {limit:seconds} an hour in the {observed_seconds:observed} observed: "
    "the lowest worth sending"
)
reserve_step = Sentence("{kbps:rate} reserved for {name}")
cap_step = Sentence("{cap} a month over {hours:g} hours, packet headers included")
others_step = Sentence("{kbps:kbit} go to other destinations")
headers_step = Sentence("headers that {transport} puts around every frame")
repeats_step = Sentence("{share:.0%} of the rest, for packets that are sent again")
MORE_AUDIO = "kept until it is enough for the next audio bitrate"
audio_step = Sentence("{kbps:g} kbit/s of {codec}")

# Recommendations that are not followed

not_followed = Sentence("{platform} would rather have {wanted} than {found}: {why}")
ONE_FOR_ALL = "every destination of this encode gets the same"
AS_ASKED = "you asked for it, or nothing else is possible here"

# Why there is no plan

no_resolution = Sentence(
    "{platform} takes {sizes} ({shapes}) at {rates}; a source of {source} cannot provide that"
)
no_legible = Sentence(
    "in no resolution {platform} takes are letters of {text:g} px at least {least:g} px high"
)
no_level = Sentence("no level {platform} takes is high enough for {what}")
low_level = Sentence("the highest level {platform} takes allows {kbps:kbit} for {what}")
machine_too_slow = Sentence("this machine cannot encode {what} in real time")
left_for_video = Sentence("{left} is left for video to {platform}")


def least_taken(platform: str, what: str, kbps: float, *, guide: bool) -> str:
    """The least bitrate of a candidate; ``guide``: whether that is the platform's."""
    if guide:
        return f"{platform} takes no less than {kbit(kbps)} for {what}"
    return f"the lowest useful bitrate is {kbit(kbps)}"


upload_leaves = Sentence("your upload has a safe rate of {safe_kbps:kbit}")
cap_leaves = Sentence("your data cap leaves {safe_kbps:kbit}")
reserves_leave = Sentence(
    "the reserves leave {after_kbps:kbit} of {before_kbps:kbit}", "before_kbps after_kbps"
)
clashing_rows = Sentence("the guide of {platform} takes at most {max_kbps:kbit}")
MORE_UPLOAD = "get more upload"
MORE_DATA = "raise the cap, stream fewer hours"
FREE_RESERVES = "free some of the reserves"
FASTER_VIEWERS = "raise --viewers"
LARGER_TEXT = "make your text larger"
OTHER_SOURCE = "set your source to one of these"
FASTER_PRESET = "measure with eager-kestrel encoders"
CORRECT_GUIDE = "correct the guide"
LOWER_LEAST = "lower the least quality"
FEWER = "leave out a destination, or get more upload"


def or_another_platform(instead: Sequence[str]) -> str:
    """What would help, and what always does."""
    return joined([" and ".join(instead), "or choose another platform"], ", ").removeprefix("or ")


viewers_too_slow = Sentence(
    "{platform} may pass on exactly what you send, and its slowest viewers have room for "
    "{kbps:kbit} of video"
)


shows_touched = Sentence("shows of this folder that go there: {names:and}; plan each again")


def buffer(kbit: float, max_kbps: float) -> str:
    """As encoders ask for it: in kbit, or in seconds of the bitrate."""
    return f"{kbit:,.0f} kbit = {kbit / max_kbps:.3g} s"


low_quality = Sentence("predicted quality for {platform}: {quality:looks}; {way_out}")
NO_OFFER = "free some upload, or show something calmer"
below_least = Sentence(
    "the best for {platform} is {best}, with a predicted quality of {quality:looks}; the show "
    "wants at least {least:points}",
    "platform least best quality",
)

# What would be better, and what to do when it struggles

more_upload = Sentence("another {kbps:rate} of upload would give {gives}")


def other_way(
    kind: Literal["tier", "codec", "machine"], name: str, gives: str, quality: float, now: float
) -> str:
    """What another tier, codec or encoder would give."""
    would = f"the {name} tier would allow" if kind == "tier" else f"{name} would give"
    return f"{would} {gives}: quality {looks(quality)}, not {looks(now)}"


ENCODER = "a faster encoder (eager-kestrel encoders measures those of this machine)"
SCALE = "VMAF scale, adjusted for frame rate"


tonight_fits = Sentence(
    "the plan fits: it sends {total_kbps:kbit} of {safe_kbps:kbit} that are safe now; {said}"
)
tonight_too_much = Sentence(
    "the plan sends {total_kbps:kbit}, and only {safe_kbps:kbit} are safe now; {said}; {do}"
)
tonight_fallback = Sentence("send its fallback, {video}, or plan again")
PLAN_AGAIN = "plan again"


NOTHING_LOWER = "there is nothing lower to send: stop everything else that uploads"
srt_latency = Sentence("{milliseconds} ms: four round trips, and 120 ms at least")
srt_latency_unknown = Sentence(
    "{milliseconds} ms, or four round trips if that is more: measure to know them"
)
why_bitrate = Sentence("{text}; --why says more")
other_ingests = Sentence("{address} ({count:count|other}: --full)")


def next_best(others: Sequence[tuple[Resolution, Fraction, float]]) -> str:
    """The runners-up, each with its quality."""
    listed = [f"{resolution_at(resolution, fps)}: {looks(q)}" for resolution, fps, q in others]
    return f"Next best ({SCALE}): {', '.join(listed)}"


def frame_rate_trade(fps: Fraction, sharp: float, other: Fraction, other_sharp: float) -> str:
    """What a frame rate gives and takes beside another; sharpness of single frames as 0..1.

    Smoothness and sharpness stay two things: no single number says which somebody prefers.
    """
    now, then = frame_rate_text(fps), frame_rate_text(other)
    smoother = "smoother" if fps > other else "less smooth"
    apart = points(other_sharp) - points(sharp)
    if not apart:
        return f"{now} fps: {smoother} than {then} fps, and each frame about as sharp"
    sharper = "sharper" if apart > 0 else "less sharp"
    return (
        f"{now} fps: {smoother}; at {then} fps each frame would be {sharper}: "
        f"{points(other_sharp)} against {points(sharp)}, smoothness left out"
    )


# What goes with a plan

adapting = Sentence(
    "{min_kbps:kbit} to {max_kbps:kbit}, for an encoder that lowers its bitrate by itself"
)


no_adapting = Sentence(
    "hardly any room: no less than {min_kbps:kbit} is taken at this resolution; change settings "
    "by hand"
)


def reconnecting(
    first_seconds: float, factor: float, longest_seconds: float, give_up_seconds: float
) -> str:
    """How to come back after the connection drops."""
    return (
        f"after {first_seconds:g} s; then wait {factor:g} times as long each time, at "
        f"most {longest_seconds:g} s; give up after {give_up_seconds / 60:g} min"
    )


data = Sentence("{gb_per_hour:.2f} GB an hour, {gb_per_month:,.0f} GB a month at {hours:.3g} hours")
cap_lasts = Sentence("a cap of {cap_gb:,.4g} GB a month lasts {hours:,.0f} hours")
a_guess = Sentence("{text}; unverified in the guide of {platform}: check its guideline page")
left_free = Sentence("without that it would be {free}; as you asked it is {now}", "now free")


def local_copy(
    video: str,
    keyframe_frames: int,
    audio_kbps: float,
    gb_per_hour: float,
    sent_gb_per_hour: float,
    room: str,
) -> str:
    """A copy on this computer; ``room`` says what is free."""
    return (
        f"{video}, "
        f"a keyframe every {counted(keyframe_frames, 'frame')}, audio {audio_kbps:g} kbit/s: "
        f"{gb_per_hour:.1f} GB an hour{room}; a copy of what is sent takes "
        f"{sent_gb_per_hour:.1f} GB and no second encoder"
    )


room_left = Sentence("; {free_gb:,.0f} GB free, enough for {hours:,.0f} hours")
total = Sentence("{total_kbps:both} of {safe_kbps:kbit} that are safe")


def rehearsed(
    resolution: Resolution,
    fps: Fraction,
    video_kbps: float,
    keyframe_seconds: float,
    audio_kbps: float,
) -> str:
    """What a rehearsal sends, in a line."""
    return (
        f"{settings(resolution, fps, video_kbps)}, a keyframe every {keyframe_seconds:g} s, "
        f"audio {audio_kbps:g} kbit/s"
    )


# Warnings


def viewers_buffer(platform: str, kbps: float, *, sometimes: bool) -> str:
    """Viewers get what is sent, or may."""
    return (
        f"viewers of {platform} {'may' if sometimes else 'always'} get exactly what you send: "
        f"connections slower than {rate(kbps)} will buffer"
    )


same_platform = Sentence(
    "{platform} gets {count} streams that share the connection: to compare accounts, plan each "
    "alone"
)
enhanced_rtmp = Sentence(
    "RTMP carries {codec} only as enhanced RTMP: your program and the platform must both have it"
)
no_pieces = Sentence(
    "MPEG-TS has no place for {codec}: send pieces of fragmented MP4, if the platform takes them"
)
other_shape = Sentence(
    "your source is {source} and {platform} gets {sent} ({shape}): cropped, it shows {crop} of the "
    "source ({kept_share:.0%}); padded, the source fills {pad} of it ({used_share:.0%}); this "
    "plan is to {fit} (--fit); a scene laid out for that shape wastes nothing; never stretch",
    "platform source sent shape crop kept_share pad used_share fit",
)


def each_frame(source: Fraction, sent: Fraction) -> str:
    """How frames of the source become those that are sent."""
    more = sent > source
    times = round(sent / source if more else source / sent)
    if not divides_evenly(source, sent):
        return "some are sent twice" if more else "some are left out, in uneven steps"
    if times == 1:
        return "each is sent"
    return f"each is sent {times} times" if more else f"one in {times} is sent"


def judder(sent: Fraction, source: Fraction) -> str:
    """The frames of the source do not go into the frame rate evenly."""
    fps = frame_rate_text(sent)
    return (
        f"motion will judder: {frame_rate_text(source)} fps of the source do not go into {fps} fps "
        f"evenly; set the source to {fps} or {frame_rate_text(2 * sent)} fps"
    )


# Several destinations on one connection


def clash(rule: str, one: str, one_says: str, other: str, other_says: str) -> str:
    """Two rules no single encode meets; ``rule`` is the guide's key."""
    name = rule.rpartition(".")[2].replace("_", " ")
    return f"{name}: {one} takes {one_says}, {other} {other_says}"


codecs_differ = Sentence("codec: {codecs:and} are asked for")
unsuitable = Sentence("no resolution of this source suits {platforms}")


def does_not_fit(*, machine: bool) -> str:
    """The connection, and perhaps the machine, is too small for everything."""
    return f"the destinations together exceed the safe rate{' or the machine' if machine else ''}"


left_out = Sentence("left out: {because}")
cannot_have = Sentence("{platform}: {why}")
together_too_much = Sentence(
    "together they need at least {min_kbps:kbit}, and {safe_kbps:kbit} is safe"
)


def without(
    platform: str, others: int, qualities: tuple[float, float], freed_kbps: float, tie: float
) -> str:
    """What dropping a destination does for the others: their mean qualities, now and then.

    Args:
        tie: a gain of less is none.
    """
    now, then = qualities
    rest = "the other" if others == 1 else "the others"
    if then > now + tie:
        return f"dropping {platform} raises {rest} from {looks(now)} to {looks(then)}"
    freed = rate(max(0.0, freed_kbps))
    return f"dropping {platform} frees {freed} and does nothing for {rest}"


relay_impossible = Sentence("a relay that only passes on cannot serve them all: {why}")
RELAY_TOO_MUCH = "nothing fits"
RELAY_TOO_MUCH_TEXT = "not even one stream fits"


def relay(resolution: Resolution, fps: Fraction, quality: float, saved_kbps: float) -> str:
    """One stream to a relay that passes it on."""
    saves = f"free {rate(saved_kbps)}" if saved_kbps > 0 else "use no more upload than now"
    return (
        f"a relay that passes on one stream would give every destination "
        f"{resolution_at(resolution, fps)}, quality {looks(quality)}, and {saves}"
    )


chosen_way = Sentence("{way}; mean quality {quality:looks}")


def other_division(way: str, quality: float, chosen: float, tie: float, *, more: bool) -> str:
    """How another way to divide compares; differences up to ``tie`` are none."""
    if abs(quality - chosen) <= tie:
        return f"{way}: about the same quality with {'more' if more else 'fewer'} encodes"
    return f"{way}: {'lower' if quality < chosen else 'higher'} quality, {looks(quality)}"


uneven_way = Sentence(
    "{way}: about the same on average with fewer encodes, but {platform} would have {then:looks} "
    "instead of {now:looks}"
)
impossible_way = Sentence("{way} is not possible ({because})")
NOTHING_DIVIDED = "nothing fits"
UNUSED = "left after planning"
HEADROOM = "covers variation of the upload"


def part(resolution: Resolution, fps: Fraction, kbps: float, quality: float) -> str:
    """One destination's part of the upload."""
    return f"{settings(resolution, fps, kbps)}, quality {looks(quality)}"


def shape_words(shapes: Sequence[AspectRatio]) -> str:
    """``16:9 or 9:16``, or that any will do."""
    return " or ".join(map(str, shapes)) or "any shape"


# The upload that a resolution needs


class SettingsAt(NamedTuple):
    """Settings at an upload."""

    upload_kbps: float
    text: str
    """Resolution, frame rate and bitrate."""
    bitrate_kbps: float
    quality: float


def span(begin: float, end: float | None) -> str:
    """``6.24 to 9.81``: uploads in Mbit/s between which a resolution is among the best."""
    return f"from {mbit(begin)}" if end is None else f"{mbit(begin)} to {mbit(end)}"


def video_span(begin_kbps: float, end_kbps: float) -> str:
    """``2,900 to 4,700``: its bitrates in kbit/s at both."""
    first = f"{begin_kbps:,.0f}"
    return first if end_kbps == begin_kbps else f"{first} to {end_kbps:,.0f}"


def in_words(
    resolution: str,
    begin: SettingsAt | None,
    end: SettingsAt | None,
    good_kbps: float | None,
    full: SettingsAt,
    better: SettingsAt | None,
) -> str:
    """The upload a resolution needs, in one line.

    Args:
        better: what is better there, if it is never among the best.
    """
    first = last = None
    if begin is not None:
        first = (
            f"among the best from {rate(begin.upload_kbps)} of upload, with "
            f"{kbit(begin.bitrate_kbps)} of video and a quality of {looks(begin.quality)}"
        )
        last = end and f"until {rate(end.upload_kbps)}, where {end.text} is better"
    elif better is not None:
        first = f"never among the best: {better.text} is better{_not(better, full)}"
    good = None if good_kbps is None else f"quality is good from {rate(good_kbps)}"
    gain = (
        f"no gain beyond {rate(full.upload_kbps)}, with {kbit(full.bitrate_kbps)} and a quality of "
        f"{looks(full.quality)}"
    )
    return f"{resolution}: {joined((first, last, good, gain))}"


def _not(better: SettingsAt, full: SettingsAt) -> str:
    """Both numbers, if they differ; on single scenes one can be worse with the same mean."""
    if points(better.quality) == points(full.quality):
        return " on the footage where this does worst"
    return f": {looks(better.quality)}, not {looks(full.quality)}"


not_taken = Sentence("{platform} does not take {wanted}")


TOO_SLOW = "this machine does not encode it in time"
LEFT_BY: dict[BitrateBound, str] = {
    "budget": "the safe rate leaves",
    "guide": "the platform takes at most",
    "level": "its codec level allows",
    "viewers": "its slowest viewers have",
    "no visible gain": "no gain is visible beyond",
}


def under_minimum(min_kbps: float, left_kbps: float, limited_by: BitrateBound) -> str:
    """Why settings cannot be taken."""
    return f"it needs at least {kbit(min_kbps)}; {LEFT_BY[limited_by]} {kbit(left_kbps)}"
