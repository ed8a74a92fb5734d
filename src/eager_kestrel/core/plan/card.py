"""The settings card: one weighed candidate as everything that is typed into an encoder.

Keyframes in whole frames, a buffer of one second of video and never more than the level holds, the
least level of the standard's table, B-frames as far as they pay.
"""

from __future__ import annotations

from fractions import Fraction
from math import floor
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.limits import rate_control
from eager_kestrel.core.levels import least_level
from eager_kestrel.core.plan.plan import AudioSettings, VideoSettings

if TYPE_CHECKING:
    from eager_kestrel.core.choice.field import CandidatesTable
    from eager_kestrel.core.choice.weighed import ScoredCandidates
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.rules import AudioRules, Keyframes, VideoRules
    from eager_kestrel.core.show.show import Motion, Show

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
    level = least_level(codec, chosen.picture, rate, profile, kbps)
    return VideoSettings(
        codec=codec,
        picture=chosen.picture,
        frame_rate=rate,
        bitrate_kbps=float(weighed.target_kbps[index]),
        peak_kbps=kbps if control == "variable" else None,
        rate_control=control,
        buffer_kbit=min(kbps * BUFFER_SECONDS, level.buffer_kbit(profile)),
        keyframe_seconds=rules.keyframes.chosen_seconds,
        keyframe_frames=keyframe_frames(rules.keyframes, rate),
        profile=profile,
        level=level.name,
        b_frames=0 if profile == "baseline" else b_frames(rules),
        preset=show.machine.preset(codec, chosen.picture.pixels * float(rate)),
        pixel_format=rules.pixel_formats[0],
        colour=rules.colour,
        colour_range=rules.colour_range,
        resize=None if chosen.picture == show.source else RESIZE[show.motion],
    )


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
    wish = rules.advised.channels
    return wish if wish in rules.channels else max(rules.channels)


def b_frames(rules: VideoRules) -> int:
    """In a row: the advised number, else as many as pay, and no more than are taken."""
    wish = rules.advised.b_frames
    return min(rules.b_frames, MOST_B_FRAMES if wish is None else wish)


def keyframe_frames(rule: Keyframes, rate: Fraction) -> int:
    """The interval in frames: rounded, but never past what the guide allows at most."""
    frames = max(1, round(rule.chosen_seconds * rate))
    if rule.at_most is not None and frames > rule.at_most * rate:
        return max(1, floor(rule.at_most * rate))
    return frames
