"""Presets against pictures: how many frames a second each encodes here."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.report.figures import CARE, GOOD, INK, LINE, PALE, new_figure, save

if TYPE_CHECKING:
    from eager_kestrel.core.show.measured import MeasuredMachine

COLOURS = (LINE, CARE, GOOD, PALE, INK)


def save_encoders_figure(found: MeasuredMachine, path: Path) -> None:
    """Draw it and write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (axes,) = new_figure()
    figure.suptitle(
        f"What {found.name} encodes, {found.taken_at[:10]}",
        color=INK,
        x=0.01,
        ha="left",
        fontsize=14,
    )
    names = list(dict.fromkeys(point.name for point in found.points))
    pictures = list(dict.fromkeys(point.picture for point in found.points))
    for number, picture in enumerate(pictures):
        here = [point for point in found.points if point.picture == picture]
        at = [names.index(p.name) + 0.8 * (number + 0.5) / len(pictures) - 0.4 for p in here]
        bars = axes.bar(
            at, [p.fps for p in here], width=0.8 / len(pictures),
            color=COLOURS[number % len(COLOURS)], label=str(picture),
        )  # fmt: skip
        axes.bar_label(bars, [f"{p.fps:.0f}" for p in here], fontsize=9, color=INK)
    wanted = max((float(point.wanted) for point in found.points), default=60.0)
    axes.axhline(wanted, color=INK, linestyle=":", label=f"{wanted:g} frames a second")
    axes.set_xticks(range(len(names)), names, rotation=30, ha="right")
    axes.set_ylabel("frames a second", color=INK)
    axes.legend(loc="upper right")
    save(figure, path)
