"""Sentences, list items and ``Key: value`` lines of a guideline page, mapped to keys of a guide.

A sentence that speaks of nothing a guide has a key for is passed over. One that does is taken when
each of its numbers and conditions is accounted for; else it is told.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from fractions import Fraction
from typing import Any

from eager_kestrel.core.guide.amounts import AUDIO_KBPS, VIDEO_KBPS, Reading, read_amounts
from eager_kestrel.core.guide.page import Answers, Taken, Understood
from eager_kestrel.core.guide.phrases import (
    audio_codecs_in,
    codecs_in,
    keyframes_in,
    picture_in,
    rates_in,
)
from eager_kestrel.core.levels import level_rank
from eager_kestrel.core.units import Bitrate

_SENTENCES = re.compile(r"(?<=[a-z0-9)][.!?])\s+(?=[A-Z0-9])|\s[•·]\s|;\s|\n")
_CONDITIONS = re.compile(
    r"(?i)\b(?:unless|except|only if|if|when|partners?|affiliates?|verified|some|certain|soon)\b"
)
_NOT = r"(?:not|no|never|avoid|without|don'?t|isn'?t|aren'?t)"
_NEGATED = re.compile(rf"(?i)\b{_NOT}\b")
_UPLOAD = re.compile(r"(?i)\bupload|\binternet|\bbandwidth|\bconnection\b|\bdownload|\bfile size")
_WISH = re.compile(r"(?i)\b(?:recommend\w*|prefer\w*|advis\w*|suggest\w*|ideal\w*|best|we like)\b")
_AUDIO = re.compile(r"(?i)\baudio\b|\bsound\b|\bsampl\w+ rate|\bstereo\b|\bmono\b|\baac\b|\bopus\b")
_KEYFRAMES = re.compile(r"(?i)\bkey ?-?frames?\b|\bgop\b|\bi-?frames?\b|group of pictures")
_RATE_CONTROL = re.compile(
    r"(?i)\brate control\b|\bcbr\b|\bvbr\b|\b(?:constant|variable) bit ?rate"
)
_B_FRAMES = re.compile(r"(?i)\bb-?frames?\b")
_PROFILE = re.compile(r"(?i)\bprofile\b")
_FRAME_RATE = re.compile(
    r"(?i)\bframe ?-?rates?\b|\bfps\b|\bframes (?:per|a) second\b|\bframes/s\b"
)
_PROTOCOL = re.compile(r"(?i)\b(?:rtmps|rtmp|hls)\b|\bprotocols?\b")
_PICTURE = re.compile(
    r"(?i)\bresolution|\bpicture\b|\bsize\b|[0-9]{3,4}\s*[x×]\s*[0-9]{3,4}|[0-9]{3,4}p\b"
)
_BITRATE = re.compile(r"(?i)\bbit ?-?rate|\b[km]bits?|\b[km]bps")

Take = Callable[[str, Any], None]


def take_lines(lines: tuple[str, ...], answers: Answers, done: Understood) -> None:
    """Take what the lines of a page say."""
    for line in lines:
        for sentence in _sentences(line):
            take_line(sentence, "a line", answers, done)


def _sentences(line: str) -> list[str]:
    """Parts that speak of one thing each; ``Do not exceed 4`` goes with what it follows."""
    found: list[str] = []
    for part in (" ".join(part.split()) for part in _SENTENCES.split(line)):
        goes_on = found and _ABOUT.search(found[-1]) and not _ABOUT.search(part)
        if goes_on and re.search("[0-9]", part) and _LIMITS.search(part):
            found[-1] = f"{found[-1]}; {part}"
        elif part:
            found += _apart(part)
    return found


def _apart(sentence: str) -> list[str]:
    """``High profile, 2 B-frames, keyframes every 2 s`` speaks of three things."""
    parts = [part.strip() for part in re.split(r",\s|\.$", sentence) if part.strip()]
    if _AUDIO.search(sentence) or not all(_ABOUT.search(part) for part in parts):
        return [sentence]
    return parts


def take_line(text: str, where: str, answers: Answers, done: Understood) -> None:
    """Take what one sentence says, if it is about anything a guide has a key for."""
    topics = [(pattern, reader) for pattern, reader in _TOPICS if pattern.search(text)]
    if not topics:
        return
    if _UPLOAD.search(text):
        return  # about the line, not the stream
    reader = topics[0][1]
    condition = _CONDITIONS.search(text)
    if condition is not None and re.search(r"[0-9]", text):
        done.unplaced.append(f'{where}: "{text}" holds only under a condition ("{condition[0]}")')
        return

    took: list[str] = []

    def take(key: str, value: Any) -> None:
        took.append(key)
        done.take(Taken(where, key, value, text))

    left = reader(text, take, answers, done)
    if left:
        done.unplaced.append(f'{where}: "{text}": {left}')
    elif not took and re.search(r"[0-9]", text):
        done.unplaced.append(f'{where}: "{text}" is not understood')


def _of(reading: Reading) -> str:
    """What of a sentence was not understood, if any of it matters."""
    return "; ".join(reading.unsure) or ("a number without a unit" if reading.no_unit else "")


def _keyframes(text: str, take: Take, _: Answers, done: Understood) -> str:
    fps = {rung.frame_rate for rung in done.rungs if rung.frame_rate is not None}
    rate = next(iter(fps)) if len(fps) == 1 else None
    rest = _FRAME_AT.sub(" ", text)
    if (match := _FRAME_AT.search(text)) is not None:
        rate = Fraction(match[1])
    rest = _KEYFRAMES.sub(" ", rest)
    unit = (
        "(frames)" if re.search(r"(?i)in frames", rest) else "(s)" if _SECONDS.search(rest) else ""
    )
    if not re.search("[0-9]", rest):
        return ""
    rule, reading = keyframes_in(rest, unit, rate)
    if rule is None:
        return _of(reading) or "no interval is understood"
    if _NEGATED.search(_NOT_EXCEED.sub(" ", rest)):
        return "it denies something"
    take("video.keyframes", rule)
    return _of(reading)


_SECONDS = re.compile(r"(?i)\bin seconds|\bseconds?\b|[0-9]\s?s\b")
_FRAME_AT = re.compile(r"(?i)\bat ([0-9]{2,3}) ?fps\b")
_NOT_EXCEED = re.compile(
    r"(?i)\b(?:do |must |should )?not (?:to )?(?:exceed\w*|go (?:above|over))"
    r"|\bno (?:more|less) than"
)


def _audio(text: str, take: Take, _: Answers, __: Understood) -> str:
    codecs, rest = audio_codecs_in(text)
    if codecs and not _NEGATED.search(text):
        take("audio.codecs", codecs)
    rates = _SAMPLES.findall(rest)
    if rates:
        hertz = tuple(
            dict.fromkeys(_hertz(n, unit) for group, unit in rates for n in _SPLIT.split(group))
        )
        take("audio.sample_rates_hz", hertz)
    rest = _SAMPLES.sub(" ", rest)
    if channels := _channels(rest):
        take("audio.channels", channels)
    rest = _CHANNELS.sub(" ", rest)
    if not re.search("[0-9]", rest):
        return ""
    reading = read_amounts(rest, "bitrate", "kbit/s", AUDIO_KBPS)
    for amount in reading.amounts:
        rate = [Bitrate.from_kbps(end) for end in amount.ends]
        if amount.bound is None and _WISH.search(text):
            take("audio.advised.bitrate", rate[-1])
        elif len(rate) == 2:
            take("audio.least", rate[0])
            take("audio.most", rate[1])
        else:
            key = {"floor": "audio.least", "advised": "audio.advised.bitrate"}
            take(key.get(amount.bound or "", "audio.most"), rate[0])
    return _of(reading)


_SPLIT = re.compile(r"\s*(?:/|,|\bor\b|\band\b)\s*")
_SAMPLES = re.compile(
    r"(?i)([0-9][0-9., ]*(?:\s*(?:/|,|\bor\b|\band\b)\s*[0-9][0-9.]*)*)\s*(k?hz)\b"
    r"(?:\s+sampl\w+ rate)?"
)
_CHANNELS = re.compile(r"(?i)\bstereo\b|\bmono\b|\b[12] channels?\b|\bchannels?:? ?[12]\b")


def _hertz(number: str, unit: str) -> int:
    value = float(number.replace(",", ".") if "," in number and len(number) < 6
                  else re.sub(r"[ ,]", "", number))  # fmt: skip
    return round(value * 1000) if unit.lower() == "khz" or value < 1000 else round(value)


def _channels(text: str) -> tuple[int, ...]:
    found = []
    for match in _CHANNELS.findall(text):
        plain = match.lower()
        found.append(1 if plain == "mono" or "1" in plain else 2)
    return tuple(dict.fromkeys(found))


def _rate_control(text: str, take: Take, _: Answers, __: Understood) -> str:
    found = {}
    for kind, words in (("constant", r"cbr|constant"), ("variable", r"vbr|variable")):
        match = re.search(rf"(?i)\b(?:{words})\b", text)
        if match is None:
            continue
        clause = next(
            c for c in re.split(r"[,.()]|\bbut\b", text) if re.search(rf"(?i)\b(?:{words})\b", c)
        )
        found[kind] = _NEGATED.search(clause) is None
    allowed = tuple(kind for kind, taken in found.items() if taken)
    if not allowed and len(found) == 1:  # "VBR is not supported" leaves the other
        allowed = ("variable",) if "constant" in found else ("constant",)
    if allowed:
        take("video.rate_control", allowed)
    if _WISH.search(text) and len(allowed) == 1:
        take("video.advised.rate_control", allowed[0])
    return ""


def _b_frames(text: str, take: Take, _: Answers, __: Understood) -> str:
    numbers = [int(n) for n in re.findall(r"(?<![0-9.])[0-9]{1,2}(?![0-9]|\.[0-9])", text)]
    if not numbers and _NEGATED.search(text):
        numbers = [0]
    if len(numbers) != 1 or numbers[0] > 16:
        return "no number of B-frames is understood" if re.search("[0-9]", text) else ""
    take("video.advised.b_frames" if _WISH.search(text) else "video.b_frames", numbers[0])
    return ""


def _codec(text: str, take: Take, _: Answers, __: Understood) -> str:
    codecs, rest = codecs_in(text)
    if _NEGATED.search(text):
        return "it denies something"
    if codecs and _WISH.search(text) and len(codecs) == 1:
        take("video.advised.codec", codecs[0])
    elif codecs:
        take("video.codecs", codecs)
    profiles = tuple(
        dict.fromkeys(p.lower() for p in re.findall(r"(?i)\b(?:high|main|baseline)\b", rest))
    )
    if _PROFILE.search(text) and profiles and codecs[1:] == ():
        codec = codecs[0] if codecs else "h264"
        taken = tuple(p for p in profiles if codec == "h264" or p == "main")
        if _WISH.search(text) and len(taken) == 1:
            take("video.advised.profile", taken[0])
        elif taken:
            take(f"video.profiles.{codec}", taken)
    level = re.search(r"(?i)\blevel:?\s*([1-6](?:\.[0-9])?)", rest)
    if level is not None and level_rank(codecs[0] if codecs else "h264", level[1]) is not None:
        take(f"video.highest_level.{codecs[0] if codecs else 'h264'}", level[1])
    rest = re.sub(r"(?i)\blevel:?\s*[1-6](?:\.[0-9])?", " ", rest)
    return "a number is left over" if re.search(r"[0-9]", rest) else ""


def _frame_rate(text: str, take: Take, _: Answers, __: Understood) -> str:
    found, reading = rates_in(text)
    if found is None:
        return _of(reading)
    if _NEGATED.search(_NOT_EXCEED.sub(" ", text)):
        return "it denies something"
    if found.advised is not None:
        take("video.advised.frame_rate", found.advised)
    if found.advised != found.fastest:
        only = re.search(r"(?i)\bonly\b", text) is not None and found.listed
        take(
            "video.frame_rates" if only else "video.fastest",
            found.listed if only else found.fastest,
        )
    return _of(reading)


def _protocol(text: str, take: Take, _: Answers, __: Understood) -> str:
    named = tuple(dict.fromkeys(p.lower() for p in re.findall(r"(?i)\b(?:rtmps|rtmp|hls)\b", text)))
    if _NEGATED.search(text):
        return "it denies something"
    if named and "hls" not in named:
        take("transports", named)
    return "pieces have no length here" if "hls" in named else ""


def _picture(text: str, take: Take, answers: Answers, _: Understood) -> str:
    read = picture_in(text, answers.shape)
    if read is None:
        return ""
    if re.search(r"(?i)\bup to\b|\bmax|\blargest\b|\bat most\b|\bhighest\b", text):
        take("video.largest", read.picture)
        if read.frame_rate:
            take("video.fastest", Fraction(read.frame_rate))
        return ""
    return "no key says this of a picture"


def _bitrate(text: str, take: Take, answers: Answers, _: Understood) -> str:
    reading = read_amounts(text, "bitrate", answers.unit or "", VIDEO_KBPS)
    keys = {"ceiling": "video.ceiling", "floor": "video.floor"}
    for amount in reading.amounts:
        rates = [Bitrate.from_kbps(end) for end in amount.ends]
        if amount.bound not in keys and _WISH.search(text):
            return "a recommendation is no limit, and no key says it for every picture"
        if len(rates) == 2 and amount.bound != "advised":
            take("video.floor", rates[0])
            take("video.ceiling", rates[1])
        elif amount.bound in keys:
            take(keys[amount.bound], rates[-1])
        else:
            return "whether it is wished or the most is not said"
    return _of(reading)


_LIMITS = re.compile(r"(?i)\bexceed|\bmore than\b|\bless than\b|\bmax|\bmin|"
                     r"\bat (?:most|least)\b|\bup to\b|\brecommend|\bnever\b|\bnot\b|\bbetween\b|"
                     r"\bbelow\b|\babove\b|\bover\b")  # fmt: skip
_TOPICS: tuple[tuple[re.Pattern[str], Callable[[str, Take, Answers, Understood], str]], ...] = (
    (_KEYFRAMES, _keyframes),
    (_B_FRAMES, _b_frames),
    (_AUDIO, _audio),
    (_RATE_CONTROL, _rate_control),
    (re.compile(r"(?i)\bcodecs?\b|\bprofile\b|\bh\.?26[45]\b|\bhevc\b|\bav1\b|\bavc\b"), _codec),
    (_PROTOCOL, _protocol),
    (_BITRATE, _bitrate),
    (_FRAME_RATE, _frame_rate),
    (_PICTURE, _picture),
)  # fmt: skip
_ABOUT = re.compile(
    "|".join(pattern.pattern.removeprefix("(?i)") for pattern, _ in _TOPICS), re.IGNORECASE
)
