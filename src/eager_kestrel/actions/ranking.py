"""Which of a platform's ingest points answers fastest from here."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from eager_kestrel.actions.practice import simulated_ingest_points
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.ingest_ranking import AnswerTimes, Ranking, nearness, ranking
from eager_kestrel.files.guides import load_guide
from eager_kestrel.net.reach import reach

PAUSE_SECONDS = 0.1
"""Between tries of one point, so that they do not queue behind each other."""


def nearest(
    platform: str, tries: int = 5, timeout_seconds: float = 3.0, guides: Path | None = None
) -> Ranking:
    """Try every ingest point of a guide, all at once, several times each.

    Raises:
        NotFoundError: no guide of that name.
        InputError: the guide names no ingest points.
    """
    guide = load_guide(platform, guides)
    if not guide.ingest:
        raise InputError(f"the guide {guide.name} names no ingest points", "add [[ingest]] to it")
    points = [(point.name, point.url) for point in guide.ingest]
    return _ranked(guide.name, points, [url for _, url in points], tries, timeout_seconds)


def nearest_in_practice(
    platform: str, delays_ms: list[float], tries: int = 5, guides: Path | None = None
) -> Ranking:
    """The same against stand-ins on loopback that answer after set delays.

    Args:
        platform: whose ingest points they stand in for, in order.
        delays_ms: one for each of the first points.
        tries: of each.
        guides: a folder whose guides come first.
    """
    guide = load_guide(platform, guides)
    if len(delays_ms) > len(guide.ingest):
        raise InputError(
            f"{len(delays_ms)} delays for {len(guide.ingest)} ingest points", "give one each"
        )
    points = [(point.name, point.url) for point in guide.ingest[: len(delays_ms)]]
    with simulated_ingest_points(delays_ms) as addresses:
        return _ranked(guide.name, points, addresses, tries, 3.0)


def _ranked(
    platform: str,
    points: list[tuple[str, str]],
    addresses: list[str],
    tries: int,
    timeout_seconds: float,
) -> Ranking:
    def try_often(address: str) -> list[AnswerTimes]:
        taken = []
        for _ in range(tries):
            taken.append(reach(address, timeout_seconds))
            time.sleep(PAUSE_SECONDS)
        return taken

    with ThreadPoolExecutor(max_workers=len(addresses)) as pool:
        all_tries = list(pool.map(try_often, addresses))
    return ranking(
        platform,
        [nearness(name, url, t) for (name, url), t in zip(points, all_tries, strict=True)],
    )
