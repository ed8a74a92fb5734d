"""Why each setting of a plan is what it is."""

from __future__ import annotations

from typing import assert_never

from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.words import facts
from eager_kestrel.core.words.numbers import kbit, looks

MACHINE_TOO = "; nor does this machine encode it in time"
LEVEL_TABLES = {"h264": "H.264 table A-1", "hevc": "H.265 table A.8", "av1": "AV1 annex A"}


def _they(platform: str, verb: str = "take") -> str:
    """The platform, or several that share an encode, with a verb that agrees."""
    return f"{platform} {verb}" if " and " in platform else f"{platform} {verb}s"


def reason(fact: facts.Fact) -> str:
    """Why a setting is what it is."""
    match fact:
        case facts.BitrateBounded():
            return _bitrate(fact)
        case (
            facts.ResolutionRewarded()
            | facts.ResolutionOnly()
            | facts.ResolutionLargest()
            | facts.ResolutionEnough()
            | facts.ResolutionUnderFloor()
            | facts.ResolutionTooSlow()
            | facts.ResolutionLooksBest()
            | facts.ResolutionAlike()
        ):
            return _resolution(fact)
        case (
            facts.RateFastest()
            | facts.RateRecommended()
            | facts.RateEnough()
            | facts.RateUnderFloor()
            | facts.RateTooSlow()
            | facts.RateLooksBest()
        ):
            return _frame_rate(fact)
        case facts.AudioShared():
            return _audio(fact)
        case (
            facts.KeyframesRuled()
            | facts.RateControlRuled()
            | facts.VariablePreferred()
            | facts.BufferSized()
        ):
            return _pace(fact)
        case _:
            return _form(fact)


def _bitrate(fact: facts.BitrateBounded) -> str:
    match fact.limited_by:
        case "budget":
            return (
                f"{fact.of} leaves {kbit(int(fact.budget_kbps))} for video "
                f"(safe rate {kbit(fact.safe_kbps)} less headers and audio), rounded down"
            )
        case "guide":
            return (
                f"{_they(fact.platform)} at most {kbit(fact.ceiling_kbps)}; "
                f"your connection would carry {kbit(fact.budget_kbps)}"
            )
        case "no visible gain":
            return (
                f"at this size and rate {fact.motion} motion shows no loss from "
                f"{kbit(fact.clean_kbps)} up; more would be wasted"
            )
        case "viewers":
            return (
                f"{fact.platform} may pass on exactly what it gets, and its slowest viewers have "
                f"{kbit(fact.viewers_kbps)}"
            )
        case "level":
            return f"the highest level {_they(fact.platform)} allows {kbit(fact.level_kbps)}"
        case never:
            assert_never(never)


def _resolution(
    fact: facts.ResolutionRewarded
    | facts.ResolutionOnly
    | facts.ResolutionLargest
    | facts.ResolutionEnough
    | facts.ResolutionUnderFloor
    | facts.ResolutionTooSlow
    | facts.ResolutionLooksBest
    | facts.ResolutionAlike,
) -> str:
    match fact:
        case facts.ResolutionAlike():
            return _alike(fact)
        case facts.ResolutionRewarded():
            they = _they(fact.platform, "deliver")
            return f"larger than your source, because {they} such resolutions better"
        case facts.ResolutionOnly():
            return f"the smallest {_they(fact.platform)}; pad your source, or crop it"
        case facts.ResolutionLargest(limited_by="source"):
            return "as large as your source; enlarging it adds nothing"
        case facts.ResolutionLargest():
            return f"the largest {_they(fact.platform)}"
        case facts.ResolutionEnough():
            return f"a higher resolution would not look better at {kbit(fact.kbps)}"
        case facts.ResolutionUnderFloor():
            return (
                f"{_they(fact.platform)} no less than {kbit(fact.floor_kbps)} of "
                f"{resolution_at(fact.next, fact.fps)}, which would be sent even at "
                f"{kbit(fact.kbps)}{MACHINE_TOO if fact.machine_too else ''}"
            )
        case facts.ResolutionTooSlow():
            return _too_slow(str(fact.next), fact.share, beside_others=fact.beside_others)
        case facts.ResolutionLooksBest():
            return (
                f"at {kbit(fact.kbps)} {fact.next} would look worse: "
                f"{looks(fact.next_quality)} against {looks(fact.quality)} for {fact.motion} motion"
            )
        case never:
            assert_never(never)


def _alike(fact: facts.ResolutionAlike) -> str:
    ends = f"{fact.alike_least.lines}p to {fact.alike_most.lines}p"
    if fact.because == "own":
        why = f"{fact.resolution} is your source's own"
    elif fact.because == "named":
        why = f"{fact.resolution} is one {_they(fact.platform, 'name')}"
    elif fact.because == "customary":
        why = f"{fact.resolution} is a common one near the safest"
    else:
        why = f"{fact.resolution} loses least on the footage where it does worst"
    worse = ""
    if fact.next is not None and fact.next_quality is not None:
        against = f"{looks(fact.next_quality)} against {looks(fact.quality)}"
        worse = f"; {fact.next} would look worse: {against}"
    return f"{ends} are about the same quality at {kbit(fact.kbps)}; {why}{worse}"


