"""The values a guide needs, each with a question, and how its answer is read.

One grammar serves the dialogue, ``--set``, answer files and proposals: an answer is what a person
would type, and reading it gives the part of a guide's document it stands for. Nothing else enters a
guide, so a page cannot be misread in silence.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError, KestrelError, nearest_name
from eager_kestrel.core.guide.amounts import AUDIO_KBPS, Amount, amounts_in, bound_in
from eager_kestrel.core.resolution import Resolution, frame_rate_text, parse_frame_rate
from eager_kestrel.core.units import Bitrate

Document = dict[str, Any]
"""Part of a guide's document, by dotted key."""
BOUND_KEYS = {
    "at least": "min",
    "recommended": "recommended",
    "at most": "max",
    None: "max",
}
SKIP = "-"


@dataclass(frozen=True, slots=True)
class Question:
    """One value of a guide."""

    key: str
    asks: str
    like: str
    """An answer, as an example."""
    read: Callable[[str], Document]
    """Raises InputError where it is none."""
    covers: tuple[str, ...]
    """Keys of a guide that stay unverified while nobody answers."""


def rate_text(kbps: float) -> str:
    """A bitrate as a guide has it: ``6000 kbit/s``."""
    return f"{kbps:.10g} kbit/s"


def _named(key: str, known: tuple[str, ...]) -> Callable[[str], Document]:
    """Reads names of a list, with commas."""

    def read(text: str) -> Document:
        found = []
        for part in [
            part
            for part in (p.strip() for p in re.split(r",|\band\b|\bor\b", (text.lower())))
            if part
        ]:
            if part not in known:
                raise InputError(
                    f'"{part}" is not one of {", ".join(known)}',
                    nearest_name(part, list(known), f"write {known[0]}"),
                )
            found.append(part)
        if not found:
            raise InputError("no value was given", f"write {known[0]}")
        return {key: list(dict.fromkeys(found))}

    return read


def _bitrate(text: str, key: str) -> Document:
    found = amounts_in(text, "bitrate")
    if len(found) != 1 or len(found[0]) != 1 or found[0][0].high is not None:
        raise InputError(f'"{text}" is not one bitrate', 'write it like "6,000 kbit/s"')
    return {key: rate_text(found[0][0].low)}


def _largest(text: str) -> Document:
    return {"video.max_resolution": str(Resolution.parse(text.strip()))}


def _frame_rates(text: str) -> Document:
    up_to = bound_in(text) == "at most"
    numbers = re.findall(r"[0-9]+(?:[./][0-9]+)?", text)
    if not numbers:
        raise InputError(f'"{text}" names no frame rate', 'write "up to 60" or "30, 60"')
    rates = [frame_rate_text(parse_frame_rate(n)) for n in numbers]
    if up_to:
        return {"video.max_frame_rate": max(rates, key=parse_frame_rate)}
    return {"video.frame_rates": rates}


def _keyframes(text: str) -> Document:
    rule: dict[str, str] = {}
    names = {"at least": "min", "at most": "max", "recommended": "recommended"}
    for amount in (reading[0] for reading in amounts_in(text, "time", "s")):
        if amount.high is not None:
            rule |= {"min": f"{amount.low:g} s", "max": f"{amount.high:g} s"}
        else:
            rule[names.get(amount.bound or "", "exact")] = f"{amount.low:g} s"
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


def _profiles(text: str) -> Document:
    return {"video.profiles": {"h264": _named("", CODECS["h264"].profiles)(text)[""]}}


def _level(text: str) -> Document:
    return {"video.max_level": {"h264": text.lower().removeprefix("level").strip()}}


def _count(text: str) -> Document:
    match = re.search(r"[0-9]+", text)
    if match is None or int(match[0]) > 16:
        raise InputError(f'"{text}" is not a number of B-frames', "write 0 to 16")
    wish = bound_in(text) == "recommended"
    return {"video.recommended.b_frames" if wish else "video.max_b_frames": int(match[0])}


def _audio_bitrate(text: str) -> Document:
    found: Document = {}
    keys = {"at least": "audio.min_bitrate", "recommended": "audio.recommended.bitrate"}
    for amount in (reading[0] for reading in amounts_in(text, "bitrate", "kbit/s", AUDIO_KBPS)):
        ends = [rate_text(end) for end in amount.ends]
        if len(ends) == 2:
            found |= {"audio.min_bitrate": ends[0], "audio.max_bitrate": ends[1]}
        else:
            found[keys.get(amount.bound or "", "audio.max_bitrate")] = ends[0]
    if not found:
        raise InputError(f'"{text}" is not an audio bitrate', 'write "96 to 160 kbit/s"')
    return found


def _samples(text: str) -> Document:
    parts = [p for p in re.split(r",\s|/|\bor\b|\band\b", text) if re.search("[0-9]", p)]
    unit = "kHz" if re.search(r"(?i)khz", text) else ""
    found = [amounts_in(part, "samples", unit) for part in parts]
    rates = [round(one[0][0].low) for one in found if len(one) == 1]
    if not rates or len(rates) < len(parts):
        raise InputError(f'"{text}" is not a sample rate', 'write "48 kHz, 44.1 kHz"')
    return {"audio.sample_rates": rates}


def _channels(text: str) -> Document:
    names = {"mono": 1, "stereo": 2, "1": 1, "2": 2}
    found = _named("", tuple(names))(text)[""]
    return {"audio.channels": list(dict.fromkeys(names[name] for name in found))}


