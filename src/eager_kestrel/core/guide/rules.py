"""What a platform accepts: rules on video, audio, keyframes, segments and delivery.

What stands in ``video`` and ``audio`` *must* hold: the platform refuses or cuts off what breaks it.
What stands in their ``recommended`` is a wish. Quantities are read by
:mod:`eager_kestrel.core.quantities`.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, model_validator

from eager_kestrel.core import quantities
from eager_kestrel.core.codecs import CODECS, AudioCodec, Codec, level_rank
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.errors import nearest_name
from eager_kestrel.core.resolution import Resolution, at_1000_1001, frame_rate_text
from eager_kestrel.core.units import Bitrate

RateControl = Literal["constant", "variable"]
Transport = Literal["rtmp", "rtmps", "hls", "srt"]
Transcodes = Literal["always", "when there is capacity", "never"]

CUSTOMARY_RATES = tuple(
    Fraction(r)
    for r in (
        "60",
        "60000/1001",
        "50",
        "48",
        "30",
        "30000/1001",
        "25",
        "24",
        "24000/1001",
        "20",
        "15",
        "10",
    )
)
CUSTOMARY_KEYFRAME_SECONDS = 2.0
"""What nearly every ingest asks for, and so what is chosen where a guide leaves it open."""
TRANSCODE_RANK: dict[Transcodes, int] = {"never": 0, "when there is capacity": 1, "always": 2}


class Server(Frozen):
    """One place the platform takes streams at."""

    name: str
    """As the platform calls it."""
    url: str = Field(pattern=r"^(rtmps?|https|srt)://[^/\s]+(/\S*)?$")
    """Without a stream key."""
    backup: bool = False
    """Whether it takes the same stream, by the same key, where others do not answer."""


class Keyframes(Frozen):
    """How far apart keyframes are to be. Written as ``"2 s"`` it means exactly that."""

    exact: quantities.Seconds | None = None
    """The one interval that is taken."""
    min: quantities.Seconds | None = None
    """No shorter."""
    max: quantities.Seconds | None = None
    """No longer."""
    recommended: quantities.Seconds | None = None
    """The interval the platform would like best."""

    @model_validator(mode="after")
    def _consistent(self) -> Keyframes:
        if self.exact is not None and (self.min or self.max or self.recommended):
            raise ValueError('"exact" leaves nothing for min, max or recommended')
        known = [(n, v) for n in ("min", "recommended", "max") if (v := getattr(self, n))]
        for (low, a), (high, b) in pairwise(known):
            if a > b:
                raise ValueError(f"{low} ({a:g} s) is above {high} ({b:g} s)")
        return self

    @property
    def chosen_seconds(self) -> float:
        """The interval to send: the only one, the recommended one, or the common one in range."""
        if self.exact is not None:
            return self.exact
        wish = self.recommended if self.recommended is not None else CUSTOMARY_KEYFRAME_SECONDS
        if self.max is not None:
            wish = min(wish, self.max)
        return wish if self.min is None else max(wish, self.min)

    def text(self) -> str:
        """``every 2 s``, ``every 1 to 4 s, best 2 s`` and the like."""
        if self.exact is not None:
            return f"every {self.exact:g} s"
        low = f"at least {self.min:g} s" if self.min is not None else ""
        high = f"at most {self.max:g} s" if self.max is not None else ""
        best = f"best {self.recommended:g} s" if self.recommended is not None else ""
        return ", ".join(part for part in (low, high, best) if part) or "as you like"


def _keyframes(value: object) -> object:
    if isinstance(value, int | float):
        raise ValueError(f'{value} has no unit; write "{value} s"')
    return {"exact": value} if isinstance(value, str) else value


def _keyframes_written(value: Keyframes) -> Any:
    if value.exact is not None:
        return f"{value.exact:g} s"
    return value.model_dump(exclude_none=True)


KeyframeRule = Annotated[
    Keyframes,
    BeforeValidator(_keyframes, json_schema_input_type=Keyframes | str),
    PlainSerializer(_keyframes_written),
]


class VideoRecommendation(Frozen):
    """What the platform would like of video."""

    codec: Codec | None = None
    frame_rate: quantities.FrameRate | None = None
    rate_control: RateControl | None = None
    profile: str | None = None
    b_frames: int | None = Field(default=None, ge=0, le=16)


class VideoRules(Frozen):
    """What the platform takes as video."""

    codecs: tuple[Codec, ...] = Field(min_length=1)
    """In no order; ``recommended.codec`` says which is liked best."""
    shapes: tuple[quantities.ResolutionShape, ...] = ()
    """Aspect ratios that are taken; empty takes any."""
    resolutions: tuple[quantities.ResolutionSize, ...] = ()
    """When only certain sizes are taken: these. Empty takes any up to ``max_resolution``."""
    max_resolution: quantities.ResolutionSize
    """No side may be longer than its side here."""
    max_frame_rate: quantities.FrameRate | None = None
    """Any customary frame rate up to this one is taken ..."""
    frame_rates: tuple[quantities.FrameRate, ...] = ()
    """... or exactly these."""
    min_bitrate: quantities.Rate | None = None
    """Of video, whatever the resolution."""
    max_bitrate: quantities.Rate
    """Of video, whatever the resolution; the rows of ``bitrates`` may say less."""
    keyframes: KeyframeRule
    rate_control: tuple[RateControl, ...] = Field(min_length=1)
    profiles: dict[Codec, tuple[str, ...]] = Field(default_factory=dict)
    """By codec, in no order (``recommended.profile`` says one); a codec left out takes any."""
    max_level: dict[Codec, str] = Field(default_factory=dict)
    """By codec; left out takes any."""
    max_b_frames: int = Field(default=16, ge=0, le=16)
    """Consecutive ones, at most."""
    pixel_formats: tuple[str, ...] = ("yuv420p",)
    colour: str = "bt709"
    """Primaries, transfer and matrix, as the media library names them."""
    colour_range: Literal["limited", "full"] = "limited"
    recommended: VideoRecommendation = Field(default_factory=VideoRecommendation)

    @model_validator(mode="after")
    def _consistent(self) -> VideoRules:
        if bool(self.max_frame_rate) == bool(self.frame_rates):
            raise ValueError(
                "give either max_frame_rate (any rate up to it) or frame_rates (a list)"
            )
        low, high = self.min_bitrate, self.max_bitrate
        if low is not None and low > high:
            raise ValueError(f"min_bitrate ({low}) is above max_bitrate ({high})")
        for resolution in self.resolutions:
            if not resolution.within(self.max_resolution):
                raise ValueError(
                    f"resolutions has {resolution}, larger than max_resolution "
                    f"({self.max_resolution})"
                )
        self._check_names()
        self._check_recommendation()
        return self

    def _check_recommendation(self) -> None:
        """Nothing is recommended that is forbidden."""
        wish = self.recommended
        if wish.codec is not None and wish.codec not in self.codecs:
            raise ValueError(f"recommended codec {wish.codec} is not among codecs")
        if wish.frame_rate is not None and not self.takes_rate(wish.frame_rate):
            rate = frame_rate_text(wish.frame_rate)
            raise ValueError(f"recommended frame rate {rate} is not taken ({self.rates_text()})")
        if wish.rate_control is not None and wish.rate_control not in self.rate_control:
            raise ValueError(f"recommended rate control {wish.rate_control} is not in rate_control")
        if wish.b_frames is not None and wish.b_frames > self.max_b_frames:
            raise ValueError(
                f"{wish.b_frames} B-frames are recommended and {self.max_b_frames} allowed"
            )
        taken = {
            p for codec in self.codecs for p in self.profiles.get(codec, CODECS[codec].profiles)
        }
        if wish.profile is not None and wish.profile not in taken:
            raise ValueError(f"recommended profile {wish.profile} is not among profiles")

    def _check_names(self) -> None:
        """Profiles and levels are the standards' own."""
        for codec, profiles in self.profiles.items():
            for profile in profiles:
                if profile not in CODECS[codec].profiles:
                    known = nearest_name(profile, list(CODECS[codec].profiles), "")
                    raise ValueError(f'profiles.{codec} has no "{profile}"; {known}')
        for codec, level in self.max_level.items():
            if level_rank(codec, level) is None:
                names = [known.name for known in CODECS[codec].levels]
                raise ValueError(
                    f'max_level.{codec} has no "{level}"; {nearest_name(level, names, "")}'
                )

    @property
    def taken_rates(self) -> tuple[Fraction, ...]:
        """Every frame rate that is taken, of those people use, fastest first."""
        if self.frame_rates:
            return tuple(sorted(self.frame_rates, reverse=True))
        assert self.max_frame_rate is not None
        return tuple(r for r in {*CUSTOMARY_RATES, self.max_frame_rate} if r <= self.max_frame_rate)

    def takes_rate(self, rate: Fraction) -> bool:
        """Whether a frame rate is taken, customary or not; 30000/1001 goes by the name of 30."""
        if self.max_frame_rate is not None:
            return rate <= self.max_frame_rate
        return any(rate in (named, at_1000_1001(named)) for named in self.frame_rates)

    def rates_text(self) -> str:
        """``up to 60`` or ``30, 25``."""
        if self.max_frame_rate is not None:
            return f"up to {frame_rate_text(self.max_frame_rate)}"
        return ", ".join(frame_rate_text(rate) for rate in self.frame_rates)

    def profiles_of(self, codec: Codec) -> tuple[str, ...]:
        """Profiles taken of a codec: the recommended one first, then what packs best.

        The order on a guideline page is no preference; ``recommended.profile`` says one.
        """
        every, wish = self.profiles.get(codec, CODECS[codec].profiles), self.recommended.profile
        taken = tuple(p for p in CODECS[codec].profiles if p in every)
        return (wish, *(p for p in taken if p != wish)) if wish in taken else taken


