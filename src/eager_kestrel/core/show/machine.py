"""What a machine can encode in time: presets by how many pixels a second they hold.

A preset fits when the stream needs no more than the allowed share of what it was seen to hold, so
that the rest of the machine can run whatever is being shown. Without figures nothing is assumed.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from fractions import Fraction
from math import inf
from typing import Annotated

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.picture import Resolution, frame_rate_text, parse_frame_rate
from eager_kestrel.core.quantities import FrameRate, PictureSize, Share

MACHINE_SHARE = 0.60
"""Of the encoding speed; the rest is for what is being shown."""


class EncoderLimit(Frozen):
    """A picture at the most frames a second, written ``"1920x1080 at 110"``."""

    picture: PictureSize
    frame_rate: FrameRate

    @property
    def pixels_per_second(self) -> float:
        """How much that is."""
        return self.picture.pixels * float(self.frame_rate)

    def __str__(self) -> str:
        return f"{self.picture} at {frame_rate_text(self.frame_rate)}"


def parse_pace(text: str) -> EncoderLimit:
    """Read ``"1920x1080 at 110"``.

    Raises:
        UnitError: it is none.
    """
    match = re.fullmatch(r"\s*(\S+)\s+at\s+(\S+)\s*", text)
    if match is None:
        raise UnitError(f'"{text}" is no pace', 'write "1920x1080 at 110"')
    rate = match[2]
    fps = Fraction(rate) if rate.isdigit() and int(rate) > 0 else parse_frame_rate(rate)
    return EncoderLimit.model_construct(picture=Resolution.parse(match[1]), frame_rate=fps)


def _pace(value: object) -> object:
    if not isinstance(value, str):
        return value
    try:
        return parse_pace(value)
    except UnitError as error:
        raise ValueError(f"{error.what}; {error.instead}") from None


WrittenPace = Annotated[
    EncoderLimit,
    WithJsonSchema({"type": "string", "examples": ["1920x1080 at 110"]}),
    BeforeValidator(_pace),
    PlainSerializer(str, return_type=str),
]


class EncoderSpeed(Frozen):
    """How fast one preset of one codec's encoder runs here."""

    codec: Codec
    preset: str = Field(min_length=1)
    """As the encoder library names it."""
    holds: WrittenPace
    """The most it encodes in time, with nothing else running."""


class Machine(Frozen):
    """The encoders of a machine; nothing is known of one without any."""

    share: Share = Field(default=MACHINE_SHARE, gt=0, le=1)
    """Of the speed that may be used."""
    encoders: tuple[EncoderSpeed, ...] = ()
    said: str = ""
    """Where the speeds come from, where they were measured."""

    def most_pixels(self, codec: str) -> float:
        """Pixels a second that may be encoded at the fastest preset; endless when unknown."""
        speeds = [e.holds.pixels_per_second for e in self.encoders if e.codec == codec]
        return self.share * max(speeds) if speeds else inf

    def preset(self, codec: str, pixels_per_second: float) -> str | None:
        """The slowest preset that holds this much; None when nothing is known or none does."""
        holding = [
            e
            for e in self.encoders
            if e.codec == codec and e.holds.pixels_per_second * self.share >= pixels_per_second
        ]
        slowest = min(holding, key=lambda e: e.holds.pixels_per_second, default=None)
        return slowest.preset if slowest else None

    def presets(
        self, needs: Sequence[tuple[str, float]], weights: Sequence[float]
    ) -> list[str | None]:
        """The slowest presets that hold several encodes side by side within the share.

        Args:
            needs: of each encode, its codec and pixels a second.
            weights: of each; the weightiest is slowed down first.

        Returns:
            A preset for each; None where nothing is known of its codec, or none fits.
        """
        known = [sorted((e for e in self.encoders if e.codec == codec),
                        key=lambda e: e.holds.pixels_per_second) for codec, _ in needs]  # fmt: skip
        chosen = [speeds[-1] if speeds else None for speeds in known]

        def load(number: int) -> float:
            there = chosen[number]
            return needs[number][1] / there.holds.pixels_per_second if there else 0.0

        for number in sorted(range(len(needs)), key=lambda n: -weights[n]):
            others = sum(load(other) for other in range(len(needs)) if other != number)
            fitting = (
                speed
                for speed in known[number]
                if needs[number][1] / speed.holds.pixels_per_second + others <= self.share + 1e-9
            )
            chosen[number] = next(fitting, chosen[number])
        return [None if speed is None else speed.preset for speed in chosen]

    def load_of(self, codec: str, preset: str, pixels_per_second: float) -> float:
        """The part of the whole machine, 1 being all, that a preset takes for this."""
        speeds = [
            e.holds.pixels_per_second
            for e in self.encoders
            if e.codec == codec and e.preset == preset
        ]
        return pixels_per_second / max(speeds) if speeds else 0.0
