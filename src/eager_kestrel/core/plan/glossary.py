"""Terms of the trade, explained with the numbers of the latest plan."""

from __future__ import annotations

import re
import string
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from pydantic import Field

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.plan.plan import DestinationPlan, Plan, gb_per_hour
from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.settings.table import SETTINGS
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import looks

Numbers = Mapping[str, Any]
ASKING = "why"
"""A word of questions that are about something else if anything else is named."""


class Cause(Frozen):
    """One of the things that may be behind a symptom, the likeliest first."""

    because: str
    tell: str
    """The command that tells whether it is this one."""
    sum: str | None = None
    """A template, as a term's; or worked out."""


class Term(Frozen):
    """One word, or a symptom with what may be behind it."""

    also: tuple[str, ...] = ()
    """Other words for it, or words it is the answer to."""
    text: str
    sum: str | None = None
    """A template; its fields are keys of :func:`numbers_of`."""
    causes: tuple[Cause, ...] = ()
    """Of a symptom, in the order to look at them."""


class Glossary(Frozen):
    """All words by name."""

    terms: dict[str, Term] = Field(min_length=1)

    def find(
        self, asked: str, values: Mapping[str, str] = MappingProxyType({})
    ) -> tuple[str, Term]:
        """A term by its name or another word for it, or what a question speaks of.

        A number in a question is looked for in the values: "why 720" asks for the resolution where
        that is planned. Else the term is meant of which most words are said, whatever their case
        and endings, and a symptom rather than a word.

        Args:
            values: what a plan sets, by term.

        Raises:
            NotFoundError: nothing is known by it, or several; suggests the nearest.
        """
        known = {name: name for name in self.terms}
        for name, term in self.terms.items():
            known |= dict.fromkeys(term.also, name)
        plain = " ".join(asked.lower().replace("_", " ").replace("-", " ").split())
        spelled = {name.replace("-", " "): found for name, found in known.items()}
        if plain in spelled:
            return spelled[plain], self.terms[spelled[plain]]
        if numbers := _numbers(plain):
            for name, value in values.items():
                if name in self.terms and numbers <= _numbers(value):
                    return name, self.terms[name]
        said = _stems(plain)
        named: dict[str, tuple[int, bool]] = {}
        for phrase, name in spelled.items():
            if (stems := _stems(phrase)) <= said:
                better = len(stems - _stems(ASKING)), bool(self.terms[name].causes)
                named[name] = max(better, named.get(name, (0, False)))
        names = [name for name, one in named.items() if one == max(named.values())]
        if len(names) == 1:
            return names[0], self.terms[names[0]]
        import difflib

        close = difflib.get_close_matches(plain, [*spelled], n=3, cutoff=0.6)
        names = names or list(dict.fromkeys(spelled[c] for c in close))
        instead = f"perhaps {' or '.join(names)}" if names else "explain alone lists every word"
        raise NotFoundError(f'"{asked}" is not explained here', instead)


def _numbers(text: str) -> set[str]:
    return set(re.findall(r"\d+(?:\.\d+)?", text.replace(",", "")))


def _stems(text: str) -> set[str]:
    """The words of a text without the endings that English puts on them."""
    return {
        re.sub(r"(?<=..)(?:g?y|s|es|ed|ing|n?ing|er)$", "", w)
        for w in re.findall(r"[^\s?!,;]+", text)
    }


class Explained(Frozen):
    """A word with what it comes to here."""

    format: str = format_name("explanation")
    term: str
    also: tuple[str, ...]
    text: str
    sum: str | None
    """With the latest numbers; none where it needs some that are not known."""
    reason: str | None = None
    """Of a setting: its value there, and why."""
    source: str | None
    """Whose numbers these are."""
    causes: tuple[Cause, ...] = ()
    """Of a symptom, with the latest numbers."""


def explained(name: str, term: Term, numbers: Numbers, source: str | None) -> Explained:
    """A term with its sum worked out where every number it needs is known."""
    worked_out = _worked_out(term.sum, numbers)
    causes = tuple(
        cause.model_copy(update={"sum": _worked_out(cause.sum, numbers)}) for cause in term.causes
    )
    value, why = numbers.get("reasons", {}).get(name, (None, None))
    reason = None if value is None else f"{value}: {why}"
    known = (
        worked_out is not None
        or reason is not None
        or any(cause.sum is not None for cause in causes)
    )
    return Explained(
        term=name,
        also=term.also,
        text=term.text,
        sum=worked_out,
        reason=reason,
        source=source if known else None,
        causes=causes,
    )