class AudioRecommendation(Frozen):
    """What the platform would like of audio."""

    bitrate: quantities.Rate | None = None
    sample_rate: quantities.SampleRate | None = None
    channels: Literal[1, 2] | None = None


class AudioRules(Frozen):
    """What the platform takes as audio."""

    codecs: tuple[AudioCodec, ...] = Field(min_length=1)
    min_bitrate: quantities.Rate = Bitrate(32_000)
    max_bitrate: quantities.Rate
    sample_rates: tuple[quantities.SampleRate, ...] = Field(min_length=1)
    """The preferred first."""
    channels: tuple[Literal[1, 2], ...] = Field(min_length=1)
    recommended: AudioRecommendation = Field(default_factory=AudioRecommendation)

    @model_validator(mode="after")
    def _consistent(self) -> AudioRules:
        low, high = self.min_bitrate, self.max_bitrate
        if low > high:
            raise ValueError(f"min_bitrate ({low}) is above max_bitrate ({high})")
        wish = self.recommended.bitrate
        if wish is not None and not low <= wish <= high:
            raise ValueError(f"recommended bitrate ({wish}) is not between {low} and {high}")
        rate, channels = self.recommended.sample_rate, self.recommended.channels
        if rate is not None and rate not in self.sample_rates:
            raise ValueError(f"recommended sample rate {rate} is not in sample_rates")
        if channels is not None and channels not in self.channels:
            raise ValueError(f"{channels} channels are recommended, and not in channels")
        return self

    @property
    def sample_rate_hz(self) -> int:
        """The sample rate to send: the recommended one if accepted, else the preferred one."""
        wish = self.recommended.sample_rate
        return wish if wish in self.sample_rates else self.sample_rates[0]


