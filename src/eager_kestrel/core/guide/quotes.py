"""What a guideline page says of each question, in its own words, and what it surely means.

A page is quoted, not interpreted. A value is proposed only where nothing has to be guessed: one
sentence names the subject (or the heading above it does), a unit that this subject can have, and
whether it is a minimum, a maximum or a recommendation; no word makes it conditional, denies it, or
speaks of something else; and no other sentence says otherwise. All else is quoted and asked.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from eager_kestrel.core.guide.page import (
    Dimension,
    Line,
    Page,
    Quantity,
    bounds_in,
    parts_of,
    quantities,
    rate_text,
    without_bounds,
)
from eager_kestrel.core.resolution import AspectRatio, Resolution, frame_rate_text, parse_frame_rate

MOST_WORDS = 120
"""Characters of a line that is quoted whole; of a longer one the sentence is."""
CODECS = (
    ("h264", r"h\.?\s?264|avc|x264"),
    ("hevc", r"h\.?\s?265|hevc|x265"),
    ("av1", r"av1"),
)
AUDIO_CODECS = (("aac", r"(?:he-?)?aac(?:-?lc)?"), ("opus", r"opus"), ("mp3", r"mp3"))
MODES = (("constant", r"cbr|constant"), ("variable", r"vbr|variable"), ("average", r"abr|average"))
CHANNELS = (("stereo", r"stereo"), ("mono", r"mono"))
PROFILES = (("high", r"high"), ("main", r"main"), ("baseline", r"baseline"))
PROTOCOLS = (("rtmps", r"rtmps"), ("rtmp", r"rtmp"), ("srt", r"srt"))
OTHER_PROTOCOLS = re.compile(r"(?i)\b(?:hls|dash|webrtc|whip|rist|zixi|ndi)\b")

_SENTENCES = re.compile(r"(?<=[a-z0-9)%][.!?])\s+(?=[A-Z0-9])|\s[•·]\s|\n")
_DENIED = re.compile(
    r"(?i)\b(?:not?|never|without|unsupported|avoid|cannot|nor|neither|instead|rather|except)\b|n't\b"
)
_ELSEWHERE = re.compile(
    r"(?i)\bon request|\bunless\b|\bonly (?:if|for|with)\b|\bif\b|\bwhen\b|\bwhile\b|\bpartners?\b|"
    r"\baffiliates?\b|\bpremium\b|\bverified\b|\bselected\b|\bcertain\b|\bsome\b|\bsoon\b|\bbeta\b|"
    r"\bplan(?:s|ned|ning)?\b|\bfuture\b|\bwill\b|\bcoming\b|\broadmap\b|\bearlier\b|\blegacy\b|"
    r"\bold(?:er)?\b|\bformer(?:ly)?\b|\bprevious(?:ly)?\b|\bused to\b|\buntil\b|\bdeprecated\b|"
    r"\bexample|\be\.g\.|\bother\b|\bdifferent\b|\bpro\b|\bplus\b|\btier\b|\baccounts?\b|"
    r"\bmembers?\b|\bsubscri|\bvr\b|360°|\bhdr\b|\btranscod|\bmobile\b|\bconsole|\bapp\b|"
    r"\btest\b|\bdepend|\[\^|\bon demand\b|\bwebcams?\b|\bscreen ?shar|\bguests?\b|\bchats?\b|"
    r"%|\bper (?!sec)|\bresampl|\bdownmix|\bconvert|\bclips?\b|\bstories\b|\bshorts\b|"
    r"\bpreviews?\b|\barchiv|\bsimulcast|\brelay|\bco-?host"
)
"""Words for what does not hold for everybody, now."""
_ABOUT_ELSE = re.compile(
    r"(?i)\bupload|\binternet|\bconnection|\bdownload|\bviewers?\b|\bplayback|\bwatch|\bfiles?\b|"
    r"\brecord|\blatenc|\bdelay|\bsegments?\b|\bchunks?\b|\bthumbnail|\bvod\b|\bbandwidth"
)
"""Words for what is not the stream that is sent."""
_AUDIO = re.compile(
    r"(?i)\baudio\b|\bsound\b|\bvoice\b|\bmusic\b|\bstereo\b|\bmono\b|\b(?:he-)?aac\b|\bopus\b"
)
_TOTAL = re.compile(
    r"(?i)\btotal\b|\bcombined\b|\boverall\b|\bincluding\b|\bincl\b|\btogether\b|\bsum\b"
)
_SIZE = re.compile(r"(?<![0-9.])([0-9]{3,5})\s?[x×*X]\s?([0-9]{3,5})(?![0-9])")
_LINES = re.compile(
    r"(?<![0-9.x×])([0-9]{3,4})[pP](?:\s?@?\s?([0-9]{2,3}(?:\.[0-9]+)?))?(?![0-9a-z])"
)
_UPRIGHT = re.compile(r"(?i)\b(?:vertical|upright|portrait)\b")
_ADDRESS = re.compile(r"(?i)\b(?:rtmps?|srt)://[^\s<>\"',;)]+")
_BITRATE = re.compile(r"(?i)\bbit ?-?rates?\b|\b[km]bits?\b|\b[km]bps\b|\b[km]b/s")
LEAST_VIDEO_KBPS = 200.0
"""Without a heading, a lower bitrate may be of audio whose heading was lost."""
MOST_AUDIO_KBPS = 640.0


@dataclass(frozen=True, slots=True)
class Quote:
    """What a page says of a question."""

    key: str
    text: str
    value: str = ""
    """An answer, where nothing of it has to be guessed."""
    aside: bool = False
    """Whether it denies, or speaks of some accounts, of later, or of something else."""


def proposed(key: str, quotes: Iterable[Quote]) -> str:
    """The answer that a page's sentences agree on; empty where they do not, or one is unclear."""
    said = [quote.value for quote in quotes if quote.key == key and not quote.aside]
    if key in ("bitrates", "servers") and all(said):
        return {"bitrates": "; ", "servers": ", "}[key].join(dict.fromkeys(said))
    return said[0] if len(set(said)) == 1 else ""


