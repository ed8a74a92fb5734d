"""Figures of a connection: runs, hours of the day, forecasts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.connection.evidence import round_trip_summary
from eager_kestrel.core.connection.run import Phase, Run
from eager_kestrel.core.connection.summarising import phase_summary
from eager_kestrel.core.connection.throughput import WINDOW_SECONDS, window_rates
from eager_kestrel.core.connection.uplink import Hours
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import some_seconds
from eager_kestrel.core.words.runs import observed_row
from eager_kestrel.report.figures import (
    CARE,
    FAINT,
    GOOD,
    INK,
    LINE,
    PALE,
    SHADE,
    key,
    narrow,
    new_figure,
    save,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.forecast.forecast import Forecast


FINE_SECONDS = 0.25


def save_run_figure(run: Run, path: Path) -> None:
    """Draw the one-connection phase of a run and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    when = f"{run.taken_at[:16].replace('T', ' ')}{' (cut short)' if run.partial else ''}"
    title = f"One connection to {run.endpoint.url}, {when}"
    figure, (rate_axes, trip_axes) = new_figure(title, 2, (3.0, 1.0))
    phase = run.one_connection or Phase(name="one connection", ended="stopped")
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
            ends - span / 2,
            window_rates(seconds, delivered) / 1000,
            color=LINE,
            linewidth=2,
            label="over two seconds, one keyframe interval",
        )
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
    key(axes)


def _draw_round_trips(axes: Axes, run: Run, phase: Phase) -> None:
    axes.set_ylabel("round trip, ms", color=INK)
    axes.set_xlabel("seconds since the load began", color=INK)
    answered = [
        (t.at_seconds, t.round_trip_ms) for t in phase.round_trips if t.round_trip_ms is not None
    ]
    axes.plot(
        [at for at, _ in answered],
        [ms for _, ms in answered],
        color=CARE,
        marker="o",
        markersize=4,
        linewidth=1,
        label="while the connection is full",
    )
    idle = round_trip_summary(run.idle)
    if idle is not None:
        axes.axhline(
            idle.median_ms, color=GOOD, linestyle="--", label=f"idle, {idle.median_ms:.0f} ms"
        )
    axes.set_ylim(bottom=0)
    if answered or idle is not None:
        key(axes)


def save_hours_figure(hours: Hours, path: Path) -> None:
    """Draw typical and floor for each hour anything is known of.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    figure, (axes,) = new_figure("Upload by hour of day")
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
    axes.hlines(
        floor,
        [h - 0.35 for h in at],
        [h + 0.35 for h in at],
        color=CARE,
        linewidth=3,
        label="floor, and down to the low end of its 95 % interval",
    )
    _draw_plans(axes, hours)
    for hour in hours.hours:
        if hour.floor_low_kbps is not None and hour.floor_kbps is not None:
            axes.vlines(
                hour.hour,
                hour.floor_low_kbps / 1000,
                hour.floor_kbps / 1000,
                color=CARE,
                linewidth=1,
            )
        count = f"{hour.runs} runs" if hour.measured else f"{hour.readings} read"
        if hour.failed:
            count = (
                f"{count}\n{hour.failed} failed" if hour.typical_kbps else f"{hour.failed} failed"
            )
        axes.annotate(
            count,
            (hour.hour, (hour.typical_kbps or 0.0) / 1000),
            xytext=(0, 4),
            textcoords="offset points",
            ha="center",
            fontsize=9,
            color=INK,
            rotation=90 if narrow.get() else 0,
        )
    _hour_ticks(axes)
    axes.set_ylim(0, max(typical, default=1.0) * 1.2)
    axes.set_ylabel("Mbit/s on one connection", color=INK)
    axes.set_xlabel("hour the run began in", color=INK)
    key(axes)
    save(figure, path)


def _hour_ticks(axes: Axes) -> None:
    hours = range(0, 24, 6 if narrow.get() else 3)
    axes.set_xlim(-0.6, 23.6)
    axes.set_xticks(hours, [f"{hour:02d}:00" for hour in hours])


def _draw_plans(axes: Axes, hours: Hours) -> None:
    """What the first platform would get: its rate as a line, its settings within the bar."""
    planned = [(hour.hour, hour.gets[0]) for hour in hours.hours if hour.gets]
    if not planned:
        return
    axes.hlines(
        [gets.total_kbps / 1000 for _, gets in planned],
        [at - 0.35 for at, _ in planned],
        [at + 0.35 for at, _ in planned],
        color=GOOD,
        linewidth=3,
        label=f"sent to {planned[0][1].platform} by the plan of that hour",
    )
    for at, gets in planned:
        axes.annotate(
            gets.settings.partition(",")[0],
            (at, 0),
            xytext=(0, 6),
            textcoords="offset points",
            ha="center",
            va="bottom",
            rotation=90,
            fontsize=8,
            color=INK,
        )


BAND = "#dbe7ee"
MOST_TIMES = 30.0
"""How many times the limit the figure reaches up to."""
SPARE = 1.3
"""How far it reaches beyond the last rate that tells something."""


def save_forecast_figure(found: Forecast, path: Path) -> None:
    """Draw it and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    hours = bool(found.by_hour)
    rows, heights = (2, (1.2, 1.0)) if hours else (1, (1.0,))
    figure, axes = new_figure(found.verdict, rows, heights, shared=False)
    _draw_curve(axes[0], found)
    if hours:
        _draw_hours(axes[1], found)
    save(figure, path)


