"""Rate control: constant bitrate where it is taken, unless the platform would rather have it vary.

:func:`eager_kestrel.core.choice.limits.rate_control` chooses it, since candidates depend on it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.settings import setting

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.values import Settings


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    control = found.settings.video.rate_control
    if control is not None:
        taken, wish = guide.video.rate_control, guide.video.recommended.rate_control
        yield setting.one_of("video.rate_control", control, taken)
        yield from setting.recommended("video.recommended.rate_control", control, wish, taken)


RULED = setting.Because("rate_control", "guide", "what {platform:verb|ask} for")
PREFERRED = setting.Because(
    "rate_control",
    "budget",
    "{platform:verb|prefer} it: {target_kbps:kbit} on average, and the upload has room for the "
    "peak of {peak_kbps:kbit}",
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    video, platform = why.video, why.guide.title
    if video.peak_kbps is None:
        yield RULED(video.rate_control, platform=platform)
    else:
        figures = {"target_kbps": video.bitrate_kbps, "peak_kbps": video.peak_kbps}
        yield PREFERRED(video.rate_control, platform=platform, **figures)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    rules = [guide.video for guide in guides]
    wishes = [rule.recommended.rate_control for rule in rules]
    own = settings.video.rate_control
    return settings.with_video(
        rate_control=setting.nearest(own, [r.rate_control for r in rules], wishes)
    )


RATE_CONTROL = setting.Setting(
    name="rate_control",
    keys=("video.rate_control",),
    rules=(setting.Rule(_rule, ("video.rate_control", *setting.PICTURE)),),
    reasons=_reasons,
    instead=_instead,
)
