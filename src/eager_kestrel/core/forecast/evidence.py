"""Everything observed of a connection, in the form that replay needs.

A run shows what the connection could carry, every 50 ms. A broadcast shows what it did carry: at
least the rate that was sent, and exactly what arrived while frames were late. So a broadcast says
nothing of higher rates: every stretch of evidence has a *reach*, the highest rate it can judge.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.broadcast import STANDING_SECONDS
from eager_kestrel.core.connection.throughput import GRID_SECONDS
from eager_kestrel.core.stutter import LATE_SECONDS

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats, Indices
    from eager_kestrel.core.connection.evidence import BroadcastEvidence, RunEvidence

LEAST_SECONDS = 1.0
"""A shorter stretch is left out."""
PART_SECONDS = 900
"""A broadcast counts by the quarter of an hour."""
REACH = 1.03
"""A broadcast judges rates up to this many times its own: it swings by as much."""
MOST_REACHES = 8
"""Different reaches that are told apart; others are taken for the next lower one."""
BLOCK_STEPS = 40
"""Steps in a block, two seconds: what a resample of one run keeps together."""
OPEN_KBIT = 1e7
"""Carried by the step between two stretches: whatever was queued is gone."""


@dataclass(frozen=True, slots=True)
class ObservedStretch:
    """A part of the evidence that is resampled as one: a run, or a quarter of a broadcast."""

    source: str
    """The id of the run or broadcast."""
    began: datetime
    seconds: float
    """How long it was observed."""
    reach_kbps: float
    """The highest rate it says anything of; infinite for a run that filled the connection."""
    carried_kbit: tuple[Floats, ...]
    """Carried in each 50 ms, of every piece that matters; elsewhere nothing is queued."""
    broadcast: bool

    @property
    def day(self) -> date:
        """The day it was observed on."""
        return self.began.date()


def stretch_of_run(run: RunEvidence) -> ObservedStretch | None:
    """Return a run as one stretch of evidence, or None if it is too short."""
    seconds = run.steps_kbit.size * GRID_SECONDS
    if seconds < LEAST_SECONDS:
        return None
    reach = np.inf if run.max_kbps is None else run.max_kbps
    return ObservedStretch(run.id, run.taken, seconds, reach, (run.steps_kbit,), broadcast=False)


def stretches_of_broadcast(broadcast: BroadcastEvidence) -> list[ObservedStretch]:
    """Return a broadcast as stretches of evidence, one for each quarter of an hour."""
    found = []
    for begin in range(0, broadcast.sent_kbps.size, PART_SECONDS):
        part = slice(begin, begin + PART_SECONDS)
        counts = broadcast.counts[part]
        seconds = int(counts.sum())
        sent = broadcast.sent_kbps[part][counts]
        if seconds < LEAST_SECONDS or np.median(sent) <= 0:
            continue
        queued = np.where(counts, broadcast.queued_seconds[part], 0.0)
        carried = broadcast.carried_kbps[part]
        found.append(
            ObservedStretch(
                source=broadcast.id,
                began=broadcast.taken + timedelta(seconds=begin),
                seconds=float(seconds),
                reach_kbps=float(np.median(sent)) * REACH,
                carried_kbit=tuple(
                    _within_seconds(carried[first:last]) for first, last in _late_spans(queued)
                ),
                broadcast=True,
            )
        )
    return found


SHORT_SECONDS = 3
"""A stop that touches no more whole seconds was shorter than they are."""
FULL_SHARE = 0.9


def _within_seconds(carried_kbps: Floats) -> Floats:
    """Carried in each 50 ms of seconds in which something was queued.

    How a second's bytes lay within it was not kept. A connection that stopped for a second, from
    the middle of one to that of the next, is not one that carried half for two. So where only a few
    seconds in a row carried less than the others, they end what went before and begin what comes:
    everything at first and then nothing, and the other way round in the last of them.
    """
    steps = round(1 / GRID_SECONDS)
    full = max(float(carried_kbps.max(initial=0.0)), 1e-9)
    share = np.clip(carried_kbps / full, 0.0, 1.0)
    within = np.repeat(share[:, None], steps, axis=1)
    edges = np.diff(np.concatenate([[False], share < FULL_SHARE, [False]]).astype(np.int8))
    spans = zip(np.flatnonzero(edges == 1), np.flatnonzero(edges == -1), strict=True)
    for first, last in spans:
        if last - first <= SHORT_SECONDS:
            for second in (first, last - 1):
                early = np.clip(share[second] * steps - np.arange(steps), 0.0, 1.0)
                within[second] = early if second == first else early[::-1]
    return np.asarray(within.ravel() * full * GRID_SECONDS, dtype=np.float64)


def _late_spans(queued: Floats) -> list[tuple[int, int]]:
    """Seconds from when something was queued until nothing was, where a frame was late."""
    edges = np.diff(np.concatenate([[False], queued > STANDING_SECONDS, [False]]).astype(np.int8))
    spans = zip(np.flatnonzero(edges == 1), np.flatnonzero(edges == -1), strict=True)
    return [(int(a), int(b)) for a, b in spans if queued[a:b].max() > LATE_SECONDS]


@dataclass(frozen=True, slots=True)
class Evidence:
    """Stretches on one axis of steps, so that a stream goes through all of them at once."""

    stretches: tuple[ObservedStretch, ...]
    carried_kbit: Floats
    """Shape (steps,): of every piece, with an open step behind each."""
    real: Flags
    """Shape (steps,): whether the step was observed."""
    phase: Indices
    """Shape (steps,): steps since its piece began."""
    piece: Indices
    """Shape (steps,)."""
    block: Indices
    """Shape (steps,): resampled together; counted over all stretches."""
    stretch_of_block: Indices
    """Shape (blocks,)."""
    seconds: Floats
    """Shape (stretches,)."""
    level: Indices
    """Shape (stretches,): which of :attr:`reaches_kbps` it has."""
    reaches_kbps: Floats
    """Shape (levels,): rising, the last infinite."""
    cluster: Indices
    """Shape (stretches,): those of one day; each its own where there are fewer than three days."""

    @classmethod
    def of(
        cls, runs: Sequence[RunEvidence], broadcasts: Sequence[BroadcastEvidence] = ()
    ) -> Evidence:
        """The evidence of runs and broadcasts; those too short to say anything are left out."""
        made = [stretch for run in runs if (stretch := stretch_of_run(run))]
        made += [part for one in broadcasts for part in stretches_of_broadcast(one)]
        return cls.of_stretches(made)

    @classmethod
    def of_stretches(cls, stretches: Sequence[ObservedStretch]) -> Evidence:
        """Put stretches on one axis."""
        carried: list[Floats] = []
        phases: list[Indices] = []
        blocks: list[Indices] = []
        owners: list[int] = []
        for number, stretch in enumerate(stretches):
            for steps in stretch.carried_kbit:
                phase = np.arange(steps.size + 1)
                block = np.minimum(phase, steps.size - 1) // BLOCK_STEPS
                carried.append(np.append(steps, OPEN_KBIT))
                phases.append(phase)
                blocks.append(block + len(owners))
                owners += [number] * (int(block[-1]) + 1)
        sizes = [steps.size for steps in carried]
        whole = np.concatenate(carried) if carried else np.empty(0)
        reaches = _levels(np.array([stretch.reach_kbps for stretch in stretches]))
        level = [int(np.searchsorted(reaches, s.reach_kbps, "right")) - 1 for s in stretches]
        days = sorted({stretch.day for stretch in stretches})
        return cls(
            stretches=tuple(stretches),
            carried_kbit=whole,
            real=whole < OPEN_KBIT,
            phase=np.concatenate(phases) if phases else np.empty(0, dtype=np.intp),
            piece=np.repeat(np.arange(len(sizes)), sizes),
            block=np.concatenate(blocks) if blocks else np.empty(0, dtype=np.intp),
            stretch_of_block=np.array(owners, dtype=np.intp),
            seconds=np.array([stretch.seconds for stretch in stretches]),
            level=np.array(level, dtype=np.intp),
            reaches_kbps=reaches,
            cluster=np.array(
                [days.index(s.day) if len(days) > 2 else n for n, s in enumerate(stretches)],
                dtype=np.intp,
            ),
        )

    @property
    def observed_seconds(self) -> float:
        """How long the connection was observed in all."""
        return float(self.seconds.sum())

    @property
    def highest_kbps(self) -> float:
        """The highest rate that anything is known of."""
        finite = self.reaches_kbps[np.isfinite(self.reaches_kbps)]
        rates = [
            float(steps.mean()) / GRID_SECONDS
            for stretch in self.stretches
            if np.isinf(stretch.reach_kbps)
            for steps in stretch.carried_kbit
        ]
        return max([*rates, *finite], default=0.0)

    def where(self, keep: Callable[[ObservedStretch], bool]) -> Evidence:
        """Only some of the stretches."""
        return Evidence.of_stretches([stretch for stretch in self.stretches if keep(stretch)])


def _levels(reaches: Floats) -> Floats:
    """The reaches that are told apart, rising."""
    known = np.unique(reaches)
    finite = known[np.isfinite(known)]
    if finite.size > MOST_REACHES:
        picked = np.linspace(0, finite.size - 1, MOST_REACHES).astype(np.intp)
        finite = finite[picked]
    return np.concatenate([finite, known[np.isinf(known)]])