def quotes_of(page: Page, shape: AspectRatio) -> list[Quote]:
    """Every sentence that speaks of a question, in the order of the page."""
    found: list[Quote] = []
    for line in page.lines:
        for sentence in filter(None, (" ".join(s.split()) for s in _SENTENCES.split(line.text))):
            words = line.text if len(line.text) <= MOST_WORDS else sentence
            words = f"{line.heading}: {words}" if line.heading else words
            plain = _ADDRESS.sub(" ", sentence)
            if _ABOUT_ELSE.search(plain) and not _SUBJECT.search(plain):
                continue
            aside = not is_clear(f"{line.heading} {plain}")
            said: dict[str, list[str]] = {}
            for key, value in _of(Line(sentence, line.heading), shape):
                said.setdefault(key, []).append(value)
            for key, values in said.items():
                value = ", ".join(dict.fromkeys(values)) if all(values) and not aside else ""
                found.append(Quote(key, words[: 2 * MOST_WORDS], value, aside))
    return list(dict.fromkeys(found))


def named(names: Iterable[tuple[str, str]], text: str) -> list[str]:
    """Which of some things a text names, in the order they stand there."""
    at = {
        name: match.start()
        for name, pattern in names
        if (match := re.search(rf"(?i)(?<![a-z0-9])(?:{pattern})(?![a-z0-9])", text)) is not None
    }
    return sorted(at, key=at.__getitem__)


def is_clear(text: str) -> bool:
    """Whether a text denies nothing, and holds for everybody, now, and for the stream."""
    elsewhere = _ELSEWHERE.search(text) or _ABOUT_ELSE.search(text)
    return not (elsewhere or _DENIED.search(without_bounds(text)))


def sizes_in(text: str, shape: AspectRatio) -> list[Resolution]:
    """The resolutions that a text names by both sides or by their lines."""
    found = [Resolution(int(m[1]), int(m[2])) for m in _SIZE.finditer(text)]
    across, down = max(shape.across, shape.down), min(shape.across, shape.down)
    stands = shape.across < shape.down or _UPRIGHT.search(text) is not None
    for match in _LINES.finditer(_SIZE.sub(" ", text)):
        lines = int(match[1])
        long = round(lines * across / down / 2) * 2
        found.append(Resolution(lines, long) if stands else Resolution(long, lines))
    return list(dict.fromkeys(found))


