"""The values a guide needs, each with a question, and how its answer is read.

One grammar serves the dialogue, ``--set``, answer files and proposals: an answer is what a person
would type, and reading it gives the part of a guide's document it stands for. Nothing else enters a
guide, so a page cannot be misread in silence.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError, KestrelError, nearest_name
from eager_kestrel.core.guide.page import (
    Bound,
    Quantity,
    bounds_in,
    parts_of,
    quantities,
    rate_text,
)
from eager_kestrel.core.resolution import (
    Resolution,
    frame_rate_text,
    parse_frame_rate,
    with_frame_rate,
)
from eager_kestrel.core.units import Bitrate

Document = dict[str, Any]
"""Part of a guide's document, by dotted key."""
SKIP = "-"
TRANSCODES = ("always", "when there is capacity", "never")


@dataclass(frozen=True, slots=True)
class Question:
    """One value of a guide."""

    key: str
    asks: str
    like: str
    """An answer, as an example."""
    read: Callable[[str], Document]
    """Raises InputError where it is none."""
    also: tuple[str, ...] = ()
    """Keys of a guide it sets, if they are not its own."""

    @property
    def covers(self) -> tuple[str, ...]:
        """Keys of a guide that stay unverified while nobody confirms them."""
        return self.also or (self.key,)


def stated(text: str, *dimensions: str, unit: str = "") -> list[tuple[Bound | None, Quantity]]:
    """The quantities of some dimensions in an answer, each with the one limit its part speaks of.

    Raises:
        InputError: one can be read in two ways.
    """
    found = []
    for part in parts_of(text):
        bounds = bounds_in(part)
        for quantity in quantities(part, unit):
            if quantity.dimension in dimensions:
                if quantity.doubtful:
                    raise InputError(
                        f'"{part}" can be read in two ways', "write digits and a unit: 6000 kbit/s"
                    )
                found.append((bounds.pop() if len(bounds) == 1 else None, quantity))
    return found


def _limits(
    text: str, keys: Mapping[Bound | None, str], *dimensions: str, **given: str
) -> Document:
    """A document of the limits an answer names; a range is the least and the most."""
    write = rate_text if "bitrate" in dimensions else "{:g} s".format
    found: Document = {}
    for bound, quantity in stated(text, *dimensions, **given):
        if quantity.high is not None:
            found |= {keys["min"]: write(quantity.low), keys["max"]: write(quantity.high)}
        else:
            found[keys[bound]] = write(quantity.low)
    return found


def _named(key: str, known: tuple[str, ...]) -> Callable[[str], Document]:
    """Reads names of a list, with commas."""

    def read(text: str) -> Document:
        parts = (part.strip() for part in re.split(r",|\band\b|\bor\b", text.lower()))
        found = list(dict.fromkeys(part for part in parts if part))
        for part in found:
            if part not in known:
                raise InputError(
                    f'"{part}" is not one of {", ".join(known)}',
                    nearest_name(part, list(known), f"write {known[0]}"),
                )
        if not found:
            raise InputError("no value was given", f"write {known[0]}")
        return {key: found}

    return read


def _bitrate(key: str) -> Callable[[str], Document]:
    def read(text: str) -> Document:
        found = stated(text, "bitrate", "bytes")
        if len(found) != 1 or found[0][1].high is not None:
            raise InputError(f'"{text}" is not one bitrate', 'write it like "6,000 kbit/s"')
        return {key: rate_text(found[0][1].low)}

    return read


def _frame_rates(text: str) -> Document:
    numbers = re.findall(r"[0-9]+(?:[./][0-9]+)?", text)
    if not numbers:
        raise InputError(f'"{text}" names no frame rate', 'write "up to 60" or "30, 60"')
    rates = [frame_rate_text(parse_frame_rate(n)) for n in numbers]
    if bounds_in(text) == {"max"}:
        return {"video.max_frame_rate": max(rates, key=parse_frame_rate)}
    return {"video.frame_rates": rates}


def _keyframes(text: str) -> Document:
    keys: dict[Bound | None, str] = {None: "exact", "min": "min", "max": "max"}
    rule = _limits(text, keys | {"recommended": "recommended"}, "seconds")
    if not rule:
        raise InputError(f'"{text}" is not an interval', 'write "2 s", or "at most 4 s"')
    return {"video.keyframes": rule["exact"] if list(rule) == ["exact"] else rule}


def _rate_control(text: str) -> Document:
    plain, _, wish = text.lower().partition("recommended")
    found = _named("video.rate_control", ("constant", "variable"))(plain.strip(" ,;:"))
    if wish.strip(" ,;:"):
        asked = _named("", ("constant", "variable"))(wish.strip(" ,;:"))[""]
        found["video.recommended.rate_control"] = asked[0]
    return found


