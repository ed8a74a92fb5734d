"""Advice: the nearest settings that satisfy every rule at once, and what each finding takes of it.

Proposals are tried from near to far, and each is held against the very rules it is to satisfy, so
that following one piece of advice cannot break another rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from itertools import product
from math import inf, log
from operator import attrgetter
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from eager_kestrel.core.choice.candidates import customary_resolutions, even_ladder, takes
from eager_kestrel.core.choice.limits import rounded_down
from eager_kestrel.core.codecs import CODECS, Level, least_level, level_rank
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.errors import NoPlanError
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.resolution import at_1000_1001, divides_evenly
from eager_kestrel.core.rules.bitrate_rules import (
    FAR_FROM_RECOMMENDED,
    limits_of,
    sent_kbps,
    sound_buffer,
)
from eager_kestrel.core.rules.guide_rules import judged_by, keyframes
from eager_kestrel.core.rules.settings import Interval, Settings
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import settings as words

if TYPE_CHECKING:
    from eager_kestrel.core.codecs import Codec
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.resolution import Resolution
    from eager_kestrel.core.rules.finding import Finding
    from eager_kestrel.core.rules.settings import VideoSet

T = TypeVar("T")
Pair = tuple[Settings, "Guide"]
PICTURE = (
    "video.resolution",
    "video.frame_rate",
    "source_frame_rate",
    "video.bitrate",
    "video.peak",
    "video.level",
    "video.buffer_kbit",
)
"""They hang together: a smaller resolution has another floor, ceiling and level."""
FIELDS: dict[str, tuple[str, ...]] = {
    "transports": ("transport",),
    "video.codec": ("video.codec", "video.profile"),
    "video.profile": ("video.profile",),
    "video.b_frames": ("video.b_frames",),
    "video.rate_control": ("video.rate_control", *PICTURE),
    "video.keyframes": ("video.keyframes", "video.frame_rate"),
    "segments": ("video.keyframes", "video.frame_rate"),
    "video.pixel_format": ("video.pixel_format",),
    "video.colour_range": ("video.colour_range",),
    "video.colour": ("video.colour",),
    "audio.codec": ("audio.codec",),
    "audio.bitrate": ("audio.bitrate",),
    "audio.sample_rate": ("audio.sample_rate_hz",),
    "audio.channels": ("audio.channels",),
}
"""What to set to meet a rule, by how its key begins; any other rule is of the picture."""
ANOTHER_SHAPE = 10.0
"""So much further away is a resolution of another shape."""
NOTHING_LOST = 1e-3


class Advice(Frozen):
    """What to set for some platforms."""

    platforms: tuple[str, ...]
    """``oxbow`` or ``oxbow:hearth``: they get one stream."""
    settings: Settings
    """Everything, what is right already included."""
    changes: dict[str, str]
    """What is to be set anew, in words."""
    unmet: tuple[str, ...] = ()
    """Rules that no settings meet together with all others."""


def advise(pairs: Sequence[Pair], safe_kbps: float | None) -> tuple[Advice, ...]:
    """The nearest settings for each of several streams, all within what may be sent.

    Settings that go to several platforms stay one stream where one can satisfy them all.
    """
    streams: list[tuple[Settings, list[Guide]]] = []
    for settings, guide in pairs:
        same = next((guides for known, guides in streams if known == settings), None)
        if same is None:
            streams.append((settings, [guide]))
        else:
            same.append(guide)
    sent = [sum(sent_kbps(settings, g) or 0.0 for g in guides) for settings, guides in streams]
    room = inf if safe_kbps is None else safe_kbps
    shares = [kbps * min(1.0, room / sum(sent)) if sum(sent) else 0.0 for kbps in sent]
    found: list[Advice] = []
    left = room - sum(shares)
    for (settings, guides), share in zip(streams, shares, strict=True):
        left += share
        advice = _for_stream(settings, guides, left)
        left -= sum(sent_kbps(one.settings, g) or 0.0 for one, g in advice)
        found += {one.platforms: one for one, _ in advice}.values()
    return tuple(found)


def _for_stream(
    settings: Settings, guides: Sequence[Guide], room_kbps: float
) -> list[tuple[Advice, Guide]]:
    """One advice for all guides; one each where none satisfies them all."""
    together = _nearest(settings, guides, room_kbps)
    if not together.unmet or len(guides) == 1:
        return [(together, guide) for guide in guides]
    known: dict[tuple[int, float], Advice] = {}

    def nearest(n: int) -> Advice:
        if (n, each[n]) not in known:
            known[n, each[n]] = _nearest(settings, [guides[n]], each[n])
        return known[n, each[n]]

    each = [room_kbps / len(guides)] * len(guides)
    for at in range(len(guides)):  # what one leaves is for the others
        used = [sent_kbps(nearest(n).settings, guide) for n, guide in enumerate(guides)]
        each[at] = room_kbps - sum(kbps or 0.0 for n, kbps in enumerate(used) if n != at)
    return [(nearest(n), guide) for n, guide in enumerate(guides)]


def with_advice(found: Iterable[Finding], advice: Sequence[Advice]) -> tuple[Finding, ...]:
    """Findings with what to do; every line speaks of the same settings."""
    return tuple(
        one if one.severity == "fine" else one.model_copy(update={"do": _do(one, advice)})
        for one in found
    )


def _do(finding: Finding, advice: Sequence[Advice]) -> str:
    mine = [one for one in advice if finding.label in one.platforms] or advice
    unmet = (rule for one in mine for rule in one.unmet)
    if any(_keys(rule) == _keys(finding.rule) for rule in unmet):
        return words.UNMET
    said = {
        " and ".join(one.platforms): words.set_these(
            [one.changes[key] for key in _keys(finding.rule) if key in one.changes]
            or [*one.changes.values()]
        )
        for one in mine
        if one.changes
    }
    if len(said) < 2:
        return next(iter(said.values()), words.UNMET)
    return "; ".join(f"{name}: {what}" for name, what in said.items())


def _keys(rule: str) -> tuple[str, ...]:
    """The keys of settings that meet a rule."""
    key = rule.replace(".recommended.", ".")
    return next((FIELDS[name] for name in FIELDS if key.startswith(name)), PICTURE)


def _nearest(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> Advice:
    """The first proposal that breaks nothing, or the one that breaks least."""
    best: tuple[tuple[int, int], Settings, tuple[str, ...]] | None = None
    for proposal in _proposals(settings, guides, room_kbps):
        broken, unwise = _trouble(proposal, guides, room_kbps)
        rank = (len(broken), len(unwise))
        if best is None or rank < best[0]:
            best = rank, proposal, (*broken, *unwise)
        if rank == (0, 0):
            break
    assert best is not None
    _, proposal, unmet = best
    hopeless = {key for rule in unmet for key in _keys(rule)}
    changes = _changes(settings, proposal)
    return Advice(
        platforms=tuple(guide.label for guide in guides),
        settings=proposal,
        changes={key: said for key, said in changes.items() if key not in hopeless},
        unmet=unmet,
    )


def _trouble(
    settings: Settings, guides: Sequence[Guide], room_kbps: float
) -> tuple[list[str], list[str]]:
    found = [judged for guide in guides for judged in judged_by(settings, guide)]
    broken = [one.rule for one in found if one.severity == "breach"]
    if sum(sent_kbps(settings, guide) or 0.0 for guide in guides) > room_kbps + NOTHING_LOST:
        broken.append("safe rate")
    return broken, [one.rule for one in found if one.severity == "caution"]


def _proposals(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> Iterator[Settings]:
    """Complete settings, from near to far."""
    base = _simple(settings, guides)
    video = base.video
    sizes = _resolutions(video.resolution, guides)
    rates = _frame_rates(video.frame_rate, base.source_frame_rate, guides)
    ordered = sorted(product(sizes, rates), key=lambda pair: pair[0][0] + pair[1][0])
    for (_, resolution), (_, rate) in ordered:
        update = {"resolution": resolution, "frame_rate": rate}
        source = base.source_frame_rate
        if source is not None and rate is not None and not divides_evenly(source, rate):
            source = rate
        there = base.model_copy(
            update={"video": video.model_copy(update=update), "source_frame_rate": source}
        )
        yield _with_level(_with_bitrate(_with_keyframes(there, guides), guides, room_kbps), guides)


def _simple(settings: Settings, guides: Sequence[Guide]) -> Settings:
    """What does not depend on the picture: the nearest value that all guides take."""
    video, audio, rules = settings.video, settings.audio, [guide.video for guide in guides]
    wishes = [r.recommended for r in rules]
    codec = _taken(video.codec, [r.codecs for r in rules], [w.codec for w in wishes])
    by: Codec = codec or guides[0].codec()
    profile = _taken(video.profile, [r.profiles_of(by) for r in rules], [w.profile for w in wishes])
    control = _taken(
        video.rate_control, [r.rate_control for r in rules], [w.rate_control for w in wishes]
    )
    most = 0 if profile == "baseline" else min(r.b_frames for r in rules)
    b_frames = _taken(
        None if video.b_frames is None else min(video.b_frames, most),
        [range(most + 1)],
        [w.b_frames for w in wishes],
    )
    sound = [guide.audio for guide in guides]
    liked = [s.recommended for s in sound]
    least, loudest = max(s.least for s in sound), min(s.most for s in sound)
    return settings.model_copy(
        update={
            "transport": _taken(settings.transport, [g.transports for g in guides]),
            "video": video.model_copy(
                update={
                    "codec": codec,
                    "profile": profile,
                    "b_frames": b_frames,
                    "rate_control": control,
                    "pixel_format": _taken(video.pixel_format, [r.pixel_formats for r in rules]),
                    "colour": _taken(video.colour, [(r.colour,) for r in rules]),
                    "colour_range": _taken(video.colour_range, [(r.colour_range,) for r in rules]),
                }
            ),
            "audio": audio.model_copy(
                update={
                    "codec": _taken(audio.codec, [s.codecs for s in sound]),
                    "bitrate": audio.bitrate and min(max(audio.bitrate, least), loudest),
                    "sample_rate_hz": _taken(
                        audio.sample_rate_hz,
                        [s.sample_rates_hz for s in sound],
                        [w.sample_rate_hz for w in liked],
                    ),
                    "channels": _taken(
                        audio.channels, [s.channels for s in sound], [w.channels for w in liked]
                    ),
                }
            ),
        }
    )


def _taken(
    own: T | None, taken: Sequence[Sequence[T]], wishes: Iterable[T | None] = ()
) -> T | None:
    """What is wished for, what is set, or the first that all take; what is not set stays unset."""
    if own is None:
        return None
    common = [value for value in taken[0] if all(value in others for others in taken[1:])]
    liked = [wish for wish in wishes if wish is not None and wish in common]
    return next(iter((*liked, *(c for c in common if c == own), *common)), own)


def _resolutions(
    own: Resolution | None, guides: Sequence[Guide]
) -> Sequence[tuple[float, Resolution | None]]:
    """Each with how far it is from what is set."""
    if own is None:
        return [(0.0, None)]
    largest = guides[0].video.largest
    shapes = {own.shape, *(shape for guide in guides for shape in guide.video.shapes)}
    pool = {own, largest, *(size for guide in guides for size in guide.named)}
    for shape in shapes:
        pool |= {*even_ladder(shape, largest), *customary_resolutions(shape, largest)}
    found = [
        (_apart(size, own), size)
        for size in pool
        if all(takes(guide.video, size) for guide in guides)
    ]
    return found or [(0.0, own)]


def _apart(size: Resolution, own: Resolution) -> float:
    shape = 0.0 if own.shape.fits(size) else ANOTHER_SHAPE
    return abs(log(size.pixels / own.pixels)) + shape + (NOTHING_LOST if size > own else 0.0)


def _frame_rates(
    own: Fraction | None, source: Fraction | None, guides: Sequence[Guide]
) -> Sequence[tuple[float, Fraction | None]]:
    """Each with how far it is from what is set; first those that divide the source."""
    if own is None:
        return [(0.0, None)]
    wishes = [g.video.recommended.frame_rate for g in guides]
    pool = {rate for wish in wishes if wish for rate in (wish, at_1000_1001(wish))}
    if not pool:
        pool = {own, *(rate for guide in guides for rate in guide.video.taken_rates)}
        pool |= {at_1000_1001(rate) for rate in pool if rate.denominator == 1}
        pool |= set() if source is None else {source / parts for parts in (1, 2, 3, 4)}
    found = []
    for rate in pool:
        if all(guide.video.takes_rate(rate) for guide in guides):
            even = source is None or divides_evenly(source, rate)
            found.append((abs(log(rate / own)) + (0.0 if even else ANOTHER_SHAPE), rate))
    return found or [(0.0, own)]


def _with_keyframes(settings: Settings, guides: Sequence[Guide]) -> Settings:
    """The interval as it is where it is right, else the first of the guides' own that is."""
    video = settings.video
    own, rate = video.keyframes, video.frame_rate
    if own is None:
        return settings
    rules = [guide.video.keyframes for guide in guides]
    bounds = [s for r in rules for s in (r.exactly, r.at_most, r.at_least) if s is not None]
    seconds = [*(guide.keyframe_seconds for guide in guides), *bounds]
    tried = [own, *(Interval(seconds=s) for s in seconds)]
    if own.frames is not None and rate is not None:
        frames = [*(guide.keyframe_frames(rate) for guide in guides)]
        frames += [max(1, int(s * rate)) for s in bounds]
        tried = [own, *(Interval(frames=count) for count in frames)]
    found = [settings.model_copy(update={"video": _set(video, keyframes=one)}) for one in tried]
    return min(found, key=lambda one: _keyframe_trouble(one, guides))


