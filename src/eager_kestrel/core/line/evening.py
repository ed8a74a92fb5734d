"""An evening of runs, by quarter of an hour."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.line.pooling import uplink_of

if TYPE_CHECKING:
    from eager_kestrel.core.line.run import Run
    from eager_kestrel.core.line.uplink import Uplink

QUARTER_MINUTES = 15


class QuarterOfRuns(Frozen):
    """What the runs begun in one quarter of an hour say together."""

    begins: str
    """``2026-11-26T20:15``, in the place where they were taken."""
    runs: int
    """That learned something."""
    failed: int
    typical_kbps: float | None
    """None where every run failed."""
    floor_kbps: float | None


def quarters(runs: Sequence[Run]) -> tuple[QuarterOfRuns, ...]:
    """Runs by the quarter of an hour they began in, in order of time.

    Args:
        runs: of one schedule, failed ones among them.
    """
    by_begin: dict[str, list[Run]] = {}
    for run in sorted(runs, key=lambda run: run.taken):
        minute = run.taken.minute // QUARTER_MINUTES * QUARTER_MINUTES
        begins = run.taken.replace(minute=minute, second=0).isoformat()[:16]
        by_begin.setdefault(begins, []).append(run)
    return tuple(_quarter(begins, here) for begins, here in by_begin.items())


def _quarter(begins: str, here: list[Run]) -> QuarterOfRuns:
    uplink: Uplink | None = None
    learned = [run for run in here if not run.failed]
    try:
        uplink = uplink_of(learned)
    except FormatError:
        learned = []
    return QuarterOfRuns(
        begins=begins,
        runs=len(learned),
        failed=len(here) - len(learned),
        typical_kbps=None if uplink is None else uplink.typical_kbps,
        floor_kbps=None if uplink is None else uplink.floor_kbps,
    )
