"""A show: what is streamed, under which conditions, and to which destinations."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from eager_kestrel.core import quantities
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.resolution import Resolution, of_fields
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.stutter import LIMIT_SECONDS
from eager_kestrel.core.units import parse_time_of_day

Weekday = Literal["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"]
WEEKDAYS: tuple[Weekday, ...] = (
    "Monday",
    "Tuesday",
    "Wednesday",
    "Thursday",
    "Friday",
    "Saturday",
    "Sunday",
)
Motion = Literal["still", "calm", "lively", "hectic"]
"""How much moves in the resolution."""
Preference = Literal["smooth", "sharp"]
"""Which matters more: frames a second, or how sharp each of them is."""
Fit = Literal["crop", "pad"]
FITS: tuple[Fit, ...] = ("crop", "pad")
PREFERENCES: tuple[Preference, ...] = ("smooth", "sharp")
MOTIONS: tuple[Motion, ...] = ("still", "calm", "lively", "hectic")

NOT_SQUARE = {480: (704, 720), 486: (720,), 576: (704, 720), 608: (720,)}
"""Widths by lines of standard-definition video (ITU-R BT.601), whose samples are not square."""
SAFE_SHARE = 0.70
"""People keep between a fifth and a half in hand; docs/decisions/0004-safe-share.md."""

SHOW_SECONDS = 3600.0
"""An hour, as a forecast is asked for most."""
ON_THE_WIRE = 1500 / 1448
"""What a byte of TCP costs a data allowance: full packets with headers of IPv4 and TCP with
timestamps (RFC 791, RFC 9293, RFC 7323)."""
HOURS_A_MONTH = 20.0
"""Streamed, to reckon with data allowances: about five hours a week."""


class Reserve(Frozen):
    """Upload kept back for something named."""

    name: str
    rate: quantities.Rate


class Destination(Frozen):
    """One platform the show goes to."""

    platform: str
    tier: str | None = None
    codec: str | None = None
    """Left out: H.264 where it is taken, since it encodes and plays everywhere."""
    weight: float = Field(default=1.0, gt=0, le=100)
    """How much its quality counts beside the others'."""
    min_quality: float = Field(default=0.0, ge=0, le=1)
    """Below this it is rather left out."""
    encode: Literal["own", "shared", "either"] = "either"
    """Whether it may share an encode, must, or must not."""

    @property
    def name(self) -> str:
        """As on the command line: ``oxbow`` or ``oxbow:hearth``."""
        return f"{self.platform}:{self.tier}" if self.tier else self.platform


def has_square_pixels(source: Resolution) -> bool:
    """Whether a source's pixels are square, as all are but those of standard definition."""
    return source.width not in NOT_SQUARE.get(source.height, ())


def unclear_shape(show: Show) -> InputError | None:
    """Return what to ask for if the source's pixels are not square and nobody said its shape."""
    source = show.source
    if show.shape is not None or has_square_pixels(source):
        return None
    return InputError(
        f"a source of {source} has pixels that are not square: it shows 4:3 or 16:9",
        'add --shape 16:9 or --shape 4:3 (in a file: shape = "16:9")',
    )


class Show(Frozen):
    """What is streamed, and what else the connection and the planner have to respect."""

    format: str = format_name("show")
    title: str = ""
    source: quantities.ResolutionSize
    """In pixels as they come, square or not."""
    shape: quantities.ResolutionShape | None = None
    """Of the source's picture, where its pixels are not square."""
    source_fps: quantities.FrameRate
    motion: Motion
    audio: Literal["voice", "music"] = "music"
    """Voice alone needs no second channel on a poor connection."""
    viewers: quantities.Rate | None = None
    """The slowest viewers' download; matters where nothing smaller is sure to be offered."""
    cap: quantities.Size | None = None
    """Of data that may be sent in a month."""
    resolution: quantities.ResolutionSize | None = None
    """To be sent, whatever would look better."""
    fps: quantities.FrameRate | None = None
    """To be sent, whatever would look better."""
    fit: Fit = "crop"
    """How a source of another shape is fitted into what is sent."""
    interlaced: bool = False
    """Whether the source comes in fields; then ``source_fps`` is of fields, and a source of
    ``25i`` has 50."""
    smallest_text: quantities.Pixels | None = None
    """How high the smallest letters are in the source; no resolution is sent in which they are too
    small to be read."""
    prefer: Preference | None = None
    """Left out: what is customary for the motion, smooth for hectic and sharp for calm."""
    days: tuple[Weekday, ...] = ()
    """On which it begins; runs of these days count, where there are any."""
    hours_a_month: quantities.HoursAMonth = Field(default=HOURS_A_MONTH, gt=0, le=744)
    machine: Machine = Field(default_factory=Machine)
    reserves: tuple[Reserve, ...] = ()
    safe_share: quantities.Share = Field(default=SAFE_SHARE, gt=0, le=1)
    stutter: quantities.StutterLimit = Field(default=LIMIT_SECONDS, ge=0, le=3600)
    """Of stutter that is accepted, in seconds an hour."""
    at: str | None = None
    """The time of day it begins, ``20:00``; runs near it count, where there are any."""
    upload: quantities.Rate | None = None
    """What somebody said the upload is; runs take its place as soon as there are any."""
    footage: str | None = None
    """A kept footage whose measured parameters take the place of the kind's."""
    lasts: quantities.Seconds = Field(default=SHOW_SECONDS, ge=60, le=86_400)
    """How long one show is, to say how much of it would stutter."""
    destinations: tuple[Destination, ...] = Field(min_length=1)

    @model_validator(mode="before")
    @classmethod
    def _of_fields(cls, said: Any) -> Any:
        """A frame rate such as ``25i`` is of an interlaced source."""
        rate = said.get("source_fps") if isinstance(said, dict) else None
        if isinstance(rate, str) and (fields := of_fields(rate)) is not None:
            return {**said, "source_fps": fields, "interlaced": True}
        return said

    @field_validator("at")
    @classmethod
    def _at_a_time_of_day(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                parse_time_of_day(value)
            except InputError as error:
                raise ValueError(f"{error.what}; {error.instead}") from None
        return value

    @model_validator(mode="after")
    def _of_known_shape(self) -> Show:
        error = unclear_shape(self)
        if error is not None:
            raise ValueError(f"{error.what}; {error.instead}")
        return self

    @property
    def picture(self) -> Resolution:
        """The source with square pixels, of as many lines: 1024x576 of 720x576 that is 16:9."""
        if self.shape is None or self.shape.fits(self.source):
            return self.source
        width = self.source.height * self.shape.across / self.shape.down
        return Resolution(2 * round(width / 2), self.source.height)

    @property
    def cap_kbps(self) -> float | None:
        """What a month's data allows in its hours; None where no hours or no cap were said."""
        if self.cap is None or "hours_a_month" not in self.model_fields_set:
            return None
        return self.cap.bytes * 8e-3 / (self.hours_a_month * 3600) / ON_THE_WIRE
