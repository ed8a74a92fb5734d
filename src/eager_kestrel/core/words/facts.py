"""Why each setting of a plan is what it is: one function for each fact, with its sentence.

A decision returns a :class:`Fact`. ``limited_by`` names the limit that decided it, ``text`` is its
sentence, and a plan keeps its figures beside the sentence, for programs. Bitrates are in kbit/s,
lengths in seconds, shares and qualities 0..1.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any, Literal, NamedTuple

from eager_kestrel.core.resolution import Resolution, frame_rate_text
from eager_kestrel.core.words.numbers import filled, joined

Bound = Literal[
    "budget",
    "guide",
    "source",
    "level",
    "viewers",
    "machine",
    "content",
    "no visible gain",
    "quality at this bitrate",
    "quality at this resolution",
    "share of the total",
    "wish",
]
"""The kinds of limit that decide a setting."""
BitrateBound = Literal["budget", "guide", "level", "viewers", "no visible gain"]
LEVEL_TABLES = {
    "h264": "H.264 level that fits (table A-1)",
    "hevc": "H.265 level that fits (table A.8)",
    "av1": "AV1 level that fits (annex A)",
}
MACHINE_TOO = "this machine cannot encode it in real time either"


class Fact(NamedTuple):
    """What decided a setting."""

    about: str
    limited_by: Bound
    text: str
    figures: dict[str, float | str]
    """By name, as a document has them."""


def _fact(about: str, limited_by: Bound, says: str, **figures: Any) -> Fact:
    """A fact whose sentence has gaps for its figures."""
    known = {name: _plain(value) for name, value in figures.items() if value is not None}
    return Fact(about, limited_by, filled(says, figures), known)


def _plain(value: Any) -> float | str:
    if isinstance(value, Fraction):
        return frame_rate_text(value)
    plain: float | str = str(value) if isinstance(value, Resolution) else value
    return plain


def bitrate_bounded(
    limited_by: BitrateBound,
    *,
    platform: str,
    motion: str,
    kbps: dict[str, float],
    of: str = "your upload",
    copies: str = "",
) -> Fact:
    """The bitrate is the lowest of five limits; which of them, and how high each is.

    Args:
        kbps: ``safe``, ``budget``, ``ceiling``, ``clean``, ``level`` and ``viewers``.
        of: what the budget is of: the upload, or a month's data.
        copies: of one encode, where several destinations get it.
    """
    says = {
        "budget": "{of} leaves {budget_kbps:down} for video (safe rate {safe_kbps:kbit}{copies}, "
        "less headers and audio), rounded down",
        "guide": "{platform:verb|take} at most {ceiling_kbps:kbit}; your upload has room for "
        "{budget_kbps:kbit}",
        "no visible gain": "at this resolution and frame rate {motion} motion shows no loss from "
        "{clean_kbps:kbit} up; more would be wasted",
        "viewers": "{platform} may pass on exactly what you send, and its slowest viewers have "
        "{viewers_kbps:kbit}",
        "level": "the highest level {platform:verb|take} allows {level_kbps:kbit}",
    }[limited_by]
    figures = {f"{name}_kbps": value for name, value in kbps.items()}
    return _fact(
        "bitrate",
        limited_by,
        says,
        platform=platform,
        motion=motion,
        of=of,
        copies=copies,
        **figures,
    )


def resolution_rewarded(platform: str) -> Fact:
    """Larger than the source, because the platform delivers such resolutions better."""
    says = "larger than your source, because {platform:verb|deliver} such resolutions better"
    return _fact("resolution", "guide", says, platform=platform)


def resolution_only(platform: str) -> Fact:
    """Larger than the source, because the platform takes none that is smaller."""
    says = "the smallest {platform:verb|take}; pad your source, or crop it"
    return _fact("resolution", "guide", says, platform=platform)


def resolution_largest(limited_by: Literal["guide", "source"], platform: str) -> Fact:
    """The largest there is: of the source, or of what the platform takes."""
    says = {
        "source": "your source's own; enlarging it adds nothing",
        "guide": "the largest {platform:verb|take}",
    }[limited_by]
    return _fact("resolution", limited_by, says, platform=platform)


def resolution_legible(other: Resolution, pixels: float, least: float) -> Fact:
    """A smaller one would be sent if its letters could be read.

    Args:
        pixels: how high the smallest letters would be in that one.
        least: how high they have to be.
    """
    says = "in {other} the smallest letters would be {pixels:.3g} px high; {least:g} can be read"
    return _fact("resolution", "content", says, other=other, pixels=pixels, least=least)


def resolution_enough(kbps: float) -> Fact:
    """The largest there is, and a larger one would look no better at this bitrate."""
    says = "a higher resolution would not look better at {kbps:kbit}"
    return _fact("resolution", "quality at this bitrate", says, kbps=kbps)


def resolution_under_floor(
    *,
    platform: str,
    next: Resolution,  # noqa: A002 - named as in the document
    fps: Fraction,
    floor_kbps: float,
    kbps: float,
    machine_too: bool,
) -> Fact:
    """Another one would be sent if the platform took it at so low a bitrate.

    Perhaps the machine stands in its way as well, so that neither alone would do.
    """
    says = (
        "{platform:verb|take} no less than {floor_kbps:kbit} for {next} at {fps:fps} fps, which "
        "would look better even at {kbps:kbit}"
    )
    return _fact(
        "resolution",
        "guide",
        joined((says, MACHINE_TOO if machine_too else None)),
        platform=platform,
        next=next,
        fps=fps,
        floor_kbps=floor_kbps,
        kbps=kbps,
        machine_too=machine_too,
    )


def too_slow(
    about: Literal["resolution", "frame rate"], what: str, share: float, *, beside_others: bool
) -> Fact:
    """The machine does not encode another one in time, or not beside the other encodes."""
    says = "this machine cannot encode {what} in real time within {share:.0%} of itself"
    if beside_others:
        says = "this machine has no room for {what} beside the other encodes ({share:.0%} of it)"
    return _fact(about, "machine", says, what=what, share=share, beside_others=beside_others)


def resolution_looks_best(
    *,
    kbps: float,
    next: Resolution,  # noqa: A002
    next_quality: float,
    quality: float,
    motion: str,
) -> Fact:
    """The next larger one would look worse at the bitrate there is for it."""
    return _fact(
        "resolution",
        "quality at this bitrate",
        "at {kbps:kbit} {next} would look worse: {next_quality:looks} against {quality:looks} for "
        "{motion} motion",
        kbps=kbps,
        next=next,
        next_quality=next_quality,
        quality=quality,
        motion=motion,
    )


class Tied(NamedTuple):
    """Resolutions that are about the same quality."""

    smallest: Resolution
    largest: Resolution
    because: Literal["own", "named", "customary", "safest"]
    """Why one of them. Safest: no usual one is about the same, and it loses least where it does
    worst."""


def resolution_tied(
    resolution: Resolution,
    tied: Tied,
    *,
    kbps: float,
    platform: str,
    quality: float,
    worse: tuple[Resolution, float] | None,
) -> Fact:
    """Several are about the same quality at this bitrate; why this one of them.

    Args:
        worse: the next larger that looks worse, with its quality, if there is one.
    """
    why = {
        "own": "is your source's own",
        "named": "is one {platform:verb|name}",
        "customary": "is a common one near the safest",
        "safest": "holds up best on the hardest footage",
    }[tied.because]
    says = (
        f"{tied.smallest.lines}p to {tied.largest.lines}p are about the same quality at "
        f"{{kbps:kbit}}",
        f"{{resolution}} {why}",
        "{next} would look worse: {next_quality:looks} against {quality:looks}" if worse else None,
    )
    next_, next_quality = worse or (None, None)
    return _fact(
        "resolution",
        "quality at this bitrate",
        joined(says),
        resolution=resolution,
        kbps=kbps,
        smallest_tied=tied.smallest,
        largest_tied=tied.largest,
        because=tied.because,
        platform=platform,
        next=next_,
        next_quality=next_quality,
        quality=quality,
    )


def rate_fastest(limited_by: Literal["guide", "source"], platform: str) -> Fact:
    """The fastest there is: of the source, or of what the platform takes."""
    says = {
        "source": "your source's own",
        "guide": "the highest {platform:verb|take} from a source at this rate",
    }[limited_by]
    return _fact("frame rate", limited_by, says, platform=platform)


def rate_recommended(platform: str) -> Fact:
    """The rate the platform recommends, though a faster one could be sent."""
    return _fact("frame rate", "guide", "what {platform:verb|recommend}", platform=platform)


def rate_enough() -> Fact:
    """The fastest there is, and more would look no better."""
    says = "a higher frame rate would not look better at this bitrate"
    return _fact("frame rate", "quality at this resolution", says)


def rate_under_floor(
    *,
    platform: str,
    resolution: Resolution,
    other: Fraction,
    floor_kbps: float,
    machine_too: bool,
) -> Fact:
    """At another rate the platform wants more bitrate than there is."""
    says = (
        "{platform:verb|take} no less than {floor_kbps:kbit} for {resolution} at {other:fps} fps, "
        "which would look better"
    )
    return _fact(
        "frame rate",
        "guide",
        joined((says, MACHINE_TOO if machine_too else None)),
        platform=platform,
        resolution=resolution,
        other=other,
        floor_kbps=floor_kbps,
        machine_too=machine_too,
    )


def rate_looks_best(other: Fraction, other_quality: float, quality: float) -> Fact:
    """A faster rate would look worse at this bitrate.

    Args:
        quality: of the best at the rate that is sent.
    """
    return _fact(
        "frame rate",
        "quality at this resolution",
        "{other:fps} fps would look worse at this bitrate: {other_quality:looks} at best, against "
        "{quality:looks}",
        other=other,
        other_quality=other_quality,
        quality=quality,
    )


def keyframes_ruled(
    *, platform: str, seconds: float, fps: Fraction, frames: int, rule: str
) -> Fact:
    """The interval the platform wants, in whole frames."""
    return _fact(
        "keyframes",
        "guide",
        "{platform:verb|want} them {rule}; {seconds:g} s x {fps:fps} fps = {frames:count|frame}",
        platform=platform,
        seconds=seconds,
        fps=fps,
        frames=frames,
        rule=rule,
    )


def rate_control_ruled(platform: str) -> Fact:
    """What the platform asks for."""
    return _fact("rate control", "guide", "what {platform:verb|ask} for", platform=platform)


def variable_preferred(platform: str, target_kbps: float, peak_kbps: float) -> Fact:
    """Variable, because the platform prefers it; the upload has room for the peak."""
    return _fact(
        "rate control",
        "budget",
        "{platform:verb|prefer} it: {target_kbps:kbit} on average, and the upload has room for the "
        "peak of {peak_kbps:kbit}",
        platform=platform,
        target_kbps=target_kbps,
        peak_kbps=peak_kbps,
    )


def buffer_sized(limited_by: Literal["budget", "level"], level: str) -> Fact:
    """One second of video, or the most the level allows."""
    says = {
        "level": "the most level {level} allows",
        "budget": "one second of video, so that no burst exceeds the upload",
    }[limited_by]
    return _fact("buffer", limited_by, says, level=level)


def profile_taken(platform: str, *, recommended: bool) -> Fact:
    """The profile the platform recommends, or of those it takes the most efficient."""
    says = "what {platform:verb|recommend}"
    if not recommended:
        says = "the most efficient of those {platform:verb|take}"
    return _fact("profile", "guide", says, platform=platform, recommended=recommended)


def level_needed(codec: str) -> Fact:
    """The lowest level that fits the stream."""
    return _fact("level", "level", f"lowest {LEVEL_TABLES[codec]}", codec=codec)


def b_frames_taken(
    limited_by: Literal["guide", "no visible gain"], platform: str, *, recommended: bool
) -> Fact:
    """As many as the platform takes or recommends, or as many as are worth it."""
    says = "more would add delay and little quality at live bitrates"
    if recommended:
        says = "what {platform:verb|recommend}"
    elif limited_by == "guide":
        says = "the most {platform:verb|take}"
    return _fact("b-frames", limited_by, says, platform=platform, recommended=recommended)


def preset_held(share: float, load: float, takes: float, usual: str) -> Fact:
    """The slowest preset the machine keeps up with, with what it buys or costs.

    Args:
        takes: of the bitrate of the usual preset, what it takes for the same quality.
        usual: which that is; empty where nothing is known.
    """
    buys = None
    if usual and round(takes, 2) < 1:
        buys = f"worth {1 / takes - 1:.0%} more bitrate than {{usual}}"
    elif usual and round(takes, 2) > 1:
        buys = f"needs {takes - 1:.0%} more bitrate than {{usual}} for the same quality"
    says = "the slowest this machine keeps up with: uses {load:.0%} of it; the limit is {share:.0%}"
    return _fact(
        "preset", "machine", joined((says, buys)), share=share, load=load, takes=takes, usual=usual
    )


def colour_read(platform: str) -> Fact:
    """The colours the platform reads."""
    says = "what {platform:verb|read}; anything else shifts the colours"
    return _fact("colour", "guide", says, platform=platform)


def resized_for(motion: str) -> Fact:
    """A scaling filter for how much moves."""
    says = "slightly softer than the source: moving detail costs bitrate and is not visible"
    if motion in ("still", "calm"):
        says = "keeps the fine detail that is visible when little moves"
    return _fact("resize", "content", says, motion=motion)


def audio_recommended(platform: str, kbps: float) -> Fact:
    """Audio as the platform recommends it."""
    says = "{platform:verb|recommend} {kbps:g} kbit/s"
    return _fact("audio", "guide", says, platform=platform, kbps=kbps)


def audio_shared(
    limited_by: Literal["guide", "share of the total", "viewers"],
    *,
    platform: str,
    least_kbps: float,
    most_kbps: float,
    share: float,
) -> Fact:
    """Audio at an end of what the platform takes, or its share of everything sent."""
    says = {
        "guide": None,
        "share of the total": "about {share:.0%} of the total, so that video gets the rest",
        "viewers": "about {share:.0%} of what its slowest viewers receive",
    }[limited_by]
    taken = "{platform:verb|take} {least_kbps:g} to {most_kbps:g} kbit/s"
    return _fact(
        "audio",
        limited_by,
        joined((says, taken)),
        platform=platform,
        least_kbps=least_kbps,
        most_kbps=most_kbps,
        share=share,
    )
