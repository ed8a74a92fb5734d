"""A plan: the settings for each destination and everything that explains them.

A renderer or exporter finds all it needs here and recomputes nothing. Numbers carry their unit in
the key.
"""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from eager_kestrel.core.choice.budget import Budget, Step
from eager_kestrel.core.choice.quality import Motion
from eager_kestrel.core.division.split import Split
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.plan.data_use import Adaptive, DataUse, LocalCopy, Reconnect
from eager_kestrel.core.plan.framing import FrameFit
from eager_kestrel.core.show.show import Show

Bound = Literal[
    "budget",
    "guide",
    "source",
    "level",
    "viewers",
    "machine",
    "content",
    "no visible gain",
    "quality at this bitrate",
    "quality at this picture",
    "share of the total",
]


class VideoSettings(Frozen):
    """What to type into the encoder for video."""

    codec: str
    width: int
    height: int
    fps: float
    """Frames a second, as people say it."""
    frame_rate: str
    """The same as an exact fraction."""
    bitrate_kbps: float
    """The target; what constant bitrate runs at."""
    peak_kbps: float | None = None
    """The most of variable bitrate."""
    rate_control: str
    buffer_kbit: float
    keyframe_seconds: float
    keyframe_frames: int
    profile: str
    level: str
    b_frames: int
    preset: str | None = None
    """As the encoder library names it; none when nothing is known of the machine."""
    pixel_format: str = "yuv420p"
    colour: str = "bt709"
    """Primaries, transfer and matrix, as the media library names them."""
    colour_range: str = "limited"
    resize: str | None = None
    """Kernel to scale the source with; none when it is not scaled."""

    @property
    def most_kbps(self) -> float:
        """What the line has to bear."""
        return self.bitrate_kbps if self.peak_kbps is None else self.peak_kbps


class AudioSettings(Frozen):
    """What to type into the encoder for audio."""

    codec: str
    bitrate_kbps: float
    sample_rate_hz: int
    channels: int


class Reason(Frozen):
    """Why one setting is what it is: the constraint that bound it and the figures behind that."""

    about: str
    value: str
    bound_by: Bound
    facts: dict[str, float | str] = Field(default_factory=dict)
    text: str
    """The same in words; made from the rest in :mod:`eager_kestrel.core.plan.prose`."""


class Option(Frozen):
    """A candidate that was weighed."""

    width: int
    height: int
    fps: float
    bitrate_kbps: float
    quality: float


class Fallback(Frozen):
    """Complete settings beside the chosen ones, for when the line does worse or better."""

    video: VideoSettings
    audio: AudioSettings
    quality: float
    total_kbps: float
    upload_kbps: float
    """The typical upload that carries them, with the same share and reserves."""


class Offer(Frozen):
    """What would have to change to do better, and what that would give."""

    kind: Literal["upload", "standing", "codec"]
    needs: str
    """How much more upload, which standing, which codec."""
    upload_kbps: float | None = None
    """For more upload: the typical rate it takes."""
    gives: Option
    text: str
    """The same in words."""


class DestinationPlan(Frozen):
    """Settings for one destination, or why there are none."""

    platform: str
    title: str
    standing: str | None
    feasible: bool
    transport: str
    ingest: tuple[str, ...] = ()
    """Addresses without key."""
    guide_checked: str
    video: VideoSettings | None = None
    audio: AudioSettings | None = None
    quality: float | None = None
    """0..1 by the model in :mod:`eager_kestrel.core.choice.quality`."""
    total_kbps: float = 0.0
    """Video, audio and transport overhead together."""
    budget_steps: tuple[Step, ...] = ()
    """From the safe rate down to what is left for video."""
    bound_by: dict[str, Bound] = Field(default_factory=dict)
    """By setting, which kind of limit bound it."""
    reasons: tuple[Reason, ...] = ()
    runners_up: tuple[Option, ...] = ()
    steps_down: tuple[Fallback, ...] = ()
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
    """How the source fits a picture of another shape; none when the shape is the same."""
    infeasible_because: str = ""
    """The rule that cannot be met."""


class KeptBack(Frozen):
    """A named reserve."""

    name: str
    kbps: float


class Inputs(Frozen):
    """What was asked for."""

    title: str
    source_width: int
    source_height: int
    source_fps: float
    motion: Motion
    safe_share: float
    """0..1"""
    reserves: tuple[KeptBack, ...]

    @classmethod
    def of(cls, show: Show) -> Inputs:
        """The same as numbers with their unit in the key."""
        return cls(
            title=show.title,
            source_width=show.source.width,
            source_height=show.source.height,
            source_fps=round(float(show.frame_rate), 3),
            motion=show.motion,
            safe_share=show.safe_share,
            reserves=tuple(KeptBack(name=r.name, kbps=r.rate.kbps) for r in show.reserves),
        )


class Plan(Frozen):
    """The whole answer for a show."""

    format: str = format_name("plan")
    version: str
    """Of the program that made it."""
    inputs: Inputs
    uplink: Uplink
    budget: Budget
    destinations: tuple[DestinationPlan, ...]
    split: Split | None = None
    """How several destinations share the line."""
    total_kbps: float
    """Everything sent, never above ``budget.safe_kbps``."""
    quality_basis: str
    """Where the quality model's parameters come from."""
    data: DataUse
    local_copy: LocalCopy
    warnings: tuple[str, ...] = ()

    @property
    def feasible(self) -> bool:
        """Whether every destination has settings."""
        return all(destination.feasible for destination in self.destinations)
