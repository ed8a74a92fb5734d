"""A plan: the settings for each destination and everything that explains them.

A renderer or exporter finds all it needs here and recomputes nothing. Numbers carry their unit in
the key.
"""

from __future__ import annotations

from typing import ClassVar, Literal, Self

from pydantic import Field

from eager_kestrel.core.choice.budget import Budget, BudgetStep
from eager_kestrel.core.choice.scored import Option
from eager_kestrel.core.codecs import AudioCodec, Codec
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.division.split import Split
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.guide.rules import RateControl, Transport
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.rules.settings import AudioSet, Interval, Settings, VideoSet
from eager_kestrel.core.show.show import SHOW_SECONDS, Fit, Motion, Show
from eager_kestrel.core.stutter import StutterSeen
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.facts import Bound, Fact
from eager_kestrel.core.words.numbers import settings


class VideoSettings(Spread):
    """What to type into the encoder for video."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

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
    deinterlace: Literal["field", "frame"] | None = None
    """Of what each frame is made, where the source is interlaced."""

    @property
    def own_encoder(self) -> str | None:
        """The encoder it takes, where that has no presets; ``preset`` then holds its name."""
        return self.preset if self.preset is not None and "_" in self.preset else None

    @property
    def most_kbps(self) -> float:
        """What the connection has to bear."""
        return self.bitrate_kbps if self.peak_kbps is None else self.peak_kbps

    @property
    def pixels_per_second(self) -> float:
        """How much is encoded."""
        return self.resolution.pixels * float(self.frame_rate)

    @property
    def words(self) -> str:
        """``1920x1080 at 60, 6,000 kbit/s``."""
        return settings(self.resolution, self.frame_rate, self.bitrate_kbps)


class AudioSettings(Frozen):
    """What to type into the encoder for audio."""

    codec: AudioCodec
    bitrate_kbps: float
    sample_rate_hz: int
    channels: int


class Reason(Frozen):
    """Why one setting is what it is: the constraint that bound it and the figures behind that."""

    about: str
    value: str
    limited_by: Bound
    facts: dict[str, float | str] = Field(default_factory=dict)
    """Figures by name, for programs; nothing here reads them back."""
    text: str

    @classmethod
    def of(cls, value: str, fact: Fact) -> Self:
        """The reason behind a setting's value, as it is shown, from what was decided."""
        return cls(
            about=fact.about,
            value=value,
            limited_by=fact.limited_by,
            facts=fact.figures,
            text=fact.text,
        )


class NotFollowed(Frozen):
    """A recommendation that is not followed, and why."""

    rule: str
    """The guide's key."""
    text: str


class Fallback(Frozen):
    """Complete settings beside the chosen ones, for when the connection does worse or better."""

    video: VideoSettings
    audio: AudioSettings
    quality: float
    total_kbps: float
    upload_kbps: float
    """The typical upload that carries them, with the same share and reserves."""


class Offer(Frozen):
    """What would have to change to do better, and what that would give."""

    kind: Literal["upload", "tier", "codec"]
    needs: str
    """How much more upload, which tier, which codec."""
    upload_kbps: float | None = None
    """For more upload: the typical rate it takes."""
    gives: Option
    text: str
    """The same in words."""


class Adaptive(Frozen):
    """Between which video bitrates an encoder that adapts by itself may move."""

    floor_kbps: float
    ceiling_kbps: float


class Reconnect(Frozen):
    """How to come back after the connection drops."""

    first_seconds: float = 2.0
    """Long enough for the ingest to notice that the old connection is gone."""
    factor: float = 2.0
    """Each wait is so much longer than the one before."""
    longest_seconds: float = 30.0
    give_up_seconds: float = 600.0


class DataUse(Frozen):
    """What the stream sends, in gigabytes of 10^9 bytes."""

    gb_per_hour: float
    hours_a_month: float
    gb_per_month: float
    cap_gb: float | None = None
    """Of data that may be sent in a month, where there is such a cap."""
    cap_lasts_hours: float | None = None
    """How many hours of this it lasts, headers of packets counted."""


class LocalCopy(Spread):
    """Settings for a copy on the own disk, to cut and to keep: the source, without visible loss."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps",)}

    resolution: Resolution
    frame_rate: FrameRate
    codec: Codec
    bitrate_kbps: float
    """Where the quality model sees no loss any more."""
    keyframe_frames: int
    audio_kbps: float
    gb_per_hour: float
    sent_gb_per_hour: float
    """The same for a copy of just what is sent, which takes no second encoder."""
    free_gb: float | None
    free_hours: float | None
    """How long until the disk is full; none when no folder was named."""


class FrameFit(Spread):
    """What each way of fitting a source into a resolution of another shape costs."""

    SPREAD: ClassVar = {"crop": ("crop_width", "crop_height"), "pad": ("pad_width", "pad_height")}

    way: Fit = "crop"
    """Which is taken."""
    crop: Resolution
    """The part of the source that is kept when it is cropped, in source pixels."""
    kept_share: float
    """Of the source's pixels; the rest is cut away."""
    enlarged: float
    """How much the kept part is blown up, per side; 1 or less loses nothing."""
    pad: Resolution
    """The part of the sent resolution the whole source fills when it is padded."""
    used_share: float
    """Of the sent resolution's pixels; the rest is bars."""


