"""Codec and profile: what the platform recommends, else what packs best of what it takes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.settings import setting

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.settings.values import Settings


def _codec(found: setting.Held, guide: Guide) -> setting.Rules:
    rules, video, wish = guide.video, found.settings.video, guide.video.recommended
    if video.codec is not None:
        yield setting.one_of("video.codecs", video.codec, rules.codecs)
        yield from setting.recommended(
            "video.recommended.codec", video.codec, wish.codec, rules.codecs
        )
    elif found.recording is not None and found.recording.video.codec not in CODECS:
        taken, do = " or ".join(rules.codecs), f"set {rules.codecs[0]}"
        yield setting.held("video.codecs", False, found.recording.video.codec, taken, do=do)


def _profile(found: setting.Held, guide: Guide) -> setting.Rules:
    """Without a codec, by the one the guide would have."""
    rules, profile, codec = (
        guide.video,
        found.settings.video.profile,
        found.settings.codec_for(guide),
    )
    if profile is not None and codec in rules.codecs:
        wish, taken = rules.recommended.profile, rules.profiles_of(codec)
        yield setting.one_of(f"video.profiles.{codec}", profile, taken)
        yield from setting.recommended("video.recommended.profile", profile, wish, taken)


def _always(recording: Recording) -> setting.Rules:
    if recording.decoded is not None:
        damaged = recording.decoded.damaged
        shown = f"{recording.decoded.frames} decoded, {damaged} damaged"
        do = "look for errors on the way"
        yield setting.held("frames decoded", not damaged, shown, "none damaged", do=do)


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    seen, video = recording.video, planned.video
    yield setting.held(
        "codec", seen.codec == video.codec, seen.codec, video.codec, do=f"set {video.codec}"
    )
    if seen.profile is not None:
        same, do = seen.profile == video.profile, f"set {video.profile}"
        yield setting.held("profile", same, seen.profile, video.profile, worse="caution", do=do)


RECOMMENDED = setting.Because("profile", "guide", "what {platform:verb|recommend}")
EFFICIENT = setting.Because("profile", "guide", "the most efficient of those {platform:verb|take}")


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    wished = why.guide.video.recommended.profile == why.video.profile
    yield (RECOMMENDED if wished else EFFICIENT)(why.video.profile, platform=why.guide.title)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    rules, video = [guide.video for guide in guides], settings.video
    wishes = [rule.recommended for rule in rules]
    codec = setting.nearest(video.codec, [r.codecs for r in rules], [w.codec for w in wishes])
    profiles = [rule.profiles_of(codec or guides[0].codec()) for rule in rules]
    profile = setting.nearest(video.profile, profiles, [wish.profile for wish in wishes])
    return settings.with_video(codec=codec, profile=profile)


PROFILE = setting.Setting(
    name="profile",
    keys=("video.codecs", "video.profiles"),
    rules=(
        setting.Rule(_codec, ("video.codec", "video.profile")),
        setting.Rule(_profile, ("video.profile",)),
    ),
    always=_always,
    as_planned=_as_planned,
    reasons=_reasons,
    instead=_instead,
)
