"""``need`` and sweeps of a show with several destinations: each answer is for the whole show."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.budget import budget, budget_of
from eager_kestrel.core.choice.field import candidates_table
from eager_kestrel.core.choice.need import (
    REFERENCE,
    Asked,
    NeededAt,
    NeedSearch,
    answer,
    asked_of,
    index_of,
    seen,
)
from eager_kestrel.core.choice.sweep import Range, values_of
from eager_kestrel.core.choice.weighed import ScoredCandidates
from eager_kestrel.core.choice.what_if import Beside, Need, Point, Sweep
from eager_kestrel.core.division.answers import NEAR_KBPS, Answer, Answers, Served
from eager_kestrel.core.line.uplink import Uplink, assumed_uplink
from eager_kestrel.core.show.show import MOTIONS, Show

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.choice.option import Option
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.picture import Resolution

LEAST_KBPS, MOST_KBPS = 150.0, 80_000.0
"""The safe rates that are looked at."""
POINTS = 250
"""As many of them, a fortieth apart; what turns in between is found to a kbit/s."""


def needs(
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    pictures: Sequence[Resolution] | None = None,
    frame_rate_at_least: float | None = None,
) -> tuple[Need, ...]:
    """What upload of the whole show gives each destination which picture.

    Args:
        show: with several destinations.
        guides: of each, with its standing applied.
        table: of the quality model.
        pictures: which; the customary ones when none are named.
        frame_rate_at_least: frames a second; the main ones when none is given.
    """
    answers = Answers.of(show, guides, table, MOST_KBPS)
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    rates = np.geomspace(LEAST_KBPS, MOST_KBPS, POINTS)
    weighed: dict[tuple[int, float], ScoredCandidates] = {}
    found: list[Need] = []
    for m, (guide, place) in enumerate(zip(guides, show.destinations, strict=True)):
        alone = candidates_table(show, guide, table, guide.codec(place.codec))
        for asked in asked_of(alone.candidates, show.source, pictures, frame_rate_at_least):
            along = _along(answers, weighed, m, asked, rates)
            found.append(answer(guide, asked, along, waterfall))
    return tuple(found)


def _along(
    answers: Answers,
    weighed: dict[tuple[int, float], ScoredCandidates],
    m: int,
    asked: Asked,
    rates: Floats,
) -> NeedSearch:
    """One destination's picture along the safe rates of the whole show; keeps what it weighs."""

    def look(safe: float) -> NeededAt:
        served = answers.at(safe)[m]
        if served is None:
            return NeededAt(near=False, taken=False, quality=-1.0, option=None, chosen=None)
        if (m, safe) not in weighed:
            weighed[m, safe] = served.field.at(served.safe_kbps)
        there = weighed[m, safe]
        return seen(there, index_of(served.field, asked))

    all_seen = [look(float(rate)) for rate in rates]
    return NeedSearch(
        rates,
        np.array([s.near for s in all_seen]),
        np.array([s.taken for s in all_seen]),
        np.array([s.quality for s in all_seen]),
        look,
        NEAR_KBPS,
    )


def sweep_show(
    wanted: Range,
    show: Show,
    guides: Sequence[Guide],
    table: QualityTable,
    uplink: Uplink | None,
) -> Sweep:
    """What every destination gets at each value, everything else as it is.

    Args:
        wanted: what to vary.
        show: with several destinations.
        guides: of each, with its standing applied; standings are those of the first.
        table: of the quality model.
        uplink: for everything but a sweep of uploads, which needs none.
    """
    along: list[tuple[str, float | None, float, Answer]] = []
    if wanted.over in ("upload", "share"):
        named = values_of(wanted, show, uplink)
        answers = Answers.of(show, guides, table, max(safe for _, _, safe in named))
        along = [(name, value, safe, answers.at(safe)) for name, value, safe in named]
    else:
        assert uplink is not None
        safe = budget_of(uplink, show).safe_kbps
        for name, changed, ruled in _variants(wanted, show, guides):
            given = Answers.of(changed, ruled, table, safe).at(safe)
            along.append((name, None, safe, given))
    return Sweep(
        platform=guides[0].name,
        over=wanted.over,
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
    if wanted.over == "motion":
        return [(m, show.model_copy(update={"motion": m}), guides) for m in MOTIONS]
    first = guides[0].ordinary
    return [
        (standing or "ordinary", show, [first.under(standing), *guides[1:]])
        for standing in (None, *first.standings)
    ]
