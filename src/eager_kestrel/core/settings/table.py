"""All settings in one table, and what walks it: choosing, reasons, checks, advice."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING, Literal

from eager_kestrel.core.choice.limits import rate_control
from eager_kestrel.core.codecs import least_level
from eager_kestrel.core.settings import b_frames, buffer
from eager_kestrel.core.settings.audio import AUDIO
from eager_kestrel.core.settings.b_frames import B_FRAMES
from eager_kestrel.core.settings.bitrate import BITRATE, sent_kbps
from eager_kestrel.core.settings.buffer import BUFFER
from eager_kestrel.core.settings.colour import COLOUR
from eager_kestrel.core.settings.frame_rate import FRAME_RATE
from eager_kestrel.core.settings.keyframes import KEYFRAMES, keyframe_frames, keyframe_seconds
from eager_kestrel.core.settings.level import LEVEL
from eager_kestrel.core.settings.preset import PRESET
from eager_kestrel.core.settings.profile import PROFILE
from eager_kestrel.core.settings.rate_control import RATE_CONTROL
from eager_kestrel.core.settings.resolution import RESIZE, RESOLUTION
from eager_kestrel.core.settings.setting import (
    PICTURE,
    Finding,
    Held,
    Reason,
    RuleResult,
    Rules,
    Setting,
    Why,
)
from eager_kestrel.core.settings.transport import TRANSPORT
from eager_kestrel.core.settings.values import Settings, VideoSettings
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import kbit

if TYPE_CHECKING:
    from eager_kestrel.core.choice.candidates_table import CandidatesTable
    from eager_kestrel.core.choice.scored import ScoredCandidates
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording

SETTINGS: tuple[Setting, ...] = (
    BITRATE,
    RESOLUTION,
    FRAME_RATE,
    KEYFRAMES,
    RATE_CONTROL,
    PROFILE,
    LEVEL,
    BUFFER,
    B_FRAMES,
    PRESET,
    COLOUR,
    AUDIO,
    TRANSPORT,
)
"""In the order people read them. What depends on another comes after it."""
EXPLAINED = (BITRATE.name, RESOLUTION.name, FRAME_RATE.name)
"""The joint choice: where it passes a recommendation over, its reasons say why."""


def video_settings(
    guide: Guide, table: CandidatesTable, scored: ScoredCandidates, index: int
) -> VideoSettings:
    """The full video settings of one scored candidate."""
    chosen, kbps = scored.candidates[index], float(scored.kbps[index])
    rules, codec, rate, show = guide.video, table.codec, chosen.frame_rate, table.show
    control, profile = rate_control(guide), rules.profiles_of(codec)[0]
    level = least_level(codec, chosen.resolution, rate, profile, kbps)
    return VideoSettings(
        codec=codec,
        resolution=chosen.resolution,
        frame_rate=rate,
        bitrate_kbps=float(scored.target_kbps[index]),
        peak_kbps=kbps if control == "variable" else None,
        rate_control=control,
        buffer_kbit=buffer.chosen_kbit(kbps, level, profile),
        keyframe_seconds=keyframe_seconds(guide),
        keyframe_frames=keyframe_frames(guide, rate),
        profile=profile,
        level=level.name,
        b_frames=b_frames.chosen(guide, profile),
        preset=show.machine.preset(codec, chosen.resolution.pixels * float(rate)),
        pixel_format=rules.pixel_formats[0],
        colour=rules.colour,
        colour_range=rules.colour_range,
        square=None if show.picture == show.source else show.picture,
        resize=None if chosen.resolution == show.picture == show.source else RESIZE[show.motion],
        deinterlace=_deinterlace(show, rate),
    )


def _deinterlace(show: Show, rate: Fraction) -> Literal["field", "frame"] | None:
    """Of what each frame that is sent is made."""
    if not show.interlaced:
        return None
    return "field" if rate == show.source_fps else "frame"


KEYS = {setting.name: setting.keys for setting in SETTINGS}


def _is_unverified(guide: Guide, reason: Reason) -> bool:
    """Whether a setting is limited by something of the guide that nobody has confirmed."""
    keys = KEYS.get(reason.setting, ())
    return reason.limited_by == "guide" and any(map(guide.guesses, keys))


def reasons_of(why: Why) -> tuple[Reason, ...]:
    """Why each setting is what it is; what rests on an unverified rule says so."""
    return tuple(
        reason.model_copy(update={"text": words.a_guess(reason.text, why.guide.title)})
        if _is_unverified(why.guide, reason)
        else reason
        for setting in SETTINGS
        for reason in setting.reasons(why)
    )


def unverified(guide: Guide, reasons: Iterable[Reason]) -> tuple[str, ...]:
    """The settings that are limited by an unverified rule of the guide."""
    return tuple(reason.setting for reason in reasons if _is_unverified(guide, reason))


def judged(held: Held, guide: Guide) -> Rules:
    """Every rule of one guide, its tier applied, that what is held says something of.

    A rule nobody looked up breaks nothing.
    """
    for setting in SETTINGS:
        for rule in setting.rules:
            for result in rule.check(held, guide):
                wanted, severity = result.wanted, result.severity
                if severity == "breach" and guide.guesses(result.rule):
                    wanted, severity = f"{wanted} (unverified in the guide)", "caution"
                yield result._replace(
                    severity=severity, wanted=wanted, setting=setting.name, fields=rule.fields
                )


def against_guide(
    settings: Settings, guide: Guide, recording: Recording | None = None
) -> list[Finding]:
    """Every rule of one guide as findings."""
    results = judged(Held(settings, recording), guide)
    return [finding(result, guide.name, guide.tier) for result in results]


def against_any(recording: Recording) -> Iterator[Finding]:
    """What is unwise on any platform."""
    for setting in SETTINGS:
        for result in setting.always(recording):
            yield finding(result._replace(setting=setting.name), "any")


def against_upload(
    pairs: Sequence[tuple[Settings, Guide]], safe_kbps: float | None
) -> tuple[Finding, ...]:
    """Everything sent to all of them against what may be sent; nothing where either is unknown."""
    together = sum(sent_kbps(settings, guide) or 0.0 for settings, guide in pairs)
    if safe_kbps is None or together <= 0:
        return ()
    fits = together <= safe_kbps + 0.01
    found, wanted = f"total {kbit(together)}", f"at most {kbit(safe_kbps)}"
    result = RuleResult("safe rate", "fine" if fits else "breach", found, wanted, fields=PICTURE)
    return (finding(result, "upload"),)


def finding(result: RuleResult, platform: str, tier: str | None = None) -> Finding:
    """A result as a finding of a platform."""
    return Finding(
        platform=platform,
        tier=tier,
        setting=result.setting,
        rule=result.rule,
        severity=result.severity,
        found=str(result.found),
        wanted=str(result.wanted),
        fields=result.fields,
        what_to_do=result.do,
    )
