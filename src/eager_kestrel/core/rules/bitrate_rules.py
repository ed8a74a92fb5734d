"""Rules on how much may be sent: bitrate, buffer, level, viewers."""

from __future__ import annotations

from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS, least_level, level_rank
from eager_kestrel.core.errors import NoPlanError
from eager_kestrel.core.guide.rules import RungLimits
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.rules.finding import RuleResult, Rules, Severity
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.rules.settings import Settings


LONG_BUFFER_SECONDS = 2.0


SHORT_BUFFER_SECONDS = 0.5


FAR_FROM_RECOMMENDED = 0.25


def sound_buffer(kbit: float, kbps: float) -> bool:
    """Whether an encoder's buffer is neither too short nor too long for a bitrate."""
    return SHORT_BUFFER_SECONDS * kbps <= kbit <= LONG_BUFFER_SECONDS * kbps


def sent_kbps(settings: Settings, guide: Guide) -> float | None:
    """Video, audio and transport overhead together; None when the bitrate is not known."""
    video, audio = settings.video, settings.audio
    rate = video.peak or video.bitrate
    if rate is None:
        return None
    extra = overhead(
        settings.transport or guide.transports[0],
        video.frame_rate or Fraction(60),
        audio.sample_rate_hz or 48_000,
    )
    return extra.total_kbps(rate.kbps, audio.bitrate.kbps if audio.bitrate else 0.0)


def bitrate(settings: Settings, guide: Guide) -> Rules:
    """Floor, ceiling and recommended value of the bitrate."""
    video = settings.video
    rate = video.peak or video.bitrate
    if rate is None:
        return
    limits = limits_of(settings, guide)
    ceiling = limits.ceiling or guide.video.ceiling
    yield RuleResult(
        "video.ceiling",
        "fine" if rate <= ceiling else "breach",
        rate.in_kbps(),
        f"at most {ceiling.in_kbps()}",
    )
    floor = limits.floor
    target = video.bitrate or rate
    if floor is not None:
        yield RuleResult(
            "video.floor",
            "fine" if target >= floor else "breach",
            target.in_kbps(),
            f"at least {floor.in_kbps()}",
        )
    recommended = limits.recommended
    if recommended is not None:
        near = abs(target.kbps / recommended.kbps - 1) <= FAR_FROM_RECOMMENDED
        yield RuleResult(
            "rungs.recommended",
            "fine" if near else "caution",
            target.in_kbps(),
            f"about {recommended.in_kbps()}",
        )


def limits_of(settings: Settings, guide: Guide) -> RungLimits:
    """Return floor and ceiling of what is set; of an unknown resolution or rate the widest ones."""
    video = settings.video
    codec, transport = video.codec or guide.codec(), settings.transport or guide.transports[0]
    resolutions = (
        [video.resolution]
        if video.resolution is not None
        else [
            guide.video.largest,
            *guide.video.resolutions,
            *(rung.resolution for rung in guide.rungs),
        ]
    )
    rates = (
        [video.frame_rate]
        if video.frame_rate is not None
        else [*guide.video.taken_rates, *(rung.frame_rate for rung in guide.rungs)]
    )
    table = guide.rung_table(codec, transport)
    found = [guide.within_rules(table.limits(p, r)) for p in resolutions for r in rates]
    if len(found) == 1:
        return found[0]
    floors = [limits.floor for limits in found]
    return RungLimits(
        floor=None if None in floors else min(floor for floor in floors if floor),
        ceiling=max((limits.ceiling for limits in found if limits.ceiling), default=None),
    )


def buffer(settings: Settings, guide: Guide) -> Rules:
    """Of the encoder, in seconds of video and by the level."""
    video = settings.video
    if video.buffer_kbit is None or video.bitrate is None:
        return
    seconds = video.buffer_kbit / video.bitrate.kbps
    sound = sound_buffer(video.buffer_kbit, video.bitrate.kbps)
    codec = video.codec or guide.codec()
    profile = video.profile or guide.video.profiles_of(codec)[0]
    wanted = f"{SHORT_BUFFER_SECONDS:g} to {LONG_BUFFER_SECONDS:g} s of video"
    rank = level_rank(codec, video.level) if video.level is not None else None
    if rank is not None and video.buffer_kbit > CODECS[codec].levels[rank].buffer_kbit(profile):
        most = CODECS[codec].levels[rank].buffer_kbit(profile)
        yield RuleResult(
            "buffer",
            "breach",
            f"{video.buffer_kbit:,.0f} kbit",
            f"at most {most:,.0f} kbit at level {video.level}",
        )
        return
    yield RuleResult(
        "buffer",
        "fine" if sound else "caution",
        f"{video.buffer_kbit:,.0f} kbit = {seconds:.2g} s",
        wanted,
    )


def level(settings: Settings, guide: Guide) -> Rules:
    """Whether it holds the stream, and whether the platform takes it."""
    video = settings.video
    codec = video.codec or guide.codec()
    if video.level is None:
        return
    rank = level_rank(codec, video.level)
    if rank is None:
        yield RuleResult("level", "breach", video.level, f"a level of {codec}")
        return
    highest = guide.video.highest_level.get(codec)
    top = None if highest is None else level_rank(codec, highest)
    if top is not None:
        yield RuleResult(
            "video.highest_level",
            "fine" if rank <= top else "breach",
            video.level,
            f"at most {highest}",
        )
    if video.resolution is None or video.frame_rate is None:
        return
    profile = video.profile or guide.video.profiles_of(codec)[0]
    rate = video.peak or video.bitrate
    try:
        least = least_level(
            codec, video.resolution, video.frame_rate, profile, rate.kbps if rate else 0.0
        )
    except NoPlanError:
        yield RuleResult("level", "breach", video.level, "a level that holds it")
        return
    needed = level_rank(codec, least.name)
    assert needed is not None
    yield RuleResult(
        "level",
        "fine" if rank >= needed else "breach",
        video.level,
        f"{least.name} or higher",
    )


def viewers(settings: Settings, guide: Guide) -> Rules:
    """Everything sent against the slowest viewers."""
    slowest, total = guide.delivery.slowest_viewer, sent_kbps(settings, guide)
    if slowest is None or total is None or guide.delivery.transcodes == "always":
        return
    never = guide.delivery.transcodes == "never"
    bad: Severity = "breach" if never else "caution"
    yield RuleResult(
        "delivery.slowest_viewer",
        "fine" if total <= slowest.kbps else bad,
        f"total {Bitrate.from_kbps(total).in_kbps()}",
        f"at most {slowest.in_kbps()}, which viewers can take",
    )
