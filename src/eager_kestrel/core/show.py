"""A show: what is streamed and under which conditions. Places it goes to are destinations."""

from __future__ import annotations

from pydantic import Field

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.quality import Motion
from eager_kestrel.core.quantities import FrameRate, PictureSize, Rate, Share

SAFE_SHARE = 0.70
"""People keep between a fifth and a half in hand; docs/decisions/0004-safe-share.md."""


class Reserve(Frozen):
    """Upload kept back for something named."""

    name: str
    rate: Rate


class Destination(Frozen):
    """One platform the show goes to."""

    platform: str
    standing: str | None = None
    codec: str | None = None
    """Left out: H.264 where it is taken, since it encodes and plays everywhere."""


class Show(Frozen):
    """What is streamed, and what else the line and the planner have to respect."""

    format: str = format_name("show")
    title: str = ""
    source: PictureSize
    frame_rate: FrameRate
    motion: Motion
    reserves: tuple[Reserve, ...] = ()
    safe_share: Share = Field(default=SAFE_SHARE, gt=0, le=1)
    destinations: tuple[Destination, ...] = Field(min_length=1)
