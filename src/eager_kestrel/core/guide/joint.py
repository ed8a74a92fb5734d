"""One encode for several platforms: a guide that satisfies them all, or the rules that clash.

Every rule is intersected by itself. Transports stay with each platform, since the same encode is
sent to each in its own way; bitrates do too, and are looked up for each in
:func:`eager_kestrel.core.choice.limits.row_limits`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import reduce
from typing import TYPE_CHECKING, Any, TypeVar

from eager_kestrel.core.codecs import Codec, level_rank
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.guide.rules import (
    TRANSCODE_RANK,
    AudioRecommendation,
    AudioRules,
    Keyframes,
    VideoRecommendation,
    VideoRules,
)
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

T = TypeVar("T")


class Clash(Frozen):
    """Two rules that no single encode satisfies."""

    rule: str
    """The guide's key."""
    one: str
    one_says: str
    other: str
    other_says: str

    @property
    def text(self) -> str:
        """In words."""
        return words.clash(self.rule, self.one, self.one_says, self.other, self.other_says)


class _Clashing(Exception):  # noqa: N818 - never leaves this module
    def __init__(self, rule: str, one: object, other: object) -> None:
        self.rule, self.one, self.other = rule, str(one), str(other)


def joint_guide(guides: Sequence[Guide]) -> Guide | Clash:
    """The rules that satisfy all of several guides, or the first two that clash.

    Args:
        guides: with their tiers applied; at least one. What satisfies several carries none.
    """
    found = guides[0]
    for number, guide in enumerate(guides[1:], 1):
        try:
            found = _both(found, guide)
        except _Clashing as clash:
            return _named(clash, guides[: number + 1])
    return found


def _named(clash: _Clashing, guides: Sequence[Guide]) -> Clash:
    """The clash by name: with the one platform that alone clashes with the last, if any does."""
    last = guides[-1]
    for guide in guides[:-1]:
        try:
            _both(guide, last)
        except _Clashing as pair:
            return Clash(
                rule=pair.rule,
                one=guide.title,
                one_says=pair.one,
                other=last.title,
                other_says=pair.other,
            )
    together = " and ".join(guide.title for guide in guides[:-1])
    return Clash(
        rule=clash.rule,
        one=f"{together} together",
        one_says=clash.one,
        other=last.title,
        other_says=clash.other,
    )


def _both(a: Guide, b: Guide) -> Guide:
    transcodes = min(a.delivery.transcodes, b.delivery.transcodes, key=TRANSCODE_RANK.__getitem__)
    lines = (a.delivery.better_from_lines, b.delivery.better_from_lines)
    pieces = min(filter(None, (a.segments, b.segments)), key=lambda s: s.max, default=None)
    update: dict[str, Any] = {
        "title": f"{a.title} and {b.title}",
        "video": _video(a.video, b.video, None if pieces is None else pieces.max),
        "audio": _audio(a.audio, b.audio),
        "delivery": a.delivery.model_copy(
            update={
                "transcodes": transcodes,
                "slowest_viewer": None,
                "better_from_lines": max(filter(None, lines)) if all(lines) else None,
            }
        ),
        "segments": pieces,
        "bitrates": (),
        "servers": (),
        "tiers": {},
    }
    return a.with_rules(update)


def _video(a: VideoRules, b: VideoRules, pieces: float | None) -> VideoRules:
    codecs = _common("video.codecs", a.codecs, b.codecs)
    largest = Resolution(
        min(a.max_resolution.width, b.max_resolution.width),
        min(a.max_resolution.height, b.max_resolution.height),
    )
    least = max(filter(None, (a.min_bitrate, b.min_bitrate)), default=None)
    most = min(a.max_bitrate, b.max_bitrate)
    if least is not None and least > most:
        low = a if a.min_bitrate == least else b
        raise _Clashing(
            "video.min_bitrate", *_in_order(a, low, f"at least {least}", f"at most {most}")
        )
    update: dict[str, Any] = {
        "codecs": codecs,
        "shapes": _common("video.shapes", a.shapes, b.shapes)
        if a.shapes and b.shapes
        else a.shapes or b.shapes,
        "resolutions": _resolutions(a, b, largest),
        "max_resolution": largest,
        **_rates(a, b),
        "min_bitrate": least,
        "max_bitrate": most,
        "keyframes": _keyframes(a.keyframes, b.keyframes, pieces),
        "rate_control": _common("video.rate_control", a.rate_control, b.rate_control),
        "profiles": {
            c: _common(f"video.profiles.{c}", a.profiles_of(c), b.profiles_of(c)) for c in codecs
        },
        "max_level": {
            c: level
            for c in codecs
            if (level := _lower_level(c, a.max_level.get(c), b.max_level.get(c)))
        },
        "max_b_frames": min(a.max_b_frames, b.max_b_frames),
        "pixel_formats": _common("video.pixel_formats", a.pixel_formats, b.pixel_formats),
        "colour": _common("video.colour", (a.colour,), (b.colour,))[0],
        "colour_range": _common("video.colour_range", (a.colour_range,), (b.colour_range,))[0],
        "recommended": _shared_recommendation(a.recommended, b.recommended, codecs),
    }
    return a.model_copy(update=update)


