"""Find an ingest server, its maximum, and how to send a private test to it."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from eager_kestrel.actions.checking import guides_of
from eager_kestrel.actions.practice import simulated_ingest_points
from eager_kestrel.core.connection.endpoints import AnswerTimes, Ranking, nearness, ranking
from eager_kestrel.core.errors import InputError, NetworkError, nearest_name
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.rules import PrivateWay
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import guide_at, load_guide
from eager_kestrel.net.addresses import is_ingest
from eager_kestrel.net.exchange import reach
from eager_kestrel.net.publishing import PublishTarget

PAUSE_SECONDS = 0.1
"""Between tries of one point, so that they do not queue behind each other."""


def nearest(platform: str, tries: int = 5, timeout_seconds: float = 3.0) -> Ranking:
    """Try every ingest server of a guide, all at once, several times each.

    Raises:
        NotFoundError: no guide of that name.
        InputError: the guide names no ingest servers.
    """
    guide = load_guide(platform)
    if not guide.servers:
        raise InputError(f"the guide {guide.name} names no ingest servers", "add [[ingest]] to it")
    points = [(point.name, point.url) for point in guide.servers]
    return _ranked(guide.name, points, [url for _, url in points], tries, timeout_seconds)


def nearest_in_practice(platform: str, delays_ms: list[float], tries: int = 5) -> Ranking:
    """The same against stand-ins on loopback that answer after set delays.

    Args:
        platform: whose ingest servers they stand in for, in order.
    """
    guide = load_guide(platform)
    if len(delays_ms) > len(guide.servers):
        raise InputError(
            f"{len(delays_ms)} delays for {len(guide.servers)} ingest servers", "give one each"
        )
    points = [(point.name, point.url) for point in guide.servers[: len(delays_ms)]]
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


CAREFUL = Bitrate.from_kbps(6000)
"""For an ingest no guide speaks of."""
TRIES, WAIT_SECONDS = 2, 2.0


@dataclass(frozen=True, slots=True)
class IngestServerChoice:
    """An ingest to send to."""

    target: PublishTarget
    guide: Guide | None
    most: Bitrate
    """Never to be passed."""
    said: tuple[str, ...]
    """What to know before anything is sent."""

    @property
    def name(self) -> str:
        """By which its key is kept: the platform's, or the host."""
        return self.target.host if self.guide is None else self.guide.name

    @property
    def private(self) -> PrivateWay | None:
        """How to send without being seen, if that is known."""
        return None if self.guide is None else self.guide.private


def ingest_of(platform: str, point: str | None, most: str | None) -> IngestServerChoice:
    """The ingest of a platform: the point that is named, else the one that answers first.

    Args:
        platform: ``PLATFORM`` or ``PLATFORM:TIER``.
        most: not to be passed, as written, in place of the guide's maximum.

    Raises:
        NotFoundError: no such platform, tier or point.
        NetworkError: none of its points answers.
    """
    (guide,) = guides_of([platform])
    points = {one.name: one.url for one in guide.servers if is_ingest(one.url)}
    if not points:
        raise InputError(
            f"the guide {guide.name} names no ingest servers that take RTMP",
            "give its address: measure rtmps://HOST/APP",
        )
    said: tuple[str, ...] = ()
    if point is not None:
        wanted = {name.casefold(): name for name in points}.get(point.casefold())
        if wanted is None:
            raise InputError(
                f'{guide.title} has no ingest server "{point}"',
                nearest_name(point, list(points), "its guide names none"),
            )
        chosen = wanted
    elif len(points) > 1:
        chosen, answer = _first_to_answer(guide.name, points)
        said = (f"{guide.title} {chosen} answers first, in {answer:.0f} ms",)
    else:
        (chosen,) = points
    return _ingest(points[chosen], guide, most, said)


def ingest_at(url: str, most: str | None) -> IngestServerChoice:
    """The ingest at an address; a guide that names its host says what it takes.

    Raises:
        InputError: it is no ingest address.
    """
    host = PublishTarget.parse(url).host
    return _ingest(url, guide_at(host), most, ())


def _first_to_answer(platform: str, points: dict[str, str]) -> tuple[str, float]:
    ranked = nearest(platform, TRIES, WAIT_SECONDS).servers
    for one in ranked:
        if one.name in points and one.median_ms is not None:
            return one.name, one.median_ms
    why = next((one.failure for one in ranked if one.failure), "no answer")
    raise NetworkError(
        f"none of the {len(points)} ingest servers of {platform} answers ({why})",
        "check your connection, or give --server",
    )


def _ingest(
    url: str, guide: Guide | None, most: str | None, said: tuple[str, ...]
) -> IngestServerChoice:
    target = PublishTarget.parse(url)
    if most is not None:
        bound = Bitrate.parse(most)
    elif guide is not None:
        bound = guide.video.max_bitrate
    else:
        bound = CAREFUL
        said = (
            *said,
            f"no guide speaks of {target.host}, so nothing above {CAREFUL} is sent; "
            "--max-rate asks for more",
        )
    return IngestServerChoice(target, guide, bound, (*said, *_privacy(guide, target.host)))


def _privacy(guide: Guide | None, host: str) -> tuple[str, ...]:
    """Whether anybody will see it."""
    title = host if guide is None else guide.title
    known = None if guide is None else guide.private
    live = "some platforms go live by themselves as soon as something arrives"
    if known is None:
        return (
            f"{live}; of {title} no private test mode is known: viewers would see "
            "is a test picture",
        )
    said = []
    if known.key_suffix is not None:
        said.append(f'"{known.key_suffix}" is put behind the key, so that nobody sees it')
    if known.text is not None:
        said.append(known.text)
    return (f"{live}; on {title}: {'; '.join(said)}",)