class Segments(Frozen):
    """For transports that send pieces (HLS): how long a piece may be."""

    max: quantities.Seconds
    """A piece begins with a keyframe, so its length is a multiple of the interval."""
    recommended: quantities.Seconds | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Segments:
        if self.recommended is not None and self.recommended > self.max:
            raise ValueError(f"recommended ({self.recommended:g} s) is above max ({self.max:g} s)")
        return self


class Delivery(Frozen):
    """What the platform does for viewers."""

    transcodes: Transcodes
    """Whether viewers get smaller copies than what was sent."""
    slowest_viewer: quantities.Rate | None = None
    """The connection of the slowest viewers it speaks of; matters where nothing is transcoded."""
    better_from_lines: int | None = Field(default=None, ge=1)
    """Resolutions of this many lines or more are delivered with a better codec."""


class PrivateWay(Frozen):
    """How to send without being seen."""

    key_suffix: str | None = Field(default=None, pattern=r"^[!-~]{1,100}$")
    """What to put behind the stream key."""
    text: str | None = None
    """What to do first, where a key alone does not."""

    @model_validator(mode="after")
    def _says_something(self) -> PrivateWay:
        if self.key_suffix is None and self.text is None:
            raise ValueError("private says nothing; give key_suffix or text")
        return self


class BitrateRow(Frozen):
    """A row of the guideline page: a resolution at a frame rate and the bitrates it goes with."""

    resolution: quantities.ResolutionSize
    frame_rate: quantities.FrameRate
    """The row holds up to this rate."""
    codec: Codec | None = None
    """Only for this codec."""
    transport: Transport | None = None
    """Only over this transport."""
    min: quantities.Rate | None = None
    recommended: quantities.Rate | None = None
    max: quantities.Rate | None = None

    @model_validator(mode="after")
    def _ordered(self) -> BitrateRow:
        known = [(n, v) for n in ("min", "recommended", "max") if (v := getattr(self, n))]
        if not known:
            raise ValueError("a row says nothing without min, recommended or max")
        for (low, a), (high, b) in pairwise(known):
            if a > b:
                raise ValueError(f"{low} ({a}) is above {high} ({b})")
        return self


