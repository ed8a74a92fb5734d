"""Colour: pixel format, primaries, transfer and matrix, and range as the platform reads them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.settings import setting

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.values import Settings


def _pixel_format(found: setting.Held, guide: Guide) -> setting.Rules:
    if (pixel_format := found.settings.video.pixel_format) is not None:
        yield setting.one_of("video.pixel_formats", pixel_format, guide.video.pixel_formats)


def _primaries(found: setting.Held, guide: Guide) -> setting.Rules:
    if (colour := found.settings.video.colour) is not None:
        yield from setting.recommended("video.colour", colour, guide.video.colour)


def _range(found: setting.Held, guide: Guide) -> setting.Rules:
    if (colour_range := found.settings.video.colour_range) is not None:
        yield from setting.recommended("video.colour_range", colour_range, guide.video.colour_range)


READ = setting.Because(
    "colour", "guide", "what {platform:verb|read}; anything else shifts the colours"
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    value = f"{why.video.pixel_format}, {why.video.colour}, {why.video.colour_range} range"
    yield READ(value, platform=why.guide.title)


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    video, rules = settings.video, [guide.video for guide in guides]
    return settings.with_video(
        pixel_format=setting.nearest(video.pixel_format, [r.pixel_formats for r in rules]),
        colour=setting.nearest(video.colour, [(r.colour,) for r in rules]),
        colour_range=setting.nearest(video.colour_range, [(r.colour_range,) for r in rules]),
    )


COLOUR = setting.Setting(
    name="colour",
    term="pixel format",
    keys=("video.pixel_formats", "video.colour", "video.colour_range"),
    rules=(
        setting.Rule(_pixel_format, ("video.pixel_format",)),
        setting.Rule(_primaries, ("video.colour",)),
        setting.Rule(_range, ("video.colour_range",)),
    ),
    reasons=_reasons,
    instead=_instead,
)
