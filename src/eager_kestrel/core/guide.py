"""A guide: one platform's ingest guidelines, as a person copied them from its page.

What *must* hold is refused or cut off by the platform when it does not; what is *advised* is a
wish. A standing of an account overrides fields. Quantities are read by
:mod:`eager_kestrel.core.quantities`.
"""

from __future__ import annotations

import itertools
from datetime import date
from fractions import Fraction
from typing import Literal

from pydantic import Field, model_validator

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.names import nearest_name
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.quantities import FrameRate, PictureShape, PictureSize, Rate, Seconds
from eager_kestrel.core.units import Bitrate

STALE_AFTER_DAYS = 180

Codec = Literal["h264"]
RateControl = Literal["constant", "variable"]
Transport = Literal["rtmp", "rtmps"]
Transcodes = Literal["always", "when there is capacity", "never"]


class Ingest(Frozen):
    """One place the platform takes streams at."""

    name: str
    url: str
    """Without a stream key."""


class VideoRules(Frozen):
    """What the platform takes as video."""

    codecs: tuple[Codec, ...] = Field(min_length=1)
    shape: PictureShape
    largest: PictureSize
    frame_rates: tuple[FrameRate, ...] = Field(min_length=1)
    """All that are taken."""
    ceiling: Rate
    """The most video may be sent at."""
    keyframes: Seconds
    """The interval that must be kept."""
    rate_control: tuple[RateControl, ...] = Field(min_length=1)
    profiles: tuple[Literal["baseline", "main", "high"], ...] = Field(min_length=1)
    b_frames: int = Field(ge=0, le=16)
    """The most in a row."""


class AudioRules(Frozen):
    """What the platform takes as audio."""

    codecs: tuple[Literal["aac"], ...] = Field(min_length=1)
    least: Rate
    most: Rate
    sample_rates_hz: tuple[int, ...] = Field(min_length=1)
    channels: tuple[Literal[1, 2], ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _ordered(self) -> AudioRules:
        if self.least > self.most:
            raise ValueError(f"least ({self.least}) is above most ({self.most})")
        return self


class Rung(Frozen):
    """A row of the guideline page: a picture at a frame rate and the bitrates it goes with."""

    picture: PictureSize
    frame_rate: FrameRate
    floor: Rate | None = None
    advised: Rate | None = None
    ceiling: Rate | None = None

    @model_validator(mode="after")
    def _ordered(self) -> Rung:
        known = [
            (name, rate)
            for name in ("floor", "advised", "ceiling")
            if (rate := getattr(self, name)) is not None
        ]
        for (low, a), (high, b) in itertools.pairwise(known):
            if a > b:
                raise ValueError(f"{self.picture}: {low} ({a}) is above {high} ({b})")
        return self


class Standing(Frozen):
    """What an account of some standing is allowed or given beyond the ordinary."""

    ceiling: Rate | None = None
    transcodes: Transcodes | None = None


class Guide(Frozen):
    """One platform's ingest guidelines."""

    format: str = format_name("guide")
    name: str = Field(pattern=r"^[a-z][a-z0-9-]{0,40}$")
    title: str
    source: str
    """Where the figures come from."""
    checked: date
    """The day somebody held them against the source."""
    transports: tuple[Transport, ...] = Field(min_length=1)
    """In the order the platform prefers."""
    transcodes: Transcodes
    """Whether viewers get smaller copies than what was sent."""
    ingest: tuple[Ingest, ...] = ()
    video: VideoRules
    audio: AudioRules
    rungs: tuple[Rung, ...] = ()
    standings: dict[str, Standing] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _rungs_within(self) -> Guide:
        highest = max(
            [self.video.ceiling, *(s.ceiling for s in self.standings.values() if s.ceiling)]
        )
        for rung in self.rungs:
            if rung.picture.pixels > self.video.largest.pixels:
                raise ValueError(f"rung {rung.picture} is larger than {self.video.largest}")
            if rung.advised is not None and rung.advised > highest:
                said = f"advised ({rung.advised}) is above the ceiling ({highest})"
                raise ValueError(f"rung {rung.picture}: {said}")
        return self

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
        return self.model_copy(
            update={
                "video": self.video.model_copy(
                    update={"ceiling": over.ceiling or self.video.ceiling}
                ),
                "transcodes": over.transcodes or self.transcodes,
            }
        )

    def rung(self, picture: Picture, frame_rate: Fraction) -> Rung | None:
        """The row for exactly this picture at this rate or the next rate above it."""
        rows = [r for r in self.rungs if r.picture == picture and r.frame_rate >= frame_rate]
        return min(rows, key=lambda row: row.frame_rate, default=None)

    def ceiling(self, picture: Picture, frame_rate: Fraction) -> tuple[Bitrate, str]:
        """The most this picture may be sent at, and which rule says so."""
        row = self.rung(picture, frame_rate)
        if row is not None and row.ceiling is not None and row.ceiling < self.video.ceiling:
            return row.ceiling, f"rungs {picture}"
        return self.video.ceiling, "video.ceiling"

    def stale_days(self, today: date) -> int | None:
        """Days since the guide was checked when that is too long ago, else None."""
        days = (today - self.checked).days
        return days if days > STALE_AFTER_DAYS else None
