"""Figures of streams: broadcasts, recordings, rehearsals."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.resolution import resolution_at
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.broadcasts import CAUSES, seen_as
from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, PALE, key, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.checks.rehearsal import Rehearsal, Rehearsals
    from eager_kestrel.core.connection.broadcast import Broadcast, BroadcastTrouble
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.watching.review import Review


COLOURS = {
    "upload": CARE,
    "ingest": "#8a5a9e",
    "machine": "#b58900",
    "connection": INK,
    "scene": PALE,
    "program": "#6b7f8f",
}
MOST_POINTS = 1200
"""A second each up to here; a longer broadcast is drawn by the worst of several."""
CAUGHT_UP = 2.0
"""How many times what is usual the figure shows of a queue that is caught up with."""
NAMED = 8
"""Troubles that are named."""
SHORT_SECONDS = 180.0
"""A shorter broadcast is drawn by seconds."""


def save_review_figure(found: Review, path: Path) -> None:
    """Draw the broadcast that is looked back on."""
    save_broadcast_figure(found.broadcast, path)


def save_rehearsals_figure(found: Rehearsals, path: Path) -> None:
    """Draw the rehearsal that held at the highest bitrate, or else the last."""
    save_rehearsal_figure(found.best, path)


def save_broadcast_figure(broadcast: Broadcast, path: Path) -> None:
    """Draw a broadcast and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    when = broadcast.taken_at[:16].replace("T", " ")
    title = f"Broadcast of {when}, {seen_as(broadcast.program, broadcast.server)}"
    figure, (rates, waits) = new_figure(title, 2, (2.4, 1.0))
    every = max(1, -(-len(broadcast.seconds.sent_kbps) // MOST_POINTS))
    unit = 60.0 if broadcast.lasted_seconds > SHORT_SECONDS else 1.0
    times = np.arange(0, len(broadcast.seconds.sent_kbps), every) / unit
    _draw_rates(rates, broadcast, times, every)
    _draw_waits(waits, broadcast, times, every)
    waits.set_xlabel(f"{'minutes' if unit > 1 else 'seconds'} since it began", color=INK)
    waits.set_xlim(0, max(len(broadcast.seconds.sent_kbps), 1) / unit)
    for axes in (rates, waits):
        for trouble in _faults(broadcast):
            begin, lasted = trouble.at_seconds, max(trouble.lasted_seconds, 1.0)
            axes.axvspan(
                begin / unit,
                (begin + lasted) / unit,
                color=COLOURS[trouble.cause],
                alpha=0.16,
                linewidth=0,
            )
    _name_troubles(rates, _faults(broadcast), unit)
    save(figure, path)


def _faults(broadcast: Broadcast) -> tuple[BroadcastTrouble, ...]:
    """Its troubles, but for warnings of the upload that came to nothing."""
    return tuple(one for one in broadcast.troubles if one.late or one.cause != "upload")


def _by(values: tuple[int, ...], every: int, *, least: bool) -> np.ndarray:
    """The least, or the most, of so many seconds each."""
    taken = np.array(values, dtype=np.float64)
    begins = np.arange(0, taken.size, every)
    if not taken.size:
        return taken
    return (np.minimum if least else np.maximum).reduceat(taken, begins)


def _draw_rates(axes: Axes, broadcast: Broadcast, times: np.ndarray, every: int) -> None:
    sent = _by(broadcast.seconds.sent_kbps, every, least=True) / 1000
    carried = _by(broadcast.seconds.carried_kbps, every, least=True) / 1000
    axes.plot(times, sent, color=PALE, linewidth=1.4, label="sent by the program")
    axes.plot(times, carried, color=LINE, linewidth=1.6, label="arrived")
    if broadcast.planned_kbps is not None:
        axes.axhline(
            broadcast.planned_kbps / 1000,
            color=GOOD,
            linestyle="--",
            linewidth=1.4,
            label=f"planned {broadcast.planned_kbps:,.0f} kbit/s",
        )
    planned = (broadcast.planned_kbps or 0.0) / 1000
    usual = max(sent.max(initial=0.0), planned, 0.1)
    axes.set_ylim(0, 1.25 * max(usual, min(carried.max(initial=0.0), CAUGHT_UP * usual)))
    axes.set_ylabel("Mbit/s", color=INK)
    from matplotlib.patches import Patch

    causes = dict.fromkeys(trouble.cause for trouble in _faults(broadcast))
    key(
        axes,
        [Patch(color=COLOURS[one], alpha=0.3, label=f"cause: {CAUSES[one]}") for one in causes],
    )


def _draw_waits(axes: Axes, broadcast: Broadcast, times: np.ndarray, every: int) -> None:
    waits = _by(broadcast.seconds.queued_ms, every, least=False) / 1000
    axes.fill_between(times, waits, color=CARE, alpha=0.35, linewidth=0)
    axes.plot(times, waits, color=CARE, linewidth=1.2)
    axes.axhline(
        LATE_SECONDS,
        color=INK,
        linestyle=":",
        linewidth=1.2,
        label=f"late from {LATE_SECONDS:g} s on",
    )
    axes.set_ylim(0, max(1.0, 1.1 * float(waits.max(initial=0.0))))
    axes.set_ylabel("queued, s of stream", color=INK)
    key(axes)


def _name_troubles(axes: Axes, troubles: tuple[BroadcastTrouble, ...], unit: float) -> None:
    """The cause over each of the worst troubles."""
    worst = sorted(troubles, key=lambda one: (one.late, one.lasted_seconds), reverse=True)[:NAMED]
    for trouble in sorted(worst, key=lambda one: one.at_seconds):
        middle = (trouble.at_seconds + trouble.lasted_seconds / 2) / unit
        axes.text(
            min(middle, axes.get_xlim()[1]),
            0.97,
            CAUSES[trouble.cause],
            color=INK,
            fontsize=9,
            ha="center",
            va="top",
            rotation=90,
            transform=axes.get_xaxis_transform(),
        )


MOST_MARKS = 400


def save_recording_figure(recording: Recording, path: Path, max_kbps: float | None = None) -> None:
    """Draw a recording and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    video = recording.video
    title = f"{recording.name}: {resolution_at(video.resolution, video.frame_rate)}, {video.codec}"
    figure, (axes, spacing) = new_figure(title, 2, (3.0, 1.0))
    rates = np.array(recording.second_kbps) / 1000
    edges = np.arange(rates.size + 1) * recording.second_length
    axes.stairs(rates, edges, baseline=None, color=LINE, linewidth=2.6, label="each second")
    axes.axhline(
        video.average_kbps / 1000,
        color=GOOD,
        linewidth=1.2,
        linestyle=":",
        label=f"average {Bitrate.from_kbps(video.average_kbps)}",
    )
    if max_kbps is not None:
        axes.axhline(
            max_kbps / 1000,
            color=CARE,
            linestyle="--",
            linewidth=1.4,
            label=f"maximum {Bitrate.from_kbps(max_kbps)}",
        )
    for number, (when, long) in enumerate(video.gaps):
        axes.axvspan(when, when + long, color=CARE, alpha=0.3, label="gap" if not number else None)
    axes.set_ylabel("video, Mbit/s", color=INK)
    axes.set_xlim(0, float(edges[-1]) or max(recording.seconds, 1.0))  # whole seconds
    axes.set_ylim(0, 1.15 * max([*rates, (max_kbps or 0) / 1000, 0.1]))
    key(axes)
    keys = np.array(video.keyframes.at_seconds)
    if keys.size > 1:
        apart = np.diff(keys)
        step = max(1, keys.size // MOST_MARKS)
        spacing.vlines(keys[1::step], 0, apart[::step], color=PALE, linewidth=1)
        spacing.plot(keys[1::step], apart[::step], ".", color=LINE)
        spacing.set_ylim(0, 1.3 * float(apart.max()))
    spacing.set_ylabel("keyframe after, s", color=INK)
    spacing.set_xlabel("seconds, as far as they are whole", color=INK)
    save(figure, path)


def save_rehearsal_figure(one: Rehearsal, path: Path) -> None:
    """Draw a rehearsal and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    limited = f"limited by the {one.verdict.limited_by}: " if one.verdict.limited_by else ""
    title = f"Rehearsal of {one.platform}, {limited}{one.verdict.text}"
    figure, (rate, waiting) = new_figure(title, 2, (1.6, 1.0))
    at = np.array([m.seconds for m in one.moments])
    count = np.array([m.carried_bytes for m in one.moments], dtype=np.float64)
    if at.size > 2:
        before = np.maximum(at - 1.0, at[0])
        gained = count - np.interp(before, at, count)
        span = np.maximum(at - before, 1e-3)
        rate.plot(at[1:], gained[1:] / span[1:] / 125_000, color=LINE, label="delivered")
    rate.axhline(one.total_kbps / 1000, color=GOOD, linestyle="--", label="as planned")
    rate.set_ylabel("Mbit/s over a second", color=INK)
    rate.set_ylim(0, 1.3 * max(one.total_kbps / 1000, 0.1))
    key(rate)
    waiting.plot(at, [m.waits for m in one.moments], color=CARE, label="upload")
    waiting.plot(at, [m.behind for m in one.moments], color=LINE, label="encoder")
    waiting.axhline(LATE_SECONDS, color=INK, linestyle=":", linewidth=1)
    waiting.set_ylim(0, max(1.0, 1.2 * one.worst_queue_seconds))
    waiting.set_ylabel("frames wait, s", color=INK)
    waiting.set_xlabel("seconds", color=INK)
    key(waiting)
    save(figure, path)