def fps_in(text: str) -> list[str]:
    """The frame rates that a text names with their unit, or behind lines: ``1080p60``."""
    found = [m[2] for m in _LINES.finditer(text) if m[2]]
    for quantity in quantities(_SIZE.sub(" ", text)):
        if quantity.dimension == "fps":
            ends = [quantity.low] if quantity.high is None else [quantity.low, quantity.high]
            found += [frame_rate_text(parse_frame_rate(f"{end:.6g}")) for end in ends]
    return list(dict.fromkeys(found))


def limits_in(text: str, *dimensions: Dimension) -> list[tuple[str | None, Quantity]]:
    """The quantities of a sentence, each with the one limit that its own part speaks of.

    Empty where a part names a limit and no quantity, two of either, or one of two readings, and
    where two parts name the same limit.
    """
    found: list[tuple[str | None, Quantity]] = []
    for part in parts_of(text):
        here = [q for q in quantities(part) if q.dimension in dimensions]
        bounds = bounds_in(part)
        if not here and not bounds:
            continue
        if len(here) != 1 or len(bounds) > 1 or here[0].doubtful:
            return []
        found.append((bounds.pop() if bounds else None, here[0]))
    return found if len({bound for bound, _ in found}) == len(found) else []


Found = Iterator[tuple[str, str]]
"""Keys, each with an answer, or with nothing where it has to be asked."""


def _of(line: Line, shape: AspectRatio) -> Found:
    for address in _ADDRESS.finditer(line.text):
        after, before = line.text[address.end() :], line.text[: address.start()]
        backup = re.match(r"(?i)\s*[(\[–-]+\s*backup", after) or re.search(
            r"(?i)backup[^:]*:\s*$", before
        )
        plain_address = re.search(r"(?i)[{}<>$]|key", address[0]) is None
        value = f"{address[0].rstrip('.')}{' (backup)' if backup else ''}"
        yield "servers", value if plain_address else ""
    plain = Line(_ADDRESS.sub(" ", line.text), line.heading)
    for pattern, reader in _READERS:
        if pattern.search(plain.text) or (reader in _BY_HEADING and pattern.search(line.heading)):
            yield from reader(plain, shape)


def _is_audio(line: Line) -> bool:
    """Whether a line speaks of audio; under a heading of both only its own words count."""
    heading = "" if re.search(r"(?i)\bvideo\b", line.heading) else line.heading
    return _AUDIO.search(f"{heading} {line.text}") is not None


def _bitrate(line: Line, shape: AspectRatio) -> Found:
    """Of video: a row where it names one resolution and frame rate, else limits of all."""
    whole = f"{line.heading} {line.text}"
    if not any(q.dimension in ("bitrate", "bytes") for q in quantities(line.text)):
        return
    if _is_audio(line):
        yield from _audio_bitrate(line)
        if re.search(r"(?i)\bvideo\b", line.text):
            yield "video.max_bitrate", ""
        return
    found, codecs = limits_in(_SIZE.sub(" ", line.text), "bitrate"), named(CODECS, whole)
    sizes, fps = sizes_in(line.text, shape), fps_in(line.text)
    unclear = bool(_TOTAL.search(whole) or _AUDIO.search(whole) or not found or codecs[1:])
    unclear = unclear or any(bound is None or q.high is not None for bound, q in found)
    unclear = unclear or any(q.low < LEAST_VIDEO_KBPS for _, q in found)
    if sizes or fps:
        exact = len(sizes) == 1 and len(fps) == 1 and not unclear
        codec = f" in {codecs[0]}" if codecs else ""
        yield "bitrates", row_text(sizes[0], fps[0], found, codec) if exact else ""
        return
    keys = {"max": "video.max_bitrate", "min": "video.min_bitrate"}
    unclear = unclear or bool(codecs or not re.search(r"(?i)\bbit ?-?rate|\bvideo\b", whole))
    for bound, quantity in found:
        if bound in keys:
            value = rate_text(quantity.low)
            yield keys[bound], "" if unclear else value
    if all(bound not in keys for bound, _ in found):
        yield "video.max_bitrate", ""


