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
CARD: Final = {
    "transport": ("transport", "transport "),
    "video.codec": ("codec", ""),
    "video.profile": ("profile", "profile "),
    "video.resolution": ("resolution", ""),
    "video.frame_rate": ("frame rate", ""),
    "source_fps": ("source", ""),
    "video.rate_control": ("rate control", ""),
    "video.bitrate": ("video bitrate", ""),
    "video.peak": ("peak", "a peak of "),
    "video.buffer_kbit": ("buffer", "a buffer of "),
    "video.keyframes": ("keyframes", "keyframes "),
    "video.level": ("level", "level "),
    "video.b_frames": ("B-frames", ""),
    "video.pixel_format": ("pixel format", ""),
    "video.colour": ("colour", "colour "),
    "video.colour_range": ("colour range", ""),
    "audio.codec": ("audio codec", ""),
    "audio.bitrate": ("audio", "audio at "),
    "audio.sample_rate_hz": ("sample rate", ""),
    "audio.channels": ("channels", ""),
}
"""What stands before a setting on a card, and what its text need not say again."""
set_for = Sentence("Set for {whom}")
in_frames = Sentence(" ({count:count|frame})")
set_these = Sentence("set {what:list}")
explained = Sentence("{wanted}; the plan says why not")
UNMET: Final = "no settings meet this and everything else: see the limits beside it"


def on_a_card(key: str, text: str) -> tuple[str, str]:
    """A change in words as a row of a card."""
    name, known = CARD[key]
    return name, text.removeprefix(known)


def said(key: str, value: Any) -> str:
    """One value as it stands behind "set"."""
    return filled(SET[key], {"it": value})