def _count(text: str) -> Document:
    match = re.search(r"[0-9]+", text)
    if match is None or int(match[0]) > 16:
        raise InputError(f'"{text}" is not a number of B-frames', "write 0 to 16")
    wish = bounds_in(text) == {"recommended"}
    return {"video.recommended.b_frames" if wish else "video.max_b_frames": int(match[0])}


AUDIO_KEYS: dict[Bound | None, str] = {
    "min": "audio.min_bitrate",
    "recommended": "audio.recommended.bitrate",
    "max": "audio.max_bitrate",
    None: "audio.max_bitrate",
}


def _audio_bitrate(text: str) -> Document:
    found = _limits(text, AUDIO_KEYS, "bitrate", "bytes", unit="kbit/s")
    if not found:
        raise InputError(f'"{text}" is not an audio bitrate', 'write "96 to 160 kbit/s"')
    return found


def _samples(text: str) -> Document:
    parts = [p for p in re.split(r",\s|/|\bor\b|\band\b", text) if re.search("[0-9]", p)]
    unit = "kHz" if re.search(r"(?i)khz", text) else "Hz" if re.search(r"(?i)hz", text) else ""
    found = [stated(part, "hertz", unit=unit) for part in parts]
    if not found or not all(len(each) == 1 for each in found):
        raise InputError(f'"{text}" is not a sample rate', 'write "48 kHz, 44.1 kHz"')
    return {"audio.sample_rates": [round(each[0][1].low) for each in found]}


def _channels(text: str) -> Document:
    names = {"mono": 1, "stereo": 2, "1": 1, "2": 2}
    found = _named("", tuple(names))(text)[""]
    return {"audio.channels": list(dict.fromkeys(names[name] for name in found))}


def _servers(text: str) -> Document:
    found: list[Document] = []
    for part in (p.strip() for p in text.split(",")):
        plain = part.replace("(backup)", "").strip()
        name, _, url = (
            plain.rpartition("=") if "=" in plain.partition("://")[0] else ("", "", plain)
        )
        if not re.fullmatch(r"(rtmps?|https|srt)://[^/\s]+(/\S*)?", url.strip()):
            raise InputError(
                f'"{part}" is not a server address',
                'write "rtmps://ingest.hollowlane.example/live"',
            )
        host = url.strip().partition("://")[2].partition("/")[0]
        backup = {"backup": True} if plain != part else {}
        found.append({"name": name.strip() or host, "url": url.strip()} | backup)
    return {"servers": found}


ROW = re.compile(
    r"(?P<resolution>\S+)(?:\s+at\s+(?P<fps>[0-9./]+))?(?:\s+in\s+(?P<codec>\w+))?"
    r"(?:\s+for\s+(?P<tier>[\w-]+))?\s*:\s*(?P<bounds>.+)"
)
ROWS_LIKE = "1920x1080 at 60: recommended 6,000 kbit/s, at most 9,000 kbit/s"
ROW_KEYS: dict[Bound | None, str] = {
    "min": "min",
    "recommended": "recommended",
    "max": "max",
    None: "max",
}


def _rows(text: str) -> Document:
    """Rows with semicolons or line ends between; a tier's are put aside for it."""
    rows: list[Document] = []
    tiers: dict[str, list[Document]] = {}
    for part in (p.strip() for p in re.split(r"[;\n]", text)):
        if not part:
            continue
        match = ROW.fullmatch(part)
        if match is None:
            raise InputError(f'"{part}" is not a row', f'write "{ROWS_LIKE}"')
        size, fps = with_frame_rate(match["resolution"])
        row: Document = {"resolution": str(Resolution.parse(size))}
        if rate := match["fps"] or fps:
            row["frame_rate"] = rate
        row |= {"codec": match["codec"]} if match["codec"] else {}
        limits = _limits(match["bounds"], ROW_KEYS, "bitrate", "bytes")
        if not limits:
            raise InputError(f'"{part}" names no bitrate', f'write "{ROWS_LIKE}"')
        row |= limits
        (tiers.setdefault(match["tier"], []) if match["tier"] else rows).append(row)
    return {"bitrates": rows} | {f"tiers.{name}.bitrates": own for name, own in tiers.items()}


