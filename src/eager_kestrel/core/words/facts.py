"""What bound a setting, as facts with types: one class for each way a setting can be decided.

A decision makes one of these; :mod:`eager_kestrel.core.words.reasons` turns it into a sentence; a
plan keeps its figures (:func:`figures`) beside that sentence, for programs. Bitrates are in kbit/s,
lengths in seconds, shares and qualities 0..1.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from fractions import Fraction
from typing import ClassVar, Literal

from eager_kestrel.core.resolution import Resolution, frame_rate_text

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
    "quality at this resolution",
    "share of the total",
    "wish",
]
"""The kinds of limit that decide a setting."""
BitrateBound = Literal["budget", "guide", "level", "viewers", "no visible gain"]


@dataclass(frozen=True, slots=True)
class BitrateBounded:
    """The bitrate is the least of five limits; which of them, and how high each was."""

    about: ClassVar[str] = "bitrate"
    limited_by: BitrateBound
    platform: str
    motion: str
    safe_kbps: float
    budget_kbps: float
    ceiling_kbps: float
    clean_kbps: float
    level_kbps: float
    viewers_kbps: float
    of: str = "your connection"
    """What the budget is of: the connection, or a month's data."""


@dataclass(frozen=True, slots=True)
class ResolutionRewarded:
    """Larger than the source, because the platform delivers such resolutions better."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "guide"
    platform: str
    rewarded: str = "yes"


@dataclass(frozen=True, slots=True)
class ResolutionOnly:
    """Larger than the source, because the platform takes none that is smaller."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "guide"
    platform: str


@dataclass(frozen=True, slots=True)
class ResolutionLargest:
    """The largest there is: of the source, or of what the platform takes."""

    about: ClassVar[str] = "resolution"
    limited_by: Literal["guide", "source"]
    platform: str


@dataclass(frozen=True, slots=True)
class ResolutionEnough:
    """The largest there is, and a larger one would look no better at this bitrate."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "quality at this bitrate"
    kbps: float


@dataclass(frozen=True, slots=True)
class ResolutionUnderFloor:
    """Another one would be sent if the platform took it at so low a bitrate.

    Perhaps the machine stands in its way as well, so that neither alone would do.
    """

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "guide"
    platform: str
    next: Resolution
    fps: Fraction
    floor_kbps: float
    kbps: float
    machine_too: bool


@dataclass(frozen=True, slots=True)
class ResolutionTooSlow:
    """The machine does not encode another one in time, or not beside the other encodes."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "machine"
    next: Resolution
    share: float
    beside_others: bool


