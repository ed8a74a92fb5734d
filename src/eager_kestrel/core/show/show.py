"""A show: what is streamed and under which conditions. Places it goes to are destinations."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.hours import parse_time_of_day
from eager_kestrel.core.quantities import (
    Chance,
    FrameRate,
    PictureSize,
    Rate,
    Seconds,
    Share,
)
from eager_kestrel.core.show.machine import Machine

Motion = Literal["still", "calm", "lively", "hectic"]
"""How much moves in the picture."""
MOTIONS: tuple[Motion, ...] = ("still", "calm", "lively", "hectic")

SAFE_SHARE = 0.70
"""People keep between a fifth and a half in hand; docs/decisions/0004-safe-share-and-floor.md."""

SHOW_SECONDS = 3600.0
"""An hour, as a forecast is asked for most."""
HOURS_A_MONTH = 20.0
"""Streamed, to reckon with data allowances: about five hours a week."""


class Reserve(Frozen):
    """Upload kept back for something named."""

    name: str
    rate: Rate


class Destination(Frozen):
    """One platform the show goes to."""

    platform: str
    standing: str | None = None
    codec: str | None = None
    """Left out: H.264 where it is taken, since it encodes and plays everywhere."""
    weight: float = Field(default=1.0, gt=0, le=100)
    """How much its quality counts beside the others'."""
    least_quality: float = Field(default=0.0, ge=0, le=1)
    """Below this it is rather left out."""
    encode: Literal["own", "shared", "either"] = "either"
    """Whether it may share an encode, must, or must not."""

    @property
    def name(self) -> str:
        """As on the command line: ``oxbow`` or ``oxbow:hearth``."""
        return f"{self.platform}:{self.standing}" if self.standing else self.platform


class Show(Frozen):
    """What is streamed, and what else the line and the planner have to respect."""

    format: str = format_name("show")
    title: str = ""
    source: PictureSize
    frame_rate: FrameRate
    motion: Motion
    audio: Literal["voice", "music"] = "music"
    """Voice alone needs no second channel on a poor line."""
    viewers: Rate | None = None
    """The slowest viewers' download; matters where nothing smaller is sure to be offered."""
    hours_a_month: float = Field(default=HOURS_A_MONTH, gt=0, le=744)
    machine: Machine = Field(default_factory=Machine)
    reserves: tuple[Reserve, ...] = ()
    safe_share: Share = Field(default=SAFE_SHARE, gt=0, le=1)
    risk: Chance | None = Field(default=None, gt=0, lt=1)
    """That a show has a late frame; in place of the share, where there are enough runs."""
    at: str | None = None
    """The time of day it begins, ``20:00``; runs near it count, where there are any."""
    footage: str | None = None
    """A kept footage whose measured parameters take the place of the kind's."""
    lasts: Seconds = Field(default=SHOW_SECONDS, ge=60, le=86_400)
    """How long one show is, to say how likely it has a late frame."""
    destinations: tuple[Destination, ...] = Field(min_length=1)

    @field_validator("at")
    @classmethod
    def _at_a_time_of_day(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                parse_time_of_day(value)
            except InputError as error:
                raise ValueError(f"{error.what}; {error.instead}") from None
        return value
