"""What is said of a budget, of a plan and its alternatives, and of a line that is divided."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Literal, NamedTuple

from eager_kestrel.core.resolution import AspectRatio, Resolution, frame_rate_text, resolution_at
from eager_kestrel.core.words.numbers import both, kbit, looks, points, rate, settings

# The steps of a budget


def share_step(share: float) -> str:
    """Why a share of typical sets it."""
    return f"{share:.0%} of typical; the rest is for the connection's ups and downs"


def reserve_step(kbps: float, name: str) -> str:
    """A named reserve."""
    return f"{rate(kbps)} kept for {name}"


def cap_step(cap: str, hours: float) -> str:
    """What a month's data allows."""
    return f"{cap} a month in {hours:g} hours, headers of packets counted"


def others_step(kbps: float) -> str:
    """What other destinations take of the same connection."""
    return f"{kbit(kbps)} go to other destinations"


def headers_step(transport: str) -> str:
    """Transport overhead."""
    return f"headers of {transport.upper()} around every frame"


def audio_step(kbps: float) -> str:
    """What audio takes."""
    return f"{kbps:g} kbit/s of AAC"


# Why there is no plan


def no_resolution(
    platform: str, sizes: str, shapes: str, rates: str, source: Resolution, source_rate: Fraction
) -> str:
    """The source cannot give what the platform takes."""
    return (
        f"{platform} takes {sizes} ({shapes}) at {rates}, which a "
        f"source of {resolution_at(source, source_rate)} cannot give"
    )


def no_level(platform: str) -> str:
    """No level that is taken holds any resolution."""
    return f"{platform} takes no level that holds any of its resolutions"


def machine_too_slow(platform: str) -> str:
    """The machine encodes none of them in time."""
    return f"this machine encodes none of the pictures {platform} takes in time"


def too_little_left(
    platform: str, safe_kbps: float, left_kbps: float, needed_kbps: float, *, guide: bool
) -> str:
    """The connection leaves less than the least; ``guide``: whether that is the platform's."""
    rule = "the least it takes" if guide else "the least worth sending"
    return (
        f"{kbit(safe_kbps)} may be sent and {kbit(left_kbps)} of it is left for video to "
        f"{platform}; {rule} is {kbit(needed_kbps)}"
    )


def viewers_too_slow(platform: str, left_kbps: float, needed_kbps: float, *, guide: bool) -> str:
    """What the slowest viewers take leaves less than the least."""
    rule = "the least it takes" if guide else "the least worth sending"
    return (
        f"the slowest viewers leave {kbit(left_kbps)} for video to {platform}, which may pass on "
        f"exactly what it gets; {rule} is {kbit(needed_kbps)}"
    )


def looks_poor(platform: str, quality: float, way_out: str) -> str:
    """Low quality, said, with what would help."""
    return f"predicted quality for {platform}: {looks(quality)}; {way_out}"


NO_OFFER = "free some upload, or show something calmer"


def below_least(platform: str, least: float, best: str, quality: float) -> str:
    """The best there is looks worse than the show file accepts."""
    return (
        f"the best for {platform} is {best}, with a predicted quality of {looks(quality)}; "
        f"the show wants at least {100 * least:.3g}"
    )


# What would be better, and what to do when it struggles


def more_upload(kbps: float, gives: str) -> str:
    """An offer of upload; ``gives`` as :func:`numbers.settings` writes it."""
    return f"another {rate(kbps)} of upload would give {gives}"


def other_way(
    kind: Literal["tier", "codec"], name: str, gives: str, quality: float, now: float
) -> str:
    """An offer of a standing or codec."""
    would = f"the {name} tier would allow" if kind == "tier" else f"{name} would give"
    return f"{would} {gives}: quality {looks(quality)}, not {looks(now)}"


def struggling(steps: Sequence[str]) -> str:
    """Steps down in order."""
    return f"if it struggles: {'; '.join(steps)}"


SCALE = "VMAF scale, adjusted for frame rate by a published model"


def next_best(others: Sequence[tuple[Resolution, Fraction, float]]) -> str:
    """Runners-up, each with its quality."""
    said = ", ".join(
        f"{resolution_at(resolution, fps)}: {looks(q)}" for resolution, fps, q in others
    )
    return f"Next best ({SCALE}): {said}"


def frame_rate_trade(fps: Fraction, sharp: float, other: Fraction, other_sharp: float) -> str:
    """What the frame rate gives and takes, beside another; sharpness of single frames as 0..1.

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
        f"{points(other_sharp)} against {points(sharp)}"
    )


# What goes with a plan


def adapting(floor_kbps: float, ceiling_kbps: float) -> str:
    """Between which bitrates an encoder may move by itself."""
    return (
        f"{kbit(floor_kbps)} to {kbit(ceiling_kbps)} for an encoder that lowers its bitrate "
        "by itself"
    )


def reconnecting(
    first_seconds: float, factor: float, longest_seconds: float, give_up_seconds: float
) -> str:
    """How to come back after the connection drops."""
    return (
        f"after {first_seconds:g} s, then wait {factor:g} times as long each time, at "
        f"most {longest_seconds:g} s; give up after {give_up_seconds / 60:g} min"
    )


def data(gb_per_hour: float, gb_per_month: float, hours: float) -> str:
    """What the stream sends."""
    return f"{gb_per_hour:.2f} GB an hour, {gb_per_month:,.0f} GB in the {hours:g} hours of a month"


def cap_lasts(cap_gb: float, hours: float) -> str:
    """How long a month's data lasts."""
    return f"a cap of {cap_gb:,.4g} GB a month lasts {hours:,.0f} hours of it"


