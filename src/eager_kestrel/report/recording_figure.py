"""A recording as a figure: bitrate over time with the ceiling, keyframes and gaps marked."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.picture import picture_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, PALE, new_figure, save

if TYPE_CHECKING:
    from eager_kestrel.core.checks.recording import Recording

MOST_MARKS = 400


def save_recording_figure(
    recording: Recording, path: Path, ceiling_kbps: float | None = None
) -> None:
    """Draw a recording and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (axes, spacing) = new_figure(2, (3.0, 1.0))
    video = recording.video
    title = f"{recording.name}: {picture_at(video.picture, video.frame_rate)}, {video.codec}"
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
    rates = np.array(recording.second_kbps) / 1000
    edges = np.arange(rates.size + 1) * recording.second_length
    axes.stairs(rates, edges, baseline=None, color=LINE, linewidth=2.6, label="each second")
    axes.axhline(video.average_kbps / 1000, color=GOOD, linewidth=1.2, linestyle=":",
                 label=f"average {Bitrate.from_kbps(video.average_kbps)}")  # fmt: skip
    if ceiling_kbps is not None:
        axes.axhline(ceiling_kbps / 1000, color=CARE, linestyle="--", linewidth=1.4,
                     label=f"ceiling {Bitrate.from_kbps(ceiling_kbps)}")  # fmt: skip
    for number, (when, long) in enumerate(video.gaps):
        axes.axvspan(when, when + long, color=CARE, alpha=0.3, label="gap" if not number else None)
    axes.set_ylabel("video, Mbit/s", color=INK)
    axes.set_xlim(0, float(edges[-1]) or max(recording.seconds, 1.0))  # whole seconds
    axes.set_ylim(0, 1.15 * max([*rates, (ceiling_kbps or 0) / 1000, 0.1]))
    axes.legend(loc="lower right", framealpha=0.9)
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