def _too_slow(what: str, share: float, *, beside_others: bool) -> str:
    if beside_others:
        return f"this machine has no room for {what} beside the other encodes ({share:.0%} of it)"
    return f"this machine does not encode {what} in time with {share:.0%} of itself"


def _frame_rate(
    fact: facts.RateFastest
    | facts.RateRecommended
    | facts.RateEnough
    | facts.RateUnderFloor
    | facts.RateTooSlow
    | facts.RateLooksBest,
) -> str:
    match fact:
        case facts.RateFastest(limited_by="source"):
            return "all that your source has"
        case facts.RateFastest():
            return f"the most {_they(fact.platform)} of a source at this rate"
        case facts.RateRecommended():
            return f"what {_they(fact.platform, 'advise')}"
        case facts.RateEnough():
            return "a higher frame rate would not look better at this bitrate"
        case facts.RateUnderFloor():
            return (
                f"{_they(fact.platform)} no less than {kbit(fact.floor_kbps)} of "
                f"{resolution_at(fact.resolution, fact.other)}, which would be sent"
                f"{MACHINE_TOO if fact.machine_too else ''}"
            )
        case facts.RateTooSlow():
            what = f"{frame_rate_text(fact.other)} frames a second"
            return _too_slow(what, fact.share, beside_others=fact.beside_others)
        case facts.RateLooksBest():
            return (
                f"{frame_rate_text(fact.other)} fps would look worse at this bitrate: "
                f"{looks(fact.other_quality)} at best, against {looks(fact.quality)}"
            )
        case never:
            assert_never(never)


def _pace(
    fact: facts.KeyframesRuled
    | facts.RateControlRuled
    | facts.VariablePreferred
    | facts.BufferSized,
) -> str:
    match fact:
        case facts.KeyframesRuled():
            return (
                f"{_they(fact.platform, 'want')} them {fact.rule}; {fact.seconds:g} s x "
                f"{frame_rate_text(fact.fps)} = {int(fact.frames)} frames"
            )
        case facts.VariablePreferred():
            return (
                f"{_they(fact.platform, 'prefer')} it: {kbit(fact.target_kbps)} on average, and "
                f"the connection bears the peak of {kbit(fact.peak_kbps)}"
            )
        case facts.RateControlRuled():
            return f"{_they(fact.platform, 'ask')} for it"
        case facts.BufferSized(limited_by="level"):
            return f"the most level {fact.level} allows"
        case facts.BufferSized():
            return "one second of video, so that no burst outruns the connection"
        case never:
            assert_never(never)


def _form(
    fact: facts.ProfileTaken
    | facts.LevelNeeded
    | facts.BFramesTaken
    | facts.PresetHeld
    | facts.ColourRead
    | facts.ResizedFor,
) -> str:
    match fact:
        case facts.ProfileTaken():
            best = f"of those {_they(fact.platform)}, the one that looks best at a bitrate"
            return f"what {_they(fact.platform, 'recommend')}" if fact.recommended else best
        case facts.LevelNeeded():
            table = LEVEL_TABLES[fact.codec]
            return f"the least of {table} that holds resolution, rate and buffer"
        case facts.BFramesTaken(recommended=True):
            return f"what {_they(fact.platform, 'advise')}"
        case facts.BFramesTaken(limited_by="guide"):
            return f"the most {_they(fact.platform)}"
        case facts.BFramesTaken():
            return "more cost delay and bring little at live bitrates"
        case facts.PresetHeld():
            return (
                f"the slowest that this machine holds: it takes {fact.load:.0%} of it, and "
                f"{fact.share:.0%} are allowed{_buys(fact)}"
            )
        case facts.ColourRead():
            return f"what {_they(fact.platform, 'read')}; anything else shifts the colours"
        case facts.ResizedFor(motion="still" | "calm"):
            return "keeps the fine detail that a resolution which hardly moves can show"
        case facts.ResizedFor():
            return "a little softer than the source: moving detail costs bitrate and is not seen"
        case never:
            assert_never(never)


def _buys(fact: facts.PresetHeld) -> str:
    """What a preset buys, or costs, beside the usual one."""
    if not fact.usual or round(fact.takes, 2) == 1:
        return ""
    if fact.takes < 1:
        return f"; it looks like {1 / fact.takes - 1:.0%} more bitrate at {fact.usual} would"
    return f"; it takes {fact.takes - 1:.0%} more bitrate than {fact.usual} for the same look"


def _audio(fact: facts.AudioShared) -> str:
    ends = f"{_they(fact.platform)} {fact.least_kbps:g} to {fact.most_kbps:g}"
    if fact.limited_by == "guide":
        return f"{ends} kbit/s"
    return f"about {fact.share:.0%} of what may be sent, so that video keeps the rest; {ends}"