def a_guess(text: str, platform: str) -> str:
    """A reason that rests on something nobody looked up."""
    return f"{text}; the guide of {platform} only guesses this: look it up"


def pinned(what: str) -> str:
    """A setting somebody asked for."""
    return f"you asked for this {what}"


def left_free(now: str, free: str) -> str:
    """What pinning a resolution costs."""
    return f"left free it would be {free}; as you asked it is {now}"


def local_copy(
    resolution: Resolution,
    fps: Fraction,
    video: str,
    keyframe_frames: int,
    audio_kbps: float,
    gb_per_hour: float,
    sent_gb_per_hour: float,
    room: str,
) -> str:
    """A copy on the own disk; ``video`` names codec and bitrate, ``room`` what is free."""
    return (
        f"{resolution_at(resolution, fps)}, {video}, a keyframe every {keyframe_frames} frames, "
        f"audio {audio_kbps:g} kbit/s: {gb_per_hour:.1f} GB an hour{room}; a copy of what is "
        f"sent takes {sent_gb_per_hour:.1f} GB and no second encoder"
    )


def room_left(free_gb: float, hours: float) -> str:
    """How long a disk lasts."""
    return f"; {free_gb:,.0f} GB are free, enough for {hours:,.0f} hours"


def sent_in_all(total_kbps: float, safe_kbps: float) -> str:
    """Everything sent beside what is safe."""
    return f"{both(total_kbps)} of {kbit(safe_kbps)} that are safe"


def rehearsed(
    resolution: Resolution,
    fps: Fraction,
    video_kbps: float,
    keyframe_seconds: float,
    audio_kbps: float,
) -> str:
    """Settings in a line, for what a rehearsal sends."""
    return (
        f"{settings(resolution, fps, video_kbps)}, a keyframe every {keyframe_seconds:g} s, "
        f"audio {audio_kbps:g} kbit/s"
    )


# What a plan cannot promise


def nobody_measured(*, readings: bool) -> str:
    """The upload rests on no run."""
    what = "rests on imported readings" if readings else "is a bare number nobody measured"
    return f"the upload {what}; run eager-kestrel measure"


ONE_RUN = "one run is not evidence yet; measure again at the hour of the show"


def viewers_buffer(platform: str, total_kbps: float, *, sometimes: bool) -> str:
    """Viewers get what is sent, or may."""
    return (
        f"viewers of {platform} {'may' if sometimes else 'always'} get exactly what you "
        f"send: a connection slower than {rate(total_kbps)} will buffer"
    )


def other_shape(
    platform: str,
    source: Resolution,
    sent: Resolution,
    crop: Resolution,
    kept_share: float,
    pad: Resolution,
    used_share: float,
) -> str:
    """The source has another shape than what is sent."""
    return (
        f"your source is {source} and {platform} gets {sent}, {sent.shape}: cropped, "
        f"it shows {crop} of the source ({kept_share:.0%}); padded, the "
        f"source fills {pad} of it ({used_share:.0%}); a scene laid out for "
        "it wastes nothing; never stretch it"
    )


def judder(sent: Fraction, source: Fraction) -> str:
    """The frame rate does not divide the source's."""
    fps = frame_rate_text(sent)
    return (
        f"{fps} does not divide {frame_rate_text(source)} frames a "
        f"second, so motion will judder: set the source to {fps} or {frame_rate_text(2 * sent)}"
    )


# A line that is divided


def clash(rule: str, one: str, one_says: str, other: str, other_says: str) -> str:
    """Two rules no single encode satisfies; ``rule`` is the guide's key."""
    name = rule.rpartition(".")[2].replace("_", " ")
    return f"{name}: {one} takes {one_says}, {other} {other_says}"


def codecs_differ(codecs: Sequence[str]) -> str:
    """Two codecs are asked of one encode."""
    return f"codec: {' and '.join(codecs)} are asked for"


def unsuitable(platforms: str) -> str:
    """No resolution of the source suits."""
    return f"no resolution of this source suits {platforms}"


def does_not_fit(*, machine: bool) -> str:
    """The connection, and perhaps the machine, is too small for all of it."""
    return f"not all of it fits the connection{' and the machine' if machine else ''}"


def left_out(because: str) -> str:
    """A destination that gets nothing."""
    return f"left out: {because}"


def cannot_have(platform: str, why: str) -> str:
    """One destination alone is impossible."""
    return f"{platform}: {why}"


