"""B-frames: as many in a row as pay, and no more than are taken."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.settings import setting

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.settings.values import Settings

MOST = 2
"""More costs delay and buys little at live bitrates."""


def taken(guide: Guide, profile: str | None) -> int:
    """The most that a profile of a guide may have in a row: the baseline profile knows none."""
    return 0 if profile == "baseline" else guide.video.max_b_frames


def chosen(guide: Guide, profile: str) -> int:
    """The recommended number, else as many as pay."""
    wish = guide.video.recommended.b_frames
    return min(taken(guide, profile), MOST if wish is None else wish)


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    count = found.settings.video.b_frames
    if count is not None:
        most = taken(guide, found.settings.video.profile)
        yield setting.held("video.max_b_frames", count <= most, count, f"at most {most}")
        wish = guide.video.recommended.b_frames
        yield from setting.recommended("video.recommended.b_frames", count, wish, range(most + 1))


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    count, most = recording.video.b_frames, planned.video.b_frames
    wanted = f"{most} at most"
    yield setting.held("b_frames", count <= most, f"{count} in a row", wanted, do=f"set {most}")


RECOMMENDED = setting.Because("b_frames", "guide", "what {platform:verb|recommend}")
THE_MOST = setting.Because("b_frames", "guide", "the most {platform:verb|take}")
ENOUGH = setting.Because(
    "b_frames", "no visible gain", "more would add delay and little quality at live bitrates"
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    count, rules = why.video.b_frames, why.guide.video
    kind = THE_MOST if count in (0, rules.max_b_frames) else ENOUGH
    if rules.recommended.b_frames == count:
        kind = RECOMMENDED
    yield kind(count, platform=why.guide.title)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    video = settings.video
    most = min(taken(guide, video.profile) for guide in guides)
    own = None if video.b_frames is None else min(video.b_frames, most)
    wishes = [guide.video.recommended.b_frames for guide in guides]
    return settings.with_video(b_frames=setting.nearest(own, [range(most + 1)], wishes))


B_FRAMES = setting.Setting(
    name="b_frames",
    term="b-frames",
    keys=("video.max_b_frames",),
    rules=(setting.Rule(_rule, ("video.b_frames",)),),
    as_planned=_as_planned,
    reasons=_reasons,
    instead=_instead,
)
