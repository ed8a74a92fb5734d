"""Colour: pixel format, primaries, transfer and matrix, and range as the platform reads them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.settings.setting import (
    Because,
    Guides,
    Held,
    Reason,
    Rule,
    Rules,
    Setting,
    Why,
    nearest,
    one_of,
    recommended,
)

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.values import Settings


def _pixel_format(found: Held, guide: Guide) -> Rules:
    if (pixel_format := found.settings.video.pixel_format) is not None:
        yield one_of("video.pixel_formats", pixel_format, guide.video.pixel_formats)


def _primaries(found: Held, guide: Guide) -> Rules:
    if (colour := found.settings.video.colour) is not None:
        yield from recommended("video.colour", colour, guide.video.colour)


def _range(found: Held, guide: Guide) -> Rules:
    if (colour_range := found.settings.video.colour_range) is not None:
        yield from recommended("video.colour_range", colour_range, guide.video.colour_range)


READ = Because("colour", "guide", "what {platform:verb|read}; anything else shifts the colours")


def _reasons(why: Why) -> Iterator[Reason]:
    value = f"{why.video.pixel_format}, {why.video.colour}, {why.video.colour_range} range"
    yield READ(value, platform=why.guide.title)


def _instead(settings: Settings, guides: Guides, _: float) -> Settings:
    video, rules = settings.video, [guide.video for guide in guides]
    return settings.with_video(
        pixel_format=nearest(video.pixel_format, [r.pixel_formats for r in rules]),
        colour=nearest(video.colour, [(r.colour,) for r in rules]),
        colour_range=nearest(video.colour_range, [(r.colour_range,) for r in rules]),
    )


COLOUR = Setting(
    name="colour",
    keys=("video.pixel_formats", "video.colour", "video.colour_range"),
    rules=(
        Rule(_pixel_format, ("video.pixel_format",)),
        Rule(_primaries, ("video.colour",)),
        Rule(_range, ("video.colour_range",)),
    ),
    reasons=_reasons,
    instead=_instead,
)