def row_text(
    size: Resolution, fps: str, limits: Iterable[tuple[str | None, Quantity]], more: str = ""
) -> str:
    """A row as its answer is written."""
    words = {"min": "at least", "recommended": "recommended", "max": "at most"}
    said = [
        f"{words[bound or 'max']} {rate_text(q.low)}"
        if q.high is None
        else f"{rate_text(q.low)} to {rate_text(q.high)}"
        for bound, q in limits
    ]
    rate = f" at {fps}" if fps else ""
    return f"{size}{rate}{more}: {', '.join(dict.fromkeys(said))}"


def _audio_bitrate(line: Line) -> Found:
    found = limits_in(line.text, "bitrate")
    words = {"min": "at least", "recommended": "recommended", "max": "at most"}
    certain = found and all(
        bound is not None and q.high is None and q.low <= MOST_AUDIO_KBPS for bound, q in found
    )
    certain = (
        certain and not _TOTAL.search(line.text) and not re.search(r"(?i)\bvideo\b", line.text)
    )
    said = [f"{words[bound or 'max']} {rate_text(q.low)}" for bound, q in found]
    yield "audio.bitrate", ", ".join(said) if certain else ""


def _resolution(line: Line, shape: AspectRatio) -> Found:
    if _BITRATE.search(line.text):
        return
    sizes, bounds = sizes_in(line.text, shape), bounds_in(line.text)
    if sizes:
        certain = len(sizes) == 1 and bounds == {"max"} and not fps_in(line.text)
        yield "video.max_resolution", str(sizes[0]) if certain else ""


def _frame_rate(line: Line, shape: AspectRatio) -> Found:
    rates = fps_in(line.text)
    named_ = re.search(r"(?i)\bframe ?-?rate", line.text) and re.search("[0-9]", line.text)
    if _BITRATE.search(line.text) or not (rates or named_):
        return
    bounds = [bound for bound, _ in limits_in(line.text, "fps")]
    certain = bounds == ["max"] and len(rates) == 1 and not sizes_in(line.text, shape)
    certain = certain and not _KEYFRAMES.search(line.text)
    yield "video.frame_rates", f"up to {rates[0]}" if certain else ""


def _keyframes(line: Line, _: AspectRatio) -> Found:
    found = limits_in(line.text, "seconds")
    words = {"min": "at least", "recommended": "recommended", "max": "at most"}
    said = [f"{words[bound]} {q.low:g} s" if bound else f"{q.low:g} s" for bound, q in found]
    certain = len(said) == 1 or (said and all(bound for bound, _ in found))
    certain = certain and all(q.high is None for _, q in found)
    certain = certain and not any(q.dimension == "frames" for q in quantities(line.text))
    certain = certain and re.search(r"(?i)\bat least (?:one|a|every|each)\b", line.text) is None
    yield "video.keyframes", ", ".join(said) if certain else ""


def _b_frames(line: Line, _: AspectRatio) -> Found:
    rest = re.sub(r"(?i)\bb-?frames?\b", " ", line.text)
    numbers = [q for q in quantities(rest) if q.dimension == "none"]
    certain = len(numbers) == 1 and bounds_in(line.text) == {"max"} and numbers[0].low <= 16
    yield "video.max_b_frames", f"{numbers[0].low:g}" if certain else ""


def _one_of(key: str, names: tuple[tuple[str, str], ...], subject: str) -> Callable[..., Found]:
    """Reads names beside their subject; what is only recommended, or also fine, is asked."""

    def read(line: Line, _: AspectRatio) -> Found:
        found = named(names, line.text)
        other = key == "video.codecs" and re.search(r"(?i)\bprofile|\blevel", line.text)
        if found and not other:
            whole = f"{line.heading} {line.text}"
            certain = re.search(rf"(?i){subject}", whole) and not bounds_in(line.text)
            loose = re.search(r"(?i)\b(?:also|fine|ok(?:ay)?|too|possible|well)\b", line.text)
            loose = loose or OTHER_PROTOCOLS.search(line.text)
            yield key, ", ".join(found) if certain and not loose else ""

    return read


def _rate_control(line: Line, _: AspectRatio) -> Found:
    if found := named(MODES, line.text):
        certain = found in (["constant"], ["variable"]) and not bounds_in(line.text)
        yield "video.rate_control", found[0] if certain else ""