def _shared_recommendation(
    a: VideoRecommendation, b: VideoRecommendation, codecs: tuple[Codec, ...]
) -> VideoRecommendation:
    """What both wish for; a wish of one alone could cost the other."""
    shared = {
        key: value
        for key in VideoRecommendation.model_fields
        if (value := getattr(a, key)) is not None and value == getattr(b, key)
    }
    if shared.get("codec") not in codecs:
        shared.pop("codec", None)
    return VideoRecommendation(**shared)


def _in_order(a: object, first: object, said: str, other: str) -> tuple[str, str]:
    return (said, other) if first is a else (other, said)


def _common(rule: str, a: Iterable[T], b: Iterable[T]) -> tuple[T, ...]:
    """What both take, in the order of the first."""
    one, other = tuple(a), tuple(b)
    both = tuple(item for item in one if item in other)
    if not both:
        raise _Clashing(rule, _words(one), _words(other))
    return both


def _words(items: Iterable[object]) -> str:
    return " or ".join(map(str, items))


def _resolutions(a: VideoRules, b: VideoRules, largest: Resolution) -> tuple[Resolution, ...]:
    """Only certain sizes, where either takes only certain ones; empty takes any."""
    if not a.resolutions and not b.resolutions:
        return ()
    named = [set(rules.resolutions) for rules in (a, b) if rules.resolutions]
    shapes = [rules.shapes for rules in (a, b) if rules.shapes]
    fitting = {
        p
        for p in reduce(set.__and__, named)
        if p.within(largest) and all(any(shape.fits(p) for shape in taken) for taken in shapes)
    }
    if not fitting:
        raise _Clashing(
            "video.resolutions",
            *(
                _words(rules.resolutions)
                or f"up to {rules.max_resolution} of {_words(rules.shapes) or 'any'}"
                for rules in (a, b)
            ),
        )
    return tuple(sorted(fitting, key=lambda p: p.pixels))


def _rates(a: VideoRules, b: VideoRules) -> dict[str, Any]:
    """Either the lower of two limits, or the rates both take."""
    if a.max_frame_rate is not None and b.max_frame_rate is not None:
        return {"max_frame_rate": min(a.max_frame_rate, b.max_frame_rate), "frame_rates": ()}
    either = dict.fromkeys((*a.frame_rates, *b.frame_rates))
    both = tuple(rate for rate in either if a.takes_rate(rate) and b.takes_rate(rate))
    if not both:
        raise _Clashing("video.frame_rates", a.rates_text(), b.rates_text())
    return {"max_frame_rate": None, "frame_rates": both}


def _keyframes(a: Keyframes, b: Keyframes, pieces: float | None) -> Keyframes:
    """Of both; and a keyframe at the beginning of each piece, however short the shortest is."""
    low = max(k.exact or k.min or 0.0 for k in (a, b))
    ends = [end for k in (a, b) if (end := k.exact or k.max) is not None]
    high = min(ends, default=None)
    if high is not None and low > high:
        raise _Clashing("video.keyframes", a.text(), b.text())
    if pieces is not None and low > pieces:
        longer = a if (a.exact or a.min) == low else b
        said = f"pieces of at most {pieces:g} s"
        raise _Clashing("video.keyframes", *_in_order(a, longer, longer.text(), said))
    if a.exact or b.exact:
        return Keyframes(exact=high)
    if pieces is not None:
        high = min(pieces, high) if high is not None else pieces
    wishes = [
        k.recommended
        for k in (a, b)
        if k.recommended and low <= k.recommended <= (high or k.recommended)
    ]
    return Keyframes(min=low or None, max=high, recommended=min(wishes, default=None))


def _lower_level(codec: Codec, a: str | None, b: str | None) -> str | None:
    known = [level for level in (a, b) if level is not None]
    return min(known, key=lambda level: level_rank(codec, level) or 0, default=None)


def _audio(a: AudioRules, b: AudioRules) -> AudioRules:
    least = max(a.min_bitrate, b.min_bitrate)
    most = min(a.max_bitrate, b.max_bitrate)
    if least > most:
        low = a if a.min_bitrate == least else b
        raise _Clashing(
            "audio.min_bitrate", *_in_order(a, low, f"at least {least}", f"at most {most}")
        )
    wishes = [r.recommended.bitrate for r in (a, b) if r.recommended.bitrate is not None]
    wish = min(wishes, default=None)
    return a.model_copy(
        update={
            "codecs": _common("audio.codecs", a.codecs, b.codecs),
            "min_bitrate": least,
            "max_bitrate": most,
            "sample_rates": _common("audio.sample_rates", a.sample_rates, b.sample_rates),
            "channels": _common("audio.channels", a.channels, b.channels),
            "recommended": AudioRecommendation(
                bitrate=None if wish is None else min(max(wish, least), most),
                sample_rate=_same(a.recommended.sample_rate, b.recommended.sample_rate),
                channels=_same(a.recommended.channels, b.recommended.channels),
            ),
        }
    )


def _same(one: T | None, other: T | None) -> T | None:
    return one if one == other else None
