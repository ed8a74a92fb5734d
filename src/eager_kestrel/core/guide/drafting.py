"""From a guideline page to a guide: what the page says, and customary rules elsewhere.

What the page does not say is customary and named, so that whoever keeps the guide can look it up.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.guide.guide import Guide, Standing
from eager_kestrel.core.guide.page_reading import fastest, ordinary, rungs_of, standings
from eager_kestrel.core.guide.phrases import rule_of
from eager_kestrel.core.guide.rules import (
    CUSTOMARY_KEYFRAME_SECONDS,
    PROFILES,
    AudioAdvice,
    AudioRules,
    Delivery,
    Keyframes,
    VideoAdvice,
    VideoRules,
)
from eager_kestrel.core.guide.rungs import Rung
from eager_kestrel.core.picture import Picture, Shape, parse_frame_rate
from eager_kestrel.core.quantities import WRITTEN
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.page import Answers, TableRung, Understood

USUAL_SHAPES = tuple(Shape.parse(s) for s in ("16:9", "9:16", "4:3", "1:1", "3:4", "21:9"))
SILENT = ("transports", "delivery.transcodes", "video.codecs", "video.keyframes",
          "video.rate_control", "audio.codecs", "audio.least", "audio.most",
          "audio.sample_rates_hz", "audio.channels")  # fmt: skip
"""Keys that are customary where a page says nothing of them."""
NO_CEILING = "a guess: the page only recommends; this is the most it recommends"
MOST_COMMENT = 120
CUSTOMARY_LEAST_AUDIO = Bitrate(96_000)


@dataclass(frozen=True, slots=True)
class Draft:
    """A guide, and what stands in it unread, and where the rest was read."""

    guide: Guide
    unchecked: tuple[str, ...]
    comments: dict[str, str]
    """By dotted key, what it was read from."""
    rest: tuple[str, ...]
    """What was not understood and left out."""


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


def drafted(found: Understood, answers: Answers, usual: Guide) -> Draft:
    """The guide a page leads to.

    Args:
        found: the page as understood.
        answers: that were given.
        usual: whose rules stand where the page is silent.

    Raises:
        FormatError: no row could be taken, or what it says contradicts itself.
    """
    rows = rungs_of(found, answers, None)
    if not rows:
        raise FormatError("no row of the table could be taken", "see what could not be placed")
    fast = fastest(found, answers)
    assert fast is not None
    try:
        rungs = tuple(_rung(row, fast) for row in found.rungs if row in rows)
        guide = usual.model_copy(
            update={
                "transports": found.said("transports", usual.transports),
                "video": _video(found, rows, fast, usual.video),
                "audio": _audio(found, usual.audio),
                "rungs": rungs,
                "standings": _standings(found, answers, fast),
            }
        )
        guide = guide_of(guide.model_dump(mode="json", exclude_none=True))
    except ValidationError as error:
        raise FormatError(first_error(error)) from None
    except ValueError as error:
        raise FormatError(str(error)) from None
    return Draft(guide, _unchecked(found, rows), _comments(found, rows), tuple(found.unplaced))


def _video(
    found: Understood, rows: list[TableRung], fast: Fraction, usual: VideoRules
) -> VideoRules:
    pictures = [row.picture for row in rows]
    rates = [r for row in rows for r in (row.ceiling, row.advised, row.floor) if r]
    codecs = tuple(dict.fromkeys(row.codec for row in rows if row.codec))
    said: Picture = found.said("video.largest", Picture(16, 16))
    keyframes = found.said("video.keyframes")
    only = found.said("video.frame_rates", ())
    advice = {
        key: found.said(f"video.advised.{key}")
        for key in ("codec", "frame_rate", "rate_control", "profile", "b_frames")
    }
    taken = found.said("video.codecs", ()) + codecs
    return VideoRules(
        codecs=tuple(dict.fromkeys(taken)) or usual.codecs,
        shapes=tuple(dict.fromkeys(_usual_shape(picture) for picture in pictures)),
        largest=Picture(
            max([said.width, *(p.width for p in pictures)]),
            max([said.height, *(p.height for p in pictures)]),
        ),
        fastest=None if only else fast,
        frame_rates=only,
        floor=found.said("video.floor"),
        ceiling=max([*rates, *([c] if (c := found.said("video.ceiling")) else [])]),
        keyframes=rule_of(keyframes) if keyframes else usual.keyframes,
        rate_control=found.said("video.rate_control", usual.rate_control),
        profiles={c: p for c in PROFILES if (p := found.said(f"video.profiles.{c}"))},
        highest_level={c: n for c in PROFILES if (n := found.said(f"video.highest_level.{c}"))},
        b_frames=found.said("video.b_frames", usual.b_frames),
        advised=VideoAdvice(**{key: value for key, value in advice.items() if value is not None}),
    )


def _audio(found: Understood, usual: AudioRules) -> AudioRules:
    """What is said; where only a most or a wish is, the customary least no higher than that."""
    wish: Bitrate | None = found.said("audio.advised.bitrate")
    most: Bitrate | None = found.said("audio.most")
    least: Bitrate | None = found.said("audio.least")
    known = [rate for rate in (most, wish) if rate is not None]
    highest = most or max([usual.most, *known, *([least] if least else [])])
    return AudioRules(
        codecs=found.said("audio.codecs", usual.codecs),
        least=least or min([usual.least, *known]),
        most=highest,
        sample_rates_hz=found.said("audio.sample_rates_hz", usual.sample_rates_hz),
        channels=found.said("audio.channels", usual.channels),
        advised=AudioAdvice(bitrate=wish),
    )


def _standings(found: Understood, answers: Answers, fast: Fraction) -> dict[str, Standing]:
    """What accounts of other standings are allowed beyond the ordinary."""
    every = ordinary(found, answers)
    standing = {}
    for name in standings(found):
        if name != every:
            rows = rungs_of(found, answers, name)
            most = [r for row in rows for r in (row.ceiling, row.advised, row.floor) if r]
            standing[name] = Standing(
                ceiling=max(most),
                largest=Picture(
                    max(row.picture.width for row in rows), max(row.picture.height for row in rows)
                ),
                rungs=tuple(_rung(row, fast) for row in rows),
            )
    return standing


def _rung(row: TableRung, fast: Fraction) -> Rung:
    return Rung(
        picture=row.picture, frame_rate=row.frame_rate or fast, codec=row.codec, floor=row.floor,
        advised=row.advised, ceiling=row.ceiling,
    )  # fmt: skip


def _unchecked(found: Understood, rows: list[TableRung]) -> tuple[str, ...]:
    """Keys the page said nothing of."""
    said = {taken.key for taken in found.taken}
    if any(row.codec for row in rows):
        said.add("video.codecs")
    if "audio.advised.bitrate" in said:
        said.discard("audio.most")
    silent = tuple(key for key in SILENT if key not in said)
    return silent if _has_ceiling(found, rows) else (*silent, "video.ceiling")


def _has_ceiling(found: Understood, rows: list[TableRung]) -> bool:
    """Whether the page says what the most is, and not only what it recommends."""
    said = {taken.key for taken in found.taken}
    return any(row.ceiling for row in rows) or "video.ceiling" in said


def _comments(found: Understood, rows: list[TableRung]) -> dict[str, str]:
    """By dotted key, what stands on the page."""
    said = {taken.key: f"{taken.where}: {taken.text}" for taken in found.taken if taken.key}
    if not _has_ceiling(found, rows):
        said["video.ceiling"] = NO_CEILING
    said |= {f"rungs.{n}.picture": row.text for n, row in enumerate(rows)}
    for name in standings(found):
        others = [row for row in found.rungs if row.standing == name]
        said |= {f"standings.{name}.rungs.{n}.picture": r.text for n, r in enumerate(others)}
    return {key: _in_a_line(text) for key, text in said.items()}


def _in_a_line(text: str) -> str:
    plain = " ".join(text.split())
    return plain if len(plain) <= MOST_COMMENT else f"{plain[: MOST_COMMENT - 3]}..."


def _usual_shape(picture: Picture) -> Shape:
    """The shape people would call it, else its own."""
    return next((shape for shape in USUAL_SHAPES if shape.fits(picture)), picture.shape)
