"""What was measured of this machine's encoders, and the machine a plan takes from it."""

from __future__ import annotations

from datetime import datetime
from fractions import Fraction
from typing import ClassVar

from eager_kestrel.core.document import Frozen, Spread, format_name
from eager_kestrel.core.guide.rules import Codec
from eager_kestrel.core.picture import Resolution
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.show.machine import MACHINE_SHARE, EncoderLimit, EncoderSpeed, Machine
from eager_kestrel.core.words import machines as words

BUSY_SHARE = 0.10
"""Others that took more of the machine were running."""
SHARE_BESIDE = 0.85
"""Of a speed that was measured beside them; what they need is already off."""


class EncoderPoint(Spread):
    """One encoder at one preset on one picture."""

    SPREAD: ClassVar = {"picture": ("width", "height"), "wanted": ("wanted_fps", "wanted")}

    encoder: str
    """As the media library names it."""
    codec: Codec
    preset: str
    """As the encoder names it; empty where it has none."""
    picture: Resolution
    wanted: FrameRate
    """Frames a second that have to be encoded."""
    fps: float
    """Frames a second it encoded, once warm."""
    cores_share: float
    """Of all cores, what encoding the wanted frame rate takes; 0..1, or more where it does not
    hold."""
    seconds: float
    """Counted."""

    @property
    def holds(self) -> bool:
        """Whether it encodes the wanted frame rate in time."""
        return self.fps >= float(self.wanted)

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
    taken_at: str
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
    endurance: Endurance | None = None

    @property
    def beside_others(self) -> bool:
        """Whether something else ran that needs much of the machine."""
        return self.others_share >= BUSY_SHARE

    def machine(self, now: datetime) -> Machine:
        """What a plan goes by: of each preset the least it did on any picture.

        Args:
            now: to say how old the figures are.
        """
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
                    codec=codec, preset=preset,
                    holds=EncoderLimit.model_construct(
                        picture=point.picture, frame_rate=Fraction(int(point.fps))
                    ),
                )
                for (codec, preset), point in best.items()
                if point.fps >= 1
            ),
            said=words.measured(days, self.others_share if self.beside_others else 0.0),
        )  # fmt: skip


def _speed(point: EncoderPoint) -> float:
    return point.picture.pixels * point.fps
