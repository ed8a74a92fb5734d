"""Resolution: what limited the joint choice, and how a source of another shape fits into it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import log
from typing import TYPE_CHECKING, ClassVar, Final

import numpy as np

from eager_kestrel.core.choice import candidates
from eager_kestrel.core.document import Spread
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.settings.setting import (
    Because,
    Guides,
    Held,
    PlanSettings,
    Reason,
    Rule,
    Rules,
    Setting,
    Why,
    held,
    one_of,
)
from eager_kestrel.core.show.show import Fit, Motion
from eager_kestrel.core.words.numbers import counted, points

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording

RESIZE: dict[Motion, str] = {
    "still": "lanczos",
    "calm": "lanczos",
    "lively": "bicubic",
    "hectic": "bicubic",
}
"""By content: sharp where detail stands still; softer, and cheaper to code, where it moves."""
ANOTHER_SHAPE = 10.0
"""So much further away is a resolution of another shape."""
LARGER = 1e-3
"""And one that is larger."""


class FrameFit(Spread):
    """What each way of fitting a source into a resolution of another shape costs."""

    SPREAD: ClassVar = {"crop": ("crop_width", "crop_height"), "pad": ("pad_width", "pad_height")}

    way: Fit = "crop"
    """Which is taken."""
    crop: Resolution
    """The part of the source that is kept when it is cropped, in source pixels."""
    kept_share: float
    """Of the source's pixels; the rest is cut away."""
    enlarged: float
    """How much the kept part is blown up, per side; 1 or less loses nothing."""
    pad: Resolution
    """The part of the sent resolution the whole source fills when it is padded."""
    used_share: float
    """Of the sent resolution's pixels; the rest is bars."""


def frame_fit(source: Resolution, sent: Resolution, way: Fit = "crop") -> FrameFit | None:
    """How a source fits a resolution of another shape; None when the shape is the same."""
    if sent.shape.fits(source):
        return None
    wider = source.width * sent.height > sent.width * source.height
    if wider:
        crop = Resolution(_even(source.height * sent.width / sent.height), source.height)
        pad = Resolution(sent.width, _even(sent.width * source.height / source.width))
    else:
        crop = Resolution(source.width, _even(source.width * sent.height / sent.width))
        pad = Resolution(_even(sent.height * source.width / source.height), sent.height)
    return FrameFit(
        way=way,
        crop=crop,
        kept_share=round(crop.pixels / source.pixels, 4),
        enlarged=round(sent.height / crop.height, 3),
        pad=pad,
        used_share=round(pad.pixels / sent.pixels, 4),
    )


