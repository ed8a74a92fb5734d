"""What airings say of the line: bounds from below, dips, and how that changes an uplink.

Two seconds of an airing in which nothing waited show that the line carried at least what was sent:
an observation censored on the right. Where something waited they show what it carries. Runs see
only the latter. Both together give the distribution by Kaplan and Meier (J. Am. Stat. Assoc. 53,
1958): weight passes from each censored observation to all above it; what the highest would pass on
stays with it (Efron, Proc. 5th Berkeley Symposium, 1967).

A quarter of an hour of an airing weighs as much as a run. Seconds in which the ingest or the
connection was at fault say nothing of the line and are left out.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.line.airing import STANDING_SECONDS, Broadcast
from eager_kestrel.core.line.evidence import BroadcastEvidence, broadcast_evidence

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Flags, Floats

QUARTER_SECONDS = 900
LEAST_SECONDS = 20
"""A shorter stretch is no evidence."""
WINDOW = 2
"""Seconds in a window, as for runs."""


@dataclass(frozen=True, slots=True)
class QuarterBounds:
    """A quarter of an hour of an airing, or what there is of one."""

    airing: str
    """Its id."""
    began: datetime
    rates_kbps: Floats
    """Shape (windows,): carried in each two seconds."""
    limited: Flags
    """Shape (windows,): whether it was all the line carried."""


def quarters(airing: Broadcast | BroadcastEvidence) -> list[QuarterBounds]:
    """An airing as evidence, by quarter of an hour."""
    evidence = broadcast_evidence(airing)
    found = []
    for begin in range(0, evidence.sent_kbps.size, QUARTER_SECONDS):
        part = slice(begin, begin + QUARTER_SECONDS)
        here = evidence.counts[part]
        if here.sum() < LEAST_SECONDS:
            continue
        queued = evidence.queued_seconds[part][here]
        rates, limited = _windows(evidence.carried_kbps[part][here], queued > STANDING_SECONDS)
        found.append(
            QuarterBounds(
                airing=evidence.id,
                began=evidence.taken + timedelta(seconds=begin),
                rates_kbps=rates,
                limited=limited,
            )
        )
    return found


def _windows(carried: Floats, waits: Flags) -> tuple[Floats, Flags]:
    """Two seconds each; all the line carried only where something waited throughout."""
    even = carried.size // WINDOW * WINDOW
    rates = carried[:even].reshape(-1, WINDOW).mean(axis=1)
    limited = np.logical_and.reduce(waits[:even].reshape(-1, WINDOW), axis=1)
    return rates, np.asarray(limited, dtype=np.bool_)


def redistributed(values: Floats, weights: Floats, exact: Flags) -> Floats:
    """Weights after each censored observation has passed its own on to all above it.

    Args:
        values: shape (n,).
        weights: shape (n,), above zero.
        exact: shape (n,); the others are bounds from below.

    Returns:
        Shape (n,), the same sum; zero where an observation is censored, but for the highest.
    """
    order = np.lexsort((~exact, values))
    own, seen = weights[order], exact[order].copy()
    seen[-1] = True
    at_risk = np.cumsum(own[::-1])[::-1]
    falls = np.where(seen, own / at_risk, 0.0)
    left = np.concatenate([[1.0], np.cumprod(1 - falls)[:-1]])
    given = np.empty_like(weights)
    given[order] = left * falls * own.sum()
    return given
