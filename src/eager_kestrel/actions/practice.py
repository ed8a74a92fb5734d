"""Simulated stand-ins on loopback, so that everything can be tried without a line of one's own."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from eager_kestrel.core.line.trace import Trace
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.traces import load_trace, trace_names
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from eager_kestrel.practice.ingest_points import PracticeIngestPoint
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import Line, PracticeUplink

__all__ = [
    "Line",
    "Standing",
    "Trouble",
    "practice_line",
    "practice_names",
    "simulated_ingest_points",
    "simulated_uplink",
]

UPLOAD_PATH = "/upload"


@dataclass(frozen=True, slots=True)
class Standing:
    """A simulated uplink that is up."""

    url: str
    """To measure: through the simulated line."""
    direct_url: str
    """The endpoint itself, past the line."""


def practice_names() -> list[str]:
    """Bundled lines by name."""
    return trace_names()


@dataclass(frozen=True, slots=True)
class Trouble:
    """What makes a simulated line worse; all off by default."""

    stalls: tuple[tuple[float, float], ...] = ()
    """(begin, length) in seconds: nothing gets through."""
    others: tuple[tuple[float, float], ...] = ()
    """(begin in seconds, kbit/s): other traffic that starts and stays."""
    spread: float = 0.0
    """The rate wanders evenly within this share of a constant rate."""
    seed: int = 0
    per_connection_kbps: float | None = None


NO_TROUBLE = Trouble()
TROUBLE_SECONDS = 3600.0
"""How long a troubled line runs before it begins again."""
WANDER_SECONDS = 0.5


def practice_line(
    name: str | None = None,
    rate: Bitrate | None = None,
    round_trip_ms: float = 30.0,
    queue_bytes: int = 65536,
    trouble: Trouble = NO_TROUBLE,
) -> Line:
    """A line to simulate: a bundled one by name, or a constant rate, with trouble on top.

    Raises:
        NotFoundError: no line of that name.
    """
    trace = Trace.constant(rate.kbps) if rate is not None else load_trace(name or "day")
    if rate is not None and trouble.spread:
        trace = Trace.uneven(
            rate.kbps, trouble.spread, WANDER_SECONDS, TROUBLE_SECONDS, trouble.seed
        )
    for begin, kbps in trouble.others:
        trace = trace.with_others(kbps, begin, TROUBLE_SECONDS)
    for begin, length in trouble.stalls:
        trace = trace.with_stall(begin, begin + length, TROUBLE_SECONDS)
    return Line(trace, round_trip_ms, queue_bytes, trouble.per_connection_kbps)


@contextlib.contextmanager
def simulated_uplink(
    line: Line, port: int = 0, behaviour: Behaviour | None = None
) -> Iterator[Standing]:
    """An upload endpoint behind a simulated uplink while the ``with`` block runs.

    Raises:
        NetworkError: the port is taken.
    """
    with (
        PracticeEndpoint(behaviour) as endpoint,
        PracticeUplink(line, endpoint.port, port) as relay,
    ):
        yield Standing(
            url=f"http://{LOOPBACK}:{relay.port}{UPLOAD_PATH}",
            direct_url=f"http://{LOOPBACK}:{endpoint.port}{UPLOAD_PATH}",
        )


@contextlib.contextmanager
def simulated_ingest_points(delays_ms: Sequence[float]) -> Iterator[list[str]]:
    """RTMP addresses on loopback whose first answer comes after a set delay each."""
    with contextlib.ExitStack() as stack:
        points = [stack.enter_context(PracticeIngestPoint(delay)) for delay in delays_ms]
        yield [f"rtmp://{LOOPBACK}:{point.port}/live" for point in points]