def _even(side: float) -> int:
    return max(2, int(side) // 2 * 2)


def _rule(found: Held, guide: Guide) -> Rules:
    resolution, rules = found.settings.video.resolution, guide.video
    if resolution is None:
        return
    if rules.shapes:
        fits = any(shape.fits(resolution) for shape in rules.shapes)
        shown, wanted = f"{resolution} ({resolution.shape})", " or ".join(map(str, rules.shapes))
        yield held("video.shapes", fits, shown, wanted)
    if rules.resolutions:
        yield one_of("video.resolutions", resolution, rules.resolutions)
    within = (
        resolution.width <= rules.max_resolution.width
        and resolution.height <= rules.max_resolution.height
    )
    yield held("video.max_resolution", within, resolution, f"at most {rules.max_resolution}")
    sides = (resolution.width, resolution.height)
    odd = any(side % 2 for side in sides)  # 4:2:0 has no half chroma sample
    uneven = any(side % 8 for side in sides) and resolution not in guide.named
    yield held(
        "sides divisible by 8",
        not odd and not uneven,
        resolution,
        "even sides, best divisible by 8",
        worse="breach" if odd else "caution",
    )


def _always(recording: Recording) -> Rules:
    if recording.video.resolution_changes:
        (at, to), *more = recording.video.resolution_changes
        others = f", and {counted(len(more), 'time')} more" if more else ""
        yield held(
            "resolution",
            False,
            f"changes from {recording.video.resolution} to {to} at {at:.1f} s{others}",
            "the same all along",
            do="set one resolution, and start a new stream for another",
        )


def _as_planned(recording: Recording, planned: PlanSettings) -> Rules:
    seen, wanted = recording.video.resolution, planned.video.resolution
    yield held("resolution", seen == wanted, seen, wanted, do=f"set {wanted}")


BY_MACHINE = (
    "this machine cannot encode {what} in real time within {share:.0%} of itself",
    "this machine has no room for {what} beside the other encodes ({share:.0%} of it)",
    "this machine encodes {what} in real time only with {preset}, which needs {more:.0%} more "
    "bitrate for the same quality",
)


def by_machine(setting: str, why: Why, freed: candidates.Candidate, value: object) -> Reason:
    """It does not encode another one in time; or not beside the other encodes; or not well."""
    choice, machine = why.choice, why.show.machine
    choices, at = choice.choices, choice.scored.candidates.index(freed)
    kind = 1 if choice.beside_others(freed, machine) else 0
    preset, takes = None, float(choices.takes[at])
    if choices.encodable[at] and takes > 1:
        kind = 2
        preset = machine.preset(choices.codec, freed.resolution.pixels * float(freed.frame_rate))
    return Because(setting, "machine", BY_MACHINE[kind])(
        value,
        what=resolution_at(freed.resolution, freed.frame_rate),
        share=machine.share,
        preset=preset,
        more=takes - 1 if kind == 2 else None,
    )


MACHINE_TOO = "; this machine cannot encode it in real time either"
UNDER_FLOOR = (
    "{platform:verb|take} no less than {min_kbps:kbit} for {next} at {fps:fps} fps, which would "
    "look better even at {kbps:kbit}"
)
TIED = (
    "{smallest_tied.lines}p to {largest_tied.lines}p are about the same quality at {kbps:kbit}; "
    "{resolution} "
)
WORSE = "; {next} would look worse: {next_quality:looks} against {quality:looks}"
AT_BITRATE: Final = "quality at this bitrate"
REWARDED = Because(
    "resolution",
    "guide",
    "larger than your source, because {platform:verb|deliver} such resolutions better",
)
ONLY = Because(
    "resolution", "guide", "the smallest {platform:verb|take}; pad your source, or crop it"
)
LARGEST_TAKEN = Because("resolution", "guide", "the largest {platform:verb|take}")
LARGEST_SOURCE = Because("resolution", "source", "your source's own; enlarging it adds nothing")
LARGEST_PART = Because(
    "resolution", "source", "as large as your source is in this shape; enlarging it adds nothing"
)
LEGIBLE = Because(
    "resolution",
    "content",
    "in {other} the smallest letters would be {pixels:.3g} px high; {least:g} can be read",
)
OWN = Because(
    "resolution",
    "source",
    "your source's own; a higher resolution would not look better at {kbps:kbit}",
)
ENOUGH = Because(
    "resolution", AT_BITRATE, "a higher resolution would not look better at {kbps:kbit}"
)
NO_FLOOR = Because("resolution", "guide", UNDER_FLOOR)
NEITHER = Because("resolution", "guide", UNDER_FLOOR + MACHINE_TOO)
LOOKS_BEST = Because(
    "resolution",
    AT_BITRATE,
    "at {kbps:kbit} {next} would look worse: {next_quality:looks} against {quality:looks} for "
    "{motion} motion",
)
TIED_BY_RANK = tuple(
    (
        name,
        Because("resolution", AT_BITRATE, TIED + text),
        Because("resolution", AT_BITRATE, TIED + text + WORSE),
    )
    for name, text in (
        ("own", "is your source's own"),
        ("named", "is one {platform:verb|name}"),
        ("customary", "is a common one that is as good on average"),
        ("largest", "is the largest that is as good on average"),
    )
)
"""How a resolution recommends itself among those that are tied, by its rank; the last, because no
usual one is beside it. Each without and with a larger one that looks worse."""
PINNED = Because("resolution", "wish", "you asked for this resolution")
SOFTER = Because(
    "resize",
    "content",
    "slightly softer than the source: moving detail costs bitrate and is not visible",
)
KEEPS_DETAIL = Because(
    "resize", "content", "keeps the fine detail that is visible when little moves"
)


def _reasons(why: Why) -> Iterator[Reason]:
    yield _reason(why)
    if why.video.resize is not None:
        little = why.show.motion in ("still", "calm")
        yield (KEEPS_DETAIL if little else SOFTER)(why.video.resize, motion=why.show.motion)


def _reason(why: Why) -> Reason:
    guide, show, choice, value = why.guide, why.show, why.choice, why.video.resolution
    platform = guide.title
    if show.resolution is not None:
        return PINNED(value)
    if value.pixels > show.picture.pixels:
        return (ONLY if guide.video.resolutions else REWARDED)(value, platform=platform)
    if show.smallest_text is not None:
        other = choice.of_any_text.resolution
        if other != value:
            pixels = candidates.text_height(show, other)
            return LEGIBLE(value, other=other, pixels=pixels, least=candidates.LEGIBLE_PIXELS)
    if (freed := _freed(why)) is not None:
        return freed
    if value.pixels == max(c.resolution.pixels for c in choice.scored.candidates):
        if choice.of_larger_guide.resolution.pixels > value.pixels:
            return LARGEST_TAKEN(value, platform=platform)
        alone = choice.scored.tied.sum() == 1
        if alone and choice.of_larger_source.resolution.pixels > value.pixels:
            return (LARGEST_SOURCE if value == show.picture else LARGEST_PART)(value)
    return _looks_best(why)


def _freed(why: Why) -> Reason | None:
    """Where another would be sent without a floor, on any machine, or without both."""
    choice, value = why.choice, why.video.resolution
    for freed, limit in choice.freed:
        if freed.resolution == value:
            continue
        if limit == "machine":
            return by_machine("resolution", why, freed, value)
        floor, kbps = choice.minimum_of(freed)
        return (NEITHER if limit == "both" else NO_FLOOR)(
            value,
            platform=why.guide.title,
            next=freed.resolution,
            fps=freed.frame_rate,
            min_kbps=floor,
            kbps=kbps,
            machine_too=limit == "both",
        )
    return None


def _looks_best(why: Why) -> Reason:
    """No rule stands in the way: what others would look like."""
    scored, best, value = why.choice.scored, why.choice.best, why.video.resolution
    options = scored.candidates
    tied = sorted(
        (options[i].resolution for i in np.flatnonzero(scored.tied)), key=lambda p: p.pixels
    )
    quality, kbps = float(scored.quality[best]), float(scored.kbps[best])
    worse = [
        i
        for i, other in enumerate(options)
        if other.resolution.pixels > tied[-1].pixels
        and other.frame_rate == why.choice.now.frame_rate
        and points(float(scored.quality[i])) < points(quality)
    ]
    after = min(worse, key=lambda i: options[i].resolution.pixels, default=None)
    next_ = None if after is None else options[after].resolution
    next_quality = None if after is None else float(scored.quality[after])
    if len(tied) > 1:
        because, alone, beside = TIED_BY_RANK[int(why.choice.choices.ranks[best])]
        return (alone if after is None else beside)(
            value,
            resolution=value,
            kbps=kbps,
            smallest_tied=tied[0],
            largest_tied=tied[-1],
            because=because,
            platform=why.guide.title,
            next=next_,
            next_quality=next_quality,
            quality=quality,
        )
    if after is None:
        return (OWN if value == why.show.picture else ENOUGH)(value, kbps=kbps)
    return LOOKS_BEST(
        value,
        kbps=float(scored.kbps[after]),
        next=next_,
        next_quality=next_quality,
        quality=quality,
        motion=why.show.motion,
    )


def nearest_resolutions(
    own: Resolution | None, guides: Guides
) -> Sequence[tuple[float, Resolution | None]]:
    """Those that all take, each with how far it is from what is set."""
    if own is None:
        return [(0.0, None)]
    largest = guides[0].video.max_resolution
    shapes = {own.shape, *(shape for guide in guides for shape in guide.video.shapes)}
    pool = {own, largest, *(size for guide in guides for size in guide.named)}
    for shape in shapes:
        pool |= {
            *candidates.even_ladder(shape, largest),
            *candidates.customary_resolutions(shape, largest),
        }
    found = [
        (_apart(size, own), size)
        for size in pool
        if all(candidates.takes(guide.video, size) for guide in guides)
    ]
    return found or [(0.0, own)]


def _apart(size: Resolution, own: Resolution) -> float:
    shape = 0.0 if own.shape.fits(size) else ANOTHER_SHAPE
    return abs(log(size.pixels / own.pixels)) + shape + (LARGER if size > own else 0.0)


RESOLUTION = Setting(
    name="resolution",
    keys=("video.max_resolution", "video.resolutions", "video.shapes"),
    rules=(Rule(_rule),),
    always=_always,
    as_planned=_as_planned,
    reasons=_reasons,
)
