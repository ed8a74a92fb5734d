"""Frame rate: what limited the joint choice, and frames that come when they are due."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from math import log
from typing import TYPE_CHECKING, Final

from eager_kestrel.core.choice.candidates import CLOSE
from eager_kestrel.core.resolution import at_1000_1001, divides_evenly, frame_rate_text
from eager_kestrel.core.settings import setting
from eager_kestrel.core.settings.resolution import ANOTHER_SHAPE, MACHINE_TOO, by_machine
from eager_kestrel.core.words.numbers import duration, points

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording

REGULAR = 0.98
"""The least share of frames that come when they are due, of a constant frame rate."""
UNEVEN = ANOTHER_SHAPE
"""So much further away is a rate that does not divide the source's."""


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    rate, rules = found.settings.video.frame_rate, guide.video
    if rate is None:
        return
    shown, wish = f"{frame_rate_text(rate)} fps", rules.recommended.frame_rate
    if wish is not None and rules.takes_rate(rate):
        liked, wanted = rate in (wish, at_1000_1001(wish)), f"{frame_rate_text(wish)} fps"
        yield setting.held("video.recommended.frame_rate", liked, shown, wanted, worse="caution")
    yield setting.held(
        "video.frame_rates", rules.takes_rate(rate), shown, f"{rules.rates_text()} fps"
    )
    source = found.settings.source_fps
    if source is not None:
        yield setting.held(
            "frame rate fits the source",
            divides_evenly(source, rate),
            f"{frame_rate_text(rate)} of {frame_rate_text(source)}",
            f"a whole part or a multiple of {frame_rate_text(source)}",
            worse="caution",
        )


def _always(recording: Recording) -> setting.Rules:
    """Frames when they are due, gaps, and a clock that jumps."""
    video = recording.video
    yield setting.held(
        "frames when due",
        video.regular_share >= REGULAR,
        f"{video.regular_share:.1%}",
        f"at least {REGULAR:.0%}",
        worse="caution",
        do="set a constant frame rate, and look for frames that are left out",
    )
    if video.gaps:
        at, long = max(video.gaps, key=lambda gap: gap[1])
        shown = f"{len(video.gaps)}, the longest {long:.2f} s at {at:.1f} s"
        do = "look at the connection or the encoder then"
        yield setting.held("gaps", False, shown, "none", worse="caution", do=do)
    if video.jumps:
        at, far = video.jumps[0]
        others = f", and {len(video.jumps) - 1} times more" if video.jumps[1:] else ""
        shown = f"jump by {duration(far)} at {at:.1f} s{others}"
        do = "look at the program that sends: its clock jumps"
        yield setting.held("timestamps", False, shown, "steady", do=do)


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    seen, wanted = (f"{float(r.frame_rate):.4g}" for r in (recording.video, planned.video))
    yield setting.held("frame rate", seen == wanted, seen, wanted, do=f"set {wanted}")


UNDER_FLOOR = (
    "{platform:verb|take} no less than {min_kbps:kbit} for {resolution} at {other:fps} fps, "
    "which would look better"
)
AT_RESOLUTION: Final = "quality at this resolution"
FASTEST_SOURCE = setting.Because("frame_rate", "source", "your source's own")
FASTEST_OF_BOTH = setting.Because(
    "frame_rate", "source", "your source's own, and the highest {platform:verb|take}"
)
OWN = setting.Because(
    "frame_rate",
    "source",
    "your source's own; a higher frame rate would not look better at this bitrate",
)
SLOWEST_TAKEN = setting.Because(
    "frame_rate",
    "guide",
    "{platform:verb|take} nothing as low as your source's {source:fps} fps; {repeated}",
)
FASTEST_TAKEN = setting.Because(
    "frame_rate", "guide", "the highest {platform:verb|take} from a source at this rate"
)
RECOMMENDED = setting.Because("frame_rate", "guide", "what {platform:verb|recommend}")
ENOUGH = setting.Because(
    "frame_rate", AT_RESOLUTION, "a higher frame rate would not look better at this bitrate"
)
NO_FLOOR = setting.Because("frame_rate", "guide", UNDER_FLOOR)
NEITHER = setting.Because("frame_rate", "guide", UNDER_FLOOR + MACHINE_TOO)
LOOKS_BEST = setting.Because(
    "frame_rate",
    AT_RESOLUTION,
    "{other:fps} fps would look worse at this bitrate: {other_quality:looks} at best, against "
    "{quality:looks}",
)
PINNED = setting.Because("frame_rate", "wish", "you asked for this frame rate")


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    yield _reason(why, frame_rate_text(why.video.frame_rate))


def _reason(why: setting.Why, value: str) -> setting.Reason:
    platform, choice, chosen = why.guide.title, why.choice, why.choice.now
    if why.show.fps is not None:
        return PINNED(value)
    for freed, limit in choice.freed:
        if freed.frame_rate == chosen.frame_rate:
            continue
        if limit == "machine":
            return by_machine("frame_rate", why, freed, value)
        return (NEITHER if limit == "both" else NO_FLOOR)(
            value,
            platform=platform,
            resolution=freed.resolution,
            other=freed.frame_rate,
            min_kbps=choice.minimum_of(freed)[0],
            machine_too=limit == "both",
        )
    if choice.otherwise(choice.choices.at_any_rate()).frame_rate != chosen.frame_rate:
        return RECOMMENDED(value, platform=platform)
    return _fastest(why, value)


def _fastest(why: setting.Why, value: str) -> setting.Reason:
    """No rule stands in the way: what faster ones would look like, or why there are none."""
    platform, choice, chosen = why.guide.title, why.choice, why.choice.now
    scored = choice.scored
    faster = [i for i, c in enumerate(scored.candidates) if c.frame_rate > chosen.frame_rate]
    if faster:
        quality = float(scored.quality[choice.best])
        worse = [i for i in faster if points(float(scored.quality[i])) < points(quality)]
        if not worse:
            return ENOUGH(value)
        other = max(worse, key=lambda i: (bool(scored.allowed[i]), float(scored.quality[i])))
        return LOOKS_BEST(
            value,
            other=scored.candidates[other].frame_rate,
            other_quality=float(scored.quality[other]),
            quality=quality,
        )
    source = why.show.source_fps
    if chosen.frame_rate > source * (1 + CLOSE):
        times = round(chosen.frame_rate / source)
        often = "twice" if times == 2 else f"{times} times"
        repeated = f"each frame is sent {often}" if chosen.even else "some frames are sent again"
        return SLOWEST_TAKEN(value, platform=platform, source=source, repeated=repeated)
    if choice.of_larger_guide.frame_rate > chosen.frame_rate:
        return FASTEST_TAKEN(value, platform=platform)
    if choice.of_faster_source.frame_rate > chosen.frame_rate:
        return FASTEST_SOURCE(value)
    if choice.of_both_faster.frame_rate > chosen.frame_rate:
        return FASTEST_OF_BOTH(value, platform=platform)
    return OWN(value)


def nearest_rates(
    own: Fraction | None, source: Fraction | None, guides: setting.Guides
) -> Sequence[tuple[float, Fraction | None]]:
    """Those that all take, each with how far it is from what is set; uneven ones last."""
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
            found.append((abs(log(rate / own)) + (0.0 if even else UNEVEN), rate))
    return found or [(0.0, own)]


FRAME_RATE = setting.Setting(
    name="frame_rate",
    keys=("video.max_frame_rate", "video.frame_rates"),
    rules=(setting.Rule(_rule),),
    always=_always,
    as_planned=_as_planned,
    reasons=_reasons,
)
