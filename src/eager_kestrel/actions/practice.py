"""Simulated connections and platforms on loopback, to try everything without real ones."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from eager_kestrel.actions.checking import guides_of
from eager_kestrel.actions.receiving import Key, Reception, key_for, receive
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.home import load_trace, trace_names
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from eager_kestrel.practice.ingest import Misbehaviour, Platform, PracticeIngestPoint
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import PracticeUplink, SimulatedConnection

UPLOAD_PATH = "/upload"


@dataclass(frozen=True, slots=True)
class Stand:
    """A simulated uplink that is up."""

    url: str
    """To measure: through the simulated connection."""
    direct_url: str
    """The endpoint itself, past the connection."""


def practice_names() -> list[str]:
    """Bundled connections by name."""
    return trace_names()


@dataclass(frozen=True, slots=True)
class SimulatedTrouble:
    """What makes a simulated connection worse; all off by default."""

    stalls: tuple[tuple[float, float], ...] = ()
    """(begin, length) in seconds: nothing gets through."""
    others: tuple[tuple[float, float], ...] = ()
    """(begin in seconds, kbit/s): other traffic that starts and stays."""
    spread: float = 0.0
    """The rate wanders evenly within this share of a constant rate."""
    seed: int = 0
    per_connection_kbps: float | None = None


NO_TROUBLE = SimulatedTrouble()
TROUBLE_SECONDS = 3600.0
"""How long a troubled line runs before it begins again."""
WANDER_SECONDS = 0.5


def simulated_connection(
    connection: str | Bitrate = "day",
    round_trip_ms: float = 30.0,
    queue_bytes: int = 65536,
    trouble: SimulatedTrouble = NO_TROUBLE,
) -> SimulatedConnection:
    """A connection to simulate: a bundled one by name, or a rate, with trouble on top.

    Raises:
        NotFoundError: no connection of that name.
        UnitError: it begins like a rate, and is none.
    """
    if isinstance(connection, str) and connection.strip()[:1] in {*"0123456789."}:
        connection = Bitrate.parse(connection)
    if isinstance(connection, str):
        trace = load_trace(connection)
    elif trouble.spread:
        trace = Trace.uneven(
            connection.kbps, trouble.spread, WANDER_SECONDS, TROUBLE_SECONDS, trouble.seed
        )
    else:
        trace = Trace.constant(connection.kbps)
    for begin, kbps in trouble.others:
        trace = trace.with_others(kbps, begin, TROUBLE_SECONDS)
    for begin, length in trouble.stalls:
        trace = trace.with_stall(begin, begin + length, TROUBLE_SECONDS)
    return SimulatedConnection(trace, round_trip_ms, queue_bytes, trouble.per_connection_kbps)


@contextlib.contextmanager
def simulated_uplink(
    line: SimulatedConnection, port: int = 0, behaviour: Behaviour | None = None
) -> Iterator[Stand]:
    """An upload endpoint behind a simulated uplink while the ``with`` block runs.

    Raises:
        NetworkError: the port is taken.
    """
    with (
        PracticeEndpoint(behaviour) as endpoint,
        PracticeUplink(line, endpoint.port, port) as relay,
    ):
        yield Stand(
            url=f"http://{LOOPBACK}:{relay.port}{UPLOAD_PATH}",
            direct_url=f"http://{LOOPBACK}:{endpoint.port}{UPLOAD_PATH}",
        )


@contextlib.contextmanager
def simulated_ingest_points(delays_ms: Sequence[float]) -> Iterator[list[str]]:
    """RTMP addresses on loopback whose first answer comes after a set delay each."""
    with contextlib.ExitStack() as stack:
        points = [stack.enter_context(PracticeIngestPoint(delay)) for delay in delays_ms]
        yield [f"rtmp://{LOOPBACK}:{point.port}/live" for point in points]


@dataclass(frozen=True, slots=True)
class SimulatedPlatform:
    """A simulated platform that is up."""

    title: str
    url: str
    """To publish to, without key."""
    key: Key
    taking: Reception
    judge: Platform

    def health(self) -> str:
        """A line on how the stream looks from there."""
        return self.judge.health()


@contextlib.contextmanager
def simulated_platform(
    written: str,
    trouble: Misbehaviour,
    port: int = 0,
    record_to: Path | None = None,
) -> Iterator[SimulatedPlatform]:
    """A platform that obeys its guide, on loopback, while the ``with`` block runs.

    Args:
        written: ``PLATFORM`` or ``PLATFORM:TIER``.

    Raises:
        NotFoundError: the platform or tier is not known.
        NetworkError: the port is taken.
    """
    (guide,) = guides_of([written])
    key, judge = key_for(written), Platform(guide, trouble)
    suffix = (guide.private.key_suffix or "") if guide.private is not None else ""
    with receive(key.value, port, [guide], record_to, judge, suffix) as (taking, url):
        yield SimulatedPlatform(guide.title, url, key, taking, judge)


def trouble_of(
    stall_at: float | None = None,
    stall_seconds: float = 3.0,
    hang_up_at: float | None = None,
    delay_seconds: float = 0.0,
) -> Misbehaviour:
    """Trouble on demand, in seconds of the stream; None for none."""
    return Misbehaviour(stall_at, stall_seconds, hang_up_at, delay_seconds)
