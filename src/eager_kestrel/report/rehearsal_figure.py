"""A rehearsal as a figure: what was delivered, and where frames waited."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, new_figure, save

if TYPE_CHECKING:
    from eager_kestrel.core.checks.rehearsal import Rehearsal


def save_rehearsal_figure(one: Rehearsal, path: Path) -> None:
    """Draw a rehearsal and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (rate, waiting) = new_figure(2, (1.6, 1.0))
    limited = f"limited by the {one.verdict.limited_by}: " if one.verdict.limited_by else ""
    title = f"Rehearsal of {one.platform}, {limited}{one.verdict.text}"
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
    at = np.array([m.seconds for m in one.moments])
    count = np.array([m.delivered_bytes for m in one.moments], dtype=np.float64)
    if at.size > 2:
        before = np.maximum(at - 1.0, at[0])
        gained = count - np.interp(before, at, count)
        span = np.maximum(at - before, 1e-3)
        rate.plot(at[1:], gained[1:] / span[1:] / 125_000, color=LINE, label="delivered")
    rate.axhline(one.total_kbps / 1000, color=GOOD, linestyle="--", label="as planned")
    rate.set_ylabel("Mbit/s over a second", color=INK)
    rate.set_ylim(0, 1.3 * max(one.total_kbps / 1000, 0.1))
    rate.legend(loc="lower right", framealpha=0.9)
    waiting.plot(at, [m.backlog_seconds for m in one.moments], color=CARE, label="line")
    waiting.plot(at, [m.encoder_seconds for m in one.moments], color=LINE, label="encoder")
    waiting.axhline(LATE_SECONDS, color=INK, linestyle=":", linewidth=1)
    waiting.set_ylim(0, max(1.0, 1.2 * one.worst_backlog_seconds))
    waiting.set_ylabel("frames wait, s", color=INK)
    waiting.set_xlabel("seconds", color=INK)
    waiting.legend(loc="upper left", framealpha=0.9)
    save(figure, path)
