"""The uplink by hour of day as a figure."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.line.hours import Hours


def save_hours_figure(hours: Hours, path: Path) -> None:
    """Draw typical and floor for each hour anything is known of.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (axes,) = new_figure()
    figure.suptitle("Upload by hour of day", color=INK, x=0.01, ha="left", fontsize=14)
    known = [hour for hour in hours.hours if hour.typical_kbps is not None]
    at = [hour.hour for hour in known]
    typical = [(hour.typical_kbps or 0.0) / 1000 for hour in known]
    floor = [(hour.floor_kbps or 0.0) / 1000 for hour in known]
    faces = [LINE if hour.measured else FAINT for hour in known]
    axes.bar(
        at,
        typical,
        width=0.7,
        color=faces,
        alpha=0.55,
        label="typical; grey where only imported readings are known",
    )
    axes.hlines(floor, [h - 0.35 for h in at], [h + 0.35 for h in at], color=CARE, linewidth=3,
                label="floor, and down to the low end of its 95 % interval")  # fmt: skip
    _draw_plans(axes, hours)
    for hour in hours.hours:
        if hour.floor_low_kbps is not None and hour.floor_kbps is not None:
            axes.vlines(hour.hour, hour.floor_low_kbps / 1000, hour.floor_kbps / 1000,
                        color=CARE, linewidth=1)  # fmt: skip
        count = f"{hour.runs} runs" if hour.measured else f"{hour.readings} read"
        if hour.failed:
            count = (
                f"{count}\n{hour.failed} failed" if hour.typical_kbps else f"{hour.failed} failed"
            )
        axes.annotate(count, (hour.hour, (hour.typical_kbps or 0.0) / 1000), xytext=(0, 4),
                      textcoords="offset points", ha="center", fontsize=9, color=INK)  # fmt: skip
    axes.set_xlim(-0.6, 23.6)
    axes.set_xticks(range(0, 24, 2), [f"{h:02d}:00" for h in range(0, 24, 2)])
    axes.set_ylim(0, max(typical, default=1.0) * 1.2)
    axes.set_ylabel("Mbit/s on one connection", color=INK)
    axes.set_xlabel("hour the run began in", color=INK)
    axes.legend(loc="upper right", frameon=True, framealpha=0.9, edgecolor=FAINT)
    save(figure, path)


def _draw_plans(axes: Axes, hours: Hours) -> None:
    """What the first platform would get: its rate as a line, its settings within the bar."""
    planned = [(hour.hour, hour.gets[0]) for hour in hours.hours if hour.gets]
    if not planned:
        return
    axes.hlines([gets.total_kbps / 1000 for _, gets in planned], [at - 0.35 for at, _ in planned],
                [at + 0.35 for at, _ in planned], color=GOOD, linewidth=3,
                label=f"sent to {planned[0][1].platform} by the plan of that hour")  # fmt: skip
    for at, gets in planned:
        axes.annotate(gets.settings.partition(",")[0], (at, 0), xytext=(0, 6),
                      textcoords="offset points", ha="center", va="bottom", rotation=90,
                      fontsize=8, color=INK)  # fmt: skip