def nothing_fits(platform: str, safe_kbps: float) -> str:
    """One destination takes more than there is."""
    return f"{platform} takes nothing that fits {kbit(safe_kbps)}"


def together_too_much(least_kbps: float, safe_kbps: float) -> str:
    """All destinations at their least."""
    return f"all together take at least {kbit(least_kbps)} of the {kbit(safe_kbps)} there is"


def without(platform: str, now: float, then: float, freed_kbps: float, alike: float) -> str:
    """What leaving a destination out does for the others; mean qualities, and what is no gain."""
    if then > now + alike:
        return f"without {platform}: lifts the others from {looks(now)} to {looks(then)}"
    return f"without {platform}: frees {rate(max(0.0, freed_kbps))} and does nothing for the others"


def relay_impossible(why: str) -> str:
    """One stream cannot serve all."""
    return f"a relay that only passes on cannot serve them all: {why}"


RELAY_TOO_MUCH = "nothing fits"
RELAY_TOO_MUCH_TEXT = "not even one stream fits"


def relay(resolution: Resolution, fps: Fraction, quality: float, saved_kbps: float) -> str:
    """One stream to a relay that passes it on."""
    saves = f"free {rate(saved_kbps)}" if saved_kbps > 0 else "take no more than now"
    return (
        f"a relay that passes on one stream would give {resolution_at(resolution, fps)} for all "
        f"with a quality of {looks(quality)}, and {saves}"
    )


def chosen_way(way: str, quality: float) -> str:
    """The way to divide that was chosen."""
    return f"{way}, with a mean quality of {looks(quality)}"


def other_division(
    way: str, quality: float, chosen: float, alike: float, *, more_encodes: bool
) -> str:
    """How another way to divide compares; differences up to ``alike`` are none."""
    if abs(quality - chosen) <= alike:
        more = "more" if more_encodes else "fewer"
        return f"{way} would look alike with {more} encodes"
    word = "worse" if quality < chosen else "better"
    return f"{way} would look {word}, {looks(quality)}"


def impossible_way(way: str, because: str) -> str:
    """A way to divide that cannot be."""
    return f"{way} is not possible ({because})"


NOTHING_DIVIDED = "nothing fits"
UNUSED = "safe, but of no use to any of them"
KEPT_BACK = "for the connection's ups and downs"


def part(resolution: Resolution, fps: Fraction, kbps: float, quality: float) -> str:
    """One destination's part of the connection."""
    return f"{settings(resolution, fps, kbps)}, quality {looks(quality)}"


def shape_words(shapes: Sequence[AspectRatio]) -> str:
    """``16:9 or 9:16``, or that any will do."""
    return " or ".join(map(str, shapes)) or "any shape"


class SettingsAt(NamedTuple):
    """Settings at an upload."""

    upload_kbps: float
    words: str
    """Resolution, frame rate and bitrate."""
    bitrate_kbps: float
    quality: float


def mbit(kbps: float) -> str:
    """``6.24``: Mbit/s in three figures, where a heading has the unit."""
    return f"{kbps / 1000:.3g}"


def span(begin: float, end: float | None) -> str:
    """``6.24 to 9.81``: uploads in Mbit/s between which a resolution is among the best-looking."""
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
    """All of it in one line.

    Args:
        resolution: with its frame rate.
        begin: where it is among the best-looking for the first time.
        end: where another looks better, and that other.
        good_kbps: the upload from which it looks good.
        full: where nothing more is gained.
        better: what beats it there, where it never is among the best.
    """
    said = []
    if begin is not None:
        said.append(
            f"among the best-looking from {rate(begin.upload_kbps)} up "
            f"with {kbit(begin.bitrate_kbps)} of video and a quality of {looks(begin.quality)}"
        )
        if end is not None:
            said.append(f"until {rate(end.upload_kbps)}, where {end.words} looks better")
    elif better is not None:
        said.append(
            f"never among the best-looking: {better.words} looks better{_not(better, full)}"
        )
    if good_kbps is not None:
        said.append(f"it looks good from {rate(good_kbps)}")
    said.append(
        f"nothing is gained beyond {rate(full.upload_kbps)} "
        f"with {kbit(full.bitrate_kbps)} and a quality of {looks(full.quality)}"
    )
    return f"{resolution}: {'; '.join(said)}"


def _not(better: SettingsAt, full: SettingsAt) -> str:
    """Both numbers, where they differ; on single scenes one can be worse with the same mean."""
    if points(better.quality) == points(full.quality):
        return " on the footage where this does worst"
    return f": {looks(better.quality)}, not {looks(full.quality)}"


def not_taken(platform: str, wanted: str) -> str:
    """A resolution a platform does not take of this source."""
    return f"{platform} does not take {wanted} of this source"


def choose(known: list[str], *, of_rates: bool) -> str:
    """What it takes instead."""
    what = "frame rates are" if of_rates else "resolutions are"
    return f"its {what} {', '.join(known)}"


TOO_SLOW = "this machine does not encode it in time"


def under_floor(kbps: float) -> str:
    """It may not be sent at so little."""
    return f"it takes {kbit(kbps)} at the least"
