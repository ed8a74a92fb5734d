"""What-if questions to a show of any number of destinations: ``need`` and sweeps."""

from __future__ import annotations

from collections.abc import Sequence
from math import inf
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.choice import need
from eager_kestrel.core.choice.budget import budget, budget_of
from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table, grid
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import Option
from eager_kestrel.core.choice.what_if import Beside, Need, Point, Range, Sweep, values_of
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.division.answers import (
    NEAR_KBPS,
    Answer,
    Answers,
    OneAnswers,
    Served,
    answers_of,
)
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import MOTIONS, Show

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


LEAST_KBPS, MOST_KBPS = 150.0, 80_000.0
"""The safe rates that are looked at."""
POINTS = 250
"""As many of them, a fortieth apart; what turns in between is found to a kbit/s."""


def along(answers: Answers, m: int, asked: need.Asked, max_kbps: float) -> need.NeedSearch:
    """A resolution at a frame rate for one destination, along safe rates up to the most."""
    if isinstance(answers, OneAnswers):
        return _along_one(answers.table, asked, max_kbps)
    return _along_divided(answers, m, asked, max_kbps)


def _along_one(choices: CandidatesTable, asked: need.Asked, max_kbps: float) -> need.NeedSearch:
    """A resolution at a frame rate at every rate of the grid."""
    rates = up_to(grid(choices), max_kbps)
    at = need.index_of(choices, asked)
    if at is None or not rates.size:
        none = np.zeros(rates.size, dtype=np.bool_)
        return need.NeedSearch(rates, none, none, np.full(rates.size, -1.0), _nothing, NEAR_KBPS)
    scored = choices.weigh(rates)
    best, chosen = choices.choose(scored)
    near = choices.among_best(best, scored)[:, at]
    quality = np.where(scored.allowed[:, at], scored.quality[:, at], -1.0)
    return need.NeedSearch(
        rates, near, chosen == at, quality, lambda safe: need.seen(choices.at(safe), at), rates[0]
    )


def up_to(rates: Floats, max_kbps: float) -> Floats:
    """Rates up to the most, and the most itself where it cuts them off."""
    if not rates.size or rates[-1] <= max_kbps:
        return rates
    return np.append(rates[rates < max_kbps], max_kbps)


def _nothing(_: float) -> need.NeededAt:
    return need.NeededAt(near=False, taken=False, quality=-1.0, option=None, chosen=None)


def _along_divided(answers: Answers, m: int, asked: need.Asked, max_kbps: float) -> need.NeedSearch:
    """A resolution at a frame rate at some rates; what turns in between is found by looking."""

    def look(safe: float) -> need.NeededAt:
        served = answers.at(safe)[m]
        if served is None:
            return _nothing(safe)
        return need.seen(served.choices.at(served.safe_kbps), need.index_of(served.choices, asked))

    rates = up_to(np.geomspace(LEAST_KBPS, MOST_KBPS, POINTS), max_kbps)
    all_seen = [look(float(rate)) for rate in rates]
    return need.NeedSearch(
        rates,
        np.array([s.near for s in all_seen]),
        np.array([s.taken for s in all_seen]),
        np.array([s.quality for s in all_seen]),
        look,
        NEAR_KBPS,
    )


def needs(
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    resolutions: Sequence[Resolution] | None = None,
    frame_rate_at_least: float | None = None,
) -> tuple[Need, ...]:
    """What upload of the whole show gives each destination which resolution.

    Args:
        resolutions: which; the customary ones when none are named.
        frame_rate_at_least: frames a second; the main ones when none is given.
    """
    answers = answers_of(show, guides, table, MOST_KBPS)
    waterfall = budget(assumed_uplink(need.REFERENCE), show.safe_share, show.reserves)
    most = inf if show.cap_kbps is None else show.cap_kbps
    found: list[Need] = []
    for m, (guide, context) in enumerate(zip(guides, show.destinations, strict=True)):
        alone = candidates_table(show, guide, table, guide.codec(context.codec))
        every = need.asked_of(alone.candidates, show.picture, resolutions, frame_rate_at_least)
        found += [
            need.answer(guide, asked, along(answers, m, asked, most), waterfall) for asked in every
        ]
    return tuple(found)


def sweep(
    wanted: Range,
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    uplink: Uplink | None,
) -> Sweep:
    """What every destination gets at each value, everything else as it is.

    Args:
        uplink: for everything but a sweep of uploads, which needs none.
    """
    along: list[tuple[str, float | None, float, Answer]] = []
    if wanted.varied in ("upload", "share"):
        named = values_of(wanted, show, uplink)
        answers = answers_of(show, guides, table, max(safe for _, _, safe in named))
        along = [(name, value, safe, answers.at(safe)) for name, value, safe in named]
    else:
        assert uplink is not None
        safe = budget_of(uplink, show).safe_kbps
        nothing: Answer = (None,) * len(guides)
        for name, changed, ruled in _variants(wanted, show, guides):
            known = ruled[0].takes_codec(show.destinations[0].codec)
            given = answers_of(changed, ruled, table, safe).at(safe) if known else nothing
            along.append((name, None, safe, given))
    return Sweep(
        platform=guides[0].name,
        varied=wanted.varied,
        points=tuple(
            Point(at=name, value=value, safe_kbps=round(safe, 3), chosen=_option(given[0]))
            for name, value, safe, given in along
        ),
        beside=tuple(
            Beside(
                platform=guide.label,
                chosen=tuple(_option(given[m]) for _, _, _, given in along),
            )
            for m, guide in enumerate(guides)
            if m
        ),
    )


def _option(served: Served | None) -> Option | None:
    return None if served is None else served.option


def _variants(
    wanted: Range, show: Show, guides: Sequence[Guide]
) -> list[tuple[str, Show, Sequence[Guide]]]:
    if wanted.varied == "motion":
        return [(m, show.model_copy(update={"motion": m}), guides) for m in MOTIONS]
    first = guides[0].ordinary
    return [
        (tier or "ordinary", show, [first.under(tier), *guides[1:]])
        for tier in (None, *first.tiers)
    ]