def _keyframe_trouble(settings: Settings, guides: Sequence[Guide]) -> tuple[int, int]:
    found = [one.severity for guide in guides for one in judged_by(settings, guide, (keyframes,))]
    return found.count("breach"), found.count("caution")


def _set(video: VideoSet, **update: Any) -> VideoSet:
    return video.model_copy(update=update)


def _with_bitrate(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> Settings:
    """The nearest bitrate between every floor and every ceiling, near what is recommended."""
    video = settings.video
    rate = video.peak or video.bitrate
    if rate is None:
        return settings
    limits = [limits_of(settings, guide) for guide in guides]
    low = max([one.floor.kbps for one in limits if one.floor] or [0.0])
    high = min(
        *(one.ceiling.kbps for one in limits if one.ceiling),
        _level_kbps(settings, guides),
        _room(settings, guides, room_kbps),
    )
    for one in limits:
        if one.recommended is not None:
            near = one.recommended.kbps
            lower, upper = (near * (1 + sign * FAR_FROM_RECOMMENDED) for sign in (-1, 1))
            if max(low, lower) <= min(high, upper):
                low, high = max(low, lower), min(high, upper)
    target = None if video.bitrate is None else _between(video.bitrate.kbps, low, high)
    peak = None if video.peak is None else _between(video.peak.kbps, low, high)
    if video.rate_control == "constant" or (peak is not None and peak == target):
        peak = None
    if target is None:
        target, peak = peak, None
    return settings.model_copy(
        update={"video": _set(video, bitrate=_rate(target), peak=_rate(peak))}
    )


def _rate(kbps: float | None) -> Bitrate | None:
    return None if kbps is None else Bitrate.from_kbps(max(kbps, 0.001))


def _between(kbps: float, low: float, high: float) -> float:
    """The nearest in range, in round figures where there is one."""
    if low <= kbps <= high:
        return kbps
    if kbps < low:
        return low
    rounded = float(rounded_down(np.array([high]))[0])
    return rounded if rounded >= max(low, NOTHING_LOST) else high


def _room(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> float:
    """What is left for video of all that may be sent, and of what viewers take."""
    audio = settings.audio.bitrate.kbps if settings.audio.bitrate else 0.0
    hz, rate = settings.audio.sample_rate_hz or 48_000, settings.video.frame_rate or Fraction(60)
    extra = [overhead(settings.transport or g.transports[0], rate, hz) for g in guides]
    fixed, per_byte = sum(e.fixed_kbps for e in extra), sum(e.per_byte for e in extra)
    most = [(room_kbps - fixed) / per_byte - audio]
    for guide, one in zip(guides, extra, strict=True):
        slowest = guide.delivery.slowest_viewer
        if slowest is not None and guide.delivery.transcodes != "always":
            most.append(one.video_kbps(slowest.kbps, audio))
    return min(most) - NOTHING_LOST


def _levels(settings: Settings, guides: Sequence[Guide]) -> list[Level]:
    """Levels that all guides take of the codec."""
    codec = settings.video.codec or guides[0].codec()
    highest = [g.video.highest_level.get(codec) for g in guides]
    ranks = [level_rank(codec, level) for level in highest if level is not None]
    top = min((rank for rank in ranks if rank is not None), default=len(CODECS[codec].levels) - 1)
    return list(CODECS[codec].levels[: top + 1])


def _level_kbps(settings: Settings, guides: Sequence[Guide]) -> float:
    """The most that any level gives the picture, where a level is set."""
    video = settings.video
    if video.level is None or video.resolution is None or video.frame_rate is None:
        return inf
    profile = video.profile or guides[0].video.profiles_of(video.codec or guides[0].codec())[0]
    held = (
        level.bitrate_kbps(profile)
        for level in _levels(settings, guides)
        if level.takes(video.resolution, video.frame_rate)
    )
    return max(held, default=0.0)


def _with_level(settings: Settings, guides: Sequence[Guide]) -> Settings:
    """The least level that holds it where the one that is set does not; and its buffer."""
    video = settings.video
    codec = video.codec or guides[0].codec()
    profile = video.profile or guides[0].video.profiles_of(codec)[0]
    rate = video.peak or video.bitrate
    levels = [level.name for level in _levels(settings, guides)]
    name = video.level
    own = None if name is None else level_rank(codec, name)
    if name is not None:
        least = 0
        if video.resolution is not None and video.frame_rate is not None:
            try:
                level = least_level(
                    codec, video.resolution, video.frame_rate, profile, rate.kbps if rate else 0.0
                )
            except NoPlanError:
                return settings
            least = level_rank(codec, level.name) or 0
        if own is None or not least <= own < len(levels):
            own = min(least, len(levels) - 1)
            name = levels[own]
    kbit = video.buffer_kbit
    if kbit is not None and rate is not None:
        most = inf if own is None else CODECS[codec].levels[own].buffer_kbit(profile)
        target = (video.bitrate or rate).kbps
        if not sound_buffer(kbit, target) or kbit > most:
            kbit = min(target, most)
    return settings.model_copy(update={"video": _set(video, level=name, buffer_kbit=kbit)})


def _changes(before: Settings, after: Settings) -> dict[str, str]:
    found = {
        key: words.said(key, value)
        for key in words.SET
        if (value := attrgetter(key)(after)) is not None and value != attrgetter(key)(before)
    }
    interval, rate = after.video.keyframes, after.video.frame_rate
    if "video.keyframes" in found and interval and interval.seconds and rate:
        found["video.keyframes"] += words.in_frames(round(interval.seconds * rate))
    return found