@dataclass(frozen=True, slots=True)
class ResolutionLooksBest:
    """The next larger one would look worse at the bitrate there is for it."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "quality at this bitrate"
    kbps: float
    next: Resolution
    next_quality: float
    quality: float
    motion: str


@dataclass(frozen=True, slots=True)
class ResolutionAlike:
    """Several are about the same quality at this bitrate; why this one of them."""

    about: ClassVar[str] = "resolution"
    limited_by: ClassVar[Bound] = "quality at this bitrate"
    resolution: Resolution
    kbps: float
    alike_least: Resolution
    alike_most: Resolution
    because: Literal["own", "named", "customary", "safest"]
    """Safest: no usual one is about the same, and it loses least where it does worst."""
    platform: str
    motion: str
    next: Resolution | None
    """The next larger that looks worse, if there is one."""
    next_quality: float | None
    quality: float


@dataclass(frozen=True, slots=True)
class RateFastest:
    """The fastest there is: of the source, or of what the platform takes."""

    about: ClassVar[str] = "frame rate"
    limited_by: Literal["guide", "source"]
    platform: str


@dataclass(frozen=True, slots=True)
class RateRecommended:
    """The rate the platform advises, where a faster one could be sent."""

    about: ClassVar[str] = "frame rate"
    limited_by: ClassVar[Bound] = "guide"
    platform: str


@dataclass(frozen=True, slots=True)
class RateEnough:
    """The fastest there is, and more would look no better."""

    about: ClassVar[str] = "frame rate"
    limited_by: ClassVar[Bound] = "quality at this resolution"


@dataclass(frozen=True, slots=True)
class RateUnderFloor:
    """At another rate the platform wants more bitrate than there is."""

    about: ClassVar[str] = "frame rate"
    limited_by: ClassVar[Bound] = "guide"
    platform: str
    resolution: Resolution
    other: Fraction
    floor_kbps: float
    machine_too: bool


@dataclass(frozen=True, slots=True)
class RateTooSlow:
    """The machine does not encode another rate in time, or not beside the other encodes."""

    about: ClassVar[str] = "frame rate"
    limited_by: ClassVar[Bound] = "machine"
    other: Fraction
    share: float
    beside_others: bool


@dataclass(frozen=True, slots=True)
class RateLooksBest:
    """A faster rate would look worse at this bitrate."""

    about: ClassVar[str] = "frame rate"
    limited_by: ClassVar[Bound] = "quality at this resolution"
    other: Fraction
    other_quality: float
    quality: float
    """Of the best at the rate that is sent."""


@dataclass(frozen=True, slots=True)
class KeyframesRuled:
    """The interval the platform wants, in whole frames."""

    about: ClassVar[str] = "keyframes"
    limited_by: ClassVar[Bound] = "guide"
    platform: str
    seconds: float
    fps: Fraction
    frames: float
    rule: str


@dataclass(frozen=True, slots=True)
class RateControlRuled:
    """What the platform asks for."""

    about: ClassVar[str] = "rate control"
    limited_by: ClassVar[Bound] = "guide"
    platform: str


@dataclass(frozen=True, slots=True)
class VariablePreferred:
    """Variable, because the platform prefers it; the connection bears the peak."""

    about: ClassVar[str] = "rate control"
    limited_by: ClassVar[Bound] = "budget"
    platform: str
    target_kbps: float
    peak_kbps: float


@dataclass(frozen=True, slots=True)
class BufferSized:
    """One second of video, or the most the level allows."""

    about: ClassVar[str] = "buffer"
    limited_by: Literal["budget", "level"]
    level: str


@dataclass(frozen=True, slots=True)
class ProfileTaken:
    """The profile the platform prefers of those it takes, or the one that packs best."""

    about: ClassVar[str] = "profile"
    limited_by: ClassVar[Bound] = "guide"
    platform: str
    recommended: bool


@dataclass(frozen=True, slots=True)
class LevelNeeded:
    """The least level that holds the stream."""

    about: ClassVar[str] = "level"
    limited_by: ClassVar[Bound] = "level"
    codec: str


@dataclass(frozen=True, slots=True)
class BFramesTaken:
    """As many as the platform takes or advises, or as pay."""

    about: ClassVar[str] = "b-frames"
    limited_by: Literal["guide", "no visible gain"]
    platform: str
    recommended: bool


@dataclass(frozen=True, slots=True)
class PresetHeld:
    """The slowest preset the machine holds."""

    about: ClassVar[str] = "preset"
    limited_by: ClassVar[Bound] = "machine"
    share: float
    load: float
    takes: float
    """Of the bitrate of the usual preset, what it takes for the same look."""
    usual: str
    """Which that is; empty where nothing is known."""


@dataclass(frozen=True, slots=True)
class ColourRead:
    """The colours the platform reads."""

    about: ClassVar[str] = "colour"
    limited_by: ClassVar[Bound] = "guide"
    platform: str


@dataclass(frozen=True, slots=True)
class ResizedFor:
    """A kernel for how much moves."""

    about: ClassVar[str] = "resize"
    limited_by: ClassVar[Bound] = "content"
    motion: str


@dataclass(frozen=True, slots=True)
class AudioShared:
    """Audio at an end of what the platform takes, or its share of everything sent."""

    about: ClassVar[str] = "audio"
    limited_by: Literal["guide", "share of the total"]
    platform: str
    least_kbps: float
    most_kbps: float
    share: float


Fact = (
    BitrateBounded
    | ResolutionRewarded
    | ResolutionOnly
    | ResolutionLargest
    | ResolutionEnough
    | ResolutionUnderFloor
    | ResolutionTooSlow
    | ResolutionLooksBest
    | ResolutionAlike
    | RateFastest
    | RateRecommended
    | RateEnough
    | RateUnderFloor
    | RateTooSlow
    | RateLooksBest
    | KeyframesRuled
    | RateControlRuled
    | VariablePreferred
    | BufferSized
    | ProfileTaken
    | LevelNeeded
    | BFramesTaken
    | PresetHeld
    | ColourRead
    | ResizedFor
    | AudioShared
)


def figures(fact: Fact) -> dict[str, float | str]:
    """A fact's figures by name, as a document has them."""
    return {
        field.name: _plain(value)
        for field in fields(fact)
        if field.name != "limited_by" and (value := getattr(fact, field.name)) is not None
    }


def _plain(value: float | str | Resolution | Fraction) -> float | str:
    if isinstance(value, Fraction):
        return frame_rate_text(value)
    return str(value) if isinstance(value, Resolution) else value