QUESTIONS: tuple[Question, ...] = (
    Question("bitrates", "Rows of its table: resolution, frame rate, bitrates", ROWS_LIKE, _rows),
    Question(
        "video.max_resolution",
        "Largest resolution",
        "1920x1080",
        lambda text: {"video.max_resolution": str(Resolution.parse(text.strip()))},
    ),
    Question(
        "video.frame_rates",
        "Frame rates: those it takes, or up to which",
        "up to 60",
        _frame_rates,
        ("video.max_frame_rate",),
    ),
    Question(
        "video.max_bitrate", "Highest video bitrate", "6,000 kbit/s", _bitrate("video.max_bitrate")
    ),
    Question(
        "video.min_bitrate",
        "Lowest video bitrate it takes, whatever the resolution",
        "500 kbit/s",
        _bitrate("video.min_bitrate"),
    ),
    Question("video.keyframes", "Keyframe interval", "2 s", _keyframes),
    Question(
        "video.rate_control",
        "Rate control: constant, variable or both",
        "constant",
        _rate_control,
    ),
    Question(
        "video.codecs",
        "Video codecs: h264, hevc, av1",
        "h264",
        _named("video.codecs", tuple(CODECS)),
    ),
    Question(
        "video.profiles",
        "H.264 profiles it takes",
        "high, main",
        lambda text: {"video.profiles": {"h264": _named("", CODECS["h264"].profiles)(text)[""]}},
    ),
    Question(
        "video.max_level",
        "Highest H.264 level",
        "4.2",
        lambda text: {"video.max_level": {"h264": text.lower().removeprefix("level").strip()}},
    ),
    Question("video.max_b_frames", "Most B-frames in a row", "2", _count),
    Question(
        "audio.codecs",
        "Audio codecs: aac, opus, mp3",
        "aac",
        _named("audio.codecs", ("aac", "opus", "mp3")),
    ),
    Question(
        "audio.bitrate",
        "Audio bitrate",
        "96 to 160 kbit/s",
        _audio_bitrate,
        ("audio.min_bitrate", "audio.max_bitrate"),
    ),
    Question(
        "audio.sample_rates",
        "Audio sample rates, the preferred first",
        "48 kHz, 44.1 kHz",
        _samples,
    ),
    Question("audio.channels", "Audio channels: stereo, mono", "stereo, mono", _channels),
    Question(
        "transports",
        "Protocols, the preferred first: rtmps, rtmp, srt",
        "rtmps, rtmp",
        _named("transports", ("rtmps", "rtmp", "srt")),
    ),
    Question(
        "servers",
        "Server addresses without a stream key",
        "rtmps://ingest.hollowlane.example/live",
        _servers,
    ),
    Question(
        "delivery.transcodes",
        "Do viewers get smaller copies: always, when there is capacity, never",
        "when there is capacity",
        lambda text: {"delivery.transcodes": _named("", TRANSCODES)(text)[""][0]},
    ),
)
BY_KEY = {question.key: question for question in QUESTIONS}


def read_answer(key: str, text: str) -> Document:
    """The part of a guide's document that an answer stands for.

    Raises:
        InputError: no question has this key, or the answer cannot be read.
    """
    question = BY_KEY.get(key)
    if question is None:
        raise InputError(f'a guide asks for no "{key}"', nearest_name(key, list(BY_KEY), ""))
    try:
        return question.read(text)
    except InputError as error:
        raise InputError(f"{key}: {error.what}", error.instead) from None
    except KestrelError as error:
        raise InputError(f"{key}: {error.line()}", f'write "{question.like}"') from None


def largest_of(rows: list[Document]) -> str:
    """The resolution whose sides no row's is longer than."""
    resolutions = [Resolution.parse(row["resolution"]) for row in rows]
    return f"{max(p.width for p in resolutions)}x{max(p.height for p in resolutions)}"


def highest_of(rows: list[Document]) -> float:
    """The highest bitrate that rows name, in kbit/s."""
    named = [row[key] for row in rows for key in set(ROW_KEYS.values()) if key in row]
    return max(Bitrate.parse(rate).kbps for rate in named)


def fastest_of(rows: list[Document]) -> Fraction | None:
    """The fastest frame rate that rows name."""
    rates = [parse_frame_rate(str(row["frame_rate"])) for row in rows if "frame_rate" in row]
    return max(rates, default=None)


class OpenQuestion(Frozen):
    """A question, what the page says of it, and the answer somebody writes in."""

    key: str
    asks: str
    like: str
    quotes: tuple[str, ...] = ()
    """The page's own words."""
    proposal: str | None = None
    """An answer, where nothing of it has to be guessed."""
    answer: str | None = None
    """Left null: skipped; ``-`` does the same."""


class Questions(Frozen):
    """Everything there is to decide about a page."""

    format: str = format_name("questions")
    page: str
    questions: tuple[OpenQuestion, ...]
