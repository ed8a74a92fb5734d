"""Guideline pages of made-up platforms: a random guide written down in one of six styles.

:func:`page` draws a guide's values, writes them as somebody might, with distractors between, and
returns the page with what each question's answer means, by key; what the page leaves open to a
reader is not in it.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

STYLES = ("table", "turned", "two headings", "list", "prose", "mixed")
SIZES = [(3840, 2160), (2560, 1440), (1920, 1080), (1280, 720), (960, 540), (640, 360)]
MAXIMUM = (
    "Maximum {}: {}",
    "{} of at most {}",
    "{}: up to {}",
    "{} must not exceed {}",
    "Max. {}: {}",
)
MINIMUM = ("Minimum {}: {}", "{} of at least {}", "{}: no less than {}")
RECOMMENDED = ("Recommended {}: {}", "We recommend {} of {}", "Ideal {}: {}")
WORDS = {"min": MINIMUM, "recommended": RECOMMENDED, "max": MAXIMUM}
DISTRACTORS = (
    "You need an upload speed of at least {mbit} Mbps.",
    "Your internet connection should offer no less than {kbit} kbps of upload bitrate.",
    "We plan to support AV1 and a maximum bitrate of {kbit} kbps in the future.",
    "Until last year the maximum bitrate was {kbit} kbps.",
    "Partners may send a maximum bitrate of {kbit} kbps.",
    "Premium accounts: up to {mbit} Mbps video bitrate.",
    "Segment duration: 6 s at most.",
    "Latency: up to 4 s.",
    "Recordings are kept as MP4 files of at most {mbit} MB.",
    "Viewers on phones watch at 640x360 and 600 kbps.",
    "HDR is not supported, and B-frames of more than 4 are not either.",
    "The total bitrate of video and audio must never exceed {kbit} kbps.",
    "VR streams: maximum resolution 7680x4320.",
    "Keyframes every 250 frames are too rare.",
    "HEVC ingest will come soon, with a maximum bitrate of {kbit} kbps.",
    "Thumbnails: 1280x720, up to 2 MB.",
    "For example, a maximum bitrate of 2500 kbps is too low for 1080p60.",
    "If your connection drops, reconnect within 30 seconds.",
    "Transcodes are available in 720p and 480p when there is capacity.",
    "Variable bitrate is not accepted.",
    "Low latency mode needs keyframes every 1 s.",
    "Older encoders can use the baseline profile.",
    "Do not use mono audio.",
    "Some regions take up to 60 fps only.",
)


@dataclass
class Made:
    """A page, its suffix, and what an answer to each question must mean."""

    text: str
    suffix: str
    style: str
    means: dict[str, Any] = field(default_factory=dict)


def number(rng: random.Random, value: float) -> str:
    """A number as somebody writes it; thousands in several ways, each of one meaning here."""
    if value < 1000 or value != int(value):
        return f"{value:g}"
    return rng.choice(
        (f"{value:.0f}", f"{value:,.0f}", f"{value:,.0f}".replace(",", rng.choice(" '\u00a0")))
    )


def rate(rng: random.Random, kbps: int, unit: str = "") -> str:
    unit = unit or rng.choice(("kbps", "Kbps", "kbit/s", "Mbps", "Mbit/s", "kb/s"))
    value = kbps / 1000 if unit[0] == "M" else kbps
    return f"{number(rng, value)}{rng.choice((' ', '', ' '))}{unit}"


def limit(rng: random.Random, bound: str, subject: str, value: str) -> str:
    said = rng.choice(WORDS[bound]).format(subject, value)
    return said[0].upper() + said[1:]


def draw(rng: random.Random) -> dict[str, Any]:
    """The values of a made-up guide."""
    rows = []
    for size in sorted(rng.sample(SIZES, rng.randint(1, 4)), reverse=True):
        low, middle, high = sorted(rng.sample(range(5, 200), 3))
        limits = {"min": low * 100, "recommended": middle * 100, "max": high * 100}
        kept = rng.sample(sorted(limits), rng.randint(1, 3))
        rows.append(
            (size, rng.choice((60, 50, 30, 25)), {k: limits[k] for k in limits if k in kept})
        )
    bounds = sorted({bound for _, _, limits in rows for bound in limits})
    return {"rows": rows, "bounds": [b for b in ("min", "recommended", "max") if b in bounds]}


def statements(rng: random.Random, means: dict[str, Any]) -> list[tuple[str, str]]:
    """Sentences on single questions with the heading they stand under, some of them open."""
    said: list[tuple[str, str]] = []

    def add(heading: str, key: str, text: str, value: Any, *, open_: bool = False) -> None:
        if rng.random() < 0.7:
            said.append((heading, text))
            if not open_:
                means[key] = value

    seconds = rng.choice((1, 2, 3, 4))
    add(
        "Video",
        "video.keyframes",
        rng.choice(
            (
                f"Keyframe interval: {seconds} s",
                f"Send a keyframe every {seconds} seconds",
                f"GOP length: {seconds} sec",
            )
        ),
        {"video.keyframes": f"{seconds} s"},
    ) if rng.random() < 0.5 else add(
        "Video",
        "video.keyframes",
        limit(rng, "max", "keyframe interval", f"{seconds} s"),
        {"video.keyframes": {"max": f"{seconds} s"}},
    )
    top = rng.randint(20, 120) * 100
    add(
        "Video",
        "video.max_bitrate",
        limit(rng, "max", "video bitrate", rate(rng, top)),
        {"video.max_bitrate": f"{top} kbit/s"},
    )
    size = rng.choice(SIZES[:4])
    add(
        "Video",
        "video.max_resolution",
        limit(rng, "max", "resolution", f"{size[0]}{rng.choice('x×')}{size[1]}"),
        {"video.max_resolution": f"{size[0]}x{size[1]}"},
    )
    fps = rng.choice((30, 60))
    add(
        "Video",
        "video.frame_rates",
        limit(rng, "max", "frame rate", f"{fps} {rng.choice(('fps', 'frames per second'))}"),
        {"video.max_frame_rate": f"{fps}"},
    )
    add(
        "Video",
        "video.rate_control",
        rng.choice(
            ("Rate control: CBR", "Use constant bitrate (CBR)", "Bitrate mode: constant bitrate")
        ),
        {"video.rate_control": ["constant"]},
    )
    add(
        "Video",
        "video.codecs",
        rng.choice(
            (
                "Video codec: H.264",
                "Codec: H.264 (AVC)",
                "Encode with x264 or another H.264 encoder",
            )
        ),
        {"video.codecs": ["h264"]},
    )
    level = rng.choice(("4.1", "4.2", "5.1"))
    add(
        "Video",
        "video.max_level",
        rng.choice((f"H.264 level up to {level}", f"Maximum level: {level}")),
        {"video.max_level": {"h264": level}},
    )
    frames = rng.choice((1, 2, 3))
    add(
        "Video",
        "video.max_b_frames",
        rng.choice((f"B-frames: at most {frames}", f"Up to {frames} B-frames")),
        {"video.max_b_frames": frames},
    )
    audio = rng.choice((96, 128, 160, 320))
    add(
        "Audio",
        "audio.bitrate",
        limit(
            rng,
            "max",
            rng.choice(("bitrate", "audio bitrate")),
            rate(rng, audio, rng.choice(("kbps", "kbit/s"))),
        ),
        {"audio.max_bitrate": f"{audio} kbit/s"},
    )
    add(
        "Audio",
        "audio.codecs",
        rng.choice(("Codec: AAC", "Audio codec: AAC-LC")),
        {"audio.codecs": ["aac"]},
    )
    hertz = rng.choice((44.1, 48))
    add(
        "Audio",
        "audio.sample_rates",
        f"Sample rate: {hertz:g} kHz",
        {"audio.sample_rates": [round(hertz * 1000)]},
    )
    add("Audio", "audio.channels", "Channels: stereo", {"audio.channels": [2]})
    host = rng.choice(("north", "live", "ingest"))
    add(
        "Where to send",
        "servers",
        f"rtmps://{host}.hollowlane.example/app",
        {
            "servers": [
                {
                    "name": f"{host}.hollowlane.example",
                    "url": f"rtmps://{host}.hollowlane.example/app",
                }
            ]
        },
    )
    add("Where to send", "transports", "Protocol: RTMPS", {"transports": ["rtmps"]})
    opens = (
        ("Video", "video.max_bitrate", f"Bitrate: {rate(rng, top)}"),
        ("Audio", "audio.bitrate", f"Bitrate: {audio} kbps"),
        ("Video", "video.frame_rates", "30 or 60 fps"),
        ("Video", "video.max_b_frames", "B-frames: 2"),
        ("Audio", "audio.channels", "Mono audio is fine"),
        ("Video", "video.max_bitrate", f"{rate(rng, top)}, {rate(rng, 2 * top)} for partners"),
        ("Video", "video.codecs", "HEVC is accepted as well"),
        ("Video", "video.keyframes", f"Keyframes every {seconds} s, {2 * seconds} s at the latest"),
    )
    for heading, key, text in rng.sample(opens, rng.choice((0, 0, 1, 2))):
        said.append((heading, text))
        if "partners" not in text:
            means.pop(key, None)
    return said


def page(rng: random.Random) -> Made:
    """A page in one of the styles."""
    style, guide = rng.choice(STYLES), draw(rng)
    made = Made("", "", style)
    said = (
        statements(rng, made.means)
        if style not in ("table", "turned", "two headings") or rng.random() < 0.5
        else []
    )
    if style == "two headings" or (style in ("table", "turned", "mixed") and rng.random() < 0.5):
        made.suffix = ".html"
    else:
        made.suffix = ".md"
    blocks: list[tuple[str, str]] = [(h, t) for h, t in said]
    for _ in range(rng.randint(0, 4)):
        text = rng.choice(DISTRACTORS).format(
            mbit=rng.randint(3, 60), kbit=number(rng, rng.randint(10, 300) * 100)
        )
        blocks.insert(rng.randint(0, len(blocks)), ("", text))
    body = _table(rng, guide, made) if style in ("table", "turned", "two headings", "mixed") else ""
    if style in ("list", "prose") and rng.random() < 0.6:
        rows = _rows_in_words(rng, guide, made)
        blocks += [("Bitrates", row) for row in rows]
    made.text = _written(rng, blocks, body, made.suffix, bullets=style in ("list", "mixed"))
    return made


def _meant(guide: dict[str, Any]) -> dict[str, Any]:
    return {
        "bitrates": [
            {"resolution": f"{w}x{h}", "frame_rate": str(fps)}
            | {k: f"{v} kbit/s" for k, v in limits.items()}
            for (w, h), fps, limits in guide["rows"]
        ]
    }


def _rows_in_words(rng: random.Random, guide: dict[str, Any], made: Made) -> list[str]:
    words = {"min": "at least {}", "recommended": "recommended {}", "max": "at most {}"}
    made.means["bitrates"] = _meant(guide)
    return [
        f"{w}x{h} at {fps} fps: "
        + ", ".join(words[k].format(rate(rng, v)) for k, v in limits.items())
        for (w, h), fps, limits in guide["rows"]
    ]


NAMES = {
    "min": ("Minimum", "Min."),
    "recommended": ("Recommended",),
    "max": ("Maximum", "Max", "At most"),
}


def _table(rng: random.Random, guide: dict[str, Any], made: Made) -> str:
    """The rows as a table; what it leaves open (no unit, no limit in a heading) means nothing."""
    unit, bounds = rng.choice(("kbps", "kbit/s", "Mbps", "Mbit/s", "")), guide["bounds"]
    vague = rng.random() < 0.15 and len(bounds) == 1
    over = f" ({unit})" if unit else ""
    in_cells = rng.choice(("kbps", "Mbps", "")) if not unit else ""
    heads = {b: "Bitrate" if vague else f"{rng.choice(NAMES[b])} bitrate" for b in bounds}
    rates = rng.choice(("Frame rate", "FPS", "Frame rate (fps)"))
    columns = [("size", "Resolution"), ("fps", rates), *((b, heads[b] + over) for b in bounds)]
    more = (("audio", f"Audio bitrate{over or ' (kbps)'}"), ("upload", "Upload speed (Mbps)"))
    columns += rng.sample(more, rng.choice((0, 0, 1, 2)))
    rng.shuffle(columns)
    plain = {"audio": "128" if over else "128 kbps", "upload": "12"}
    rate_text = "{} fps" if rng.random() < 0.2 else "{}"

    def cell(kind: str, row: Any) -> str:
        (w, h), fps, limits = row
        known = {"size": f"{w}x{h}", "fps": rate_text.format(fps), **plain}
        if kind in known:
            return str(known[kind])
        if kind not in limits:
            return rng.choice(("-", "", "n/a"))
        if in_cells:
            return rate(rng, limits[kind], in_cells)
        return number(rng, limits[kind] / (1000 if unit.startswith("M") else 1))

    body = [[cell(kind, row) for kind, _ in columns] for row in guide["rows"]]
    if (unit or in_cells) and not vague:
        made.means["bitrates"] = _meant(guide)
    return _laid_out(rng, made, columns, body, over if not vague else "")


def _laid_out(
    rng: random.Random,
    made: Made,
    columns: list[tuple[str, str]],
    body: list[list[str]],
    over: str,
) -> str:
    grid = [[name for _, name in columns], *body]
    if made.style == "turned":
        grid = [list(column) for column in zip(*grid, strict=True)]
    if made.suffix != ".html":
        lines = ["| " + " | ".join(row) + " |" for row in grid]
        return "\n".join([lines[0], "|" + " --- |" * len(grid[0]), *lines[1:]])
    heads = 0 if made.style == "turned" else 1
    rows = [
        f"<tr>{''.join(f'<{tag}>{text}</{tag}>' for text in row)}</tr>"
        for n, row in enumerate(grid)
        for tag in ["th" if n < heads else "td"]
    ]
    spanned = [c for c, (kind, _) in enumerate(columns) if kind in NAMES]
    side_by_side = spanned == list(range(spanned[0], spanned[-1] + 1))
    if made.style == "two headings" and side_by_side and over:
        first = [
            f"<th colspan={len(spanned)}>Bitrate{over}</th>"
            if c == spanned[0]
            else f"<th rowspan=2>{name}</th>"
            for c, (_, name) in enumerate(columns)
            if c == spanned[0] or c not in spanned
        ]
        second = [f"<th>{rng.choice(NAMES[columns[c][0]])}</th>" for c in spanned]
        rows[0] = f"<tr>{''.join(first)}</tr><tr>{''.join(second)}</tr>"
    return f"<table>{''.join(rows)}</table>"


def _written(
    rng: random.Random, blocks: list[tuple[str, str]], table: str, suffix: str, *, bullets: bool
) -> str:
    headings = list(dict.fromkeys(heading for heading, _ in blocks if heading))
    order: dict[str, list[str]] = {"": [], **{heading: [] for heading in headings}}
    for heading, text in blocks:
        order[heading].append(text)
    parts: list[str] = []
    html = suffix == ".html"
    mark: Callable[[str], str] = (lambda t: f"<h2>{t}</h2>") if html else (lambda t: f"## {t}")
    for heading, texts in order.items():
        parts += [mark(heading)] if heading else [mark("Guidelines")]
        if heading == "" and table:
            parts += [mark("Bitrates"), table]
        if not texts:
            continue
        if bullets or heading == "Where to send":
            parts += (
                [f"<ul>{''.join(f'<li>{t}</li>' for t in texts)}</ul>"]
                if html
                else ["\n".join(f"- {t}" for t in texts)]
            )
        else:
            joined = " ".join(t if t.endswith(".") else f"{t}." for t in texts)
            parts += [f"<p>{joined}</p>"] if html else [joined]
    return "\n\n".join(parts) + "\n"
