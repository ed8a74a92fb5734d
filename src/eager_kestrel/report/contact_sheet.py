"""The same crop of the same frame as each finalist shows it, side by side at 1:1."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.report.figures import INK, save

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


CROP = (420, 330)
"""Pixels across and down of each."""
ACROSS = 3
CAPTION = 34
MARGIN = 6
DPI = 100


def save_sheet(crops: Sequence[tuple[str, Floats]], path: Path, title: str) -> None:
    """Draw crops with a caption each, none of their pixels scaled.

    Args:
        crops: captions, and pixels of shape (rows, columns, 3), 0..1, all of one size.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    from matplotlib.figure import Figure

    height, width = crops[0][1].shape[:2]
    rows = -(-len(crops) // ACROSS)
    whole = (
        ACROSS * (width + MARGIN) + MARGIN,
        rows * (height + CAPTION + MARGIN) + CAPTION,
    )
    figure = Figure(figsize=(whole[0] / DPI, whole[1] / DPI), dpi=DPI)
    figure.text(MARGIN / whole[0], 1 - 22 / whole[1], title, color=INK, fontsize=11)
    for number, (caption, pixels) in enumerate(crops):
        left = MARGIN + number % ACROSS * (width + MARGIN)
        top = CAPTION + number // ACROSS * (height + CAPTION + MARGIN)
        figure.text(left / whole[0], 1 - (top + 20) / whole[1], caption, color=INK, fontsize=9)
        axes = figure.add_axes(
            (
                left / whole[0],
                1 - (top + CAPTION + height) / whole[1],
                width / whole[0],
                height / whole[1],
            )
        )
        axes.imshow(pixels, interpolation="none", aspect="auto")
        axes.set_axis_off()
    save(figure, path)
