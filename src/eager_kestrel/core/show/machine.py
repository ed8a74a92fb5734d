"""What a machine can encode in real time: presets, and the pixels per second they sustain.

A preset fits when the stream needs no more than the allowed share of what it was seen to hold, so
that the rest of the machine can run whatever is being shown. Without figures nothing is assumed.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime
from fractions import Fraction
from math import inf
from typing import Annotated, ClassVar

from pydantic import BeforeValidator, Field, PlainSerializer, WithJsonSchema

from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.document import Frozen, Moment, Spread, format_name
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.quantities import FrameRate, ResolutionSize, Share
from eager_kestrel.core.resolution import (
    Resolution,
    frame_rate_text,
    parse_frame_rate,
    resolution_at,
)
from eager_kestrel.core.words import broadcasts as words

MACHINE_SHARE = 0.60
"""Of the encoding speed; the rest is for what is being shown."""


class EncoderLimit(Frozen):
    """A resolution at the most frames a second, written ``"1920x1080 at 110"``."""

    resolution: ResolutionSize
    frame_rate: FrameRate

    @property
    def pixels_per_second(self) -> float:
        """How much that is."""
        return self.resolution.pixels * float(self.frame_rate)

    def __str__(self) -> str:
        return f"{self.resolution} at {frame_rate_text(self.frame_rate)}"


def parse_pace(text: str) -> EncoderLimit:
    """Read ``"1920x1080 at 110"``.

    Raises:
        UnitError: it is none.
    """
    match = re.fullmatch(r"\s*(\S+)\s+at\s+(\S+?)(?:\s*fps)?\s*", text)
    if match is None:
        raise UnitError(f'"{text}" is not a resolution and frame rate', 'write "1920x1080 at 110"')
    rate = match[2]
    fps = Fraction(rate) if rate.isdigit() and int(rate) > 0 else parse_frame_rate(rate)
    return EncoderLimit.model_construct(resolution=Resolution.parse(match[1]), frame_rate=fps)


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
    text: str = ""
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

        Returns:
            A preset for each; None where nothing is known of its codec, or none fits.
        """
        known = [
            sorted(
                (e for e in self.encoders if e.codec == codec),
                key=lambda e: e.holds.pixels_per_second,
            )
            for codec, _ in needs
        ]
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


BUSY_SHARE = 0.10
"""Others that took more of the machine were running."""
SHARE_BESIDE = 0.85
"""Of a speed that was measured beside them; what they need is already off."""


class EncoderPoint(Spread):
    """One encoder at one preset on one resolution."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "wanted": ("wanted_fps", "wanted")}

    encoder: str
    """As the media library names it."""
    codec: Codec
    preset: str
    """As the encoder names it; empty where it has none."""
    resolution: Resolution
    wanted: FrameRate
    """Frames a second that have to be encoded."""
    fps: float
    """Frames a second it encoded, once warm."""
    cores_share: float
    """Of all cores, the processor time that encoding the wanted frame rate takes; 0..1."""
    seconds: float
    """Counted."""

    @property
    def holds(self) -> bool:
        """Whether it encodes the wanted frame rate in time."""
        return self.fps >= float(self.wanted)

    @property
    def load(self) -> float:
        """Of its speed, what the wanted frame rate takes; above 1 where it does not hold."""
        return float(self.wanted) / self.fps if self.fps else inf

    @property
    def name(self) -> str:
        """``libx264 fast``."""
        return f"{self.encoder} {self.preset}".strip()


class Endurance(Frozen):
    """What a machine does when it has been at it for a while."""

    name: str
    """Encoder and preset."""
    minutes: float
    first_fps: float
    """In the first part of it."""
    last_fps: float
    """In the last part of it."""


class MeasuredMachine(Frozen):
    """The encoders of a machine as they were measured."""

    format: str = format_name("machine")
    version: str
    """Of the program that measured."""
    taken_at: Moment
    """ISO 8601 with the offset of the place."""
    name: str
    """Of the machine on its network."""
    processor: str
    cores: int
    others_share: float
    """Of all cores, what other programs took just before; 0..1."""
    points: tuple[EncoderPoint, ...]
    not_here: int = 0
    """How many more encoders of these codecs the media library knows, that do not open here."""
    unusable: dict[str, str] = Field(default_factory=dict)
    """Of them, by name, why."""
    endurance: Endurance | None = None

    @property
    def beside_others(self) -> bool:
        """Whether something else ran that needs much of the machine."""
        return self.others_share >= BUSY_SHARE

    def meanings(self) -> list[str]:
        """What it comes to: for each encoder and resolution, the slowest preset that keeps up."""
        said = []
        groups: dict[tuple[str, str], list[EncoderPoint]] = {}
        for point in self.points:
            at = resolution_at(point.resolution, point.wanted)
            groups.setdefault((point.encoder, at), []).append(point)
        for (encoder, resolution), points in groups.items():
            holding = [p for p in points if p.holds]
            failing = next((p.preset for p in points if not p.holds), None)
            best = (holding[-1].preset, holding[-1].load) if holding else None
            said.append(words.means(encoder, resolution, best, failing or None))
        for why in dict.fromkeys(self.unusable.values()):
            names = [name for name, because in self.unusable.items() if because == why]
            said.append(words.unusable(", ".join(names), why))
        if (e := self.endurance) is not None:
            said.append(words.endured(e.name, e.minutes, e.first_fps, e.last_fps))
        if self.beside_others:
            said.append(words.beside(self.others_share))
        return said

    def uses(self) -> list[str]:
        """Of each point, whether a plan would use it, and if not, why."""
        machine, said = self.machine(datetime.fromisoformat(self.taken_at)), []
        for point in self.points:
            needs = point.resolution.pixels * float(point.wanted)
            load = machine.load_of(point.codec, point.preset or point.encoder, needs)
            chosen = machine.preset(point.codec, needs) == (point.preset or point.encoder)
            if not point.holds:
                said.append(words.TOO_SLOW)
            elif chosen:
                said.append(words.USED)
            else:
                said.append(
                    words.over_share(machine.share) if load > machine.share else words.FASTER
                )
        return said

    def machine(self, now: datetime) -> Machine:
        """What a plan goes by: of each preset the least it did on any resolution."""
        best: dict[tuple[Codec, str], EncoderPoint] = {}
        for point in self.points:
            key = (point.codec, point.preset or point.encoder)
            known = best.get(key)
            if known is None or _speed(point) < _speed(known):
                best[key] = point
        days = max(0.0, (now - datetime.fromisoformat(self.taken_at)).total_seconds() / 86_400)
        return Machine(
            share=SHARE_BESIDE if self.beside_others else MACHINE_SHARE,
            encoders=tuple(
                EncoderSpeed(
                    codec=codec,
                    preset=preset,
                    holds=EncoderLimit.model_construct(
                        resolution=point.resolution, frame_rate=Fraction(int(point.fps))
                    ),
                )
                for (codec, preset), point in best.items()
                if point.fps >= 1
            ),
            text=words.measured(days, self.others_share if self.beside_others else 0.0),
        )


def _speed(point: EncoderPoint) -> float:
    return point.resolution.pixels * point.fps
