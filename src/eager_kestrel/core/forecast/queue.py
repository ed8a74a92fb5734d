"""What waits when a stream meets a line: Lindley's recursion, exact, in two passes of an array.

With a(k) the bits of frame k and c(k) what the line carries until the next one, what still waits
then is V(k) = max(0, V(k-1) + a(k) - c(k)) (Lindley, Proc. Camb. Phil. Soc. 48, 1952), and with
S = cumulative sum of a - c it is S - min(0, running minimum of S). A frame is late when more than
0.7 s of the stream wait behind it.

Turned round: a stream whose frames keep their proportions has a late frame exactly when its rate is
above the *critical rate* of what the line carried, the least over all spans of what was carried
divided by the seconds of stream sent in it less the 0.7 s that may wait.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.arrays import Floats, Indices
from eager_kestrel.core.line.airing import LATE_SECONDS

FIRST_SPAN_SECONDS = 2.0
MOST_ROUNDS = 60


def critical_kbps(carried_kbit: Floats, step_seconds: float, allowed_seconds: float) -> float:
    """The most an even stream may run at without more than so much of it waiting.

    Dinkelbach's method (Management Science 13, 1967) for the least ratio, exact on the grid.

    Args:
        carried_kbit: shape (steps,), what the line carried in each step.
        step_seconds: how long one is.
        allowed_seconds: of stream that may wait; the whole must be longer.
    """
    carried = np.concatenate([[0.0], np.cumsum(carried_kbit)])
    seconds = np.arange(carried.size) * step_seconds
    width = min(round(FIRST_SPAN_SECONDS / step_seconds), carried.size - 1)
    least = float((carried[width:] - carried[:-width]).min())
    rate = least / (seconds[width] - allowed_seconds)
    for _ in range(MOST_ROUNDS):
        ahead = rate * seconds - carried
        waiting = ahead - np.minimum.accumulate(ahead)
        end = int(waiting.argmax())
        if waiting[end] <= allowed_seconds * rate * (1 + 1e-9):
            break
        begin = int(ahead[: end + 1].argmin())
        rate = (carried[end] - carried[begin]) / (seconds[end] - seconds[begin] - allowed_seconds)
    return float(rate)


@dataclass(frozen=True, slots=True)
class Replayed:
    """What came of a stream in simulated stretches of a line."""

    late_frames: Indices
    """Shape (stretches,)."""
    worst_seconds: Floats
    """Shape (stretches,): the most of the stream that waited."""
    dip_seconds: Floats
    """How long each dip lasted, of all stretches: the time in which frame after frame was late."""


def waits(sent_kbit: Floats, carried_kbit: Floats, spare: Floats | None = None) -> Floats:
    """What still waits, in kbit, when the next frame comes; ``carried_kbit`` is used up.

    Args:
        sent_kbit: shape (frames,).
        carried_kbit: shape (frames,), what the line carries until the next frame; overwritten.
        spare: of the same shape, to work in.
    """
    behind = np.subtract(sent_kbit, carried_kbit, out=carried_kbit)
    np.cumsum(behind, out=behind)
    first = float(behind[0])
    behind[0] = min(first, 0.0)  # nothing waited before, so the lowest is never above that
    lowest = np.minimum.accumulate(behind, out=spare)
    behind[0] = first
    return np.subtract(behind, lowest, out=behind)


def replay(
    sent_kbit: Floats,
    kbps: float,
    fps: float,
    stretches: Iterable[Floats],
    look: Callable[[Floats], None] | None = None,
) -> Replayed:
    """Send the same frames through one stretch of a line after another.

    Memory holds one stretch at a time.

    Args:
        sent_kbit: shape (frames,), as in :func:`waits`.
        kbps: of the stream, by which what waits is turned into seconds.
        fps: frames a second.
        stretches: what the line carries, each as in :func:`waits`.
        look: told what waits in each, of shape (frames,), in kbit.
    """
    late: list[int] = []
    worst: list[float] = []
    dips: list[Floats] = []
    spare = np.empty_like(sent_kbit)
    for carried in stretches:
        waiting = waits(sent_kbit, carried, spare)
        most = float(waiting.max())
        worst.append(most / kbps)
        if look is not None:
            look(waiting)
        if most <= LATE_SECONDS * kbps:
            late.append(0)
            continue
        behind = waiting > LATE_SECONDS * kbps
        late.append(int(np.count_nonzero(behind)))
        edges = np.diff(np.concatenate([[False], behind, [False]]).astype(np.int8))
        dips.append((np.flatnonzero(edges == -1) - np.flatnonzero(edges == 1)) / fps)
    return Replayed(
        np.array(late, dtype=np.intp),
        np.array(worst, dtype=np.float64),
        np.concatenate(dips) if dips else np.empty(0),
    )
