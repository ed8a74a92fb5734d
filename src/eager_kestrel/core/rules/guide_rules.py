"""Hold settings against a guide and the upload: one function per rule."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.resolution import at_1000_1001, divides_evenly, frame_rate_text
from eager_kestrel.core.rules.bitrate_rules import bitrate, buffer, level, sent_kbps, viewers
from eager_kestrel.core.rules.finding import (
    Finding,
    RuleResult,
    Rules,
    Severity,
    one_of,
    recommended,
)
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.resolution import Resolution
    from eager_kestrel.core.rules.settings import Interval, Settings


INTERVAL_TOLERANCE_FRAMES = 0.5
"""A whole number of frames comes this close to a length of time."""


def against_guide(settings: Settings, guide: Guide) -> list[Finding]:
    """Every rule of one guide, its tier applied, that the settings say something of."""
    return [_finding(guide, judged) for judged in judged_by(settings, guide)]


def judged_by(
    settings: Settings, guide: Guide, rules: Sequence[Callable[[Settings, Guide], Rules]] = ()
) -> Rules:
    """The same as bare results; of some rules only, where they are named."""
    for rule in rules or _RULES:
        for judged in rule(settings, guide):
            guess = judged.severity == "breach" and _guessed(guide, judged.rule)
            yield _as_guess(judged) if guess else judged


GUESS_OF = {"audio.bitrate": ("audio.least", "audio.most")}
"""Where a rule is judged by other keys than its own."""


def _guessed(guide: Guide, rule: str) -> bool:
    return any(guide.guesses(key) for key in GUESS_OF.get(rule, (rule,)))


def _as_guess(judged: RuleResult) -> RuleResult:
    """A rule nobody looked up breaks nothing."""
    return judged._replace(severity="caution", wanted=f"{judged.wanted} (unverified in the guide)")


def against_upload(
    pairs: Sequence[tuple[Settings, Guide]], safe_kbps: float | None
) -> tuple[Finding, ...]:
    """Everything sent to all of them against what may be sent; nothing where either is unknown."""
    together = sum(sent_kbps(settings, guide) or 0.0 for settings, guide in pairs)
    if safe_kbps is None or together <= 0:
        return ()
    safe, sent = Bitrate.from_kbps(safe_kbps), Bitrate.from_kbps(together)
    judged = RuleResult(
        "safe rate",
        "fine" if together <= safe_kbps + 0.01 else "breach",
        f"total {sent.in_kbps()}",
        f"at most {safe.in_kbps()}",
    )
    return (_finding(None, judged),)


def _finding(guide: Guide | None, judged: RuleResult) -> Finding:
    """A rule as judged, of a guide or, without one, of the connection."""
    return Finding(
        platform="upload" if guide is None else guide.name,
        tier=None if guide is None else guide.tier,
        rule=judged.rule,
        severity=judged.severity,
        found=str(judged.found),
        wanted=str(judged.wanted),
    )


def _transport(settings: Settings, guide: Guide) -> Rules:
    if settings.transport is not None:
        yield one_of("transports", settings.transport, guide.transports)


def _codec(settings: Settings, guide: Guide) -> Rules:
    """Of codec, profile and B-frames; without a codec, by the one the guide would have."""
    rules, video = guide.video, settings.video
    wish = rules.recommended
    if video.codec is not None:
        yield one_of("video.codecs", video.codec, rules.codecs)
        yield from recommended("video.recommended.codec", video.codec, wish.codec, rules.codecs)
    codec = video.codec or guide.codec()
    if video.profile is not None and codec in rules.codecs:
        taken = rules.profiles_of(codec)
        yield one_of(f"video.profiles.{codec}", video.profile, taken)
        yield from recommended("video.recommended.profile", video.profile, wish.profile, taken)
    if video.b_frames is not None:
        most = 0 if video.profile == "baseline" else rules.b_frames
        fine: Severity = "fine" if video.b_frames <= most else "breach"
        yield RuleResult("video.b_frames", fine, video.b_frames, f"at most {most}")
        few = range(most + 1)
        yield from recommended("video.recommended.b_frames", video.b_frames, wish.b_frames, few)


def _resolution(settings: Settings, guide: Guide) -> Rules:
    resolution = settings.video.resolution
    if resolution is None:
        return
    rules = guide.video
    if rules.shapes:
        shapes = " or ".join(map(str, rules.shapes))
        fits = any(shape.fits(resolution) for shape in rules.shapes)
        yield RuleResult(
            "video.shapes",
            "fine" if fits else "breach",
            f"{resolution} ({resolution.shape})",
            shapes,
        )
    if rules.resolutions:
        yield one_of("video.resolutions", resolution, rules.resolutions)
    within = resolution.width <= rules.largest.width and resolution.height <= rules.largest.height
    yield RuleResult(
        "video.largest",
        "fine" if within else "breach",
        resolution,
        f"at most {rules.largest}",
    )
    yield _sides(resolution, named=resolution in guide.named)


def _sides(resolution: Resolution, *, named: bool) -> RuleResult:
    sides = (resolution.width, resolution.height)
    severity: Severity = "fine"
    if any(side % 2 for side in sides):
        severity = "breach"  # 4:2:0 has no half chroma sample
    elif any(side % 8 for side in sides) and not named:
        severity = "caution"
    wanted = "even sides, best divisible by 8"
    return RuleResult("sides divisible by 8", severity, resolution, wanted)


def _frame_rate(settings: Settings, guide: Guide) -> Rules:
    rate = settings.video.frame_rate
    if rate is None:
        return
    rules = guide.video
    wish = rules.recommended.frame_rate
    if wish is not None and rules.takes_rate(rate):
        liked = rate in (wish, at_1000_1001(wish))
        yield RuleResult(
            "video.recommended.frame_rate",
            "fine" if liked else "caution",
            f"{frame_rate_text(rate)} fps",
            f"{frame_rate_text(wish)} fps",
        )
    yield RuleResult(
        "video.frame_rates",
        "fine" if rules.takes_rate(rate) else "breach",
        f"{frame_rate_text(rate)} fps",
        f"{rules.rates_words()} fps",
    )
    source = settings.source_frame_rate
    if source is not None:
        yield RuleResult(
            "frame rate divides the source",
            "fine" if divides_evenly(source, rate) else "caution",
            f"{frame_rate_text(rate)} of {frame_rate_text(source)}",
            f"a whole part of {frame_rate_text(source)}",
        )


def _rate_control(settings: Settings, guide: Guide) -> Rules:
    control = settings.video.rate_control
    if control is not None:
        taken, wish = guide.video.rate_control, guide.video.recommended.rate_control
        yield one_of("video.rate_control", control, taken)
        yield from recommended("video.recommended.rate_control", control, wish, taken)


def keyframes(settings: Settings, guide: Guide) -> Rules:
    """Of the keyframe interval, and of the pieces it makes."""
    interval = settings.video.keyframes
    if interval is None:
        return
    rule = guide.video.keyframes
    rate = settings.video.frame_rate
    if interval.automatic:
        yield RuleResult("video.keyframes", "breach", "automatic", rule.words())
        return
    if rate is None and interval.frames is not None:
        yield RuleResult("video.keyframes", "caution", f"{interval}, of any length", rule.words())
        return
    seconds = _interval_seconds(interval, rate)
    slack = INTERVAL_TOLERANCE_FRAMES / float(rate or 24) + 1e-9
    shown = f"{interval} = {seconds:.4g} s" if interval.frames is not None else f"{interval}"
    holds = all(
        (
            rule.exactly is None or abs(seconds - rule.exactly) <= slack,
            rule.at_least is None or seconds >= rule.at_least - slack,
            rule.at_most is None or seconds <= rule.at_most + slack,
        )
    )
    yield RuleResult("video.keyframes", "fine" if holds else "breach", shown, rule.words())
    if holds and rule.recommended is not None:
        near = abs(seconds - rule.recommended) <= slack
        yield RuleResult(
            "video.keyframes.recommended",
            "fine" if near else "caution",
            shown,
            f"{rule.recommended:g} s",
        )
    yield from _segments(settings, guide, seconds, slack)


def _interval_seconds(interval: Interval, rate: Fraction | None) -> float:
    if interval.seconds is not None:
        return interval.seconds
    assert interval.frames is not None
    assert rate is not None
    return float(interval.frames / rate)


def _segments(settings: Settings, guide: Guide, seconds: float, slack: float) -> Rules:
    """A piece begins with a keyframe, so the longest piece must hold a whole interval."""
    segments = guide.segments
    if segments is None or (settings.transport or guide.transports[0]) != "hls":
        return
    yield RuleResult(
        "segments.at_most",
        "fine" if seconds <= segments.at_most + slack else "breach",
        f"keyframes {seconds:.4g} s apart",
        f"at most {segments.at_most:g} s",
    )
    if segments.recommended is not None:
        parts = segments.recommended / seconds
        whole = abs(parts - round(parts)) * seconds <= slack and round(parts) >= 1
        yield RuleResult(
            "segments.recommended",
            "fine" if whole else "caution",
            f"keyframes {seconds:.4g} s apart",
            f"a whole part of {segments.recommended:g} s",
        )


def _colour(settings: Settings, guide: Guide) -> Rules:
    video, rules = settings.video, guide.video
    if video.pixel_format is not None:
        yield one_of("video.pixel_formats", video.pixel_format, rules.pixel_formats)
    if video.colour is not None:
        yield from recommended("video.colour", video.colour, rules.colour)
    if video.colour_range is not None:
        yield from recommended("video.colour_range", video.colour_range, rules.colour_range)


def _audio(settings: Settings, guide: Guide) -> Rules:
    audio, rules, wish = settings.audio, guide.audio, guide.audio.recommended
    if audio.codec is not None:
        yield one_of("audio.codecs", audio.codec, rules.codecs)
    if audio.bitrate is not None:
        yield RuleResult(
            "audio.bitrate",
            "fine" if rules.least <= audio.bitrate <= rules.most else "breach",
            audio.bitrate.in_kbps(),
            f"{rules.least.kbps:g} to {rules.most.kbps:g} kbit/s",
        )
    hz, taken = audio.sample_rate_hz, rules.sample_rates_hz
    if hz is not None:
        yield one_of("audio.sample_rates_hz", hz, taken)
        yield from recommended("audio.recommended.sample_rate_hz", hz, wish.sample_rate_hz, taken)
    if audio.channels is not None:
        number, taken = audio.channels, rules.channels
        yield one_of("audio.channels", number, taken)
        yield from recommended("audio.recommended.channels", number, wish.channels, taken)


_RULES: tuple[Callable[[Settings, Guide], Rules], ...] = (
    _transport,
    _codec,
    _resolution,
    _frame_rate,
    bitrate,
    _rate_control,
    keyframes,
    buffer,
    level,
    _colour,
    _audio,
    viewers,
)
