"""Proposals for the keys of a guide, from the sentences of a guideline page.

A sentence that mentions a key gives a proposal in words that
:mod:`eager_kestrel.core.guide.questions` reads. What a clause denies is proposed nowhere; what
holds only under a condition, or may mean two things, is proposed with a doubt. A person decides.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.amounts import (
    AUDIO_KBPS,
    MOST_SECONDS,
    Amount,
    Page,
    Proposal,
    amounts_in,
    bound_in,
    without_bounds,
)
from eager_kestrel.core.resolution import AspectRatio, Resolution
from eager_kestrel.core.units import Bitrate

T = TypeVar("T")
Found = tuple[str, str, str]
"""Key, value, doubt."""

CODEC_PATTERNS = (
    ("h264", r"h\.?\s?264(?:\s*/?\s*\(?avc\)?)?|\bavc\b|x264"),
    ("hevc", r"h\.?\s?265(?:\s*/?\s*\(?hevc\)?)?|hevc(?:\s*/?\s*\(?h\.?265\)?)?|x265"),
    ("av1", r"av1"),
)
AUDIO_CODECS = (("aac", r"(?:he-?)?aac(?:-?lc)?"), ("opus", r"opus"), ("mp3", r"mp3"))
PROTOCOLS = (("rtmps", r"rtmps"), ("rtmp", r"rtmp"))
MODES = (("constant", r"cbr|constant"), ("variable", r"vbr|variable"))
CHANNELS = (("stereo", r"stereo|2[ -]?channels?|2ch|two channels"), ("mono", r"mono|1[ -]?channel"))
PROFILES = (("high", r"high"), ("main", r"main"), ("baseline", r"baseline"))

_EXACT = re.compile(r"([0-9]{3,5})\s*(?:px)?\s*[x×*X]\s*([0-9]{3,5})(?![0-9])")
_LINES = re.compile(
    r"(?i)(?<![0-9.x×])([0-9]{3,4})\s?(?:p|i|lines)(?![a-z])(?:\s?@?\s?([0-9]{2,3})\b)?"
)
_NAMES = {
    "8k": 4320,
    "4k": 2160,
    "ultra hd": 2160,
    "uhd": 2160,
    "qhd": 1440,
    "2k": 1440,
    "full hd": 1080,
    "fhd": 1080,
}
_NAME = re.compile(rf"(?i)\b(?:{'|'.join(_NAMES)})\b")
_UPRIGHT = re.compile(r"(?i)\b(?:vertical|upright|portrait)\b")
_ADDRESS = re.compile(r"(?i)\brtmps?://[^\s<>\"',;]+")

_SENTENCES = re.compile(r"(?<=[a-z0-9)%][.!?])\s+(?=[A-Z0-9])|\s[•·]\s|;\s|\n")
_CLAUSES = re.compile(r"[,;.](?=\s|$)|\bbut\b|\s[-–]\s|[()]")
_DENIED = re.compile(
    r"(?i)\b(?:not|no|never|without|unsupported|avoid|cannot|can't|don'?t|isn'?t|aren'?t|won'?t)\b"
)
_CONDITION = re.compile(
    r"(?i)\bon request|\bunless\b|\bexcept\b|\bonly (?:if|for|with)\b|\bif\b|\bwhen\b|"
    r"\bpartners?\b|\baffiliates?\b|\bpremium\b|\bverified\b|\bselected\b|\bcertain\b|"
    r"\bsome\b|\bsoon\b|\bbeta\b"
)
_UPLOAD = re.compile(r"(?i)\bupload|\binternet|\bconnection\b|\bdownload|\bfile size|\bline speed")
_AUDIO = re.compile(r"(?i)\baudio\b|\bsound\b|\bsampl\w+ rate|\bstereo\b|\bmono\b|\baac\b|\bopus\b")
_KEYFRAMES = re.compile(r"(?i)\bkey ?-?frames?\b|\bgop\b|\bi-?frames?\b|group of pictures")
_B_FRAMES = re.compile(r"(?i)\bb-?frames?\b")
_FRAME_RATE = re.compile(
    r"(?i)\bframe ?-?rates?\b|\bfps\b|\bframes (?:per|a) second\b|\bframes/s\b"
)
_BITRATE = re.compile(r"(?i)\bbit ?-?rate|\b[km]bits?\b|\b[km]bps\b|\bk[bB]/s")
_RESOLUTION = re.compile(r"(?i)\bresolution|\bpicture size|\bvideo size|\bdimension")
_OFTEN = re.compile(r"(?i)at least (?:one |a )?(?:key ?frame )?(?:every|each|once every)")
_SAMPLES = re.compile(r"(?i)([0-9][0-9., ]*(?:\s*(?:/|or|and)\s*[0-9][0-9.]*)*)\s*(k?hz)\b")
MOST_WORDS = 160


def proposals(page: Page, shape: AspectRatio) -> list[Proposal]:
    """Every proposal of a page's lines, the plainer of one key first."""
    found: dict[tuple[str, str], Proposal] = {}
    for sentence in sentences(page.lines):
        for key, value, doubt in _of(sentence, shape):
            words = sentence if len(sentence) <= MOST_WORDS else f"{sentence[:MOST_WORDS]}..."
            made = Proposal(key, value, words, doubt)
            known = found.get((key, value))
            if known is None or (known.doubt and not doubt):
                found[key, value] = made
    return sorted(found.values(), key=lambda one: bool(one.doubt))