def _worked_out(template: str | None, numbers: Numbers) -> str | None:
    """A sum with numbers in it; None where one it needs is not known."""
    if template is None:
        return None
    needed = {field for _, field, _, _ in string.Formatter().parse(template) if field}
    known = {key for key, value in numbers.items() if value is not None}
    return template.format_map(dict(numbers)) if needed <= known else None


def numbers_of(plan: Plan) -> dict[str, Any]:
    """Everything sums may use, from a plan and its first destination with settings."""
    uplink, budget = plan.uplink, plan.budget
    found: dict[str, Any] = {
        "typical_kbps": uplink.typical_kbps,
        "typical_mbps": uplink.typical_kbps / 1000,
        "floor_kbps": uplink.floor_kbps,
        "floor_mbps": uplink.floor_kbps / 1000,
        "floor_share": uplink.floor_kbps / uplink.typical_kbps,
        "spread": uplink.spread,
        "uplink_said": uplink.text,
        "safe_share": plan.inputs.safe_share,
        "shared_kbps": uplink.typical_kbps * plan.inputs.safe_share,
        "before_reserves_kbps": budget.before_reserves_kbps,
        "reserved_kbps": budget.reserved_kbps,
        "safe_kbps": budget.safe_kbps,
        "budget_said": budget.text,
        "motion": plan.inputs.motion,
        "source_fps": float(frame_rate_text(plan.inputs.source_fps)),
        "copy_gb_per_hour": plan.local_copy.gb_per_hour,
    }
    if plan.stutter is not None:
        found |= {
            "stutter_seconds": plan.stutter.seconds_per_hour,
            "stutter_low": plan.stutter.low_seconds_per_hour,
            "stutter_high": plan.stutter.high_seconds_per_hour,
            "observed_minutes": plan.stutter.observed_seconds / 60,
        }
        if (still := plan.stutter.standstills) is not None:
            found["standstill_count"] = still.number
            found["standstill_longest"] = still.longest_seconds
    destination = next((d for d in plan.destinations if d.video is not None), None)
    return found if destination is None else found | _settings_numbers(plan, destination)


def _settings_numbers(plan: Plan, destination: DestinationPlan) -> dict[str, Any]:
    """What sums may use of one destination's settings."""
    video, audio = destination.video, destination.audio
    if video is None or audio is None:
        return {}
    pixels, fps = video.resolution.pixels, float(video.frame_rate)
    called = {s.name: s.term or s.name.replace("_", " ") for s in SETTINGS}
    steps = [resolution_at(s.video.resolution, s.video.frame_rate) for s in destination.fallbacks]
    return {
        **video.model_dump(),
        "reasons": {
            called[r.setting]: (r.value, r.text) for r in destination.reasons if r.setting in called
        },
        "video_kbps": video.bitrate_kbps,
        "video_mbps": video.bitrate_kbps / 1000,
        "max_kbps": video.max_kbps,
        "bitrate_bound": destination.limited_by.get("bitrate"),
        "audio_kbps": audio.bitrate_kbps,
        "total_kbps": destination.total_kbps,
        "total_kilobytes": destination.total_kbps / 8,
        "gb_per_hour": gb_per_hour(destination.total_kbps),
        "overhead_kbps": destination.total_kbps - video.max_kbps - audio.bitrate_kbps,
        "transport": destination.transport.upper(),
        "audio_share": audio.bitrate_kbps / destination.total_kbps,
        "pixels": pixels,
        "bits_per_pixel": video.bitrate_kbps * 1000 / (pixels * round(fps, 3)),
        "keyframe_real_seconds": video.keyframe_frames / fps,
        "each_frame": words.each_frame(plan.inputs.source_fps, video.frame_rate),
        "buffer_seconds": video.buffer_kbit / video.max_kbps,
        "looks": None if destination.quality is None else looks(destination.quality),
        "adaptive_min_kbps": destination.adaptive.min_kbps if destination.adaptive else None,
        "steps_said": ", then ".join(steps) or None,
    }
