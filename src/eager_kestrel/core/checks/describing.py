"""From counts to a description: what a stream turned out to be, and as settings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.checks.recording import AudioSeen, KeyframesSeen, Recording, VideoSeen
from eager_kestrel.core.checks.settings import (
    MOST_B_FRAMES,
    MOST_CHANNELS,
    AudioSet,
    Interval,
    Settings,
    VideoSet,
)
from eager_kestrel.core.checks.tally import BIN_SECONDS, VideoTally
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import AudioCodec, Codec
    from eager_kestrel.core.picture import Resolution

CONSTANT_SPREAD = 0.25
"""One-second windows that differ by less than this are constant bitrate ..."""
CONSTANT_SECONDS = 1.25
"""... and so is what never strays further from its average than a buffer of so many seconds lets it
(ITU-T H.264 annex C: constant bitrate fills the buffer at one rate all along)."""
DRAWN_POINTS = 1200


@dataclass(frozen=True, slots=True)
class VideoFacts:
    """What the container says of its video."""

    codec: str
    profile: str | None
    level: str | None
    picture: Resolution
    pixel_format: str | None = None
    colour: str | None = None
    colour_range: str | None = None


def video_seen(facts: VideoFacts, tally: VideoTally, buffer_seconds: float = 1.0) -> VideoSeen:
    """Everything about the video of a finished tally."""
    tally.finish()
    rate = tally.frame_rate()
    one, two = tally.windows_kbps(1.0), tally.windows_kbps(2.0)
    mean = float(tally.windows_kbps(tally.used * BIN_SECONDS)[0])
    low, high = np.percentile(one, [10, 90])
    spread = float((high - low) / mean) if mean else 0.0
    first = tally.first or 0.0
    constant = spread <= CONSTANT_SPREAD or tally.swing_kbit() <= CONSTANT_SECONDS * mean
    return VideoSeen(
        codec=facts.codec,
        profile=facts.profile,
        level=facts.level,
        picture=facts.picture,
        shape=facts.picture.shape,
        pixel_format=facts.pixel_format,
        colour=facts.colour,
        colour_range=facts.colour_range,
        frame_rate=rate,
        regular_share=round(tally.regular_share(), 4),
        frames=tally.frames,
        b_frames=tally.most_b,
        average_kbps=round(mean, 1),
        peak_1s_kbps=round(float(one.max()), 1),
        peak_2s_kbps=round(float(two.max()), 1),
        peak_buffer_kbps=round(float(tally.windows_kbps(buffer_seconds).max()), 1),
        lowest_2s_kbps=round(float(two.min()), 1),
        spread=round(spread, 4),
        rate_control="constant" if constant else "variable",
        buffer_needed_kbit=round(tally.buffer_needed_kbit(), 1),
        keyframes=_keyframes(tally, first),
        gaps=tuple((round(at - first, 3), round(long, 3)) for at, long in tally.gaps),
        jumps=tuple((round(at - first, 3), round(far, 3)) for at, far in tally.clock.jumps),
    )


def _keyframes(tally: VideoTally, first: float) -> KeyframesSeen:
    """Spacings of the keyframes."""
    at = np.sort(np.array(tally.keyframes)) - first
    apart = np.diff(at)
    usual = float(np.median(apart)) if apart.size else None
    frame = tally.usual_seconds()
    return KeyframesSeen(
        count=int(at.size),
        shortest_seconds=round(float(apart.min()), 4) if apart.size else None,
        longest_seconds=round(float(apart.max()), 4) if apart.size else None,
        typical_seconds=None if usual is None else round(usual, 4),
        regular=usual is None or bool((abs(apart - usual) <= frame + 1e-3).all()),
        at_seconds=tuple(round(float(t), 3) for t in at),
    )


def by_second(tally: VideoTally) -> tuple[tuple[float, ...], float]:
    """Video bitrate by second, or by as many seconds as keep it drawable; and that length."""
    whole = tally.used * BIN_SECONDS
    length = max(1.0, np.ceil(whole / DRAWN_POINTS))
    width = round(length / BIN_SECONDS)
    bins = tally.sizes[: tally.used // width * width].astype(np.float64)
    return tuple((bins.reshape(-1, width).sum(axis=1) * 8e-3 / length).round(1).tolist()), length


def settings_seen(recording: Recording) -> Settings:
    """A recording as settings, to be held against guides like any others."""
    video, audio = recording.video, recording.audio
    longest, rate = video.keyframes.longest_seconds, video.frame_rate
    known: dict[str, Codec] = {"h264": "h264", "hevc": "hevc", "av1": "av1"}
    return Settings(
        video=VideoSet(
            codec=known.get(video.codec),
            picture=video.picture,
            frame_rate=rate or None,
            bitrate=Bitrate.from_kbps(video.average_kbps) if video.average_kbps >= 0.001 else None,
            rate_control=video.rate_control,
            keyframes=Interval(frames=round(longest * rate)) if longest and rate else None,
            profile=video.profile,
            level=video.level,
            b_frames=min(video.b_frames, MOST_B_FRAMES),
            pixel_format=video.pixel_format,
            colour=video.colour,
            colour_range=video.colour_range,
        ),
        audio=AudioSet() if audio is None else _audio_set(audio),
    )


def _audio_set(audio: AudioSeen) -> AudioSet:
    known: dict[str, AudioCodec] = {"aac": "aac", "opus": "opus", "mp3": "mp3"}
    return AudioSet(
        codec=known.get(audio.codec),
        bitrate=Bitrate.from_kbps(audio.average_kbps) if audio.average_kbps >= 0.001 else None,
        sample_rate_hz=audio.sample_rate_hz or None,
        channels=audio.channels if 1 <= audio.channels <= MOST_CHANNELS else None,
    )
