"""Simulated stand-ins on loopback, so that everything can be tried without a line of one's own."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass

from eager_kestrel.core.trace import Trace
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.traces import load_trace, trace_names
from eager_kestrel.practice.endpoint import Behaviour, PracticeEndpoint
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import Line, PracticeUplink

__all__ = ["Line", "Standing", "practice_line", "practice_names", "simulated_uplink"]

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


def practice_line(
    name: str | None = None,
    rate: Bitrate | None = None,
    round_trip_ms: float = 30.0,
    queue_bytes: int = 65536,
) -> Line:
    """A line to simulate: a bundled one by name, or a constant rate.

    Raises:
        NotFoundError: no line of that name.

    """
    trace = Trace.constant(rate.kbps) if rate is not None else load_trace(name or "day")
    return Line(trace, round_trip_ms=round_trip_ms, queue_bytes=queue_bytes)


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
