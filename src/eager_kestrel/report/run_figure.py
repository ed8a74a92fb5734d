"""A run as a figure: throughput over time with its ramp, typical and floor; round trips below."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.line.run import Phase, Run
from eager_kestrel.core.line.summarising import phase_summary, round_trip_summary
from eager_kestrel.core.line.throughput import WINDOW_SECONDS, window_rates
from eager_kestrel.core.units import Bitrate
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, SHADE, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

FINE_SECONDS = 0.25


def save_run_figure(run: Run, path: Path) -> None:
    """Draw the one-connection phase of a run and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (rate_axes, trip_axes) = new_figure(2, (3.0, 1.0))
    phase = run.one_connection or Phase(name="one connection", ended="stopped")
    figure.suptitle(
        f"One connection to {run.endpoint.url}, {run.taken_at[:16].replace('T', ' ')}"
        f"{' (cut short)' if run.partial else ''}",
        color=INK, x=0.01, ha="left", fontsize=14,
    )  # fmt: skip
    _draw_rates(rate_axes, phase)
    _draw_round_trips(trip_axes, run, phase)
    save(figure, path)


def _draw_rates(axes: Axes, phase: Phase) -> None:
    axes.set_ylabel("delivered, Mbit/s", color=INK)
    seconds = np.asarray(phase.samples.seconds)
    delivered = np.asarray(phase.samples.delivered_bytes, dtype=np.float64)
    if seconds.size < 3:
        axes.text(0.5, 0.5, "no samples", transform=axes.transAxes, ha="center", color=INK)
        return
    before = np.maximum(seconds - FINE_SECONDS, seconds[0])
    gained = delivered - np.interp(before, seconds, delivered)
    fine = gained[1:] / np.maximum(seconds[1:] - before[1:], 1e-9) / 125_000
    axes.plot(seconds[1:], fine, color=PALE, linewidth=1.2, label="over a quarter of a second")
    found = phase_summary(phase)
    if phase.samples.stretches:
        for number, (begin, end) in enumerate(phase.samples.stretches):
            label = "stretches that count" if number == 0 else None
            axes.axvspan(begin, end, color=SHADE, label=label)
    else:
        span = min(WINDOW_SECONDS, float(seconds[-1] - seconds[0]))
        ends = seconds[seconds >= seconds[0] + span - 1e-9]
        axes.plot(
            ends - span / 2, window_rates(seconds, delivered) / 1000, color=LINE, linewidth=2,
            label="over two seconds, one keyframe interval",
        )  # fmt: skip
        if found is not None:
            axes.axvspan(0, found.ramp_seconds, color=SHADE, label="ramp, left out")
    if found is not None:
        for kbps, name, colour in (
            (found.typical_kbps, "typical", GOOD),
            (found.floor_kbps, "floor", CARE),
        ):
            label = f"{name} {Bitrate.from_kbps(kbps)}"
            axes.axhline(kbps / 1000, color=colour, linewidth=1.6, linestyle="--", label=label)
    ramp = found.ramp_seconds if found is not None else 0.0
    steady = fine[seconds[1:] >= ramp + FINE_SECONDS]
    top = 1.15 * float(steady.max(initial=0.0))
    axes.set_ylim(0, top if top > 0 else 1)
    axes.set_xlim(0, float(seconds[-1]))
    axes.legend(loc="lower right", frameon=True, framealpha=0.9, edgecolor=FAINT)


def _draw_round_trips(axes: Axes, run: Run, phase: Phase) -> None:
    axes.set_ylabel("round trip, ms", color=INK)
    axes.set_xlabel("seconds since the load began", color=INK)
    answered = [
        (t.at_seconds, t.round_trip_ms) for t in phase.round_trips if t.round_trip_ms is not None
    ]
    axes.plot(
        [at for at, _ in answered], [ms for _, ms in answered],
        color=CARE, marker="o", markersize=4, linewidth=1, label="while the line is full",
    )  # fmt: skip
    idle = round_trip_summary(run.idle)
    if idle is not None:
        axes.axhline(idle.median_ms, color=GOOD, linestyle="--",
                     label=f"idle, {idle.median_ms:.0f} ms")  # fmt: skip
    axes.set_ylim(bottom=0)
    if answered or idle is not None:
        axes.legend(loc="lower right", frameon=True, framealpha=0.9, edgecolor=FAINT)
