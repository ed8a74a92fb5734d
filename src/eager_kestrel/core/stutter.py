"""Queue, late frame, stutter, stutter rate: what "late" means, defined once.

The queue is stream that was produced and not yet delivered, in seconds of stream (Lindley's
recursion; Proc. Camb. Phil. Soc. 48, 1952). A frame is late when more than ``LATE_SECONDS`` are
queued behind it. A stutter is a run of late frames, gaps under ``BRIDGE_SECONDS`` bridged. The
stutter rate is seconds of stutter, and stutters, in an hour of stream.

A standstill is an interval in which even the lowest total worth sending would be late. What it
does to a stream no bitrate avoids, so it is cut out of what bitrates are judged by.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.document import Frozen

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats, Indices

LATE_SECONDS = 0.7
"""Of stream in the queue: a frame behind more is late."""
BRIDGE_SECONDS = 1.0
"""Late frames that are closer together are one stutter."""
LOWEST_SHARE = 0.1
"""Of typical: the lowest total worth sending, which tells standstills, is no higher."""
LIMIT_SECONDS = 7.0
"""Of stutter in an hour that a plan may have when nobody says otherwise: 0.2 % of the time."""


class Stutter(Frozen):
    """A run of late frames."""

    at_seconds: float
    """Since the stream began."""
    lasted_seconds: float
    cause: str
    """What was at fault; empty where that is not known."""


class Standstills(Frozen):
    """Times at which the connection delivered next to nothing: no bitrate avoids these."""

    number: int
    seconds: float
    """For which it stood still, all together."""
    longest_seconds: float
    late_seconds: float
    """For which a stream is late after each, on average."""
    late_at_half_seconds: float
    """The same at half the rate."""
    at: tuple[str, ...]
    """Beginnings of the runs and quarters of an hour they were in, the latest first."""


class StutterSeen(Frozen):
    """What a stream would have stuttered in everything observed, standstills aside."""

    observed_seconds: float
    """Evidence that says something of this rate."""
    seconds: float
    """Of stutter in that time."""
    number: int
    """Stutters in that time."""
    worst_queue_seconds: float
    """The most that was queued."""
    seconds_per_hour: float
    low_seconds_per_hour: float
    high_seconds_per_hour: float
    """Nine of ten resamples of the evidence lie between these."""
    number_per_hour: float
    unseen_per_hour: float
    """Stutters of a kind that was not seen which cannot be excluded, at 95 %."""
    standstills: Standstills | None = None
    """What no bitrate avoids; None if the connection never stood still."""

    def within(self, limit: float) -> bool:
        """Whether the cautious end keeps a limit, in seconds of stutter an hour."""
        return self.high_seconds_per_hour <= limit


def queued_kbit(sent_kbit: Floats, carried_kbit: Floats) -> Floats:
    """What is queued after each step, by Lindley's recursion, in two passes.

    With S the running sum of sent less carried, the queue is S less the lowest S so far, or zero.
    What a step sends is in the queue before anything of it is carried.

    Args:
        sent_kbit: shape (steps,).
        carried_kbit: of the same shape: what the connection can carry in each step.

    Returns:
        Shape (steps,), the most within each step.
    """
    surplus = np.cumsum(sent_kbit - carried_kbit)
    before = np.concatenate([[0.0], surplus[:-1]])
    lowest = np.minimum(np.minimum.accumulate(before), 0.0)
    return np.asarray(before - lowest + sent_kbit, dtype=np.float64)


TINY_SECONDS = 1e-6
"""Of stream in the queue: next to nothing."""


def standstills(
    sent_seconds: Floats, carried_kbit: Floats, lowest_kbps: float
) -> tuple[Indices, Indices]:
    """Where the connection stood still: even the lowest total worth sending is late there.

    Args:
        sent_seconds: shape (steps,), seconds of stream sent in each.
        carried_kbit: of the same shape.

    Returns:
        For each, the step in which its queue begins to grow, and the one behind the step in which
        it is empty again; shapes (standstills,).
    """
    left, late = left_queued(sent_seconds, carried_kbit, lowest_kbps)
    busy = np.concatenate([[False], left > TINY_SECONDS, [False]]).astype(np.int8)
    begins, ends = np.flatnonzero(np.diff(busy) == 1), np.flatnonzero(np.diff(busy) == -1) + 1
    ends = np.minimum(ends, left.size)
    lates = np.concatenate([[0], np.cumsum(late)])
    stands = lates[ends] > lates[begins]
    return begins[stands], ends[stands]


def left_queued(
    sent_seconds: Floats, carried_kbit: Floats, total_kbps: float
) -> tuple[Floats, Flags]:
    """Seconds of stream left queued behind each step at a total rate, and the late steps."""
    queue = queued_kbit(sent_seconds * total_kbps, carried_kbit)
    late = (queue > LATE_SECONDS * total_kbps) & (sent_seconds > 0)
    return np.maximum(queue - carried_kbit, 0.0) / total_kbps, late


def within(begins: Indices, ends: Indices, size: int) -> Flags:
    """Which of so many steps lie in one of some spans."""
    change = np.zeros(size + 1, dtype=np.int64)
    np.add.at(change, begins, 1)
    np.add.at(change, ends, -1)
    return np.asarray(np.cumsum(change[:-1]) > 0, dtype=np.bool_)


def bridged(late: Flags, part: Indices, step_seconds: float) -> Flags:
    """Late steps, with the gaps that a stutter bridges.

    Args:
        late: shape (steps,).
        part: of the same shape: steps of different parts never belong to one stutter.
        step_seconds: how long one is.
    """
    at = np.flatnonzero(late)
    if at.size < 2:
        return late
    near = (np.diff(at) * step_seconds < BRIDGE_SECONDS) & (part[at[1:]] == part[at[:-1]])
    change = np.zeros(late.size + 1, dtype=np.int64)
    change[at[:-1][near]] += 1
    change[at[1:][near]] -= 1
    return late | (np.cumsum(change[:-1]) > 0)


def stutters(
    late: Sequence[bool] | Flags, seconds: Floats, step_seconds: float, causes: Sequence[str] = ()
) -> tuple[Stutter, ...]:
    """Stutters of one stream.

    Args:
        seconds: when each step was, since the stream began.
        step_seconds: how long one is.
        causes: of each step; none where they are not known.
    """
    flags = np.asarray(late, dtype=np.bool_)
    if not flags.any():
        return ()
    at = np.flatnonzero(flags)
    apart = np.diff(seconds[at]) >= BRIDGE_SECONDS + step_seconds / 2
    begins = at[np.concatenate([[True], apart])]
    ends = at[np.concatenate([apart, [True]])]
    return tuple(
        Stutter(
            at_seconds=round(float(seconds[begin]), 2),
            lasted_seconds=round(float(seconds[end] - seconds[begin]) + step_seconds, 2),
            cause=causes[begin] if causes else "",
        )
        for begin, end in zip(begins, ends, strict=True)
    )
