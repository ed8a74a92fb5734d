"""What a far end counted of a run, and whether both ends agree."""

from __future__ import annotations

import numpy as np

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.line.run import BothEnds, Series
from eager_kestrel.core.line.throughput import throughput

TAIL_SECONDS = 0.5
"""Of what was read last is left out: behind a hole that is not mended yet, nothing is read."""


class EndpointCount(Frozen):
    """What a far end read of one run's uploads."""

    format: str = format_name("counted")
    run: str
    """By which the run's uploads called themselves."""
    uploads: int
    """Requests that were read, to their end or not."""
    bytes: int
    """Of their bodies."""
    samples: Series
    """Bytes read since the first arrived, on the far end's clock."""


def both_ends(near: Series, far: EndpointCount) -> BothEnds | None:
    """The rate each end saw; None where one of them has too few samples.

    Args:
        near: what was acknowledged here.
        far: what was read there.
    """
    rates = _in_stretches(near, far.samples) if near.stretches else _throughout(near, far.samples)
    if rates is None:
        return None
    return BothEnds(near_kbps=round(rates[0], 1), far_kbps=round(rates[1], 1), far_bytes=far.bytes)


def _throughout(near: Series, far: Series) -> tuple[float, float] | None:
    """Each end's typical rate, by the same rule."""
    here, there = throughput(near), throughput(far)
    return None if here is None or there is None else (here.typical_kbps, there.typical_kbps)


def _in_stretches(near: Series, far: Series) -> tuple[float, float] | None:
    """The rate over the same bytes.

    The clocks of two machines tell different times, but a byte is a byte: a stretch is looked up at
    the far end by the bytes it lies between.
    """
    at, count = np.asarray(near.seconds), np.asarray(near.delivered_bytes, dtype=np.float64)
    there, read = np.asarray(far.seconds), np.asarray(far.delivered_bytes, dtype=np.float64)
    if len(there) < 3:
        return None
    whole = float(np.interp(there[-1] - TAIL_SECONDS, there, read))
    near_seconds = far_seconds = carried = 0.0
    for begin, end in near.stretches:
        low, high = (float(bytes_) for bytes_ in np.interp([begin, end], at, count))
        if min(high, whole) <= low:
            continue
        edges = [low, min(high, whole)]
        near_seconds += float(np.diff(np.interp(edges, count, at))[0])
        far_seconds += float(np.diff(np.interp(edges, read, there))[0])
        carried += edges[1] - edges[0]
    if near_seconds <= 0 or far_seconds <= 0:
        return None
    return carried * 8e-3 / near_seconds, carried * 8e-3 / far_seconds