def _level(line: Line, _: AspectRatio) -> Found:
    level = re.search(r"(?i)\blevel\b[^0-9]{0,12}([1-6](?:\.[0-9])?)(?![0-9])", line.text)
    if level is not None:
        other = named(CODECS[1:], f"{line.heading} {line.text}")
        certain = bounds_in(line.text) == {"max"} and not other
        yield "video.max_level", level[1] if certain else ""


def _samples(line: Line, _: AspectRatio) -> Found:
    found = [q for q in quantities(line.text) if q.dimension in ("hertz", "none")]
    certain = found and all(q.dimension == "hertz" and not q.doubtful for q in found)
    certain = certain and not bounds_in(line.text) and all(q.high is None for q in found)
    said = ", ".join(f"{q.low / 1000:g} kHz" for q in found if q.dimension == "hertz")
    yield "audio.sample_rates", said if certain else ""


def _transports(line: Line, _: AspectRatio) -> Found:
    found = named(PROTOCOLS, line.text)
    certain = not OTHER_PROTOCOLS.search(line.text) and not bounds_in(line.text)
    yield "transports", ", ".join(found) if certain else ""


def _transcodes(_: Line, __: AspectRatio) -> Found:
    yield "delivery.transcodes", ""


_TRANSCODES = re.compile(r"(?i)\btranscod|\bquality options?\b")
_SUBJECT = re.compile(
    r"(?i)\btranscod|\b(?:key|[bi])-? ?frames?\b|\bcodec|\bprofile\b|\bresolution|\bframe rate"
)
"""What a sentence is quoted for even if it speaks of other things as well."""
_KEYFRAMES = re.compile(r"(?i)\bkey ?-?frames?\b|\bgop\b|\bi-frames?\b|group of pictures")
_READERS: tuple[tuple[re.Pattern[str], Callable[[Line, AspectRatio], Found]], ...] = (
    (_KEYFRAMES, _keyframes),
    (re.compile(r"(?i)\bb-?frames?\b"), _b_frames),
    (_BITRATE, _bitrate),
    (re.compile(r"(?i)\bresolution|\bpicture size|\bvideo size|\bdimension"), _resolution),
    (re.compile(r"(?i)\bframe ?-?rates?\b|\bfps\b|\bframes (?:per|a) second\b"), _frame_rate),
    (
        re.compile(r"(?i)\bcbr\b|\bvbr\b|\b(?:constant|variable) bit ?-?rate|\brate control"),
        _rate_control,
    ),
    (
        re.compile(rf"(?i)(?<![a-z0-9])(?:{'|'.join(p for _, p in CODECS)})(?![a-z0-9])"),
        _one_of(
            "video.codecs",
            CODECS,
            r"\bcodecs?\b|\bcompression\b|\bencod(?:e|er|ing)\b|\bformats?\b",
        ),
    ),
    (re.compile(r"(?i)\bprofile\b"), _one_of("video.profiles", PROFILES, r"\bprofiles?\b")),
    (re.compile(r"(?i)\blevel\b"), _level),
    (
        re.compile(r"(?i)\baac\b|\bopus\b|\bmp3\b"),
        _one_of(
            "audio.codecs",
            AUDIO_CODECS,
            r"\bcodecs?\b|\baudio\b|\bformats?\b|\bencod(?:e|er|ing)\b",
        ),
    ),
    (re.compile(r"(?i)[0-9 ]khz\b|\bsampl\w+ rates?\b"), _samples),
    (
        re.compile(r"(?i)\bstereo\b|\bmono\b|\bchannels?\b"),
        _one_of("audio.channels", CHANNELS, r"\bchannels?\b"),
    ),
    (re.compile(r"(?i)\brtmps?\b|\bsrt\b"), _transports),
    (_TRANSCODES, _transcodes),
)
_BY_HEADING = (_keyframes, _resolution, _frame_rate, _bitrate)
"""Subjects that a heading names for all below it."""


def without_codecs(text: str) -> str:
    """A text without names of codecs, whose figures are no quantities."""
    for _, pattern in CODECS:
        text = re.sub(rf"(?i)(?<![a-z0-9])(?:{pattern})(?![a-z0-9])", " ", text)
    return text
