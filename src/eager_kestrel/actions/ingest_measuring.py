"""Measure to an ingest server: a stand-in stream whose bitrate climbs to the upload rate.

How the server is found, its maximum, and how to send a private test to it is here, too.
"""

from __future__ import annotations

import ssl
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction

from eager_kestrel.actions.checking import guides_of
from eager_kestrel.actions.climbing import Ascent
from eager_kestrel.actions.practice import simulated_ingest_points
from eager_kestrel.actions.samples import Notebook, Samples
from eager_kestrel.core.codecs import least_level
from eager_kestrel.core.connection.climbing import Climb, OnItsWay
from eager_kestrel.core.connection.endpoints import AnswerTimes, Ranking, nearness, ranking
from eager_kestrel.core.connection.evidence import round_trip_summary
from eager_kestrel.core.connection.progress import PartialResult, PhaseBegun, Tell, tell_nobody
from eager_kestrel.core.connection.run import Endpoint, Phase, RoundTrip, Run
from eager_kestrel.core.connection.throughput import Limits
from eager_kestrel.core.errors import InputError, NetworkError, StoppedError, nearest_name
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.rules import PrivateWay
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.keyframes import keyframe_seconds
from eager_kestrel.core.settings.values import AudioSettings, VideoSettings
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import guide_at, load_guide
from eager_kestrel.files.keys import needed_key
from eager_kestrel.media.stand_in import EncodedFrame, StandIn
from eager_kestrel.net.addresses import is_ingest
from eager_kestrel.net.exchange import reach
from eager_kestrel.net.pacing import PacedPublication, Pacer
from eager_kestrel.net.publishing import PublishTarget

IDLE_SECONDS, LOOK_SECONDS = 1.2, 0.002
TRIP_EVERY_SECONDS = 0.1
SMALL_LINES = 360
CUSTOMARY_FPS = 30
LEAST_KBPS, FIRST_KBPS = 350.0, 500.0
"""What the small resolution and its sound take, and a little more."""
OWN_KBPS, AUDIO_KBPS = 150.0, 96.0
BY_POST = "measure towards an address that takes POST"
OR_REHEARSE = f"rehearse a plan there, or {BY_POST}"
MOST_FRAME_SECONDS = 0.25
"""For which one frame may have to last where this machine encodes slowly."""
AHEAD_SECONDS = 0.04
"""Of bytes kept ready, so that a rate that rises finds some."""


@dataclass(frozen=True, slots=True)
class IngestMeasureOptions:
    """How to measure towards an ingest."""

    ingest: IngestServerChoice
    key: str = field(repr=False)
    limits: Limits = field(default_factory=lambda: Limits(seconds=15))
    endpoint_name: str = ""
    context: ssl.SSLContext | None = None
    """For RTMPS, in place of the system's certificates."""
    practice: bool = False
    """The ingest is a stand-in on loopback."""

    @property
    def url(self) -> str:
        """Where to, without key."""
        return self.ingest.target.url


def key_of(ingest: IngestServerChoice, ask: Callable[[str], str] | None) -> str:
    """The stream key of an ingest: kept, or asked for.

    Raises:
        InputError: there is none.
    """
    return needed_key(ingest.name, ask)


def measure_ingest(wish: IngestMeasureOptions, tell: Tell = tell_nobody) -> Run:
    """Measure the upload to an ingest once.

    Returns:
        The run; ``partial`` when Ctrl-C or a failure cut it short after something was learned.

    Raises:
        InputError: this machine cannot encode what the platform takes.
        NetworkError: the ingest cannot be reached, or broke off before anything was learned.
        EndpointError: it refuses.
        StoppedError: Ctrl-C before anything was learned.
    """
    ingest = wish.ingest
    notebook = Notebook(
        Endpoint(url=ingest.target.url, name=wish.endpoint_name), datetime.now().astimezone()
    )
    suffix = (ingest.private.key_suffix or "") if ingest.private is not None else ""
    video, audio = stand_in_settings(ingest.guide, ingest.most.kbps)
    stand_in, pace = StandIn(video, audio), Pacer(FIRST_KBPS)
    try:
        first = next(steps := stand_in.steps())  # opening encoders takes a while
        publication = PacedPublication(ingest.target, wish.key + suffix, pace, wish.context)
        carrier = _ByPublication(publication, stand_in, steps, pace, video.frame_rate)
        carrier.send(first)
        try:
            _measure(notebook, carrier, pace, wish, tell)
        finally:
            publication.close()
    except KeyboardInterrupt:
        raise StoppedError("stopped before anything was measured", "nothing was kept") from None
    finally:
        stand_in.close()
    assert notebook.one is not None
    return notebook.run(partial=notebook.one.ended in ("failed", "stopped"))


def _measure(
    notebook: Notebook, carrier: _ByPublication, pace: Pacer, wish: IngestMeasureOptions, tell: Tell
) -> None:
    notebook.counted_by = carrier.counted_by
    if notebook.counted_by.startswith("estimate"):
        raise InputError("this system does not show what is still in flight", BY_POST)
    notebook.address = carrier.address
    _idle(notebook, carrier, tell)
    tell(PhaseBegun("one connection", wish.limits.seconds))
    climb = Climb(max_kbps=wish.ingest.most.kbps, min_kbps=LEAST_KBPS, rate_kbps=FIRST_KBPS)
    carrier.trips.clear()
    carrier.idle = False
    carrier.began = time.perf_counter()
    ascent = Ascent(carrier, pace, climb, wish.limits, tell, Samples(), OR_REHEARSE)
    ending = ascent.run()
    notebook.one = ascent.phase(ending, tuple(carrier.trips))