def sentences(lines: Iterable[str]) -> Iterator[str]:
    """Parts of lines that speak of one thing each; a bare ``at most 4 s`` stays with its topic."""
    for line in lines:
        plain_line = re.sub(r"(?i)\b(max|min|approx|rec|incl)\.(?=\s)", r"\1", line)
        waiting = ""
        for part in (" ".join(p.split()) for p in _SENTENCES.split(plain_line)):
            goes_on = waiting and bound_in(part) and re.search("[0-9]", part)
            if goes_on and not any(pattern.search(part) for pattern, _ in _READERS):
                waiting = f"{waiting.rstrip('.')}, {part}"
                continue
            if waiting:
                yield waiting
            waiting = part
        if waiting:
            yield waiting


def named(names: Iterable[tuple[str, str]], text: str) -> list[str]:
    """Which of some things a text names and does not deny, in the order they stand there."""
    found: dict[str, int] = {}
    at = 0
    for clause in _CLAUSES.split(text):
        if not _DENIED.search(clause):
            for name, pattern in names:
                match = re.search(rf"(?i)(?<![a-z0-9])(?:{pattern})(?![a-z0-9])", clause)
                if match is not None:
                    found.setdefault(name, at + match.start())
        at += len(clause) + 1
    return sorted(found, key=lambda name: found[name])


def without_names(text: str) -> str:
    """A text without names of codecs, whose figures are no amounts."""
    for _, pattern in (*CODEC_PATTERNS, *AUDIO_CODECS):
        text = re.sub(rf"(?i)(?<![a-z0-9])(?:{pattern})(?![a-z0-9])", " ", text)
    return text


def resolution_in(text: str, shape: AspectRatio) -> Resolution | None:
    """Return the one resolution that a text names by size, lines or name, or None."""
    found: set[Resolution] = set()
    upright = _UPRIGHT.search(text) is not None
    try:
        for match in _EXACT.finditer(text):
            found.add(Resolution(int(match[1]), int(match[2])))
        if not found:
            counts = [int(match[1]) for match in _LINES.finditer(text)]
            counts += [_NAMES[match[0].lower()] for match in _NAME.finditer(text)]
            found |= {of_lines(count, shape, upright=upright) for count in counts}
    except UnitError:
        return None
    return found.pop() if len(found) == 1 else None


def of_lines(count: int, shape: AspectRatio, *, upright: bool) -> Resolution:
    """``1080p`` in a shape."""
    across, down = max(shape.across, shape.down), min(shape.across, shape.down)
    long = round(count * across / down / 2) * 2
    return (
        Resolution(count, long) if upright or shape.across < shape.down else Resolution(long, count)
    )


def rate_beside(text: str) -> str | None:
    """The frame rate behind a resolution: ``1080p60``, ``720p @ 30 fps``."""
    match = _LINES.search(text)
    if match is not None and match[2]:
        return match[2]
    found = amounts_in(re.sub(_EXACT, " ", text), "rate")
    return f"{found[-1][0].ends[-1]:g}" if found and found[-1][0].unit else None


def _of(sentence: str, shape: AspectRatio) -> Iterator[Found]:
    """What one sentence proposes."""
    rest = _ADDRESS.sub(" ", sentence)
    condition = _CONDITION.search(rest)
    doubt = f'only under a condition: "{condition[0]}"' if condition else ""
    for address in _ADDRESS.findall(sentence):
        yield "servers", address.rstrip(".)"), doubt
        yield "transports", address.partition(":")[0].lower(), doubt
    if _UPLOAD.search(rest):
        return  # about the connection, not the stream
    for pattern, reader in _READERS:
        if pattern.search(rest):
            for key, value, own in reader(rest, shape):
                yield key, value, doubt or own


