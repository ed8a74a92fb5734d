"""Reasons in words. The only place where a structured reason becomes a sentence."""

from __future__ import annotations

from collections.abc import Callable

from eager_kestrel.core.plan.plan import Bound, Reason
from eager_kestrel.core.units import Bitrate

BARELY = 0.01
"""A difference in quality that few would see."""

LEVEL_TABLES = {"h264": "H.264 table A-1", "hevc": "H.265 table A.8", "av1": "AV1 annex A"}

Facts = dict[str, float | str]


def _rate(value: float | str) -> str:
    return Bitrate.from_kbps(float(value)).in_kbps()


def _they(facts: Facts, verb: str = "take") -> str:
    """The platform, or several that share an encode, with a verb that agrees."""
    name = str(facts["platform"])
    return f"{name} {verb}" if " and " in name else f"{name} {verb}s"


def _bitrate_budget(facts: Facts) -> str:
    return (
        f"your line leaves {_rate(int(float(facts['budget_kbps'])))} for video "
        f"(safe rate {_rate(facts['safe_kbps'])} less headers and audio), rounded down"
    )


def _bitrate_guide(facts: Facts) -> str:
    return (
        f"{_they(facts)} at most {_rate(facts['ceiling_kbps'])}; "
        f"your line would carry {_rate(facts['budget_kbps'])}"
    )


def _bitrate_clean(facts: Facts) -> str:
    return (
        f"at this size and rate {facts['motion']} motion shows no loss from "
        f"{_rate(facts['clean_kbps'])} up; more would be wasted"
    )


def _picture_quality(facts: Facts) -> str:
    close = float(facts["quality"]) - float(facts["next_quality"]) < BARELY
    worse = "look no better" if close else "smear"
    return (
        f"at {_rate(facts['kbps'])} the next larger, {facts['next']}, would {worse}: "
        f"quality {float(facts['next_quality']):.3f} against {float(facts['quality']):.3f} "
        f"for {facts['motion']} motion"
    )


def _frame_rate_quality(facts: Facts) -> str:
    return (
        f"{facts['other']} frames a second would look worse at this bitrate: best quality there is "
        f"{float(facts['other_quality']):.3f} against {float(facts['quality']):.3f}"
    )


_SENTENCES: dict[tuple[str, Bound], Callable[[Facts], str]] = {
    ("bitrate", "budget"): _bitrate_budget,
    ("bitrate", "guide"): _bitrate_guide,
    ("bitrate", "no visible gain"): _bitrate_clean,
    ("bitrate", "viewers"): lambda f: (
        f"{f['platform']} may pass on exactly what it gets, and its slowest viewers have "
        f"{_rate(f['viewers_kbps'])}"
    ),
    ("bitrate", "level"): lambda f: f"the highest level {_they(f)} allows {_rate(f['level_kbps'])}",
    ("picture", "quality at this bitrate"): _picture_quality,
    ("picture", "source"): lambda _: "as large as your source; enlarging it adds nothing",
    ("picture", "guide"): lambda f: (
        f"larger than your source, because {_they(f, 'deliver')} such pictures better"
        if "rewarded" in f
        else f"the largest {_they(f)}"
    ),
    ("picture", "machine"): lambda f: (
        f"this machine does not encode {f['next']} in time with {float(f['share']):.0%} of itself"
    ),
    ("frame rate", "machine"): lambda f: (
        f"this machine does not encode {f['other']} frames a second in time with "
        f"{float(f['share']):.0%} of itself"
    ),
    ("preset", "machine"): lambda f: (
        f"the slowest that this machine holds: it takes {float(f['load']):.0%} of it, and "
        f"{float(f['share']):.0%} are allowed"
    ),
    ("colour", "guide"): lambda f: f"what {_they(f, 'read')}; anything else shifts the colours",
    ("resize", "content"): lambda f: (
        "keeps the fine detail that a picture which hardly moves can show"
        if f["motion"] in ("still", "calm")
        else "a little softer than the source: moving detail costs bitrate and is not seen"
    ),
    ("rate control", "budget"): lambda f: (
        f"{_they(f, 'prefer')} it: {_rate(f['target_kbps'])} on average, and the line bears the "
        f"peak of {_rate(f['peak_kbps'])}"
    ),
    ("frame rate", "quality at this picture"): _frame_rate_quality,
    ("frame rate", "source"): lambda _: "all that your source has",
    ("frame rate", "guide"): lambda f: (
        f"at {f['other']} frames a second {_they(f)} no less than {_rate(f['floor_kbps'])}"
        if "floor_kbps" in f
        else f"the most {_they(f)} of a source at this rate"
    ),
    ("keyframes", "guide"): lambda f: (
        f"{_they(f, 'want')} them {f['rule']}; "
        f"{float(f['seconds']):g} s x {f['fps']} = {int(float(f['frames']))} frames"
    ),
    ("audio", "guide"): lambda f: (
        f"{_they(f)} {float(f['least_kbps']):g} to {float(f['most_kbps']):g} kbit/s"
    ),
    ("audio", "share of the total"): lambda f: (
        f"about {float(f['share']):.0%} of what is sent, so that video keeps the rest; "
        f"{_they(f)} {float(f['least_kbps']):g} to {float(f['most_kbps']):g}"
    ),
    ("rate control", "guide"): lambda f: f"{_they(f, 'ask')} for it",
    ("buffer", "level"): lambda f: f"the most level {f['level']} allows",
    ("buffer", "budget"): lambda _: "one second of video, so that no burst outruns the line",
    ("level", "level"): lambda f: (
        f"the least of {LEVEL_TABLES[str(f['codec'])]} that holds picture, rate and buffer"
    ),
    ("profile", "guide"): lambda f: f"the best of those {_they(f)}",
    ("b-frames", "guide"): lambda f: f"the most {_they(f)}",
}


def reason(about: str, value: str, bound_by: Bound, **facts: float | str) -> Reason:
    """A reason with its sentence."""
    sentence = _SENTENCES[about, bound_by](facts)
    return Reason(about=about, value=value, bound_by=bound_by, facts=facts, text=sentence)