def _idle(notebook: Notebook, carrier: _ByPublication, tell: Tell) -> None:
    """What a piece takes while hardly anything is sent."""
    tell(PhaseBegun("idle", IDLE_SECONDS))
    until = time.perf_counter() + IDLE_SECONDS
    while time.perf_counter() < until and carrier.failure is None:
        carrier.turn(LOOK_SECONDS)
        carrier.waits()
    notebook.idle = Phase(name="idle", ended="complete", round_trips=tuple(carrier.trips))
    summary = round_trip_summary(notebook.idle)
    tell(
        PartialResult(
            "idle", IDLE_SECONDS, 0.0, round_trip_ms=summary.median_ms if summary else None
        )
    )


def stand_in_settings(guide: Guide | None, max_kbps: float) -> tuple[VideoSettings, AudioSettings]:
    """A small resolution that a platform takes, cheap to encode; filler makes it as long as wanted.

    Args:
        guide: of the platform; None for one that takes what nearly all take.
    """
    codec = "h264" if guide is None else guide.codec()
    profile = "main" if guide is None else guide.video.profiles_of(codec)[0]
    resolution, rate = _resolution(guide), Fraction(CUSTOMARY_FPS)
    seconds, hz, channels = 2.0, 48_000, 2
    if guide is not None:
        rate = min(guide.video.taken_rates, key=lambda taken: abs(taken - CUSTOMARY_FPS))
        seconds = keyframe_seconds(guide)
        hz, channels = guide.audio.sample_rate_hz, guide.audio.channels[0]
    video = VideoSettings(
        codec=codec,
        resolution=resolution,
        frame_rate=rate,
        bitrate_kbps=OWN_KBPS,
        rate_control="constant",
        buffer_kbit=OWN_KBPS,
        keyframe_seconds=seconds,
        keyframe_frames=max(1, round(seconds * rate)),
        profile=profile,
        b_frames=0,
        level=least_level(codec, resolution, rate, profile, max_kbps).name,
    )
    audio = AudioSettings(
        codec="aac", bitrate_kbps=AUDIO_KBPS, sample_rate_hz=hz, channels=channels
    )
    return video, audio


def _resolution(guide: Guide | None) -> Resolution:
    """Of about 360 lines, in a shape that is taken."""
    if guide is None:
        return Resolution(640, SMALL_LINES)
    if guide.video.resolutions:
        return min(guide.video.resolutions, key=lambda resolution: resolution.pixels)
    if not guide.video.shapes:
        return Resolution(640, SMALL_LINES)
    shape = guide.video.shapes[0]
    ratio = shape.across / shape.down
    if ratio >= 1:
        return Resolution(round(SMALL_LINES * ratio / 2) * 2, SMALL_LINES)
    return Resolution(SMALL_LINES, round(SMALL_LINES / ratio / 2) * 2)


class _ByPublication:
    """A stream whose frames are as long as the pace wants them."""

    def __init__(
        self,
        publication: PacedPublication,
        stand_in: StandIn,
        steps: Iterator[EncodedFrame],
        pace: Pacer,
        frame_rate: Fraction,
    ) -> None:
        self._publication, self._steps, self._pace = publication, steps, pace
        self._frame_seconds = float(1 / frame_rate)
        self._stream_began = self.began = time.perf_counter()
        self._asked = 0.0
        self._encoded_at = self.began
        self.idle = True
        """Whether hardly anything is sent, so that nothing waits in this machine."""
        self._sent = 0
        """Frames after the first."""
        self.trips: list[RoundTrip] = []
        """Since ``began``: what a piece took, ten times a second."""
        self.failure: NetworkError | None = None
        self.counted_by = publication.counted_by_kernel
        self.address = publication.address
        stand_in.frame_bytes = self._frame_bytes

    def _frame_bytes(self) -> int:
        since = time.perf_counter() - self._encoded_at
        self._encoded_at += since
        span = min(max(self._frame_seconds, since), MOST_FRAME_SECONDS)
        wanted = (span + AHEAD_SECONDS) * self._pace.kbps * 125
        return int(wanted) - self._publication.queued_bytes

    def send(self, step: EncodedFrame) -> None:
        for tag in step.tags:
            self._publication.send(tag.kind, tag.milliseconds, tag.payload, None)

    def turn(self, seconds: float) -> None:
        try:
            for step in self._due():
                self.send(step)
            self._publication.look(0)
        except NetworkError as error:
            self.failure = error
        time.sleep(seconds)

    def _due(self) -> Iterator[EncodedFrame]:
        """The next frame, if its time has come; what was missed is not caught up in a burst."""
        now = time.perf_counter()
        if now - self._stream_began >= self._frame_seconds * (self._sent + 1):
            self._sent += 1
            yield next(self._steps)

    def delivered_bytes(self) -> int:
        return self._publication.carried_bytes()

    @property
    def spent(self) -> bool:
        return False  # a stream goes on; what was delivered is counted

    def other_bytes(self) -> int:
        return 0

    def waits(self) -> OnItsWay:
        seen, now = self._publication.waits(), time.perf_counter()
        wait, trip = seen.took_seconds, seen.round_trip_seconds
        if self.idle and wait is not None and trip is not None:
            wait = min(wait, trip)  # encoding and looking take longer than a short way does
        if wait is not None and now - self._asked >= TRIP_EVERY_SECONDS:
            self._asked = now
            self.trips.append(
                RoundTrip(at_seconds=round(now - self.began, 4), round_trip_ms=round(wait * 1e3, 3))
            )
        return seen

    def round_trip_ms(self) -> float | None:
        return self.trips[-1].round_trip_ms if self.trips else None


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