def _bounded(amount: Amount, unit: str) -> str:
    ends = (
        [Bitrate.from_kbps(e).in_kbps() for e in amount.ends]
        if unit == "kbit/s"
        else [f"{end:g} {unit}" for end in amount.ends]
    )
    return " to ".join(ends) if len(ends) == 2 else f"{amount.bound or ''} {ends[0]}".strip()


def _keyframes(text: str, _: AspectRatio) -> Iterator[Found]:
    rest = _KEYFRAMES.sub(" ", text)
    frame_at = re.search(r"(?i)\b(?:at|@) ?([0-9]{2,3}) ?fps\b", rest)
    rest = re.sub(r"(?i)\b(?:at|@) ?[0-9]{2,3} ?fps\b", " ", rest)
    often = _OFTEN.search(text) is not None
    found = amounts_in(rest, "time")
    if not found or _DENIED.search(without_bounds(rest)):
        return
    first = found[0][0]
    frames = first.unit.lower().startswith("frame") or (not first.unit and first.low > MOST_SECONDS)
    for fps in ((int(frame_at[1]),) if frame_at else (60, 30)) if frames else (1,):
        each = []
        for one in (reading[0] for reading in found):
            bound = "at most" if often and one.bound == "at least" else one.bound
            high = None if one.high is None else one.high / fps
            each.append(Amount(one.low / fps, high, bound))
        doubt = "" if not frames or frame_at else f"in frames; this is at {fps} fps"
        yield "video.keyframes", _all_of(each, "s"), doubt


def _all_of(amounts: list[Amount], unit: str) -> str:
    """``2 s (max 4 s)`` says of the bare amount that it is recommended."""
    said = []
    for one in amounts:
        bare = len(amounts) > 1 and one.bound is None and one.high is None
        said.append(_bounded(Amount(one.low, one.high, "recommended" if bare else one.bound), unit))
    return ", ".join(dict.fromkeys(said))


def _b_frames(text: str, _: AspectRatio) -> Iterator[Found]:
    rest = _B_FRAMES.sub(" ", text)
    found = [a[0] for a in amounts_in(rest, "count") if a[0].low == int(a[0].low)]
    if re.search(r"(?i)\b(?:no|none|without|disable\w*|off|not use)\b", rest) and not found:
        yield "video.max_b_frames", "0", ""
    for amount in found[:1]:
        bound = "recommended " if amount.bound == "recommended" else ""
        yield "video.max_b_frames", f"{bound}{amount.ends[-1]:g}", ""


def _audio(text: str, _: AspectRatio) -> Iterator[Found]:
    if found := named(AUDIO_CODECS, text):
        yield "audio.codecs", ", ".join(found), ""
    rest = without_names(text)
    samples = _sample_rates(rest)
    if samples:
        yield "audio.sample_rates", ", ".join(f"{hz / 1000:g} kHz" for hz in samples), ""
    if found := named(CHANNELS, text):
        yield "audio.channels", ", ".join(found), ""
    rest = re.sub(
        r"(?i)[0-9.,]+(?:\s*(?:/|or|and)\s*[0-9.,]+)*\s*k?hz\b|\b[12][ -]?channels?", " ", rest
    )
    if _DENIED.search(without_bounds(rest)):
        return
    if found_ := amounts_in(rest, "bitrate", "kbit/s", AUDIO_KBPS):
        yield "audio.bitrate", _all_of([reading[0] for reading in found_], "kbit/s"), ""


def _sample_rates(text: str) -> list[int]:
    found: list[int] = []
    for clause in re.split(r";|\bbut\b|,\s", text):
        if _DENIED.search(clause):
            continue
        for match in re.finditer(
            r"(?i)([0-9][0-9., ]*(?:\s*(?:/|or|and)\s*[0-9][0-9.]*)*)\s*(k?hz)\b", clause
        ):
            for number in re.split(r"/|\bor\b|\band\b", match[1]):
                read = amounts_in(f"{number.strip()} {match[2]}", "samples")
                found += [round(reading[0].low) for reading in read]
    return list(dict.fromkeys(found))


def _rate_control(text: str, _: AspectRatio) -> Iterator[Found]:
    found = named(MODES, text)
    if not found:
        return
    if bound_in(text) != "recommended" or len(found) != 1:
        yield "video.rate_control", ", ".join(found), ""
        return
    yield "video.rate_control", f"constant, variable, recommended {found[0]}", ""
    yield "video.rate_control", found[0], "the page only recommends it"


