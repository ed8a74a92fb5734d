"""Why a destination gets no settings: the fewest limits without which it would get some."""

from __future__ import annotations

from itertools import combinations
from math import inf
from typing import TYPE_CHECKING, Literal, NamedTuple

import numpy as np

from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.candidates import LEGIBLE_PIXELS
from eager_kestrel.core.choice.candidates_table import CandidatesTable
from eager_kestrel.core.choice.limits import LEAST_VIDEO_KBPS, viewers_kbps
from eager_kestrel.core.choice.scored import LIMITS, ScoredCandidates
from eager_kestrel.core.resolution import resolution_at
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import kbit
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


Limit = Literal["budget", "viewers", "machine", "level", "guide", "content"]


class Refusal(NamedTuple):
    """Why a destination gets no settings."""

    text: str
    instead: str
    """What would help."""
    limited_by: dict[str, Limit]


FREED: tuple[Limit, ...] = ("budget", "viewers", "machine", "level", "guide")
"""Limits that can leave nothing to choose from; first those that people can do something about."""


def refused(
    guide: Guide,
    choices: CandidatesTable,
    scored: ScoredCandidates,
    budget: Budget,
    min_quality: float,
) -> Refusal | None:
    """Return why there are no settings and what would help, or None if there are settings.

    What is named are the fewest limits without which there would be settings.
    """
    if scored.chosen is not None:
        quality = float(scored.quality[scored.chosen])
        if quality >= min_quality:
            return None
        best = scored.option(scored.chosen).text
        said = words.below_least(guide.title, min_quality, best, quality)
        return Refusal(said, words.or_another_platform([words.LOWER_LEAST]), {})
    rules, show = guide.video, choices.show
    if not scored.candidates and show.smallest_text is not None:
        said = words.no_legible(guide.title, show.smallest_text, LEGIBLE_PIXELS)
        return Refusal(
            said, words.or_another_platform([words.LARGER_TEXT]), {"resolution": "content"}
        )
    if not scored.candidates:
        sizes = ", ".join(map(str, rules.resolutions)) or f"up to {rules.max_resolution}"
        shapes = words.shape_words(rules.shapes)
        source = resolution_at(show.picture, show.source_fps)
        said = words.no_resolution(guide.title, sizes, shapes, rules.rates_text(), source)
        return Refusal(said, words.or_another_platform([words.OTHER_SOURCE]), {})
    limits, helped = next(
        (freed, found)
        for size in range(1, len(FREED) + 1)
        for freed in combinations(FREED, size)
        if (found := choices.allowed_without(scored.limits_kbps, freed)).any()
    )
    at = int(np.argmin(np.where(helped, choices.min_kbps, inf)))
    candidate, needed = scored.candidates[at], float(choices.min_kbps[at])
    left = dict(zip(LIMITS, np.maximum(scored.limits_kbps[:, at], 0.0).tolist(), strict=True))
    nearest = Nearest(resolution_at(candidate.resolution, candidate.frame_rate), needed, left)
    named = [_limited(limit, nearest, guide, show, budget) for limit in reversed(limits)]
    texts, instead = [text for text, _ in named], [do for _, do in named if do]
    if any(left.get(limit) for limit in limits) or "budget" in limits:
        of_guide = needed > LEAST_VIDEO_KBPS
        texts.append(words.least_taken(guide.title, nearest.text, needed, guide=of_guide))
    setting = "resolution" if limits[-1] == "machine" else "bitrate"
    return Refusal("; ".join(texts), words.or_another_platform(instead), {setting: limits[-1]})


class Nearest(NamedTuple):
    """Of the candidates that are kept out, the one with the lowest minimum."""

    text: str
    needed_kbps: float
    left_kbps: dict[BitrateBound, float]
    """What each limit leaves for it."""


def _limited(
    limit: Limit, nearest: Nearest, guide: Guide, show: Show, budget: Budget
) -> tuple[str, str]:
    """How a limit keeps a candidate out, and what would help."""
    title, left = guide.title, nearest.left_kbps
    match limit:
        case "budget":
            because, instead = _too_little(budget, left["budget"], nearest.needed_kbps)
            for_video = kbit(int(left["budget"])) if left["budget"] >= 1 else "nothing"
            return f"{because}: {words.left_for_video(for_video, title)}", instead
        case "viewers":
            by_show = show.viewers is not None and viewers_kbps(guide, show) >= show.viewers.kbps
            instead = words.FASTER_VIEWERS if by_show else ""
            return words.viewers_too_slow(title, left["viewers"]), instead
        case "machine":
            return words.machine_too_slow(nearest.text), words.FASTER_PRESET
        case "level" if not left["level"]:
            return words.no_level(title, nearest.text), ""
        case "level":
            return words.low_level(title, left["level"], nearest.text), words.CORRECT_GUIDE
        case _:
            return words.clashing_rows(title, left["guide"]), words.CORRECT_GUIDE


def _too_little(budget: Budget, left_kbps: float, needed_kbps: float) -> tuple[str, str]:
    """What of the budget leaves too little, and what would help."""
    if budget.capped:
        return words.cap_leaves(budget.safe_kbps), words.MORE_DATA
    before, after = budget.before_reserves_kbps, budget.safe_kbps
    if budget.reserved_kbps and needed_kbps - left_kbps <= before - after:
        return words.reserves_leave(before, after), words.FREE_RESERVES
    return words.upload_leaves(after), words.MORE_UPLOAD
