"""Settings: as somebody has set them, in any program, and as a plan has them.

What is missing of the former is unknown. A plan's settings are valid settings, so a plan can be
held against a guide like anything else.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema, model_validator

from eager_kestrel.core.codecs import AudioCodec, Codec
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.rules import RateControl, Transport
from eager_kestrel.core.quantities import FrameRate, Rate, ResolutionSize
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.units import Bitrate, parse_seconds
from eager_kestrel.core.words.numbers import settings

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

MOST_CHANNELS = 8
MOST_B_FRAMES = 16
"""In a row: what H.264 and H.265 decoders hold."""


class Interval(Frozen):
    """A keyframe interval as set: in seconds, in frames, or left to the encoder."""

    seconds: float | None = None
    frames: int | None = None

    @property
    def automatic(self) -> bool:
        """Whether the encoder is free to choose."""
        return self.seconds is None and self.frames is None

    def __str__(self) -> str:
        if self.seconds is not None:
            return f"{self.seconds:g} s"
        return f"{self.frames} frames" if self.frames is not None else "automatic"


def parse_interval(text: str) -> Interval:
    """Read ``"2 s"``, ``"250 frames"`` or ``"auto"``.

    Raises:
        UnitError: none of these, or not above zero.
    """
    plain = text.strip().lower()
    if plain in ("auto", "automatic", "0", "0 s"):
        return Interval()
    match = re.fullmatch(r"([0-9]+)\s*(?:frames?|f)", plain)
    if match and int(match[1]) > 0:
        return Interval(frames=int(match[1]))
    if re.fullmatch(r"[0-9.]+", plain):
        raise UnitError(f"{plain} may be seconds or frames", f"write {plain} s or {plain} frames")
    seconds = parse_seconds(text)
    if seconds <= 0:
        raise UnitError(f'"{text}" is not an interval', 'write "2 s", "120 frames" or "auto"')
    return Interval(seconds=seconds)


def _interval(value: object) -> object:
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        return value
    try:
        return parse_interval(str(value))
    except UnitError as error:
        raise ValueError(f"{error.what}; {error.instead}") from None


KeyframeInterval = Annotated[
    Interval,
    WithJsonSchema({"type": "string", "examples": ["2 s", "120 frames", "auto"]}),
    BeforeValidator(_interval),
    PlainSerializer(str, return_type=str),
]


def _level_name(value: object) -> object:
    """``4.0`` is level 4, and ``Level 4.1`` is 4.1."""
    if isinstance(value, bool) or not isinstance(value, str | int | float):
        return value
    plain = re.sub(r"(?i)^level\s*", "", str(value).strip())
    return plain.removesuffix(".0")


def _lower(value: object) -> object:
    return value.strip().lower() if isinstance(value, str) else value


ProfileName = Annotated[str, BeforeValidator(_lower)]
LevelName = Annotated[str, BeforeValidator(_level_name)]


class VideoSet(Frozen):
    """Video as set."""

    codec: Annotated[Codec | None, BeforeValidator(_lower)] = None
    resolution: ResolutionSize | None = None
    frame_rate: FrameRate | None = None
    bitrate: Rate | None = None
    """The target; what constant bitrate runs at."""
    peak: Rate | None = None
    """The most of variable bitrate."""
    rate_control: Annotated[RateControl | None, BeforeValidator(_lower)] = None
    buffer_kbit: float | None = Field(default=None, gt=0)
    keyframes: KeyframeInterval | None = None
    profile: ProfileName | None = None
    level: LevelName | None = None
    b_frames: int | None = Field(default=None, ge=0, le=MOST_B_FRAMES)
    pixel_format: str | None = None
    colour: str | None = None
    colour_range: Literal["limited", "full"] | None = None

    @property
    def most(self) -> Bitrate | None:
        """What the connection has to bear."""
        return self.peak or self.bitrate


class AudioSet(Frozen):
    """Audio as set."""

    codec: AudioCodec | None = None
    bitrate: Rate | None = None
    sample_rate_hz: int | None = Field(default=None, gt=0)
    channels: int | None = Field(default=None, ge=1, le=MOST_CHANNELS)


class Settings(Frozen):
    """What is set."""

    format: str = format_name("settings")
    transport: Transport | None = None
    source_fps: FrameRate | None = None
    """Of the camera or screen, where it differs from what is sent."""
    video: VideoSet = Field(default_factory=VideoSet)
    audio: AudioSet = Field(default_factory=AudioSet)

    def codec_for(self, guide: Guide) -> Codec:
        """The codec that is set, else the one the guide would have."""
        return self.video.codec or guide.codec()

    def profile_for(self, guide: Guide) -> str:
        """The profile that is set, else the one the guide would have."""
        return self.video.profile or guide.video.profiles_of(self.codec_for(guide))[0]

    def transport_for(self, guide: Guide) -> Transport:
        """The transport that is set, else the one the platform prefers."""
        return self.transport or guide.transports[0]

    def with_video(self, **update: Any) -> Settings:
        """The same with other video."""
        return self.model_copy(update={"video": self.video.model_copy(update=update)})

    @model_validator(mode="after")
    def _something(self) -> Settings:
        if self.video == VideoSet() and self.audio == AudioSet():
            raise ValueError("nothing is set: give at least a bitrate or a resolution")
        return self


class VideoSettings(Spread):
    """What to type into the encoder for video."""

    SPREAD: ClassVar = {
        "resolution": ("width", "height"),
        "square": ("square_width", "square_height"),
        "frame_rate": ("fps", "frame_rate"),
    }

    codec: Codec
    resolution: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    """The target; what constant bitrate runs at."""
    peak_kbps: float | None = None
    """The most of variable bitrate."""
    rate_control: RateControl
    buffer_kbit: float
    keyframe_seconds: float
    keyframe_frames: int
    profile: str
    level: str
    b_frames: int
    preset: str | None = None
    """As the encoder library names it, or the encoder itself where it has none; none when nothing
    is known of the machine."""
    pixel_format: str = "yuv420p"
    colour: str = "bt709"
    """Primaries, transfer and matrix, as the media library names them."""
    colour_range: Literal["limited", "full"] = "limited"
    resize: str | None = None
    """Kernel to scale the source with; none when it is not scaled."""
    square: Resolution | None = None
    """The source with square pixels, where its own are not."""
    deinterlace: Literal["field", "frame"] | None = None
    """Of what each frame is made, where the source is interlaced."""

    @property
    def own_encoder(self) -> str | None:
        """The encoder it takes, where that has no presets; ``preset`` then holds its name."""
        return self.preset if self.preset is not None and "_" in self.preset else None

    @property
    def max_kbps(self) -> float:
        """What the connection has to bear."""
        return self.bitrate_kbps if self.peak_kbps is None else self.peak_kbps

    @property
    def pixels_per_second(self) -> float:
        """How much is encoded."""
        return self.resolution.pixels * float(self.frame_rate)

    @property
    def text(self) -> str:
        """``1920x1080 at 60, 6,000 kbit/s``."""
        return settings(self.resolution, self.frame_rate, self.bitrate_kbps)


class AudioSettings(Frozen):
    """What to type into the encoder for audio."""

    codec: AudioCodec
    bitrate_kbps: float
    sample_rate_hz: int
    channels: int


def as_set(transport: Transport, video: VideoSettings, audio: AudioSettings) -> Settings:
    """PlanSettings settings as settings to be checked."""
    return Settings(
        transport=transport,
        video=VideoSet(
            codec=video.codec,
            resolution=video.resolution,
            frame_rate=video.frame_rate,
            bitrate=Bitrate.from_kbps(video.bitrate_kbps),
            peak=None if video.peak_kbps is None else Bitrate.from_kbps(video.peak_kbps),
            rate_control=video.rate_control,
            buffer_kbit=video.buffer_kbit,
            keyframes=Interval(frames=video.keyframe_frames),
            profile=video.profile,
            level=video.level,
            b_frames=video.b_frames,
            pixel_format=video.pixel_format,
            colour=video.colour,
            colour_range=video.colour_range,
        ),
        audio=AudioSet(
            codec=audio.codec,
            bitrate=Bitrate.from_kbps(audio.bitrate_kbps),
            sample_rate_hz=audio.sample_rate_hz,
            channels=audio.channels,
        ),
    )
