"""Throughput of a series of delivered bytes: ramp, steady part, typical rate, floor.

Slow start is not the upload: RFC 6349 section 3 measures TCP throughput once equilibrium is
reached, and RFC 9097 section 8 takes its maximum over sub-intervals. Here the steady part begins
when the trailing one-second mean has stopped growing. It is read through two-second windows (one
keyframe interval) that slide by one sample: the median is the typical rate and the 10th percentile
the floor. The uncertainty of the floor comes from the stationary block bootstrap (Politis and
Romano, JASA 89(428), 1994), whose blocks keep a dip in one piece.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.uplink import BETWEEN_SAMPLES

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats, Indices
    from eager_kestrel.core.connection.run import Ending, Series


WINDOW_SECONDS = 2.0
"""One keyframe interval, the span a player has to ride over."""
PACKETS, PACKET_BYTES = 24, 1448
"""What most paths carry of TCP in one packet."""
SHORT_SECONDS = 0.5
FLOOR_PERCENTILE = 10.0
SETTLE_SECONDS = 1.0
"""Slow start overshoots, and what it lost is sent again: that is not the connection either."""
RAMP_MEAN_SECONDS = 1.0
STILL_GROWING = 1.05
"""A trailing mean this far below the ones that follow is still ramping."""
RAMP_SHARE = 0.4
"""A ramp never takes more than this share of a series: beyond it the connection is just uneven."""
STALL_SHARE = 0.25
GRID_SECONDS = 0.05
BLOCK_SECONDS = 2.0
LEAST_SECONDS = 1.0
"""Less steady time than this says nothing."""


@dataclass(frozen=True, slots=True)
class Throughput:
    """Statistics of one load phase, in kbit/s and seconds."""

    typical_kbps: float
    """Median of all two-second windows."""
    floor_kbps: float
    """10th percentile of them: nine windows out of ten did at least this."""
    high_kbps: float
    """90th percentile of them."""
    spread: float
    """(P90 - P10) / typical."""
    stalled_share: float
    """Share of windows under a quarter of typical."""
    ramp_seconds: float
    steady_seconds: float
    windows: int


def _arrays(series: Series) -> tuple[Floats, Floats]:
    return (
        np.asarray(series.seconds, dtype=np.float64),
        np.asarray(series.delivered_bytes, dtype=np.float64),
    )


BIN_SECONDS = 0.5
LASTING = 0.75
"""A level that is lower by more is another one ..."""
STALLED = 0.1
"""... unless hardly anything got through."""
EVEN = 0.4
"""Both levels are as even as that: the 90th less the 10th percentile, over the mean."""
STRAY = 5
"""Percent of the bins of a level that may lie nearer to the other."""
BINS_BEFORE, BINS_AFTER = 3, 7


def burst_end(series: Series) -> float | None:
    """When the upload fell to a lower rate that lasts, in seconds; None if it did not.

    Many home connections let a burst through at several times their rate (a token bucket, RFC 2697
    section 1). It shows as one step down between two even levels: the split into two means with the
    least squared error.
    """
    seconds, delivered = _arrays(series)
    if len(seconds) < 3 or series.stretches:
        return None
    edges = np.arange(seconds[0] + SETTLE_SECONDS, seconds[-1] + 1e-9, BIN_SECONDS)
    rates = np.diff(np.interp(edges, seconds, delivered))
    if rates.size < BINS_BEFORE + BINS_AFTER:
        return None
    splits = np.arange(BINS_BEFORE, rates.size - BINS_AFTER + 1)
    before = np.cumsum(rates)[splits - 1] / splits
    after = (rates.sum() - before * splits) / (rates.size - splits)
    fitting = splits * (rates.size - splits) * (before - after) ** 2
    best = int(fitting.argmax())
    at = int(splits[best])
    parts = rates[: at - 1], rates[at + 1 :]  # the step itself falls within a bin
    high, low = (float(part.mean()) for part in parts)
    if not STALLED * high <= low <= LASTING * high:
        return None
    middle = np.sqrt(high * low)  # a fall takes a second or two, and a bin may stray
    apart = np.percentile(parts[0], STRAY) > middle > np.percentile(parts[1], 100 - STRAY)
    even = all(
        np.percentile(part, 90) - np.percentile(part, 10) <= EVEN * part.mean() for part in parts
    )
    return float(edges[at]) if apart and even else None


def steady_index(series: Series) -> int:
    """Index of the first steady sample.

    The first moment, a second in or later, whose trailing one-second mean is no more
    than 5 % below the median of those in the following two seconds; at most 40 % into the series.
    After a burst, half a second after its end.
    """
    seconds, delivered = _arrays(series)
    if len(seconds) < 3:
        return 0
    if (ended := burst_end(series)) is not None:
        return int(np.searchsorted(seconds, ended + BIN_SECONDS))
    since = np.maximum(seconds - RAMP_MEAN_SECONDS, seconds[0])
    gained = delivered - np.interp(since, seconds, delivered)
    means = np.asarray(gained / np.maximum(seconds - since, 1e-9), dtype=np.float64)
    settle = seconds[0] + min(SETTLE_SECONDS, RAMP_SHARE * (seconds[-1] - seconds[0]))
    latest = seconds[0] + RAMP_SHARE * (seconds[-1] - seconds[0])
    for index in range(1, len(seconds)):
        if seconds[index] < settle:
            continue
        if seconds[index] >= latest:
            return index
        ahead = (seconds > seconds[index]) & (seconds <= seconds[index] + WINDOW_SECONDS)
        if not ahead.any() or float(np.median(means[ahead])) <= means[index] * STILL_GROWING:
            return index
    return len(seconds) - 1


def _between_packets(seconds: Floats, delivered: Floats) -> tuple[Floats, Floats]:
    """A series without the steps of whole packets, which are coarse on slow connections.

    At 0.5 Mbit/s a window holds 83 packets, and one more or less is 1.2 %. A mean over the samples
    of a few packets' time, a quarter of a second at the most, takes most of that out and leaves
    dips in place; from 3 Mbit/s up it is the series itself.
    """
    span, gained = float(seconds[-1] - seconds[0]), float(delivered[-1] - delivered[0])
    if gained <= 0 or len(seconds) < 8:
        return seconds, delivered
    step = span / (len(seconds) - 1)
    some = min(PACKETS * PACKET_BYTES * span / gained, WINDOW_SECONDS / 8)
    reach = int(some / step / 2)
    if reach < 1:
        return seconds, delivered
    index = np.arange(len(delivered))
    around = np.minimum(reach, np.minimum(index, len(delivered) - 1 - index))
    both = np.stack([seconds, delivered])
    padded = np.concatenate([np.zeros((2, 1)), np.cumsum(both, axis=1)], axis=1)
    times, counts = (padded[:, index + around + 1] - padded[:, index - around]) / (2 * around + 1)
    return times, counts


def window_rates(
    seconds: Floats, delivered: Floats, window_seconds: float = WINDOW_SECONDS
) -> Floats:
    """Mean rate in kbit/s of every window of that length that ends on a sample.

    A series shorter than a window gives one window of its whole length.
    """
    seconds, delivered = _between_packets(seconds, delivered)
    span = min(window_seconds, float(seconds[-1] - seconds[0]))
    ends = seconds[seconds >= seconds[0] + span - 1e-9]
    gained = np.interp(ends, seconds, delivered) - np.interp(ends - span, seconds, delivered)
    return np.asarray(gained * 8e-3 / span, dtype=np.float64)


def _stretches(series: Series) -> list[tuple[Floats, Floats]]:
    """What was delivered in each stretch, from edge to edge."""
    seconds, delivered = _arrays(series)
    parts = []
    for begin, end in series.stretches:
        inside = seconds[(seconds > begin) & (seconds < end)]
        at = np.concatenate([[begin], inside, [end]])
        parts.append((at, np.interp(at, seconds, delivered)))
    return parts


def steady_parts(series: Series) -> tuple[Floats, Floats]:
    """Return window rates (kbit/s) of the steady part, and bytes delivered in each 50 ms of it.

    If the upload was loaded in stretches only, a window is a stretch, at most two seconds of it.

    Returns:
        Shapes (windows,) and (steps,); no windows if the part is too short to say anything.
    """
    if series.stretches:
        parts = _stretches(series)
        return (
            np.concatenate([window_rates(*part) for part in parts]),
            np.concatenate([_on_grid(*part) for part in parts]),
        )
    seconds, delivered = _arrays(series)
    if len(seconds) < 3:
        return np.empty(0), np.empty(0)
    start = steady_index(series)
    part = seconds[start:], delivered[start:]
    short = seconds[-1] - seconds[start] < LEAST_SECONDS
    return np.empty(0) if short else window_rates(*part), _on_grid(*part)


def _on_grid(seconds: Floats, delivered: Floats) -> Floats:
    """Bytes delivered in each 50 ms."""
    grid = np.arange(seconds[0], seconds[-1] + 1e-9, GRID_SECONDS)
    return np.diff(np.interp(grid, seconds, delivered))


def short_rates(series: Series) -> tuple[float, float] | None:
    """10th and 90th percentile in kbit/s of half-second windows of the steady part.

    A stream has about a second of buffer, so that swings within a two-second window are felt, too.
    """
    seconds, delivered = _arrays(series)
    start = steady_index(series)
    if len(seconds) < 3 or seconds[-1] - seconds[start] < LEAST_SECONDS or series.stretches:
        return None
    rates = window_rates(seconds[start:], delivered[start:], SHORT_SECONDS)
    low, high = np.percentile(rates, [FLOOR_PERCENTILE, 100 - FLOOR_PERCENTILE])
    return float(low), float(high)


def throughput(series: Series) -> Throughput | None:
    """Statistics of the steady part; None when there is too little of it."""
    rates, _ = steady_parts(series)
    if rates.size == 0 or float(np.median(rates)) <= 0:
        return None
    ramp, steady = _spans(series)
    floor, typical, high = (
        float(x) for x in np.percentile(rates, [FLOOR_PERCENTILE, 50, 100 - FLOOR_PERCENTILE])
    )
    return Throughput(
        typical_kbps=typical,
        floor_kbps=floor,
        high_kbps=high,
        spread=(high - floor) / typical,
        stalled_share=float(np.mean(rates < STALL_SHARE * typical)),
        ramp_seconds=ramp,
        steady_seconds=steady,
        windows=int(rates.size),
    )


HELD_SHARE = 0.85
"""Of a rate that is sent; less of it delivered is all the connection carries."""


def fell_by(earlier: Series, later: Series, sent_kbps: float | None = None) -> bool:
    """Whether a later series shows that what an earlier one carried did not last.

    Args:
        sent_kbps: what the later one was offered at the most; None for as much as it took.
    """
    before, after = throughput(earlier), throughput(later)
    if before is None or after is None or after.stalled_share > STALLED:
        return False
    most = before.floor_kbps if sent_kbps is None else min(sent_kbps, before.typical_kbps)
    share = LASTING if sent_kbps is None else HELD_SHARE
    return after.high_kbps < share * most


def _spans(series: Series) -> tuple[float, float]:
    """Seconds before anything counts, and seconds that count."""
    if series.stretches:
        loaded = sum(end - begin for begin, end in series.stretches)
        return series.stretches[0][0] - series.seconds[0], loaded
    start = steady_index(series)
    return series.seconds[start] - series.seconds[0], series.seconds[-1] - series.seconds[start]


def block_indices(count: int, draws: int, replicates: int, rng: np.random.Generator) -> Indices:
    """Positions drawn by the stationary block bootstrap, shape (replicates, draws).

    Blocks begin anywhere, run round the end, and have a geometric length of two seconds on average.
    """
    begins = rng.random((replicates, draws)) < GRID_SECONDS / BLOCK_SECONDS
    begins[:, 0] = True
    origins = rng.integers(0, count, (replicates, draws))
    column = np.arange(draws)
    last = np.maximum.accumulate(np.where(begins, column, 0), axis=1)
    origin = np.take_along_axis(origins, last, axis=1)
    return np.asarray((origin + column - last) % count, dtype=np.intp)


def grid_windows(increments: Floats) -> Floats:
    """Window rates in kbit/s along the last axis of 50 ms increments."""
    length = increments.shape[-1]
    width = min(round(WINDOW_SECONDS / GRID_SECONDS), length)
    total = np.cumsum(increments, axis=-1)
    padded = np.concatenate([np.zeros((*total.shape[:-1], 1)), total], axis=-1)
    gained = padded[..., width:] - padded[..., :-width]
    return np.asarray(gained * 8e-3 / (width * GRID_SECONDS), dtype=np.float64)


def floor_interval(
    series: Series, rng: np.random.Generator, replicates: int = 200
) -> tuple[float, float] | None:
    """95 % interval of the floor in kbit/s from one series; None when it is too short."""
    _, increments = steady_parts(series)
    if increments.size * GRID_SECONDS < WINDOW_SECONDS:
        return None
    picks = block_indices(increments.size, increments.size, replicates, rng)
    floors = np.percentile(grid_windows(increments[picks]), FLOOR_PERCENTILE, axis=1)
    low, high = np.percentile(floors, [2.5, 97.5])
    return float(low), float(high)


LEAST_STEADY_SECONDS = 4.0
PRECISION = 0.05
SEED = 9097


@dataclass(frozen=True, slots=True)
class Limits:
    """The most a load phase may take."""

    seconds: float = 10.0
    round_trips: float = 0.0
    """So many more on a long way, and what this machine loses; 0 where somebody set the time."""
    data_bytes: int | None = None
    """Over all phases of a run."""


def known_well_enough(series: Series) -> bool:
    """Whether the floor's 95 % interval lies within 5 % of it, after four steady seconds."""
    found = throughput(series)
    if found is None or found.steady_seconds < LEAST_STEADY_SECONDS - BETWEEN_SAMPLES:
        return False
    interval = floor_interval(series, np.random.default_rng(SEED))
    if interval is None:
        return False
    low, high = interval
    return max(found.floor_kbps - low, high - found.floor_kbps) <= PRECISION * found.floor_kbps


def limit_reached(seconds: float, used_bytes: int, limits: Limits) -> Ending | None:
    """The limit that has been reached, if any."""
    if limits.data_bytes is not None and used_bytes >= limits.data_bytes:
        return "data"
    return "time" if seconds >= limits.seconds else None
