"""A forecast as a figure: the chance against what is sent, and what waits as an hour goes by."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.forecast.forecast import Forecast
from eager_kestrel.core.line.airing import LATE_SECONDS
from eager_kestrel.core.words.forecasts import one_in, stretches
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

SHADES = ("#dbe7ee", "#bdd5e2", "#98bed2", "#6fa4bf", LINE)


def save_forecast_figure(found: Forecast, path: Path) -> None:
    """Draw it and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (above, below) = new_figure(2, (1.2, 1.0), shared=False)
    figure.suptitle(found.verdict, color=INK, x=0.01, ha="left", fontsize=13, wrap=True)
    _draw_curve(above, found)
    _draw_fan(below, found)
    save(figure, path)


def _draw_curve(axes: Axes, found: Forecast) -> None:
    curve = found.curve
    mbps = [kbps / 1000 for kbps in curve.kbps]
    axes.fill_between(mbps, [100 * x for x in curve.low], [100 * x for x in curve.high],
                      color=SHADES[0], label="nine times in ten within")  # fmt: skip
    axes.plot(mbps, [100 * x for x in curve.chance], color=LINE, linewidth=2, label="chance")
    axes.axhline(100 * found.goal, color=GOOD, linestyle="--", linewidth=1.2,
                 label=f"goal, {one_in(found.goal)}")  # fmt: skip
    for number, step in enumerate(found.steps):
        axes.plot(
            step.total_kbps / 1000, 100 * step.odds.chance, marker="o", linestyle="none",
            markersize=6 if number else 9, color=GOOD if step.meets else CARE,
        )  # fmt: skip
        if number in (0, len(found.steps) - 1) or step.meets:
            axes.annotate(
                step.settings if number else f"planned: {step.settings}",
                (step.total_kbps / 1000, 100 * step.odds.chance), xytext=(8, 6 + 12 * (number % 2)),
                textcoords="offset points", fontsize=9, color=INK,
            )  # fmt: skip
    axes.set_xlim(0, mbps[-1])
    axes.set_ylim(0, 106)
    axes.set_xlabel("sent in all, Mbit/s", color=INK)
    axes.set_ylabel(f"{stretches(found.odds.seconds)} with a late frame, %", color=INK)
    axes.legend(loc="lower right", frameon=True, framealpha=0.9, edgecolor=FAINT)


def _draw_fan(axes: Axes, found: Forecast) -> None:
    """Bands of what waits; the outermost is met once in a hundred times."""
    fan = found.fan
    minutes = [seconds / 60 for seconds in fan.seconds]
    rows = list(zip(fan.shares, fan.waiting_seconds, SHADES[::-1], strict=True))
    for share, waiting, shade in reversed(rows):
        label = f"{share:.0%} of simulated {stretches(found.odds.seconds)} below"
        axes.fill_between(minutes, 0, waiting, color=shade, linewidth=0, label=label)
    axes.axhline(LATE_SECONDS, color=INK, linestyle=":", linewidth=1.2, label="late above")
    top = max(max(waiting) for waiting in fan.waiting_seconds[:-1])
    axes.set_ylim(0, max(2 * LATE_SECONDS, min(1.15 * top, 60.0)))
    axes.set_xlim(0, found.odds.seconds / 60)
    axes.set_xlabel("minutes since it began", color=INK)
    axes.set_ylabel("waiting, seconds of stream", color=INK)
    axes.legend(loc="upper right", frameon=True, framealpha=0.9, edgecolor=FAINT, fontsize=8)
