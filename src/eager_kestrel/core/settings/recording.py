"""What a recording, or a stream that arrives, contains."""

from __future__ import annotations

from fractions import Fraction
from typing import ClassVar

from eager_kestrel.core.codecs import AUDIO_CODECS, CODECS
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.guide.rules import RateControl
from eager_kestrel.core.quantities import ResolutionShape, ResolutionSize
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings import values
from eager_kestrel.core.units import Bitrate

RECORDING_KINDS = {
    ".flv": "flv",
    ".mp4": "mp4",
    ".m4v": "mp4",
    ".mov": "mp4",
    ".mkv": "matroska",
    ".webm": "matroska",
    ".ts": "mpegts",
    ".m2ts": "mpegts",
    ".m3u8": "hls",
}
"""By the end of a file's name, its container."""


class KeyframesSeen(Frozen):
    """How far apart keyframes were."""

    count: int
    shortest_seconds: float | None
    longest_seconds: float | None
    typical_seconds: float | None
    regular: bool
    """Whether all spacings but the last are the same to a frame."""
    at_seconds: tuple[float, ...]
    """Of each; the first is the start."""


class VideoSeen(Spread):
    """Video as it was found."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    codec: str
    profile: str | None
    level: str | None
    """As written in the stream."""
    resolution: Resolution
    """At the beginning."""
    shape: ResolutionShape
    resolution_changes: tuple[tuple[float, ResolutionSize], ...] = ()
    """When, in seconds, and to what."""
    pixel_format: str | None
    colour: str | None
    colour_range: str | None
    frame_rate: Fraction
    """Zero where it cannot be told."""
    regular_share: float
    """Of frames that came when they were due, 0..1."""
    frames: int
    b_frames: int
    """The most in a row."""
    average_kbps: float
    peak_1s_kbps: float
    peak_2s_kbps: float
    peak_buffer_kbps: float
    """Over a window as long as the stated buffer, or one second where none was stated."""
    lowest_2s_kbps: float
    spread: float
    """Of one-second windows: the 90th less the 10th percentile, over the mean."""
    rate_control: RateControl
    """As the spread has it."""
    buffer_needed_kbit: float
    """The least buffer that a decoder fed at the average rate gets by with."""
    keyframes: KeyframesSeen
    gaps: tuple[tuple[float, float], ...]
    """When, and how long, in seconds."""
    jumps: tuple[tuple[float, float], ...] = ()
    """When timestamps jumped, and how far, in seconds; taken out of everything else."""


class AudioSeen(Frozen):
    """Audio as it was found."""

    codec: str
    sample_rate_hz: int
    channels: int
    average_kbps: float
    offset_ms: float
    """How much later than video it begins."""


class Decoded(Frozen):
    """What decoding every frame found."""

    frames: int
    damaged: int
    i_frames: int
    p_frames: int
    b_frames: int


class Recording(Frozen):
    """All that was found."""

    format: str = format_name("recording")
    name: str
    container: str
    seconds: float
    total_kbps: float
    """Video and audio."""
    video: VideoSeen
    audio: AudioSeen | None
    decoded: Decoded | None = None
    second_kbps: tuple[float, ...]
    """Video by second, to draw; averaged over more where there are too many."""
    second_length: float


def settings_seen(recording: Recording) -> values.Settings:
    """A recording as settings, to be held against guides like any others."""
    video, audio = recording.video, recording.audio
    longest, rate = video.keyframes.longest_seconds, video.frame_rate
    codec = next((known for known in CODECS if known == video.codec), None)
    return values.Settings(
        video=values.VideoSet(
            codec=codec,
            resolution=video.resolution,
            frame_rate=rate or None,
            bitrate=Bitrate.from_kbps(video.average_kbps) if video.average_kbps >= 0.001 else None,
            rate_control=video.rate_control,
            keyframes=values.Interval(frames=round(longest * rate)) if longest and rate else None,
            profile=video.profile if codec else None,
            level=video.level if codec else None,
            b_frames=min(video.b_frames, values.MOST_B_FRAMES),
            pixel_format=video.pixel_format,
            colour=video.colour,
            colour_range=video.colour_range,
        ),
        audio=values.AudioSet() if audio is None else _audio_set(audio),
    )


def _audio_set(audio: AudioSeen) -> values.AudioSet:
    return values.AudioSet(
        codec=next((known for known in AUDIO_CODECS if known == audio.codec), None),
        bitrate=Bitrate.from_kbps(audio.average_kbps) if audio.average_kbps >= 0.001 else None,
        sample_rate_hz=audio.sample_rate_hz or None,
        channels=audio.channels if 1 <= audio.channels <= values.MOST_CHANNELS else None,
    )
