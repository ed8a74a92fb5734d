"""Settings of any program in neutral words; what is missing is unknown.

A plan's settings are valid settings, so a plan can be held against a guide like anything else.
"""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema, model_validator

from eager_kestrel.core.codecs import AudioCodec, Codec
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.rules import RateControl, Transport
from eager_kestrel.core.quantities import FrameRate, Rate, ResolutionSize
from eager_kestrel.core.units import parse_seconds

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
    source_frame_rate: FrameRate | None = None
    """Of the camera or screen, where it differs from what is sent."""
    video: VideoSet = Field(default_factory=VideoSet)
    audio: AudioSet = Field(default_factory=AudioSet)

    @model_validator(mode="after")
    def _something(self) -> Settings:
        if self.video == VideoSet() and self.audio == AudioSet():
            raise ValueError("nothing is set: give at least a bitrate or a resolution")
        return self