def _draw_curve(axes: Axes, found: Forecast) -> None:
    """Seconds of stutter an hour; the plan, its fallbacks and the limit."""
    limit = found.limit_seconds_per_hour
    highest = MOST_TIMES * max(limit, 1.0)
    told = [(step.total_kbps + found.reserved_kbps) / 1000 for step in found.steps]
    right = max([*told, (found.max_kbps or 0.0) / 1000])
    if found.curve is not None:
        mbps = [kbps / 1000 for kbps in found.curve.kbps]
        low, high, middle = (
            [min(x, 2 * highest) for x in column]
            for column in (found.curve.low, found.curve.high, found.curve.seconds_per_hour)
        )
        axes.fill_between(mbps, low, high, color=BAND, label="nine of ten resamples within")
        seen = f"observed: {observed_row(found.evidence, found.stutter)}"
        axes.plot(mbps, middle, color=LINE, linewidth=2, label=seen)
        right = max(right, next((x for x, y in zip(mbps, low, strict=True) if y >= highest), 0.0))
    accepted = f"accepted: {some_seconds(limit)} an hour"
    axes.axhline(limit, color=GOOD, linestyle="--", linewidth=1.2, label=accepted)
    if found.max_kbps is not None:
        most = f"highest rate within that: {found.max_kbps:,.0f} kbit/s"
        axes.axvline(found.max_kbps / 1000, color=GOOD, linestyle=":", linewidth=1.2, label=most)
    for number, (step, at) in enumerate(zip(found.steps, told, strict=True)):
        if step.stutter is None:
            continue
        named = {0: f"planned: {step.settings}", 1: "its fallbacks, green where that is kept"}
        axes.plot(
            at,
            min(step.stutter.seconds_per_hour, highest),
            marker="o",
            linestyle="none",
            clip_on=False,
            zorder=5,
            markersize=5 if number else 10,
            color=GOOD if step.within else CARE,
            label=named.get(number),
        )
    axes.set_xlim(0, SPARE * right if right else None)
    axes.set_ylim(0, highest)
    axes.set_xlabel("total sent, reserves included, Mbit/s", color=INK)
    axes.set_ylabel("stutter, seconds an hour", color=INK)
    key(axes)


def _draw_hours(axes: Axes, found: Forecast) -> None:
    """The highest rate within the limit at each hour, beside what is sent."""
    for hour in found.by_hour:
        kbps = hour.max_kbps if hour.imported_kbps is None else hour.imported_kbps
        good = hour.stutter is not None and hour.stutter.within(found.limit_seconds_per_hour)
        colour = FAINT if hour.stutter is None else GOOD if good else CARE
        axes.bar(hour.hour, (kbps or 0.0) / 1000, width=0.7, color=colour)
    total = (found.total_kbps + found.reserved_kbps) / 1000
    axes.axhline(total, color=INK, linestyle=":", linewidth=1.2, label="planned")
    _hour_ticks(axes)
    axes.set_ylabel("highest rate within\nthe limit, Mbit/s", color=INK)
    key(axes)
