"""A plan as lines to read: what every page, card or document shows of it, in words."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import both, quality_with_range

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import AudioSettings, DestinationPlan, Plan, VideoSettings


CODECS = {"h264": "H.264", "hevc": "HEVC", "av1": "AV1", "aac": "AAC", "opus": "Opus", "mp3": "MP3"}
CHANNELS = {1: "mono", 2: "stereo"}


class Row(NamedTuple):
    """A line of the card."""

    name: str
    value: str
    bound: str
    """What bound it; empty where nothing did."""


class Sum(NamedTuple):
    """A step from the upload to what is left for video."""

    name: str
    after: str
    why: str
    mark: str
    """``safe rate`` or ``left for video``, where it ends there."""
    after_kbps: float


def title_of(plan: Plan, there: DestinationPlan) -> str:
    """``The Wheel on Oxbow (hearth)``."""
    tier = f" ({there.tier})" if there.tier else ""
    return f"{plan.inputs.title or 'Your stream'} on {there.title}{tier}"


def source_of(plan: Plan) -> str:
    """``a source of 1920x1080 at 60, lively``."""
    asked = plan.inputs
    return f"a source of {resolution_at(asked.source, asked.frame_rate)}, {asked.motion}"


def card_rows(plan: Plan, there: DestinationPlan) -> list[Row]:
    """What to type in, and what bound it; nothing where a destination has no settings."""
    video, audio = there.video, there.audio
    if video is None or audio is None:
        return []
    total = words.total(there.total_kbps, plan.budget.safe_kbps)
    rows = [
        *_video_rows(video),
        *_audio_rows(video, audio),
        ("quality", quality_said(there), ""),
        *_trade(there),
        ("sent in all", total, ""),
    ]
    if plan.stutter_said:
        rows.append(("stutter", plan.stutter_said, ""))
    return [Row(name, value, _bound(there, key)) for name, value, key in rows]


def quality_said(there: DestinationPlan) -> str:
    """Predicted quality with the range over footage of its kind."""
    quality = there.quality or 0.0
    return quality_with_range(quality, *(there.quality_range or (quality, quality)))


def trade_said(there: DestinationPlan) -> str:
    """What the frame rate gives and takes; empty where there is no other."""
    trade, video = there.frame_rate_trade, there.video
    if trade is None or video is None:
        return ""
    return words.frame_rate_trade(
        video.frame_rate, trade.sharpness, trade.frame_rate, trade.other_sharpness
    )


def _trade(there: DestinationPlan) -> list[tuple[str, str, str]]:
    return [("smooth or sharp", said, "")] if (said := trade_said(there)) else []


def _bound(there: DestinationPlan, key: str) -> str:
    """What bound a setting; a guess is said to be one."""
    bound = there.limited_by.get(key, "")
    return f"{bound} (a guess)" if key in there.guessed else bound


def _video_rows(video: VideoSettings) -> list[tuple[str, str, str]]:
    rows = [
        ("resolution", str(video.resolution), "resolution"),
        ("frame rate", f"{frame_rate_text(video.frame_rate)} a second", "frame_rate"),
        ("video bitrate", f"{both(video.bitrate_kbps)}, {video.rate_control}", "bitrate"),
        (
            "keyframes",
            f"every {video.keyframe_seconds:g} s = {video.keyframe_frames} frames",
            "keyframes",
        ),
        ("buffer", f"{video.buffer_kbit:,.0f} kbit", "buffer"),
        (
            "codec",
            f"{CODECS[video.codec]} {video.profile}, level {video.level}, "
            f"{video.b_frames} B-frames",
            "profile",
        ),
    ]
    if video.preset is not None:
        rows.append(("encoder" if video.own_encoder else "preset", video.preset, "preset"))
    if video.peak_kbps is not None:
        rows.insert(3, ("peak", both(video.peak_kbps), "bitrate"))
    return rows


def _audio_rows(video: VideoSettings, audio: AudioSettings) -> list[tuple[str, str, str]]:
    resized = f", resized by {video.resize}" if video.resize else ""
    return [
        (
            "audio",
            f"{CODECS[audio.codec]} {audio.bitrate_kbps:g} kbit/s, "
            f"{audio.sample_rate_hz / 1000:g} kHz, {CHANNELS[audio.channels]}",
            "audio",
        ),
        (
            "colour",
            f"{video.pixel_format}, {video.colour}, {video.colour_range} range{resized}",
            "colour",
        ),
    ]


def budget_sums(plan: Plan) -> list[Sum]:
    """From the upload down to the safe rate, and of a single destination to its video."""
    steps = [*plan.budget.steps]
    if len(plan.destinations) == 1:
        steps += plan.destinations[0].budget_steps
    safe = len(plan.budget.steps) - 1
    found = []
    for number, step in enumerate(steps):
        end = "safe rate" if number == safe else "left for video" if step.name == "audio" else ""
        after = Bitrate.from_kbps(step.after_kbps).in_kbps()
        name = step.name.removeprefix("reserve: ")
        found.append(Sum(name, after, step.why, end, step.after_kbps))
    return found


def data_said(plan: Plan) -> str:
    """What the stream sends in an hour and a month."""
    data = plan.data
    said = words.data(data.gb_per_hour, data.gb_per_month, data.hours_a_month)
    if data.cap_gb is None or data.cap_lasts_hours is None:
        return said
    return f"{said}; {words.cap_lasts(data.cap_gb, data.cap_lasts_hours)}"


def copy_said(plan: Plan) -> str:
    """What a local copy takes."""
    copy = plan.local_copy
    room = ""
    if copy.free_gb is not None and copy.free_hours is not None:
        room = words.room_left(copy.free_gb, copy.free_hours)
    return words.local_copy(
        copy.resolution,
        copy.frame_rate,
        f"{CODECS[copy.codec]} {both(copy.bitrate_kbps)}",
        copy.keyframe_frames,
        copy.audio_kbps,
        copy.gb_per_hour,
        copy.sent_gb_per_hour,
        room,
    )


def division(plan: Plan) -> list[str]:
    """How several destinations share the connection; nothing for one."""
    split = plan.split
    if split is None:
        return []
    said = []
    for there in plan.destinations:
        video = there.video
        if video is not None:
            part = words.part(
                video.resolution, video.frame_rate, video.bitrate_kbps, there.quality or 0.0
            )
            said.append(f"{there.title}: {Bitrate.from_kbps(there.total_kbps).in_kbps()}; {part}")
    said.append(split.text)
    said += [f"{name} is left out: {split.left_out_because}" for name in split.left_out]
    said += [entry.text for entry in split.leave_out_first[:1]]
    if split.relay is not None and split.relay.possible:
        said.append(split.relay.text)
    return said


def beside(there: DestinationPlan) -> list[tuple[str, str]]:
    """How far an encoder may adapt, and when to come back."""
    back, found = there.reconnect, []
    if there.adaptive is not None:
        adaptive = there.adaptive
        found.append(("adapting", words.adapting(adaptive.floor_kbps, adaptive.ceiling_kbps)))
    said = words.reconnecting(
        back.first_seconds, back.factor, back.longest_seconds, back.give_up_seconds
    )
    return [*found, ("reconnect", said)]


def basis(plan: Plan) -> list[str]:
    """What it all rests on."""
    return [
        f"The upload: {plan.uplink.said}.",
        f"The share that is safe: {plan.inputs.safe_share:.0%} of typical, and never above the "
        "floor.",
        f"Quality: {plan.quality_basis} ({words.SCALE}).",
        *([f"The machine: {plan.inputs.machine}."] if plan.inputs.machine else []),
        *(
            f"The guide of {there.title} was checked {there.guide_checked}."
            for there in plan.destinations
        ),
        f"Planned {plan.made_at[:16].replace('T', ' ') + ' ' if plan.made_at else ''}by "
        f"eager-kestrel {plan.version}.",
    ]
