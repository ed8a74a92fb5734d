"""Guideline pages of made-up platforms, none like another, and what each proposes.

Of each of ``PAGES``, whose texts are in ``tables``: what a person sets, how many bitrates come of it,
and what stands in the guide by dotted key (``bitrates.0.max``). ``SENTENCES`` give what one line
proposes by key, those with a doubt behind a question mark; an empty dict where it proposes nothing.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any


def text_of(name: str) -> str:
    return (Path(__file__).parent / "tables" / name).read_text(encoding="utf-8")


PAGES: dict[str, tuple[tuple[str, ...], int, dict[str, Any]]] = {
    "larch.md": (
        (),
        2,
        {
            "bitrates.0.resolution": "1920x1080",
            "bitrates.0.recommended": "6000 kbit/s",
            "bitrates.0.max": "8000 kbit/s",
            "video.keyframes": "2 s",
            "video.rate_control": ["constant"],
            "video.profiles": {"h264": ["high"]},
            "audio.max_bitrate": "160 kbit/s",
            "audio.channels": [2],
            "audio.sample_rates": [48000],
            "transports": ["rtmps", "rtmp"],
        },
    ),
    "bytes.csv": (
        (),
        2,
        {"bitrates.0.max": "6000 kbit/s", "bitrates.1.max": "4000 kbit/s"},
    ),
    "thousands.tsv": (
        (),
        2,
        {"bitrates.0.max": "51000 kbit/s", "bitrates.1.max": "9000 kbit/s"},
    ),
    "frames.csv": (
        (),
        2,
        {"video.keyframes": "2 s"},
    ),
    "at-most.html": (
        (),
        2,
        {
            "video.keyframes.max": "4 s",
            "video.max_frame_rate": "30",
            "bitrates.0.max": "4500 kbit/s",
        },
    ),
    "spans.html": (
        (),
        3,
        {
            "bitrates.0.min": "4500 kbit/s",
            "bitrates.0.max": "9000 kbit/s",
            "bitrates.1.min": "3000 kbit/s",
            "bitrates.1.resolution": "1920x1080",
            "bitrates.1.frame_rate": "30",
            "bitrates.2.min": "1500 kbit/s",
        },
    ),
    "two-rates.md": (
        (),
        4,
        {
            "bitrates.0.frame_rate": "30",
            "bitrates.0.max": "6000 kbit/s",
            "bitrates.1.frame_rate": "60",
            "bitrates.1.min": "4500 kbit/s",
        },
    ),
    "turned.html": (
        (),
        3,
        {
            "bitrates.0.min": "4000 kbit/s",
            "bitrates.2.max": "1500 kbit/s",
            "bitrates.2.frame_rate": "30",
        },
    ),
    "by-codec.html": (
        (),
        4,
        {
            "video.codecs": ["h264", "hevc"],
            "bitrates.0.codec": "h264",
            "bitrates.2.codec": "hevc",
            "bitrates.2.max": "6000 kbit/s",
            "video.max_bitrate": "9000 kbit/s",
        },
    ),
    "by-standing.html": (
        (),
        1,
        {
            "video.max_bitrate": "6000 kbit/s",
            "tiers.hearth.video.max_bitrate": "8500 kbit/s",
            "bitrates.0.max": "6000 kbit/s",
        },
    ),
    "standing-column.csv": (
        (),
        1,
        {"bitrates.0.max": "4000 kbit/s", "tiers.gold-leaf.video.max_bitrate": "7000 kbit/s"},
    ),
    "mixed-units.md": (
        (),
        2,
        {
            "bitrates.0.min": "4500 kbit/s",
            "bitrates.0.max": "9000 kbit/s",
            "bitrates.1.min": "2500 kbit/s",
        },
    ),
    "either-rate.csv": (
        (),
        2,
        {
            "bitrates.0.frame_rate": "60",
            "bitrates.0.recommended": "6000 kbit/s",
            "bitrates.0.max": "8000 kbit/s",
        },
    ),
    "no-rate.md": (
        (),
        2,
        {"bitrates.0.frame_rate": "50", "video.max_frame_rate": "50"},
    ),
    "upright.html": (
        (),
        2,
        {
            "bitrates.0.resolution": "720x1280",
            "bitrates.1.resolution": "540x960",
            "video.shapes": ["9:16"],
        },
    ),
    "hd.csv": (
        (),
        2,
        {"bitrates.0.resolution": "1600x900", "bitrates.1.resolution": "1920x1080"},
    ),
    "totals.md": (
        (),
        1,
        {"bitrates.0.max": "6000 kbit/s", "audio.max_bitrate": "160 kbit/s"},
    ),
    "lines.txt": (
        (),
        1,
        {
            "video.keyframes": {"max": "4 s", "recommended": "2 s"},
            "video.rate_control": ["constant"],
            "video.max_b_frames": 2,
            "audio.min_bitrate": "96 kbit/s",
            "audio.max_bitrate": "160 kbit/s",
            "audio.sample_rates": [44100, 48000],
            "video.profiles": {"h264": ["high", "main"]},
        },
    ),
    "settings-table.html": (
        (),
        1,
        {
            "video.keyframes": "2 s",
            "video.rate_control": ["constant"],
            "audio.max_bitrate": "128 kbit/s",
            "video.codecs": ["h264"],
        },
    ),
    "prose.html": (
        (),
        1,
        {
            "video.keyframes": {"max": "4 s", "recommended": "2 s"},
            "video.codecs": ["h264"],
            "video.profiles": {"h264": ["high"]},
            "video.max_b_frames": 2,
            "video.rate_control": ["constant"],
            "bitrates.0.frame_rate": "60",
        },
    ),
    "upload.csv": (
        (),
        2,
        {"bitrates.0.max": "6000 kbit/s", "bitrates.1.max": "4000 kbit/s"},
    ),
    "wishes.md": (
        (),
        2,
        {
            "bitrates.0.recommended": "8000 kbit/s",
            "bitrates.1.recommended": "4000 kbit/s",
            "video.max_bitrate": "8000 kbit/s",
        },
    ),
    "with-audio.csv": (
        (),
        1,
        {"bitrates.0.max": "5000 kbit/s", "audio.max_bitrate": "128 kbit/s"},
    ),
    "sections.html": (
        (),
        2,
        {"bitrates.0.codec": "h264", "bitrates.1.codec": "av1", "bitrates.1.max": "5000 kbit/s"},
    ),
    "limits.csv": (
        (),
        2,
        {"bitrates.0.max": "3500 kbit/s", "bitrates.1.max": "2000 kbit/s"},
    ),
    "level.md": (
        (),
        1,
        {"video.max_level": {"h264": "4.1"}, "video.recommended.b_frames": 1},
    ),
    "ntsc.csv": (
        (),
        1,
        {
            "bitrates.0.frame_rate": "29.97",
            "bitrates.0.min": "2000 kbit/s",
            "bitrates.0.max": "4000 kbit/s",
        },
    ),
    "told-unit.csv": (
        (),
        1,
        {"bitrates.0.max": "3000 kbit/s"},
    ),
    "told-cell.md": (
        ("bitrates=1080p at 60: 6 Mbps; 720p at 60: 4 Mbps",),
        2,
        {"bitrates.0.max": "6000 kbit/s"},
    ),
    "told-column.csv": (
        ("table.1=resolution | frame rate | recommended kbit/s | ignore",),
        1,
        {"bitrates.0.recommended": "3000 kbit/s"},
    ),
    "one-line.txt": ((), 0, {"video.max_bitrate": "6000 kbit/s"}),
    "bounds-table.html": (
        (),
        0,
        {
            "video.keyframes": {"min": "1 s", "recommended": "2 s", "max": "4 s"},
            "audio.min_bitrate": "96 kbit/s",
            "audio.max_bitrate": "160 kbit/s",
            "audio.recommended.bitrate": "128 kbit/s",
        },
    ),
    "codec-columns.md": (
        (),
        3,
        {
            "bitrates.0.codec": "h264",
            "bitrates.0.max": "9000 kbit/s",
            "bitrates.2.codec": "av1",
            "bitrates.2.max": "5000 kbit/s",
        },
    ),
    "omitted-tags.html": (
        (),
        2,
        {"bitrates.1.max": "3000 kbit/s", "video.keyframes": "2 s"},
    ),
    "browser.html": (
        (),
        0,
        {
            "video.max_bitrate": "6000 kbit/s",
            "video.keyframes": "2 s",
            "video.max_b_frames": 0,
            "video.max_frame_rate": "60",
        },
    ),
    "comma-decimals.txt": (
        (),
        0,
        {
            "video.max_bitrate": "2500 kbit/s",
            "video.keyframes": {"recommended": "2 s", "max": "4 s"},
        },
    ),
    "servers.txt": (
        (),
        0,
        {
            "servers.0.url": "rtmps://ingest.reedmace.example/live",
            "servers.1.url": "rtmp://ingest.reedmace.example/live",
            "transports": ["rtmps", "rtmp"],
        },
    ),
    "tier-titles.md": (
        (),
        1,
        {"tiers.partner.video.max_bitrate": "8000 kbit/s", "bitrates.0.max": "6000 kbit/s"},
    ),
    "viewers.txt": (
        (),
        0,
        {"delivery.transcodes": "always", "video.max_bitrate": "6000 kbit/s"},
    ),
    "denials.txt": (
        (),
        0,
        {"video.codecs": ["h264"], "audio.channels": [2], "audio.sample_rates": [48000]},
    ),
    "bullets.md": (
        (),
        0,
        {
            "video.profiles": {"h264": ["main", "high"]},
            "video.max_resolution": "1280x720",
            "video.frame_rates": ["25", "50"],
        },
    ),
    "set-by-hand.txt": (
        ("video.max_bitrate=5 Mbit/s", "video.keyframes=at most 4 s"),
        0,
        {"video.max_bitrate": "5000 kbit/s", "video.keyframes": {"max": "4 s"}},
    ),
}

SENTENCES: dict[str, dict[str, str]] = {
    "Maximum bitrate: 6000 kbps": {"video.max_bitrate": "6,000 kbit/s"},
    "A keyframe at least every 2 seconds": {"video.keyframes": "at most 2 s"},
    "Bitrate: not below 1000 kbps": {"video.min_bitrate": "1,000 kbit/s"},
    "Keyframe interval: 2 s (max. 4 s)": {"video.keyframes": "recommended 2 s, at most 4 s"},
    "Keyframe interval: 1-4 s, 2 s recommended": {"video.keyframes": "1 s to 4 s, recommended 2 s"},
    "Keyframes every two seconds": {"video.keyframes": "2 s"},
    "Audio: mono not accepted, stereo only": {"audio.channels": "stereo"},
    "44.1 kHz audio is not supported": {},
    "H.264, AAC 48 kHz": {
        "audio.codecs": "aac",
        "audio.sample_rates": "48 kHz",
        "video.codecs": "h264",
    },
    "60 fps on request": {"video.frame_rates": "? up to 60"},
    "Frame rate: 30 or 60": {"video.frame_rates": "30, 60"},
    "VBR preferred": {"video.rate_control": "constant, variable, recommended variable"},
    "B-frames: none": {"video.max_b_frames": "0"},
    "Do not use B-frames": {"video.max_b_frames": "0"},
    "Recommended bitrate: 4500 kbps": {"video.max_bitrate": "? 4,500 kbit/s"},
    "Your upload speed should be at least 10 Mbps": {},
    "The maximum bitrate is 8 Mbps if you are a partner.": {"video.max_bitrate": "? 8,000 kbit/s"},
    "Keyframes every 120 frames": {"video.keyframes": "? 2 s"},
    "Keyframe interval: 60 frames at 30 fps": {"video.keyframes": "2 s"},
    "Bitrate 6000 KBPS": {"video.max_bitrate": "? 6,000 kbit/s"},
    "Bitrate up to 750 kB/s": {"video.max_bitrate": "6,000 kbit/s"},
    "RTMP is not encrypted; use RTMPS": {"transports": "rtmps"},
    "We do not transcode": {"delivery.transcodes": "never"},
    "Doors open at 7, and 40 people fit in.": {},
}