def _codec(text: str, _: AspectRatio) -> Iterator[Found]:
    found = named(CODEC_PATTERNS, text)
    if found:
        yield "video.codecs", ", ".join(found), ""
    if re.search(r"(?i)\bprofile\b", text) and (profiles := named(PROFILES, text)):
        yield "video.profiles", ", ".join(profiles), ""
    level = re.search(r"(?i)\blevel:?\s*([1-6](?:\.[0-9])?)", text)
    if level is not None and "hevc" not in found and "av1" not in found:
        yield "video.max_level", level[1], ""


def _protocol(text: str, _: AspectRatio) -> Iterator[Found]:
    if found := named(PROTOCOLS, text):
        yield "transports", ", ".join(found), ""


def _bitrate(text: str, _: AspectRatio) -> Iterator[Found]:
    if _AUDIO.search(text):
        return
    for reading in amounts_in(without_names(text), "bitrate"):
        for one in reading:
            doubt = "kilobits or kilobytes" if len(reading) > 1 else ""
            least, most = Bitrate.from_kbps(one.low), Bitrate.from_kbps(one.ends[-1])
            if one.bound == "at least" and one.high is None:
                yield "video.min_bitrate", least.in_kbps(), doubt
                continue
            if one.high is not None and one.bound != "recommended":
                yield "video.min_bitrate", least.in_kbps(), doubt
            if one.bound == "recommended":
                doubt = "the page only recommends it; this would be the highest"
            yield "video.max_bitrate", most.in_kbps(), doubt


def _frame_rate(text: str, _: AspectRatio) -> Iterator[Found]:
    rest = _EXACT.sub(" ", re.sub(r"(?i)[0-9]{3,4}p[0-9]*", " ", _KEYFRAMES.sub(" ", text)))
    if _DENIED.search(without_bounds(rest)) or _KEYFRAMES.search(text):
        return
    found = [a[0] for a in amounts_in(rest, "rate")]
    rates = sorted({end for amount in found for end in amount.ends})
    if not rates:
        return
    named_ = ", ".join(f"{rate:g}" for rate in rates)
    ranged = any(a.high is not None and a.bound is None for a in found)
    if ranged or any(a.bound == "at most" for a in found):
        yield "video.frame_rates", f"up to {rates[-1]:g}", ""
        return
    only = len(rates) > 1 or re.search(r"(?i)\bonly\b", text) is not None
    yield "video.frame_rates", named_ if only else f"up to {rates[-1]:g}", ""
    yield (
        "video.frame_rates",
        f"up to {rates[-1]:g}" if only else named_,
        "the page does not say whether lower frame rates are taken",
    )


def _resolution(text: str, shape: AspectRatio) -> Iterator[Found]:
    found = {
        p for part in re.split(r",|\bor\b|\band\b|/", text) if (p := resolution_in(part, shape))
    }
    if found and not _DENIED.search(without_bounds(text)):
        yield "video.max_resolution", str(max(found, key=lambda p: p.pixels)), ""


def _transcodes(text: str, _: AspectRatio) -> Iterator[Found]:
    if _DENIED.search(text):
        yield "delivery.transcodes", "never", ""
    elif re.search(r"(?i)\bcapacity|\bavailab|\bpriority|\bnot guaranteed", text):
        yield "delivery.transcodes", "when there is capacity", ""
    elif re.search(r"(?i)\balways|\ball\b|\bevery\b", text):
        yield "delivery.transcodes", "always", ""


_READERS: tuple[tuple[re.Pattern[str], Callable[[str, AspectRatio], Iterator[Found]]], ...] = (
    (_KEYFRAMES, _keyframes),
    (_B_FRAMES, _b_frames),
    (_AUDIO, _audio),
    (
        re.compile(r"(?i)\bcbr\b|\bvbr\b|\b(?:constant|variable) bit ?-?rate|\brate control"),
        _rate_control,
    ),
    (
        re.compile(r"(?i)\bcodecs?\b|\bprofile\b|\blevel\b|\bh\.? ?26[45]\b|\bhevc\b|\bav1\b"),
        _codec,
    ),
    (re.compile(r"(?i)\brtmps?\b"), _protocol),
    (_BITRATE, _bitrate),
    (_FRAME_RATE, _frame_rate),
    (
        re.compile(rf"{_RESOLUTION.pattern}|[0-9]{{3,4}}\s?[x×]\s?[0-9]{{3,4}}|\b[0-9]{{3,4}}p"),
        _resolution,
    ),
    (re.compile(r"(?i)\btranscod"), _transcodes),
)
