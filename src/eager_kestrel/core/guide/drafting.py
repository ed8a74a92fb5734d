"""From confirmed answers to a guide: what was confirmed, and customary rules for the rest."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Any

from pydantic import ValidationError

from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.guide import questions, rules
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.page import rate_text
from eager_kestrel.core.quantities import WRITTEN
from eager_kestrel.core.resolution import AspectRatio, Resolution, frame_rate_text, parse_frame_rate
from eager_kestrel.core.units import Bitrate

USUAL_SHAPES = tuple(AspectRatio.parse(s) for s in ("16:9", "9:16", "4:3", "1:1", "3:4", "21:9"))


CUSTOMARY_LEAST_AUDIO = Bitrate(96_000)


FROM_ROWS = "follows from the rows: check"


@dataclass(frozen=True, slots=True)
class Draft:
    """A guide, and which of its keys follow from its rows."""

    guide: Guide
    followed: frozenset[str]


def customary(name: str, title: str, source: str, checked: date) -> Guide:
    """A guide with what most platforms ask for, to be overwritten by what is known."""
    return Guide(
        name=name.lower(),
        title=title,
        source=source,
        checked=checked,
        transports=("rtmps", "rtmp"),
        delivery=rules.Delivery(transcodes="when there is capacity"),
        video=rules.VideoRules(
            codecs=("h264",),
            shapes=(AspectRatio(16, 9),),
            max_resolution=Resolution(1920, 1080),
            max_frame_rate=parse_frame_rate("60"),
            max_bitrate=Bitrate(6_000_000),
            keyframes=rules.Keyframes(exact=rules.CUSTOMARY_KEYFRAME_SECONDS),
            rate_control=("constant",),
        ),
        audio=rules.AudioRules(
            codecs=("aac",),
            min_bitrate=CUSTOMARY_LEAST_AUDIO,
            max_bitrate=Bitrate(160_000),
            sample_rates=(48_000, 44_100),
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


def drafted(answers: Mapping[str, str], usual: Guide, unverified: frozenset[str]) -> Draft:
    """The guide that answers lead to.

    Raises:
        InputError: an answer cannot be read.
        FormatError: answers contradict each other; says which.
    """
    document = usual.model_dump(mode="json", exclude_none=True)
    said: questions.Document = {}
    for key, text in answers.items():
        said |= questions.read_answer(key, text)
    followed: set[str] = set()
    tiers = {key: said.pop(key) for key in list(said) if key.startswith("tiers.")}
    _follow(said, tiers, document, followed)
    for key, value in said.items():
        _put(document, key, value)
    if tiers:
        document["tiers"] = {key.split(".")[1]: _tier(rows) for key, rows in tiers.items()}
    silent = [
        key
        for question in questions.QUESTIONS
        for key in question.covers
        if question.key not in answers or question.key in unverified
    ]
    if "video.frame_rates" in said and "video.max_frame_rate" in silent:
        silent[silent.index("video.max_frame_rate")] = "video.frame_rates"
    document["unverified"] = [key for key in silent if _holds(document, key)]
    return Draft(guide_of(document), frozenset(followed))


def _follow(
    said: questions.Document,
    tiers: questions.Document,
    document: questions.Document,
    followed: set[str],
) -> None:
    """What follows from confirmed values where the key itself was not answered."""
    if "video.frame_rates" in said:
        document["video"].pop("max_frame_rate", None)
    rows = [*said.get("bitrates", ()), *(row for own in tiers.values() for row in own)]
    own = said.get("bitrates", ())
    every = own or rows
    if every and "video.max_resolution" not in said:
        said["video.max_resolution"] = questions.largest_of(every)
        followed.add("video.max_resolution")
    resolutions = [Resolution.parse(row["resolution"]) for row in every]
    if resolutions or "video.max_resolution" in said:
        named = resolutions or [Resolution.parse(said["video.max_resolution"])]
        said["video.shapes"] = list(
            dict.fromkeys(
                str(next((shape for shape in USUAL_SHAPES if shape.fits(p)), p.shape))
                for p in named
            )
        )
    rate = questions.fastest_of(rows)
    if rate is not None and not said.keys() & {"video.max_frame_rate", "video.frame_rates"}:
        said["video.max_frame_rate"] = frame_rate_text(rate)
        followed.add("video.max_frame_rate")
    fast = said.get("video.max_frame_rate") or max(
        said.get("video.frame_rates", ["60"]), key=parse_frame_rate
    )
    for row in rows:
        row.setdefault("frame_rate", fast)
    if every and "video.max_bitrate" not in said:
        said["video.max_bitrate"] = rate_text(questions.highest_of(every))
        followed.add("video.max_bitrate")
    codecs = [row["codec"] for row in rows if "codec" in row]
    if codecs and "video.codecs" not in said:
        said["video.codecs"] = list(dict.fromkeys(["h264", *codecs]))
        followed.add("video.codecs")
    _follow_audio(said)


def _follow_audio(said: questions.Document) -> None:
    """The customary least or most gives way to what was said of the other, or of a wish."""
    known = {
        key: Bitrate.parse(said[key])
        for key in ("audio.min_bitrate", "audio.max_bitrate", "audio.recommended.bitrate")
        if key in said
    }
    if known and "audio.min_bitrate" not in known:
        said["audio.min_bitrate"] = rate_text(min([CUSTOMARY_LEAST_AUDIO, *known.values()]).kbps)
    if known and "audio.max_bitrate" not in known:
        said["audio.max_bitrate"] = rate_text(max([Bitrate(160_000), *known.values()]).kbps)


def _tier(rows: list[questions.Document]) -> questions.Document:
    video = {
        "max_bitrate": rate_text(questions.highest_of(rows)),
        "max_resolution": questions.largest_of(rows),
    }
    return {"video": video, "bitrates": rows}


def _holds(document: questions.Document, key: str) -> bool:
    *path, last = key.split(".")
    for part in path:
        document = document.get(part) or {}
    return bool(document.get(last))


def _put(document: questions.Document, key: str, value: Any) -> None:
    *path, last = key.split(".")
    for part in path:
        document = document.setdefault(part, {})
    document[last] = value
