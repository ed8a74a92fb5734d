"""All encoder settings of one scored candidate: keyframes, level, buffer, preset, colour.

Keyframes in whole frames, a buffer of one second of video and never more than the level holds, the
least level of the standard's table, B-frames as far as they pay.
"""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING, Literal

import numpy as np

from eager_kestrel.core.choice.limits import rate_control
from eager_kestrel.core.choice.quality import QualityTable, clean_kbps
from eager_kestrel.core.codecs import least_level
from eager_kestrel.core.plan.plan import AudioSettings, DataUse, FrameFit, LocalCopy, VideoSettings
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import ON_THE_WIRE, Fit, Show

if TYPE_CHECKING:
    from eager_kestrel.core.choice.candidates_table import CandidatesTable
    from eager_kestrel.core.choice.scored import ScoredCandidates
    from eager_kestrel.core.codecs import Codec
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.rules import AudioRules, VideoRules
    from eager_kestrel.core.show.show import Motion
    from eager_kestrel.core.units import DataSize


BUFFER_SECONDS = 1.0
MOST_B_FRAMES = 2
"""More costs delay and buys little at live bitrates."""
MONO_KBPS = 64.0
"""At or below this, voice sounds better in one channel than in two."""
RESIZE: dict[Motion, str] = {
    "still": "lanczos",
    "calm": "lanczos",
    "lively": "bicubic",
    "hectic": "bicubic",
}
"""By content: sharp where detail stands still; softer, and cheaper to code, where it moves."""


def settings_at(
    guide: Guide, field: CandidatesTable, weighed: ScoredCandidates, index: int
) -> VideoSettings:
    """The full video settings of one weighed candidate."""
    chosen, kbps = weighed.candidates[index], float(weighed.kbps[index])
    rules, codec, rate, show = guide.video, field.codec, chosen.frame_rate, field.show
    control = rate_control(guide)
    profile = rules.profiles_of(codec)[0]
    level = least_level(codec, chosen.resolution, rate, profile, kbps)
    return VideoSettings(
        codec=codec,
        resolution=chosen.resolution,
        frame_rate=rate,
        bitrate_kbps=float(weighed.target_kbps[index]),
        peak_kbps=kbps if control == "variable" else None,
        rate_control=control,
        buffer_kbit=min(kbps * BUFFER_SECONDS, level.buffer_kbit(profile)),
        keyframe_seconds=guide.keyframe_seconds,
        keyframe_frames=guide.keyframe_frames(rate),
        profile=profile,
        level=level.name,
        b_frames=0 if profile == "baseline" else b_frames(rules),
        preset=show.machine.preset(codec, chosen.resolution.pixels * float(rate)),
        pixel_format=rules.pixel_formats[0],
        colour=rules.colour,
        colour_range=rules.colour_range,
        resize=None if chosen.resolution == show.source else RESIZE[show.motion],
        deinterlace=_deinterlace(show, rate),
    )


def _deinterlace(show: Show, rate: Fraction) -> Literal["field", "frame"] | None:
    """Of what each frame that is sent is made."""
    if not show.interlaced:
        return None
    return "field" if rate == show.frame_rate else "frame"


def audio_at(guide: Guide, show: Show, kbps: float) -> AudioSettings:
    """The full audio settings at a bitrate."""
    rules = guide.audio
    thin = show.audio == "voice" and kbps <= MONO_KBPS
    return AudioSettings(
        codec=rules.codecs[0],
        bitrate_kbps=kbps,
        sample_rate_hz=rules.sample_rate_hz,
        channels=min(rules.channels) if thin else _channels(rules),
    )


def _channels(rules: AudioRules) -> int:
    wish = rules.recommended.channels
    return wish if wish in rules.channels else max(rules.channels)


def b_frames(rules: VideoRules) -> int:
    """In a row: the recommended number, else as many as pay, and no more than are taken."""
    wish = rules.recommended.b_frames
    return min(rules.b_frames, MOST_B_FRAMES if wish is None else wish)


def frame_fit(source: Resolution, sent: Resolution, way: Fit = "crop") -> FrameFit | None:
    """How a source fits a resolution of another shape; None when the shape is the same."""
    if sent.shape.fits(source):
        return None
    wider = source.width * sent.height > sent.width * source.height
    if wider:
        crop = Resolution(_even(source.height * sent.width / sent.height), source.height)
        pad = Resolution(sent.width, _even(sent.width * source.height / source.width))
    else:
        crop = Resolution(source.width, _even(source.width * sent.height / sent.width))
        pad = Resolution(_even(sent.height * source.width / source.height), sent.height)
    return FrameFit(
        way=way,
        crop=crop,
        kept_share=round(crop.pixels / source.pixels, 4),
        enlarged=round(sent.height / crop.height, 3),
        pad=pad,
        used_share=round(pad.pixels / sent.pixels, 4),
    )


def _even(side: float) -> int:
    return max(2, int(side) // 2 * 2)


GB_PER_KBPS_HOUR = 3600 * 1000 / 8 / 1e9
"""Gigabytes (10^9 bytes) in an hour of one kbit/s."""
COPY_CODEC: Codec = "h264"
COPY_AUDIO_KBPS = 192.0
COPY_KEYFRAME_SECONDS = 1.0
"""Short, so that the file can be cut and searched."""


def gb_per_hour(kbps: float) -> float:
    """Gigabytes in an hour at a rate."""
    return round(kbps * GB_PER_KBPS_HOUR, 3)


def data_use(total_kbps: float, hours_a_month: float, cap: DataSize | None = None) -> DataUse:
    """What a rate comes to, and how long a month's data lasts."""
    lasts = None
    if cap is not None and total_kbps > 0:
        lasts = round(cap.bytes / 1e9 / (total_kbps * GB_PER_KBPS_HOUR * ON_THE_WIRE), 1)
    return DataUse(
        cap_gb=None if cap is None else round(cap.bytes / 1e9, 3),
        cap_lasts_hours=lasts,
        gb_per_hour=gb_per_hour(total_kbps),
        hours_a_month=hours_a_month,
        gb_per_month=round(total_kbps * GB_PER_KBPS_HOUR * hours_a_month, 2),
    )


def local_copy(
    show: Show, table: QualityTable, sent_kbps: float, free_bytes: int | None
) -> LocalCopy:
    """Settings for a copy of the source at its own resolution and frame rate."""
    pixels = np.array([float(show.source.pixels)])
    fps = np.array([float(show.frame_rate)])
    clean = float(clean_kbps(table, show.motion, COPY_CODEC, pixels, fps)[0])
    video = -(-clean // 500) * 500
    per_hour = gb_per_hour(video + COPY_AUDIO_KBPS)
    free_gb = None if free_bytes is None else round(free_bytes / 1e9, 2)
    return LocalCopy(
        resolution=show.source,
        frame_rate=show.frame_rate,
        codec=COPY_CODEC,
        bitrate_kbps=video,
        keyframe_frames=max(1, round(COPY_KEYFRAME_SECONDS * show.frame_rate)),
        audio_kbps=COPY_AUDIO_KBPS,
        gb_per_hour=per_hour,
        sent_gb_per_hour=gb_per_hour(sent_kbps),
        free_gb=free_gb,
        free_hours=None if free_gb is None else round(free_gb / per_hour, 1),
    )
