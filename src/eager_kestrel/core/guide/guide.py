"""A guide: one platform's ingest guidelines, as a person copied them from its page.

What stands in ``video`` and ``audio`` *must* hold: the platform refuses or cuts off what breaks it.
What stands in their ``advised`` is a wish. Rungs are the rows of the page's table; a standing of an
account loosens some fields. Quantities are read by :mod:`eager_kestrel.core.quantities`.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from fractions import Fraction
from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, model_validator

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.names import nearest_name
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.quantities import FrameRate, PictureShape, PictureSize, Rate, Seconds
from eager_kestrel.core.units import Bitrate

STALE_AFTER_DAYS = 180

Codec = Literal["h264", "hevc", "av1"]
AudioCodec = Literal["aac", "opus", "mp3"]
RateControl = Literal["constant", "variable"]
Transport = Literal["rtmp", "rtmps", "hls"]
Transcodes = Literal["always", "when there is capacity", "never"]

PROFILES: dict[Codec, tuple[str, ...]] = {
    "h264": ("high", "main", "baseline"),
    "hevc": ("main", "main10"),
    "av1": ("main",),
}
CUSTOMARY_RATES = tuple(
    Fraction(r) for r in ("60", "60000/1001", "50", "48", "30", "30000/1001", "25", "24",
                          "24000/1001", "20", "15", "10")
)  # fmt: skip
CUSTOMARY_KEYFRAME_SECONDS = 2.0
"""What nearly every ingest asks for, and so what is chosen where a guide leaves it open."""
TRANSCODE_RANK: dict[Transcodes, int] = {"never": 0, "when there is capacity": 1, "always": 2}


class Ingest(Frozen):
    """One place the platform takes streams at."""

    name: str
    """As the platform calls it."""
    url: str = Field(pattern=r"^(rtmps?|https)://[^/\s]+(/\S*)?$")
    """Without a stream key."""


class Keyframes(Frozen):
    """How far apart keyframes are to be. Written as ``"2 s"`` it means exactly that."""

    exactly: Seconds | None = None
    """The one interval that is taken."""
    at_least: Seconds | None = None
    """No shorter."""
    at_most: Seconds | None = None
    """No longer."""
    advised: Seconds | None = None
    """The interval the platform would like best."""

    @model_validator(mode="after")
    def _consistent(self) -> Keyframes:
        if self.exactly is not None and (self.at_least or self.at_most or self.advised):
            raise ValueError('"exactly" leaves nothing for at_least, at_most or advised')
        known = [(n, v) for n in ("at_least", "advised", "at_most") if (v := getattr(self, n))]
        for (low, a), (high, b) in pairwise(known):
            if a > b:
                raise ValueError(f"{low} ({a:g} s) is above {high} ({b:g} s)")
        return self

    @property
    def chosen_seconds(self) -> float:
        """The interval to send: the only one, the advised one, or the customary one in range."""
        if self.exactly is not None:
            return self.exactly
        wish = self.advised if self.advised is not None else CUSTOMARY_KEYFRAME_SECONDS
        if self.at_most is not None:
            wish = min(wish, self.at_most)
        return wish if self.at_least is None else max(wish, self.at_least)

    def words(self) -> str:
        """``every 2 s``, ``every 1 to 4 s, best 2 s`` and the like."""
        if self.exactly is not None:
            return f"every {self.exactly:g} s"
        low = f"at least {self.at_least:g} s" if self.at_least is not None else ""
        high = f"at most {self.at_most:g} s" if self.at_most is not None else ""
        best = f"best {self.advised:g} s" if self.advised is not None else ""
        return ", ".join(part for part in (low, high, best) if part) or "as you like"


def _keyframes(value: object) -> object:
    if isinstance(value, int | float):
        raise ValueError(f'{value} has no unit; write "{value} s"')
    return {"exactly": value} if isinstance(value, str) else value


def _keyframes_written(value: Keyframes) -> Any:
    if value.exactly is not None:
        return f"{value.exactly:g} s"
    return value.model_dump(exclude_none=True)


KeyframeRule = Annotated[
    Keyframes, BeforeValidator(_keyframes), PlainSerializer(_keyframes_written)
]


class VideoAdvice(Frozen):
    """What the platform would like of video."""

    codec: Codec | None = None
    frame_rate: FrameRate | None = None
    rate_control: RateControl | None = None
    profile: str | None = None
    b_frames: int | None = Field(default=None, ge=0, le=16)


class VideoRules(Frozen):
    """What the platform takes as video."""

    codecs: tuple[Codec, ...] = Field(min_length=1)
    """In no order; ``advised.codec`` says which is liked best."""
    shapes: tuple[PictureShape, ...] = ()
    """Aspect ratios that are taken; empty takes any."""
    pictures: tuple[PictureSize, ...] = ()
    """When only certain sizes are taken: these. Empty takes any up to ``largest``."""
    largest: PictureSize
    """No side may be longer than its side here."""
    fastest: FrameRate | None = None
    """Any customary frame rate up to this one is taken ..."""
    frame_rates: tuple[FrameRate, ...] = ()
    """... or exactly these."""
    floor: Rate | None = None
    """The least video may be sent at, whatever the picture."""
    ceiling: Rate
    """The most, whatever the picture; rungs may say less."""
    keyframes: KeyframeRule
    rate_control: tuple[RateControl, ...] = Field(min_length=1)
    profiles: dict[Codec, tuple[str, ...]] = Field(default_factory=dict)
    """By codec, the preferred first; a codec left out takes any."""
    highest_level: dict[Codec, str] = Field(default_factory=dict)
    """By codec; left out takes any."""
    b_frames: int = Field(default=16, ge=0, le=16)
    """The most in a row."""
    pixel_formats: tuple[str, ...] = ("yuv420p",)
    colour: str = "bt709"
    """Primaries, transfer and matrix, as the media library names them."""
    colour_range: Literal["limited", "full"] = "limited"
    advised: VideoAdvice = Field(default_factory=VideoAdvice)

    @model_validator(mode="after")
    def _consistent(self) -> VideoRules:
        if bool(self.fastest) == bool(self.frame_rates):
            raise ValueError("give either fastest (any rate up to it) or frame_rates (a list)")
        if self.floor is not None and self.floor > self.ceiling:
            raise ValueError(f"floor ({self.floor}) is above ceiling ({self.ceiling})")
        for picture in self.pictures:
            if not _within(picture, self.largest):
                raise ValueError(f"pictures has {picture}, larger than largest ({self.largest})")
        for codec, profiles in self.profiles.items():
            for profile in profiles:
                if profile not in PROFILES[codec]:
                    known = nearest_name(profile, list(PROFILES[codec]), "")
                    raise ValueError(f'profiles.{codec} has no "{profile}"; {known}')
        if self.advised.codec is not None and self.advised.codec not in self.codecs:
            raise ValueError(f"advised codec {self.advised.codec} is not among codecs")
        return self

    @property
    def taken_rates(self) -> tuple[Fraction, ...]:
        """Every frame rate that is taken, of those people use, fastest first."""
        if self.frame_rates:
            return tuple(sorted(self.frame_rates, reverse=True))
        assert self.fastest is not None
        return tuple(r for r in {*CUSTOMARY_RATES, self.fastest} if r <= self.fastest)

    def takes_rate(self, rate: Fraction) -> bool:
        """Whether a frame rate is taken, customary or not."""
        return rate in self.frame_rates if self.fastest is None else rate <= self.fastest

    def rates_words(self) -> str:
        """``up to 60`` or ``30, 25``."""
        if self.fastest is not None:
            return f"up to {frame_rate_text(self.fastest)}"
        return ", ".join(frame_rate_text(rate) for rate in self.frame_rates)

    def profiles_of(self, codec: Codec) -> tuple[str, ...]:
        """Profiles taken of a codec, the preferred first."""
        return self.profiles.get(codec, PROFILES[codec])


class AudioAdvice(Frozen):
    """What the platform would like of audio."""

    bitrate: Rate | None = None
    sample_rate_hz: int | None = None
    channels: Literal[1, 2] | None = None


class AudioRules(Frozen):
    """What the platform takes as audio."""

    codecs: tuple[AudioCodec, ...] = Field(min_length=1)
    least: Rate = Bitrate(32_000)
    most: Rate
    sample_rates_hz: tuple[int, ...] = Field(min_length=1)
    """The preferred first."""
    channels: tuple[Literal[1, 2], ...] = Field(min_length=1)
    advised: AudioAdvice = Field(default_factory=AudioAdvice)

    @model_validator(mode="after")
    def _consistent(self) -> AudioRules:
        if self.least > self.most:
            raise ValueError(f"least ({self.least}) is above most ({self.most})")
        wish = self.advised.bitrate
        if wish is not None and not self.least <= wish <= self.most:
            raise ValueError(
                f"advised bitrate ({wish}) is outside least to most ({self.least} to {self.most})"
            )
        return self


class Segments(Frozen):
    """For transports that send pieces (HLS): how long a piece may be."""

    at_most: Seconds
    """A piece begins with a keyframe, so its length is a multiple of the interval."""
    advised: Seconds | None = None


class Delivery(Frozen):
    """What the platform does for viewers."""

    transcodes: Transcodes
    """Whether viewers get smaller copies than what was sent."""
    slowest_viewer: Rate | None = None
    """The line of the slowest viewers it speaks of; matters where nothing is transcoded."""
    better_from_lines: int | None = Field(default=None, ge=1)
    """Pictures of this many lines or more are delivered with a better codec."""


class Rung(Frozen):
    """A row of the guideline page: a picture at a frame rate and the bitrates it goes with."""

    picture: PictureSize
    frame_rate: FrameRate
    """The row holds up to this rate."""
    codec: Codec | None = None
    """Only for this codec."""
    transport: Transport | None = None
    """Only over this transport."""
    floor: Rate | None = None
    advised: Rate | None = None
    ceiling: Rate | None = None

    @model_validator(mode="after")
    def _ordered(self) -> Rung:
        known = [(n, v) for n in ("floor", "advised", "ceiling") if (v := getattr(self, n))]
        if not known:
            raise ValueError("a rung says nothing without floor, advised or ceiling")
        for (low, a), (high, b) in pairwise(known):
            if a > b:
                raise ValueError(f"{low} ({a}) is above {high} ({b})")
        return self


class Standing(Frozen):
    """What an account of some standing is allowed or given beyond the ordinary."""

    ceiling: Rate | None = None
    largest: PictureSize | None = None
    fastest: FrameRate | None = None
    codecs: tuple[Codec, ...] | None = None
    transcodes: Transcodes | None = None
    audio_most: Rate | None = None
    rungs: tuple[Rung, ...] | None = None
    """In place of all ordinary rungs."""


@dataclass(frozen=True, slots=True)
class RungLimits:
    """What is said of one candidate."""

    floor: Bitrate | None = None
    advised: Bitrate | None = None
    ceiling: Bitrate | None = None


class RungTable:
    """Rungs to look a picture and frame rate up in.

    A picture between two rows gets, cautiously, the ceiling of the smaller and the floor of the
    larger one. Rows for a codec or transport outweigh general ones.
    """

    def __init__(self, rows: list[Rung]) -> None:
        self._rows = rows
        self._fitting: dict[Fraction, list[Rung]] = {}

    def limits(self, picture: Picture, frame_rate: Fraction) -> RungLimits:
        """What the rows say; nothing when there are none."""
        if frame_rate not in self._fitting:
            fast = [r for r in self._rows if r.frame_rate >= frame_rate] or self._rows
            order = sorted(fast, key=lambda r: (r.picture.pixels, -r.frame_rate))
            self._fitting[frame_rate] = order
        smaller: Rung | None = None
        larger: Rung | None = None
        for rung in self._fitting[frame_rate]:  # by size; of one size the slowest rate last
            if rung.picture.pixels <= picture.pixels:
                smaller = rung
            if rung.picture.pixels >= picture.pixels and (
                larger is None or rung.picture.pixels == larger.picture.pixels
            ):
                larger = rung
        low, high = smaller or larger, larger or smaller
        if low is None or high is None:
            return RungLimits()
        exact = low.picture.pixels == picture.pixels
        return RungLimits(
            floor=high.floor if larger is not None else None,
            advised=low.advised if exact else None,
            ceiling=low.ceiling,
        )


class Guide(Frozen):
    """One platform's ingest guidelines."""

    format: str = format_name("guide")
    name: str = Field(pattern=r"^[a-z][a-z0-9-]{0,40}$")
    """Lower case, as in the file's name."""
    title: str
    """As people call it."""
    source: str
    """Where the figures come from: an address or a few words."""
    checked: date
    """The day somebody held them against the source."""
    transports: tuple[Transport, ...] = Field(min_length=1)
    """In the order the platform prefers."""
    delivery: Delivery
    video: VideoRules
    audio: AudioRules
    segments: Segments | None = None
    ingest: tuple[Ingest, ...] = ()
    rungs: tuple[Rung, ...] = ()
    standings: dict[str, Standing] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _consistent(self) -> Guide:
        if "hls" in self.transports and self.segments is None:
            raise ValueError("transport hls sends pieces: [segments] must say how long at most")
        keyframes = self.video.keyframes
        if self.segments is not None and keyframes.chosen_seconds > self.segments.at_most:
            raise ValueError(
                f"keyframes ({keyframes.words()}) do not fit segments of at most "
                f"{self.segments.at_most:g} s"
            )
        largest = [self.video.largest, *(s.largest for s in self.standings.values() if s.largest)]
        for number, rung in enumerate(self.rungs):
            if not any(_within(rung.picture, size) for size in largest):
                raise ValueError(
                    f"rungs.{number}: {rung.picture} is larger than largest ({self.video.largest})"
                )
            if self.video.pictures and rung.picture not in self.video.pictures:
                raise ValueError(f"rungs.{number}: {rung.picture} is not among video.pictures")
            if self.video.shapes and not any(s.fits(rung.picture) for s in self.video.shapes):
                shapes = ", ".join(map(str, self.video.shapes))
                raise ValueError(f"rungs.{number}: {rung.picture} is not {shapes}")
            self._check_ceiling(number, rung)
        for name, standing in self.standings.items():
            if not self._loosens(standing):
                raise ValueError(
                    f"standings.{name}: it loosens nothing; give it something the ordinary lack"
                )
        return self

    def _check_ceiling(self, number: int, rung: Rung) -> None:
        most = max([self.video.ceiling, *(s.ceiling for s in self.standings.values() if s.ceiling)])
        for name in ("floor", "advised", "ceiling"):
            rate = getattr(rung, name)
            if rate is not None and rate > most:
                raise ValueError(f"rungs.{number}: {name} ({rate}) is above video.ceiling ({most})")

    def _loosens(self, standing: Standing) -> bool:
        rank = TRANSCODE_RANK
        video, fast = self.video, standing.fastest
        return any(
            (
                standing.ceiling is not None and standing.ceiling > video.ceiling,
                standing.largest is not None and not _within(standing.largest, video.largest),
                fast is not None and fast > max(video.taken_rates),
                standing.codecs is not None and set(standing.codecs) - set(video.codecs),
                standing.transcodes is not None
                and rank[standing.transcodes] > rank[self.delivery.transcodes],
                standing.audio_most is not None and standing.audio_most > self.audio.most,
                standing.rungs is not None and standing.rungs != self.rungs,
            )
        )

    def under(self, standing: str | None) -> Guide:
        """The guide as it holds for an account of that standing.

        Raises:
            NotFoundError: the guide knows no such standing; suggests one.
        """
        if standing is None:
            return self
        if standing not in self.standings:
            raise NotFoundError(
                f'{self.title} knows no standing "{standing}"',
                nearest_name(standing, list(self.standings), "it has none"),
            )
        over = self.standings[standing]
        video: dict[str, Any] = {
            "ceiling": over.ceiling or self.video.ceiling,
            "largest": over.largest or self.video.largest,
            "codecs": over.codecs or self.video.codecs,
        }
        if over.fastest is not None:
            video |= {"fastest": over.fastest, "frame_rates": ()}
        return self.model_copy(
            update={
                "video": self.video.model_copy(update=video),
                "audio": self.audio.model_copy(update={"most": over.audio_most or self.audio.most}),
                "delivery": self.delivery.model_copy(
                    update={"transcodes": over.transcodes or self.delivery.transcodes}
                ),
                "rungs": self.rungs if over.rungs is None else over.rungs,
            }
        )

    def codec(self, wanted: str | None = None) -> Codec:
        """The codec to send: the wanted one, H.264 where it is taken, else the advised one.

        Raises:
            NotFoundError: the wanted one is not taken.
        """
        if wanted is not None:
            taken = next((c for c in self.video.codecs if c == wanted), None)
            if taken is None:
                raise NotFoundError(
                    f"{self.title} does not take {wanted}",
                    f"choose from {', '.join(self.video.codecs)}",
                )
            return taken
        if "h264" in self.video.codecs:
            return "h264"
        return self.video.advised.codec or self.video.codecs[0]

    def rung_table(self, codec: str, transport: str) -> RungTable:
        """The rungs that speak of a codec over a transport."""
        rows = [
            rung
            for rung in self.rungs
            if rung.codec in (None, codec) and rung.transport in (None, transport)
        ]
        special = {(r.picture, r.frame_rate) for r in rows if r.codec or r.transport}
        return RungTable(
            [r for r in rows if r.codec or r.transport or (r.picture, r.frame_rate) not in special]
        )

    def limits(
        self, picture: Picture, frame_rate: Fraction, codec: str, transport: str
    ) -> RungLimits:
        """Floor, advised value and ceiling of a picture, from its rungs and the general rules."""
        return self.within_rules(self.rung_table(codec, transport).limits(picture, frame_rate))

    def within_rules(self, row: RungLimits) -> RungLimits:
        """What a row says, within what holds for every picture."""
        floors = [rate for rate in (row.floor, self.video.floor) if rate is not None]
        ceiling = (
            self.video.ceiling if row.ceiling is None else min(row.ceiling, self.video.ceiling)
        )
        return RungLimits(floor=max(floors, default=None), advised=row.advised, ceiling=ceiling)

    def stale_days(self, today: date) -> int | None:
        """Days since the guide was checked when that is too long ago, else None."""
        days = (today - self.checked).days
        return days if days > STALE_AFTER_DAYS else None


def _within(picture: Picture, largest: Picture) -> bool:
    return picture.width <= largest.width and picture.height <= largest.height
