"""From the table of a guideline page to a guide: what the page says, and customary rules elsewhere.

What the page does not say is customary and named, so that whoever keeps the guide can look it up.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import ValidationError

from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.page import TableRung, Understood
from eager_kestrel.core.guide.rules import (
    CUSTOMARY_KEYFRAME_SECONDS,
    AudioRules,
    Delivery,
    Keyframes,
    VideoRules,
)
from eager_kestrel.core.guide.rungs import Rung
from eager_kestrel.core.picture import Picture, Shape, parse_frame_rate
from eager_kestrel.core.quantities import WRITTEN
from eager_kestrel.core.units import Bitrate

USUAL_SHAPES = tuple(Shape.parse(s) for s in ("16:9", "9:16", "4:3", "1:1", "3:4", "21:9"))
SILENT = ("transports", "delivery.transcodes", "video.rate_control", "audio.codecs", "audio.least",
          "audio.most", "audio.sample_rates_hz", "audio.channels")  # fmt: skip
"""Keys no table says anything of, but for audio that has a column."""
CUSTOMARY_LEAST_AUDIO = Bitrate(96_000)


@dataclass(frozen=True, slots=True)
class Draft:
    """A guide, and the keys that stand in it unread."""

    guide: Guide
    unchecked: tuple[str, ...]


def customary(name: str, title: str, source: str, checked: date) -> Guide:
    """A guide with what most platforms ask for, to be overwritten by what is known."""
    return Guide(
        name=name.lower(),
        title=title,
        source=source,
        checked=checked,
        transports=("rtmps", "rtmp"),
        delivery=Delivery(transcodes="when there is capacity"),
        video=VideoRules(
            codecs=("h264",),
            shapes=(Shape(16, 9),),
            largest=Picture(1920, 1080),
            fastest=parse_frame_rate("60"),
            ceiling=Bitrate(6_000_000),
            keyframes=Keyframes(exactly=CUSTOMARY_KEYFRAME_SECONDS),
            rate_control=("constant",),
        ),
        audio=AudioRules(
            codecs=("aac",),
            least=CUSTOMARY_LEAST_AUDIO,
            most=Bitrate(160_000),
            sample_rates_hz=(48_000, 44_100),
            channels=(2, 1),
        ),
    )


def guide_of(document: dict[str, Any]) -> Guide:
    """A guide from a document of written quantities.

    Raises:
        FormatError: it is none; says which key is wrong.
    """
    try:
        return Guide.model_validate(document, context=WRITTEN)
    except ValidationError as error:
        raise FormatError(first_error(error)) from None


def drafted(found: Understood, usual: Guide) -> Draft:
    """The guide a table leads to.

    Args:
        found: the table as understood.
        usual: whose rules stand where the table is silent.

    Raises:
        FormatError: no row could be taken, or the rows contradict each other.
    """
    rows = found.rungs
    if not rows:
        raise FormatError("no row of the table could be taken", "see what could not be placed")
    try:
        guide = Guide(
            name=usual.name,
            title=usual.title,
            source=usual.source,
            checked=usual.checked,
            transports=usual.transports,
            delivery=usual.delivery,
            video=_video(rows, usual.video),
            audio=_audio(rows, usual.audio),
            rungs=tuple(_rung(row) for row in rows),
        )
    except ValidationError as error:
        raise FormatError(first_error(error)) from None
    return Draft(guide, _unchecked(rows))


def _video(rows: list[TableRung], usual: VideoRules) -> VideoRules:
    pictures = [row.picture for row in rows]
    rates = [r for row in rows for r in (row.ceiling, row.advised, row.floor) if r]
    seconds = [row.keyframes_seconds for row in rows if row.keyframes_seconds]
    return VideoRules(
        codecs=tuple(dict.fromkeys(row.codec for row in rows if row.codec)) or usual.codecs,
        shapes=tuple(dict.fromkeys(_usual_shape(picture) for picture in pictures)),
        largest=Picture(max(p.width for p in pictures), max(p.height for p in pictures)),
        fastest=max(row.frame_rate for row in rows),
        ceiling=max(rates),
        keyframes=Keyframes(exactly=min(seconds)) if seconds else usual.keyframes,
        rate_control=usual.rate_control,
    )


def _audio(rows: list[TableRung], usual: AudioRules) -> AudioRules:
    sound = [row.audio for row in rows if row.audio]
    return AudioRules(
        codecs=usual.codecs,
        least=min(*sound, CUSTOMARY_LEAST_AUDIO) if sound else usual.least,
        most=max(sound) if sound else usual.most,
        sample_rates_hz=usual.sample_rates_hz,
        channels=usual.channels,
    )


def _rung(row: TableRung) -> Rung:
    return Rung(
        picture=row.picture, frame_rate=row.frame_rate, codec=row.codec, floor=row.floor,
        advised=row.advised, ceiling=row.ceiling,
    )  # fmt: skip


def _unchecked(rows: list[TableRung]) -> tuple[str, ...]:
    """Keys the table said nothing of."""
    said = {"audio.most"} if any(row.audio for row in rows) else set()
    silent = [key for key in SILENT if key not in said]
    silent += [] if any(row.keyframes_seconds for row in rows) else ["video.keyframes"]
    silent += [] if any(row.codec for row in rows) else ["video.codecs"]
    return tuple(silent)


def _usual_shape(picture: Picture) -> Shape:
    """The shape people would call it, else its own."""
    return next((shape for shape in USUAL_SHAPES if shape.fits(picture)), picture.shape)
