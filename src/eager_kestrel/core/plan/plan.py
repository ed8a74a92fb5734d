"""A plan: the settings for each destination and everything that explains them.

A renderer or exporter finds all it needs here and recomputes nothing. Numbers carry their unit in
the key.
"""

from __future__ import annotations

from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from eager_kestrel.core.choice.budget import Budget, BudgetStep
from eager_kestrel.core.choice.quality import QualityTable, clean_kbps
from eager_kestrel.core.choice.scored import Option
from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.division.split import Split
from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.guide.rules import Transport
from eager_kestrel.core.quantities import FrameRate, ResolutionShape
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.resolution import FrameFit
from eager_kestrel.core.settings.setting import Bound, Reason
from eager_kestrel.core.settings.values import AudioSettings, Settings, VideoSettings, as_set
from eager_kestrel.core.show.show import ON_THE_WIRE, SHOW_SECONDS, Motion, Show
from eager_kestrel.core.stutter import StutterSeen
from eager_kestrel.core.units import DataSize

GB_PER_KBPS_HOUR = 3600 * 1000 / 8 / 1e9
"""Gigabytes (10^9 bytes) in an hour of one kbit/s."""
COPY_CODEC: Codec = "h264"
COPY_AUDIO_KBPS = 192.0
COPY_KEYFRAME_SECONDS = 1.0
"""Short, so that the file can be cut and searched."""


def gb_per_hour(kbps: float) -> float:
    """Gigabytes in an hour at a rate."""
    return round(kbps * GB_PER_KBPS_HOUR, 3)


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

    kind: Literal["upload", "tier", "codec", "machine"]
    needs: str
    """How much more upload, which tier, which codec; another encoder."""
    upload_kbps: float | None = None
    """For more upload: the typical rate it takes."""
    gives: Option
    text: str
    """The same in words."""


class Adaptive(Frozen):
    """Between which video bitrates an encoder that adapts by itself may move."""

    min_kbps: float
    max_kbps: float


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

    @classmethod
    def of(cls, total_kbps: float, hours_a_month: float, cap: DataSize | None = None) -> Self:
        """What a rate comes to, and how long a month's data lasts."""
        lasts = None
        if cap is not None and total_kbps > 0:
            lasts = round(cap.bytes / 1e9 / (total_kbps * GB_PER_KBPS_HOUR * ON_THE_WIRE), 1)
        return cls(
            cap_gb=None if cap is None else round(cap.bytes / 1e9, 3),
            cap_lasts_hours=lasts,
            gb_per_hour=gb_per_hour(total_kbps),
            hours_a_month=hours_a_month,
            gb_per_month=round(total_kbps * GB_PER_KBPS_HOUR * hours_a_month, 2),
        )


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
    """The same for a copy of just what is sent, which takes no second encoder; of several streams
    the largest."""
    free_gb: float | None
    free_hours: float | None
    """How long until the disk is full; none when no folder was named."""

    @classmethod
    def of(cls, show: Show, table: QualityTable, kbps: float, free_bytes: int | None) -> Self:
        """Settings for a copy of the source at its own resolution and frame rate."""
        pixels = np.array([float(show.picture.pixels)])
        fps = np.array([float(show.source_fps)])
        clean = float(clean_kbps(table, show.motion, COPY_CODEC, pixels, fps)[0])
        video = -(-clean // 500) * 500
        per_hour = gb_per_hour(video + COPY_AUDIO_KBPS)
        free_gb = None if free_bytes is None else round(free_bytes / 1e9, 2)
        return cls(
            resolution=show.picture,
            frame_rate=show.source_fps,
            codec=COPY_CODEC,
            bitrate_kbps=video,
            keyframe_frames=max(1, round(COPY_KEYFRAME_SECONDS * show.source_fps)),
            audio_kbps=COPY_AUDIO_KBPS,
            gb_per_hour=per_hour,
            sent_gb_per_hour=gb_per_hour(kbps),
            free_gb=free_gb,
            free_hours=None if free_gb is None else round(free_gb / per_hour, 1),
        )


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
    servers: tuple[str, ...] = ()
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
    payload_kbps: float = 0.0
    """Video and audio alone: what is passed on to viewers, and what a recording of it holds."""
    budget_steps: tuple[BudgetStep, ...] = ()
    """From the safe rate down to what is left for video."""
    limited_by: dict[str, Bound] = Field(default_factory=dict)
    """By setting, which kind of limit bound it."""
    held_back_by: Bound | None = None
    """The one limit without which quality would gain most; none where nobody would see it."""
    unverified: tuple[str, ...] = ()
    """Settings limited by an unverified rule of the guide."""
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
    def settings(self) -> Settings:
        """What was chosen, as settings to be checked.

        Raises:
            ValueError: there are none.
        """
        if self.video is None or self.audio is None:
            raise ValueError(f"{self.platform} has no settings")
        return as_set(self.transport, self.video, self.audio)

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
        "source_fps": ("source_fps",),
    }

    title: str
    source: Resolution
    shape: ResolutionShape | None = None
    """Of the picture, where the source's pixels are not square."""
    source_fps: FrameRate
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
            shape=show.shape,
            source_fps=show.source_fps,
            motion=show.motion,
            safe_share=show.safe_share,
            reserves=tuple(Headroom(name=r.name, kbps=r.rate.kbps) for r in show.reserves),
            stutter_limit=show.stutter,
            machine=show.machine.text,
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
    own_footage: str | None = None
    """What of the streamer's own footage they are by: ``6 s of clip.mp4``."""
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
