"""Endpoints to measure towards, each under a name of your own."""

from __future__ import annotations

import difflib
import re
import statistics
from itertools import pairwise

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.errors import InputError, NotFoundError, nearest_name

NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")


class NamedEndpoint(Frozen):
    """An address that takes uploads, under a name."""

    name: str
    url: str


class NamedEndpoints(Frozen):
    """All of them, and which was measured towards last."""

    format: str = format_name("endpoints")
    endpoints: tuple[NamedEndpoint, ...] = ()
    last: str | None = None
    """The name, or the address of one without a name."""

    def find(self, name: str) -> NamedEndpoint:
        """A endpoint by name.

        Raises:
            NotFoundError: there is none; suggests one.
        """
        for endpoint in self.endpoints:
            if endpoint.name == name:
                return endpoint
        known = [endpoint.name for endpoint in self.endpoints]
        instead = "" if known else "endpoints add NAME URL makes one"
        raise NotFoundError(f'no endpoint is called "{name}"', nearest_name(name, known, instead))

    def is_like(self, name: str) -> bool:
        """Whether it is a name, or nearly one."""
        known = [endpoint.name for endpoint in self.endpoints]
        return bool(difflib.get_close_matches(name.lower(), known, n=1, cutoff=0.5))

    def with_(self, endpoint: NamedEndpoint) -> NamedEndpoints:
        """With one more, or with another address for a name there is."""
        others = [p for p in self.endpoints if p.name != endpoint.name]
        ordered = sorted((*others, endpoint), key=lambda p: p.name)
        return self.model_copy(update={"endpoints": tuple(ordered)})

    def without(self, name: str) -> NamedEndpoints:
        """Without one of them.

        Raises:
            NotFoundError: there is none.
        """
        gone = self.find(name)
        rest = tuple(p for p in self.endpoints if p is not gone)
        last = None if self.last == name else self.last
        return self.model_copy(update={"endpoints": rest, "last": last})


def require_name(text: str) -> str:
    """A name for an endpoint.

    Raises:
        InputError: it is none.
    """
    if not NAME.fullmatch(text):
        raise InputError(
            f'"{text}" is not a name for an endpoint',
            "write lower-case letters, digits and hyphens",
        )
    return text


class AnswerTimes(Frozen):
    """One connection to an ingest server."""

    connect_ms: float | None = None
    """Until TCP was connected."""
    answer_ms: float | None = None
    """From then until the first answer of its protocol."""
    failure: str = ""
    """Why there was none."""


class Nearness(Frozen):
    """How an ingest server answered."""

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
    """Ingest servers of a platform, the fastest first, unreachable ones last."""

    format: str = format_name("ranking")
    platform: str
    servers: tuple[Nearness, ...]


class Rankings(Frozen):
    """The ingest servers of each platform that was asked for (``measure --rank``)."""

    format: str = format_name("rankings")
    rankings: tuple[Ranking, ...]


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
    return Ranking(platform=platform, servers=tuple(ordered))
