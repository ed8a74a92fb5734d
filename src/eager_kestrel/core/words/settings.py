"""What to set, in words."""

from __future__ import annotations

from typing import Any, Final

from eager_kestrel.core.words.numbers import Sentence, filled

SET: Final = {
    "transport": "transport {it}",
    "video.codec": "{it}",
    "video.profile": "profile {it}",
    "video.resolution": "{it}",
    "video.frame_rate": "{it:fps} fps",
    "source_fps": "{it:fps} fps at the source",
    "video.rate_control": "{it} bitrate",
    "video.bitrate": "{it.kbps:kbit}",
    "video.peak": "a peak of {it.kbps:kbit}",
    "video.buffer_kbit": "a buffer of {it:,.0f} kbit",
    "video.keyframes": "keyframes every {it}",
    "video.level": "level {it}",
    "video.b_frames": "{it:count|B-frame}",
    "video.pixel_format": "{it}",
    "video.colour": "colour {it}",
    "video.colour_range": "{it} range",
    "audio.codec": "{it} audio",
    "audio.bitrate": "audio at {it.kbps:kbit}",
    "audio.sample_rate_hz": "{it:,} Hz",
    "audio.channels": "{it:count|audio channel}",
}
"""By the key of a settings file."""
in_frames = Sentence(" ({count:count|frame})")
set_these = Sentence("set {what:list}")
set_together = Sentence("all of it for {whom}: set {what:list}")
explained = Sentence("{wanted}; the plan says why not")
UNMET: Final = "no settings meet this and everything else: see the limits beside it"


def said(key: str, value: Any) -> str:
    """One value as it stands behind "set"."""
    return filled(SET[key], {"it": value})
