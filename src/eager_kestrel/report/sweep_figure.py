"""A sweep as a figure: picture and bitrate chosen, how that looks below."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import InputError
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, new_figure, save

if TYPE_CHECKING:
    from eager_kestrel.core.choice.what_if import Sweep


def save_sweep_figure(found: Sweep, path: Path) -> None:
    """Draw a sweep over numbers and write it.

    Raises:
        InputError: the sweep is over names, or the file name is no picture's.
        StorageError: the disk would not take it.
    """
    points = [p for p in found.points if p.value is not None and p.chosen is not None]
    if not points:
        raise InputError(f"a sweep of {found.over} has nothing to draw", "sweep upload or share")
    figure, (lines_axes, rate_axes, quality_axes) = new_figure(3, (2.0, 1.4, 1.0))
    unit = "upload, Mbit/s" if found.over == "upload" else "safe share"
    title = f"What {found.platform} gets, by {found.over}"
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
    at = [p.value for p in points if p.value is not None]
    chosen = [p.chosen for p in points if p.chosen is not None]
    lines_axes.step(at, [c.picture.height for c in chosen], where="post", color=LINE, linewidth=2)
    for fps in sorted({float(c.frame_rate) for c in chosen}):
        here = [
            (x, c.picture.height)
            for x, c in zip(at, chosen, strict=True)
            if float(c.frame_rate) == fps
        ]
        colour = CARE if fps > 30 else GOOD
        lines_axes.plot(*zip(*here, strict=True), ".", color=colour, markersize=7,
                        label=f"at {fps:g} frames a second")  # fmt: skip
    lines_axes.set_ylabel("lines", color=INK)
    lines_axes.set_ylim(0, 1.12 * max(c.picture.height for c in chosen))
    lines_axes.legend(loc="lower right", frameon=True, framealpha=0.9, edgecolor=FAINT)
    rate_axes.step(at, [c.bitrate_kbps / 1000 for c in chosen], where="post", color=LINE)
    rate_axes.set_ylabel("video, Mbit/s", color=INK)
    rate_axes.set_ylim(0, 1.12 * max(c.bitrate_kbps for c in chosen) / 1000)
    quality_axes.plot(at, [100 * c.quality for c in chosen], color=GOOD)
    quality_axes.set_ylabel("quality, of 100", color=INK)
    quality_axes.set_ylim(0, 100)
    quality_axes.set_yticks([20, 40, 60, 80, 100])
    quality_axes.set_xlabel(unit, color=INK)
    save(figure, path)
