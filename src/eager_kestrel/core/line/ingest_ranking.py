"""Which ingest point answers fastest: tries of each, ranked.

The first answer of the protocol counts, not the TCP connection alone: a device on the way may
accept connections in the name of a host that is far away or gone. Jitter is the mean absolute
difference of successive tries (as in RFC 3550 section 6.4.1).
"""

from __future__ import annotations

import statistics
from itertools import pairwise

from eager_kestrel.core.document import Frozen, format_name


class AnswerTimes(Frozen):
    """One connection to an ingest point."""

    connect_ms: float | None = None
    """Until TCP was connected."""
    answer_ms: float | None = None
    """From then until the first answer of its protocol."""
    failure: str = ""
    """Why there was none."""


class Nearness(Frozen):
    """How an ingest point answered."""

    name: str
    url: str
    tries: int
    answered: int
    median_ms: float | None
    """Of the first answer."""
    jitter_ms: float | None
    lost_share: float
    connect_ms: float | None
    """Median until TCP was connected."""
    failure: str = ""
    """When nothing was answered: why."""


class Ranking(Frozen):
    """Ingest points of a platform, the fastest first, unreachable ones last."""

    format: str = format_name("ranking")
    platform: str
    points: tuple[Nearness, ...]


def nearness(name: str, url: str, tries: list[AnswerTimes]) -> Nearness:
    """What the tries of one point say."""
    answers = [t.answer_ms for t in tries if t.answer_ms is not None]
    connects = [t.connect_ms for t in tries if t.connect_ms is not None]
    steps = [abs(b - a) for a, b in pairwise(answers)]
    return Nearness(
        name=name,
        url=url,
        tries=len(tries),
        answered=len(answers),
        median_ms=round(statistics.median(answers), 2) if answers else None,
        jitter_ms=round(statistics.fmean(steps), 2) if steps else None,
        lost_share=round(1 - len(answers) / len(tries), 4),
        connect_ms=round(statistics.median(connects), 2) if connects else None,
        failure="" if answers else next((t.failure for t in reversed(tries) if t.failure), ""),
    )


def ranking(platform: str, points: list[Nearness]) -> Ranking:
    """The fastest first; ties by fewer lost, then by name; the unreachable at the end."""
    ordered = sorted(
        points,
        key=lambda p: (
            p.median_ms is None,
            p.median_ms if p.median_ms is not None else 0.0,
            p.lost_share,
            p.name,
        ),
    )
    return Ranking(platform=platform, points=tuple(ordered))