@dataclass(frozen=True, slots=True)
class RowLimits:
    """What is said of one candidate."""

    min: Bitrate | None = None
    recommended: Bitrate | None = None
    max: Bitrate | None = None


class BitrateTable:
    """Rungs to look a resolution and frame rate up in.

    A resolution between two rows gets, cautiously, the maximum of the smaller and the minimum of
    the larger one. Rows for a codec or transport outweigh general ones.
    """

    def __init__(self, rows: list[BitrateRow]) -> None:
        self._rows = rows
        self._fitting: dict[Fraction, tuple[list[BitrateRow], list[int]]] = {}

    def _of_rate(self, frame_rate: Fraction) -> tuple[list[BitrateRow], list[int]]:
        """Rows for a frame rate by size, of one size the slowest last, and their pixels."""
        if frame_rate not in self._fitting:
            fast = [r for r in self._rows if r.frame_rate >= frame_rate] or self._rows
            order = sorted(fast, key=lambda r: (r.resolution.pixels, -r.frame_rate))
            self._fitting[frame_rate] = order, [r.resolution.pixels for r in order]
        return self._fitting[frame_rate]

    def limits(self, resolution: Resolution, frame_rate: Fraction) -> RowLimits:
        """What the rows say; nothing when there are none."""
        rows, sizes = self._of_rate(frame_rate)
        pixels = resolution.pixels
        below, above = bisect_right(sizes, pixels), bisect_left(sizes, pixels)
        smaller = rows[below - 1] if below else None
        larger = rows[bisect_right(sizes, sizes[above]) - 1] if above < len(sizes) else None
        low, high = smaller or larger, larger or smaller
        if low is None or high is None:
            return RowLimits()
        exact = low.resolution.pixels == pixels
        return RowLimits(
            min=high.min if larger is not None else None,
            recommended=low.recommended if exact else None,
            max=low.max,
        )