class FrameRateTrade(Spread):
    """The frame rate sent beside another: one is smoother, each frame of the other sharper."""

    SPREAD: ClassVar = {"frame_rate": ("fps", "frame_rate"), "resolution": ("width", "height")}

    resolution: Resolution
    """The best there is at the other frame rate."""
    frame_rate: FrameRate
    sharpness: float
    """0..1, of single frames of what is sent, mean over the kind's scenes."""
    other_sharpness: float


class DestinationPlan(Frozen):
    """Settings for one destination, or why there are none."""

    platform: str
    title: str
    tier: str | None
    feasible: bool
    transport: Transport
    ingest: tuple[str, ...] = ()
    """Addresses without key."""
    latency_ms: int | None = None
    """To set for SRT."""
    guide_checked: str
    video: VideoSettings | None = None
    audio: AudioSettings | None = None
    quality: float | None = None
    """0..1 by the model in :mod:`eager_kestrel.core.choice.quality`, mean over its scenes."""
    quality_range: tuple[float, float] | None = None
    """Between what footage of that kind is to be expected: its 10th and 90th percentile."""
    frame_rate_trade: FrameRateTrade | None = None
    """What another frame rate would give and take; none where there is no other."""
    total_kbps: float = 0.0
    """Video, audio and transport overhead together."""
    budget_steps: tuple[BudgetStep, ...] = ()
    """From the safe rate down to what is left for video."""
    limited_by: dict[str, Bound] = Field(default_factory=dict)
    """By setting, which kind of limit bound it."""
    guessed: tuple[str, ...] = ()
    """Settings limited by something of the guide that is a guess."""
    reasons: tuple[Reason, ...] = ()
    not_followed: tuple[NotFollowed, ...] = ()
    """Recommendations that the settings do not follow."""
    runners_up: tuple[Option, ...] = ()
    fallbacks: tuple[Fallback, ...] = ()
    """Cheaper settings in order, each about a fifth below the one before; the last is the adaptive
    floor."""
    step_up: Fallback | None = None
    """The next better choice that more upload would bring."""
    offers: tuple[Offer, ...] = ()
    """What one more of each thing would bring."""
    adaptive: Adaptive | None = None
    """For an encoder that adapts by itself."""
    reconnect: Reconnect = Reconnect()
    fit: FrameFit | None = None
    """How the source fits a resolution of another shape; none when the shape is the same."""
    infeasible_because: str = ""
    """The limit that leaves nothing."""
    instead: str = ""
    """What would help, where there are no settings."""

    @property
    def name(self) -> str:
        """``oxbow`` or ``oxbow:hearth``, as on the command line."""
        return f"{self.platform}:{self.tier}" if self.tier else self.platform


class Headroom(Frozen):
    """A named reserve."""

    name: str
    kbps: float


class Inputs(Spread):
    """What was asked for."""

    SPREAD: ClassVar = {
        "source": ("source_width", "source_height"),
        "frame_rate": ("source_fps",),
    }

    title: str
    source: Resolution
    frame_rate: FrameRate
    motion: Motion
    safe_share: float
    """0..1"""
    reserves: tuple[Headroom, ...]
    stutter_limit: float
    """Seconds of stutter an hour that are accepted."""
    footage: str | None = None
    """The kept footage it was planned by."""
    machine: str = ""
    """Where the encoders' speeds come from, where they were measured."""
    lasts_seconds: float = SHOW_SECONDS
    """How long a show is."""
    at: str | None = None
    """The time of day it begins."""

    @classmethod
    def of(cls, show: Show) -> Inputs:
        """The same as numbers with their unit in the key."""
        return cls(
            title=show.title,
            source=show.source,
            frame_rate=show.frame_rate,
            motion=show.motion,
            safe_share=show.safe_share,
            reserves=tuple(Headroom(name=r.name, kbps=r.rate.kbps) for r in show.reserves),
            stutter_limit=show.stutter,
            machine=show.machine.said,
            footage=show.footage,
            lasts_seconds=show.lasts,
            at=show.at,
        )


class Plan(Frozen):
    """The whole answer for a show."""

    format: str = format_name("plan")
    version: str
    """Of the program that made it."""
    made_at: str | None = None
    """When, ISO 8601 with the offset of the place."""
    inputs: Inputs
    uplink: Uplink
    budget: Budget
    destinations: tuple[DestinationPlan, ...]
    split: Split | None = None
    """How several destinations share the connection."""
    total_kbps: float
    """Everything sent, never above ``budget.safe_kbps``."""
    quality_basis: str
    """Where the quality model's parameters come from."""
    data: DataUse
    local_copy: LocalCopy
    stutter: StutterSeen | None = None
    """What it would have stuttered in everything observed; none where nothing was."""
    tonight: str = ""
    """Whether the upload holds it, as far as that is known, and how to know more."""
    warnings: tuple[str, ...] = ()
    """What is wrong with it, or will be for somebody."""
    remarks: tuple[str, ...] = ()
    """What is worth knowing, and no trouble."""

    @property
    def feasible(self) -> bool:
        """Whether every destination has settings."""
        return all(destination.feasible for destination in self.destinations)

    @property
    def holds(self) -> bool:
        """Whether it keeps the limit of stutter in everything observed; if nothing was, it may."""
        return self.stutter is None or self.stutter.within(self.inputs.stutter_limit)


def settings_of(planned: DestinationPlan) -> Settings:
    """The settings of a feasible destination of a plan.

    Raises:
        ValueError: the destination has none.
    """
    video, audio = planned.video, planned.audio
    if video is None or audio is None:
        raise ValueError(f"{planned.platform} has no settings")
    return Settings(
        transport=planned.transport,
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
