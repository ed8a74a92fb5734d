"""Why each setting of a plan is what it is: facts with types, and the sentence of each.

A decision returns one of these. ``limited_by`` names the limit that decided it, ``says`` is its
sentence, and a plan keeps its figures (:func:`figures`) beside the sentence, for programs. Bitrates
are in kbit/s, lengths in seconds, shares and qualities 0..1.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from fractions import Fraction
from typing import Any, ClassVar, Literal

from eager_kestrel.core.resolution import Resolution, frame_rate_text, resolution_at
from eager_kestrel.core.words.numbers import filled, joined, kbit, looks, platforms

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
LEVEL_TABLES = {
    "h264": "H.264 level that fits (table A-1)",
    "hevc": "H.265 level that fits (table A.8)",
    "av1": "AV1 level that fits (annex A)",
}
MACHINE_TOO = "this machine does not encode it in time either"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fact:
    """What decided a setting; each kind of fact is a subclass."""

    about: ClassVar[str]
    says: ClassVar[str | dict[str, str]] = ""
    """The sentence, or one for each value of ``limited_by``."""
    limited_by: Bound

    @property
    def text(self) -> str:
        """The sentence."""
        says = self.says if isinstance(self.says, str) else self.says[self.limited_by]
        return filled(says, {field.name: getattr(self, field.name) for field in fields(self)})


@dataclass(frozen=True, slots=True, kw_only=True)
class BitrateBounded(Fact):
    """The bitrate is the lowest of five limits; which of them, and how high each is."""

    about = "bitrate"
    says = {
        "budget": "{of} leaves {budget_kbps:down} for video (safe rate {safe_kbps:kbit}{copies}, "
        "less headers and audio), rounded down",
        "guide": "{platform:verb|take} at most {ceiling_kbps:kbit}; your upload has room for "
        "{budget_kbps:kbit}",
        "no visible gain": "at this resolution and frame rate {motion} motion shows no loss from "
        "{clean_kbps:kbit} up; more would be wasted",
        "viewers": "{platform} may pass on exactly what you send, and its slowest viewers have "
        "{viewers_kbps:kbit}",
        "level": "the highest level {platform:verb|take} allows {level_kbps:kbit}",
    }
    limited_by: BitrateBound
    platform: str
    motion: str
    safe_kbps: float
    budget_kbps: float
    ceiling_kbps: float
    clean_kbps: float
    level_kbps: float
    viewers_kbps: float
    of: str = "your upload"
    """What the budget is of: the upload, or a month's data."""
    copies: str = ""
    """Of one encode, where several destinations get it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionRewarded(Fact):
    """Larger than the source, because the platform delivers such resolutions better."""

    about = "resolution"
    limited_by: Bound = "guide"
    says = "larger than your source, because {platform:verb|deliver} such resolutions better"
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionOnly(Fact):
    """Larger than the source, because the platform takes none that is smaller."""

    about = "resolution"
    limited_by: Bound = "guide"
    says = "the smallest {platform:verb|take}; pad your source, or crop it"
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionLargest(Fact):
    """The largest there is: of the source, or of what the platform takes."""

    about = "resolution"
    says = {
        "source": "your source's own; enlarging it adds nothing",
        "guide": "the largest {platform:verb|take}",
    }
    limited_by: Literal["guide", "source"]
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionLegible(Fact):
    """A smaller one would be sent if its letters could be read."""

    about = "resolution"
    limited_by: Bound = "content"
    says = "in {other} the smallest letters would be {pixels:.3g} px high; {least:g} can be read"
    other: Resolution
    pixels: float
    """In that one."""
    least: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionEnough(Fact):
    """The largest there is, and a larger one would look no better at this bitrate."""

    about = "resolution"
    limited_by: Bound = "quality at this bitrate"
    says = "a higher resolution would not look better at {kbps:kbit}"
    kbps: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionUnderFloor(Fact):
    """Another one would be sent if the platform took it at so low a bitrate.

    Perhaps the machine stands in its way as well, so that neither alone would do.
    """

    about = "resolution"
    limited_by: Bound = "guide"
    platform: str
    next: Resolution
    fps: Fraction
    floor_kbps: float
    kbps: float
    machine_too: bool

    @property
    def text(self) -> str:
        """The sentence."""
        return joined(
            (
                f"{platforms(self.platform, 'take')} no less than {kbit(self.floor_kbps)} for "
                f"{resolution_at(self.next, self.fps)}, which would look better even at "
                f"{kbit(self.kbps)}",
                MACHINE_TOO if self.machine_too else None,
            )
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class TooSlow(Fact):
    """The machine does not encode another one in time, or not beside the other encodes."""

    limited_by: Bound = "machine"
    what: str
    share: float
    beside_others: bool

    @property
    def text(self) -> str:
        """The sentence."""
        if self.beside_others:
            of = f"({self.share:.0%} of it)"
            return f"this machine has no room for {self.what} beside the other encodes {of}"
        return f"this machine does not encode {self.what} in time with {self.share:.0%} of itself"


class ResolutionTooSlow(TooSlow):
    """The resolution is limited by the machine."""

    about = "resolution"


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionLooksBest(Fact):
    """The next larger one would look worse at the bitrate there is for it."""

    about = "resolution"
    limited_by: Bound = "quality at this bitrate"
    says = (
        "at {kbps:kbit} {next} would look worse: {next_quality:looks} against {quality:looks} for "
        "{motion} motion"
    )
    kbps: float
    next: Resolution
    next_quality: float
    quality: float
    motion: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ResolutionTied(Fact):
    """Several are about the same quality at this bitrate; why this one of them."""

    about = "resolution"
    limited_by: Bound = "quality at this bitrate"
    resolution: Resolution
    kbps: float
    smallest_tied: Resolution
    largest_tied: Resolution
    because: Literal["own", "named", "customary", "safest"]
    """Safest: no usual one is about the same, and it loses least where it does worst."""
    platform: str
    motion: str
    next: Resolution | None
    """The next larger that looks worse, if there is one."""
    next_quality: float | None
    quality: float

    @property
    def text(self) -> str:
        """The sentence."""
        why = {
            "own": "is your source's own",
            "named": f"is one {platforms(self.platform, 'name')}",
            "customary": "is a common one near the safest",
            "safest": "loses least on the footage where it does worst",
        }[self.because]
        worse = None
        if self.next is not None and self.next_quality is not None:
            worse = (
                f"{self.next} would look worse: {looks(self.next_quality)} against "
                f"{looks(self.quality)}"
            )
        return joined(
            (
                f"{self.smallest_tied.lines}p to {self.largest_tied.lines}p are about the same "
                f"quality at {kbit(self.kbps)}",
                f"{self.resolution} {why}",
                worse,
            )
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class RateFastest(Fact):
    """The fastest there is: of the source, or of what the platform takes."""

    about = "frame rate"
    says = {
        "source": "your source's own",
        "guide": "the highest {platform:verb|take} from a source at this rate",
    }
    limited_by: Literal["guide", "source"]
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RateRecommended(Fact):
    """The rate the platform recommends, though a faster one could be sent."""

    about = "frame rate"
    limited_by: Bound = "guide"
    says = "what {platform:verb|recommend}"
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RateEnough(Fact):
    """The fastest there is, and more would look no better."""

    about = "frame rate"
    limited_by: Bound = "quality at this resolution"
    says = "a higher frame rate would not look better at this bitrate"


@dataclass(frozen=True, slots=True, kw_only=True)
class RateUnderFloor(Fact):
    """At another rate the platform wants more bitrate than there is."""

    about = "frame rate"
    limited_by: Bound = "guide"
    platform: str
    resolution: Resolution
    other: Fraction
    floor_kbps: float
    machine_too: bool

    @property
    def text(self) -> str:
        """The sentence."""
        return joined(
            (
                f"{platforms(self.platform, 'take')} no less than {kbit(self.floor_kbps)} for "
                f"{resolution_at(self.resolution, self.other)}, which would look better",
                MACHINE_TOO if self.machine_too else None,
            )
        )


class RateTooSlow(TooSlow):
    """The frame rate is limited by the machine."""

    about = "frame rate"


@dataclass(frozen=True, slots=True, kw_only=True)
class RateLooksBest(Fact):
    """A faster rate would look worse at this bitrate."""

    about = "frame rate"
    limited_by: Bound = "quality at this resolution"
    says = (
        "{other:fps} fps would look worse at this bitrate: {other_quality:looks} at best, against "
        "{quality:looks}"
    )
    other: Fraction
    other_quality: float
    quality: float
    """Of the best at the rate that is sent."""


@dataclass(frozen=True, slots=True, kw_only=True)
class KeyframesRuled(Fact):
    """The interval the platform wants, in whole frames."""

    about = "keyframes"
    limited_by: Bound = "guide"
    says = "{platform:verb|want} them {rule}; {seconds:g} s x {fps:fps} fps = {frames:count|frame}"
    platform: str
    seconds: float
    fps: Fraction
    frames: int
    rule: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RateControlRuled(Fact):
    """What the platform asks for."""

    about = "rate control"
    limited_by: Bound = "guide"
    says = "what {platform:verb|ask} for"
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class VariablePreferred(Fact):
    """Variable, because the platform prefers it; the upload has room for the peak."""

    about = "rate control"
    limited_by: Bound = "budget"
    says = (
        "{platform:verb|prefer} it: {target_kbps:kbit} on average, and the upload has room for the "
        "peak of {peak_kbps:kbit}"
    )
    platform: str
    target_kbps: float
    peak_kbps: float


@dataclass(frozen=True, slots=True, kw_only=True)
class BufferSized(Fact):
    """One second of video, or the most the level allows."""

    about = "buffer"
    says = {
        "level": "the most level {level} allows",
        "budget": "one second of video, so that no burst exceeds the upload",
    }
    limited_by: Literal["budget", "level"]
    level: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ProfileTaken(Fact):
    """The profile the platform recommends, or of those it takes the most efficient."""

    about = "profile"
    limited_by: Bound = "guide"
    platform: str
    recommended: bool

    @property
    def text(self) -> str:
        """The sentence."""
        if self.recommended:
            return f"what {platforms(self.platform, 'recommend')}"
        return f"the most efficient of those {platforms(self.platform, 'take')}"


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelNeeded(Fact):
    """The lowest level that fits the stream."""

    about = "level"
    limited_by: Bound = "level"
    codec: str

    @property
    def text(self) -> str:
        """The sentence."""
        return f"lowest {LEVEL_TABLES[self.codec]}"


@dataclass(frozen=True, slots=True, kw_only=True)
class BFramesTaken(Fact):
    """As many as the platform takes or recommends, or as many as are worth it."""

    about = "b-frames"
    limited_by: Literal["guide", "no visible gain"]
    platform: str
    recommended: bool

    @property
    def text(self) -> str:
        """The sentence."""
        if self.recommended:
            return f"what {platforms(self.platform, 'recommend')}"
        if self.limited_by == "guide":
            return f"the most {platforms(self.platform, 'take')}"
        return "more would add delay and little quality at live bitrates"


@dataclass(frozen=True, slots=True, kw_only=True)
class PresetHeld(Fact):
    """The slowest preset the machine keeps up with."""

    about = "preset"
    limited_by: Bound = "machine"
    share: float
    load: float
    takes: float
    """Of the bitrate of the usual preset, what it takes for the same quality."""
    usual: str
    """Which that is; empty where nothing is known."""

    @property
    def text(self) -> str:
        """The sentence, with what the preset buys or costs beside the usual one."""
        buys = None
        if self.usual and round(self.takes, 2) < 1:
            more = 1 / self.takes - 1
            buys = f"worth {more:.0%} more bitrate than {self.usual}"
        elif self.usual and round(self.takes, 2) > 1:
            buys = f"needs {self.takes - 1:.0%} more bitrate than {self.usual} for the same quality"
        return joined(
            (
                f"the slowest this machine keeps up with: it uses {self.load:.0%} of it, and "
                f"{self.share:.0%} are allowed",
                buys,
            )
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class ColourRead(Fact):
    """The colours the platform reads."""

    about = "colour"
    limited_by: Bound = "guide"
    says = "what {platform:verb|read}; anything else shifts the colours"
    platform: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ResizedFor(Fact):
    """A scaling filter for how much moves."""

    about = "resize"
    limited_by: Bound = "content"
    motion: str

    @property
    def text(self) -> str:
        """The sentence."""
        if self.motion in ("still", "calm"):
            return "keeps the fine detail that is visible when little moves"
        return "slightly softer than the source: moving detail costs bitrate and is not visible"


@dataclass(frozen=True, slots=True, kw_only=True)
class AudioRecommended(Fact):
    """Audio as the platform recommends it."""

    about = "audio"
    limited_by: Bound = "guide"
    says = "{platform:verb|recommend} {kbps:g} kbit/s"
    platform: str
    kbps: float


@dataclass(frozen=True, slots=True, kw_only=True)
class AudioShared(Fact):
    """Audio at an end of what the platform takes, or its share of everything sent."""

    about = "audio"
    says = {
        "guide": "{platform:verb|take} {least_kbps:g} to {most_kbps:g} kbit/s",
        "share of the total": "about {share:.0%} of the total, so that video gets the rest; "
        "{platform:verb|take} {least_kbps:g} to {most_kbps:g} kbit/s",
        "viewers": "about {share:.0%} of what its slowest viewers receive; "
        "{platform:verb|take} {least_kbps:g} to {most_kbps:g} kbit/s",
    }
    limited_by: Literal["guide", "share of the total", "viewers"]
    platform: str
    least_kbps: float
    most_kbps: float
    share: float


def figures(fact: Fact) -> dict[str, float | str]:
    """A fact's figures by name, as a document has them."""
    return {
        field.name: _plain(value)
        for field in fields(fact)
        if field.name != "limited_by" and (value := getattr(fact, field.name)) is not None
    }


def _plain(value: Any) -> float | str:
    if isinstance(value, Fraction):
        return frame_rate_text(value)
    plain: float | str = str(value) if isinstance(value, Resolution) else value
    return plain
