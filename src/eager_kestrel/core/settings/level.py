"""Level: the lowest of the codec's standard that fits resolution, frame rate and bitrate."""

from __future__ import annotations

from collections.abc import Iterator
from math import inf
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS, Level, least_level, level_rank
from eager_kestrel.core.errors import NoPlanError
from eager_kestrel.core.settings import setting

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.values import Settings


def needed(settings: Settings, guide: Guide) -> int | None:
    """The rank of the lowest level that holds what is set, its bitrate at least.

    Returns:
        None if no level holds it.
    """
    video, codec = settings.video, settings.codec_for(guide)
    kbps, profile = video.most.kbps if video.most else 0.0, settings.profile_for(guide)
    if video.resolution is None or video.frame_rate is None:
        levels = enumerate(CODECS[codec].levels)
        return next((n for n, each in levels if kbps <= each.bitrate_kbps(profile)), None)
    try:
        fits = least_level(codec, video.resolution, video.frame_rate, profile, kbps)
    except NoPlanError:
        return None
    return CODECS[codec].levels.index(fits)


def allowed(settings: Settings, guides: setting.Guides) -> list[Level]:
    """Levels that all guides take of the codec, lowest first."""
    codec = settings.codec_for(guides[0])
    highest = [guide.video.max_level.get(codec) for guide in guides]
    ranks = [level_rank(codec, level) for level in highest if level is not None]
    top = min((rank for rank in ranks if rank is not None), default=None)
    return list(CODECS[codec].levels[: None if top is None else top + 1])


def level_kbps(settings: Settings, guides: setting.Guides) -> float:
    """The most that any level gives the resolution and frame rate, where a level is set."""
    video = settings.video
    if video.level is None or video.resolution is None or video.frame_rate is None:
        return inf
    profile = settings.profile_for(guides[0])
    fitting = (
        level.bitrate_kbps(profile)
        for level in allowed(settings, guides)
        if level.takes(video.resolution, video.frame_rate)
    )
    return max(fitting, default=0.0)


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    """Whether it holds the stream, and whether the platform takes it."""
    settings, level = found.settings, found.settings.video.level
    codec = settings.codec_for(guide)
    if level is None:
        return
    rank = level_rank(codec, level)
    if rank is None:
        yield setting.held("level", False, level, f"a level of {codec}")
        return
    highest = guide.video.max_level.get(codec)
    top = None if highest is None else level_rank(codec, highest)
    if top is not None:
        yield setting.held("video.max_level", rank <= top, level, f"at most {highest}")
    if settings.video.resolution is None or settings.video.frame_rate is None:
        return
    least = needed(settings, guide)
    wanted = "a level that holds it"
    if least is not None:
        wanted = f"{CODECS[codec].levels[least].name} or higher"
    yield setting.held("level", least is not None and rank >= least, level, wanted)


NEEDED = setting.Because("level", "level", "lowest {table}")


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    codec = why.video.codec
    yield NEEDED(why.video.level, codec=codec, table=CODECS[codec].level_table)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    """The level that is set where it is high enough and taken, else the lowest that holds it."""
    level, codec = settings.video.level, settings.codec_for(guides[0])
    least = needed(settings, guides[0])
    if level is None or least is None:
        return settings
    names = [each.name for each in allowed(settings, guides)]
    own = level_rank(codec, level)
    if own is None or not least <= own < len(names):
        level = names[min(least, len(names) - 1)]
    return settings.with_video(level=level)


LEVEL = setting.Setting(
    name="level",
    keys=("video.max_level",),
    rules=(setting.Rule(_rule),),
    reasons=_reasons,
    instead=_instead,
    follows=True,
)