def _ingest(text: str) -> Document:
    found = []
    for part in (p.strip() for p in text.split(",")):
        name, _, url = part.rpartition("=")
        if not re.fullmatch(r"(rtmps?|https)://[^/\s]+(/\S*)?", url.strip()):
            raise InputError(
                f'"{part}" is not a server address',
                'write "rtmps://ingest.hollowlane.example/live"',
            )
        host = url.strip().partition("://")[2].partition("/")[0]
        found.append({"name": name.strip() or host, "url": url.strip()})
    return {"servers": found}


def _transcodes(text: str) -> Document:
    known = ("always", "when there is capacity", "never")
    return {"delivery.transcodes": _named("", known)(text)[""][0]}


ROW = re.compile(
    r"(?P<resolution>\S+)(?:\s+at\s+(?P<fps>[0-9./]+))?(?:\s+in\s+(?P<codec>\w+))?"
    r"(?:\s+for\s+(?P<tier>[\w-]+))?\s*:\s*(?P<bounds>.+)"
)
ROWS_LIKE = "1920x1080 at 60: recommended 6,000 kbit/s, at most 9,000 kbit/s"


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
        row: Document = {"resolution": str(Resolution.parse(match["resolution"]))}
        row |= {"frame_rate": match["fps"]} if match["fps"] else {}
        row |= {"codec": match["codec"]} if match["codec"] else {}
        row |= _bounds_of(match["bounds"], part)
        (tiers.setdefault(match["tier"], []) if match["tier"] else rows).append(row)
    return {"bitrates": rows} | {f"tiers.{name}.bitrates": own for name, own in tiers.items()}


def _bounds_of(text: str, row: str) -> Document:
    found: Document = {}
    for reading in amounts_in(text, "bitrate"):
        amount: Amount = reading[0]
        rates = [rate_text(end) for end in amount.ends]
        if len(rates) == 2:
            found |= {"min": rates[0], "max": rates[1]}
        else:
            found[BOUND_KEYS[amount.bound]] = rates[0]
    if not found:
        raise InputError(f'"{row}" names no bitrate', f'write "{ROWS_LIKE}"')
    return found


QUESTIONS: tuple[Question, ...] = (
    Question(
        "bitrates", "Rows of its table: resolution, frame rate, bitrates", ROWS_LIKE, _rows, ()
    ),
    Question(
        "video.max_resolution",
        "Largest resolution",
        "1920x1080",
        _largest,
        ("video.max_resolution",),
    ),
    Question(
        "video.frame_rates",
        "Frame rates: those it takes, or up to which",
        "up to 60",
        _frame_rates,
        ("video.max_frame_rate",),
    ),
    Question(
        "video.max_bitrate",
        "Highest video bitrate",
        "6,000 kbit/s",
        lambda text: _bitrate(text, "video.max_bitrate"),
        ("video.max_bitrate",),
    ),
    Question(
        "video.min_bitrate",
        "Lowest video bitrate it takes, whatever the resolution",
        "500 kbit/s",
        lambda text: _bitrate(text, "video.min_bitrate"),
        (),
    ),
    Question("video.keyframes", "Keyframe interval", "2 s", _keyframes, ("video.keyframes",)),
    Question(
        "video.rate_control",
        "Rate control: constant, variable or both",
        "constant",
        _rate_control,
        ("video.rate_control",),
    ),
    Question(
        "video.codecs",
        "Video codecs: h264, hevc, av1",
        "h264",
        _named("video.codecs", ("h264", "hevc", "av1")),
        ("video.codecs",),
    ),
    Question("video.profiles", "H.264 profiles it takes", "high, main", _profiles, ()),
    Question("video.max_level", "Highest H.264 level", "4.2", _level, ()),
    Question("video.max_b_frames", "Most B-frames in a row", "2", _count, ()),
    Question(
        "audio.codecs",
        "Audio codecs: aac, opus, mp3",
        "aac",
        _named("audio.codecs", ("aac", "opus", "mp3")),
        ("audio.codecs",),
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
        ("audio.sample_rates",),
    ),
    Question(
        "audio.channels",
        "Audio channels: stereo, mono",
        "stereo, mono",
        _channels,
        ("audio.channels",),
    ),
    Question(
        "transports",
        "Protocols, the preferred first: rtmps, rtmp",
        "rtmps, rtmp",
        _named("transports", ("rtmps", "rtmp")),
        ("transports",),
    ),
    Question(
        "servers",
        "Server addresses without a stream key",
        "rtmps://ingest.hollowlane.example/live",
        _ingest,
        (),
    ),
    Question(
        "delivery.transcodes",
        "Do viewers get smaller copies: always, when there is capacity, never",
        "when there is capacity",
        _transcodes,
        ("delivery.transcodes",),
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
    named = [row[key] for row in rows for key in BOUND_KEYS.values() if key in row]
    return max(Bitrate.parse(rate).kbps for rate in named)


def fastest_of(rows: list[Document]) -> Fraction | None:
    """The fastest frame rate that rows name."""
    rates = [parse_frame_rate(str(row["frame_rate"])) for row in rows if "frame_rate" in row]
    return max(rates, default=None)


class Offered(Frozen):
    """A proposal in a document of questions."""

    value: str
    text: str
    doubt: str = ""


class OpenQuestion(Frozen):
    """A question, what the page proposes, and the answer somebody writes in."""

    key: str
    asks: str
    like: str
    proposals: tuple[Offered, ...] = ()
    answer: str | None = None
    """Left null: skipped; ``-`` does the same."""


class Questions(Frozen):
    """Everything there is to decide about a page."""

    format: str = format_name("questions")
    page: str
    questions: tuple[OpenQuestion, ...]
