"""Buffer: one second of video, and never more than the level holds."""

from __future__ import annotations

from collections.abc import Iterator
from math import inf
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS, Level, level_rank
from eager_kestrel.core.settings import setting
from eager_kestrel.core.settings.bitrate import BUFFER_SECONDS

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.settings.values import Settings

LONG_SECONDS, SHORT_SECONDS = 2.0, 0.5


def chosen_kbit(max_kbps: float, level: Level, profile: str) -> float:
    """The buffer of a plan."""
    return min(max_kbps * BUFFER_SECONDS, level.buffer_kbit(profile))


def _of_level(settings: Settings, guide: Guide) -> float:
    """The most that the level that is set holds; endless where none is."""
    codec, level = settings.codec_for(guide), settings.video.level
    rank = None if level is None else level_rank(codec, level)
    profile = settings.profile_for(guide)
    return inf if rank is None else CODECS[codec].levels[rank].buffer_kbit(profile)


def _sound(kbit: float, kbps: float) -> bool:
    return SHORT_SECONDS * kbps <= kbit <= LONG_SECONDS * kbps


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    """In seconds of video, and by the level."""
    video = found.settings.video
    if video.buffer_kbit is None or video.bitrate is None:
        return
    kbit, kbps, most = video.buffer_kbit, video.bitrate.kbps, _of_level(found.settings, guide)
    if kbit > most:
        wanted = f"at most {most:,.0f} kbit at level {video.level}"
        yield setting.held("buffer", False, f"{kbit:,.0f} kbit", wanted)
        return
    wanted = f"{SHORT_SECONDS:g} to {LONG_SECONDS:g} s of video"
    shown = f"{kbit:,.0f} kbit = {kbit / kbps:.2g} s"
    yield setting.held("buffer", _sound(kbit, kbps), shown, wanted, worse="caution")


def _always(recording: Recording) -> setting.Rules:
    kbit = recording.video.buffer_needed_kbit
    seconds = kbit / max(recording.video.average_kbps, 1)
    yield setting.held(
        "buffer needed",
        seconds <= LONG_SECONDS,
        f"{kbit:,.0f} kbit = {seconds:.2g} s",
        f"at most {LONG_SECONDS:g} s",
        worse="caution",
        do="set a smaller buffer, or constant bitrate",
    )


OF_LEVEL = setting.Because("buffer", "level", "the most level {level} allows")
A_SECOND = setting.Because(
    "buffer", "budget", "one second of video, so that no burst exceeds the upload"
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    video = why.video
    full = video.buffer_kbit >= video.max_kbps * BUFFER_SECONDS
    yield (A_SECOND if full else OF_LEVEL)(f"{video.buffer_kbit:,.0f} kbit", level=video.level)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    kbit, rate = settings.video.buffer_kbit, settings.video.bitrate or settings.video.most
    if kbit is None or rate is None:
        return settings
    most = _of_level(settings, guides[0])
    fits = _sound(kbit, rate.kbps) and kbit <= most
    return settings.with_video(buffer_kbit=kbit if fits else min(rate.kbps, most))


BUFFER = setting.Setting(
    name="buffer",
    rules=(setting.Rule(_rule),),
    always=_always,
    reasons=_reasons,
    instead=_instead,
    follows=True,
)
