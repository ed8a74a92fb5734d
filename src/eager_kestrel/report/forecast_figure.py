"""A forecast as a figure: stutter against what is sent, and the highest rate by hour of the day."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.words.forecasts import some_seconds
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.forecast.forecast import Forecast

BAND = "#dbe7ee"
MOST_TIMES = 30.0
"""How many times the limit the figure reaches up to."""


def save_forecast_figure(found: Forecast, path: Path) -> None:
    """Draw it and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    hours = bool(found.by_hour)
    figure, axes = new_figure(2 if hours else 1, (1.2, 1.0) if hours else (1.0,), shared=False)
    figure.suptitle(found.verdict, color=INK, x=0.01, ha="left", fontsize=13, wrap=True)
    _draw_curve(axes[0], found)
    if hours:
        _draw_hours(axes[1], found)
    save(figure, path)


def _draw_curve(axes: Axes, found: Forecast) -> None:
    """Seconds of stutter an hour; the plan, its fallbacks and the limit."""
    limit = found.limit_seconds_per_hour
    highest = MOST_TIMES * max(limit, 1.0)
    if found.curve is not None:
        mbps = [kbps / 1000 for kbps in found.curve.kbps]
        low, high, middle = (
            [min(x, 2 * highest) for x in column]
            for column in (found.curve.low, found.curve.high, found.curve.seconds_per_hour)
        )
        axes.fill_between(mbps, low, high, color=BAND, label="nine of ten resamples within")
        axes.plot(mbps, middle, color=LINE, linewidth=2, label=f"observed: {found.evidence}")
    axes.axhline(limit, color=GOOD, linestyle="--", linewidth=1.2,
                 label=f"accepted: {some_seconds(limit)} an hour")  # fmt: skip
    if found.most_kbps is not None:
        axes.axvline(found.most_kbps / 1000, color=GOOD, linestyle=":", linewidth=1.2)
    for number, step in enumerate(found.steps):
        if step.stutter is None:
            continue
        at = (step.total_kbps + found.reserved_kbps) / 1000
        height = min(step.stutter.seconds_per_hour, highest)
        axes.plot(at, height, marker="o", linestyle="none", clip_on=False, zorder=5,
                  markersize=6 if number else 9, color=GOOD if step.within else CARE)  # fmt: skip
        if not number:
            axes.annotate(
                f"planned: {step.settings}", (at, height), ha="right",
                xytext=(-10, 60 if height < highest / 2 else -60),
                textcoords="offset points", fontsize=10, color=INK,
                arrowprops={"arrowstyle": "-", "color": INK, "linewidth": 0.8},
            )  # fmt: skip
    axes.set_xlim(left=0)
    axes.set_ylim(0, highest)
    axes.set_xlabel("total sent, reserves included, Mbit/s", color=INK)
    axes.set_ylabel("stutter, seconds an hour", color=INK)
    axes.legend(loc="upper left", frameon=True, framealpha=0.9, edgecolor=FAINT)


def _draw_hours(axes: Axes, found: Forecast) -> None:
    """The highest rate within the limit at each hour, beside what is sent."""
    for hour in found.by_hour:
        kbps = hour.most_kbps if hour.reading_kbps is None else hour.reading_kbps
        good = hour.stutter is not None and hour.stutter.within(found.limit_seconds_per_hour)
        colour = FAINT if hour.stutter is None else GOOD if good else CARE
        axes.bar(hour.hour, (kbps or 0.0) / 1000, width=0.7, color=colour)
    total = (found.total_kbps + found.reserved_kbps) / 1000
    axes.axhline(total, color=INK, linestyle=":", linewidth=1.2, label="planned")
    axes.set_xlim(-0.5, 23.5)
    axes.set_xticks(range(0, 24, 3), [f"{hour:02d}:00" for hour in range(0, 24, 3)])
    axes.set_ylabel("highest rate within\nthe limit, Mbit/s", color=INK)
    axes.legend(loc="upper right", frameon=True, framealpha=0.9, edgecolor=FAINT)
