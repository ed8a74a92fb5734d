"""What all figures share: size, colours, saving by extension.

Drawn with Matplotlib's object interface on its file backends, so no screen is ever needed.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import InputError, StorageError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

SIZE_INCHES = (12.8, 8.0)
DPI = 100
KINDS = (".png", ".svg", ".pdf")

INK = "#1f2933"
FAINT = "#d5dbe1"
LINE = "#3b7ea1"
GOOD = "#2f7d4f"
CARE = "#c2571a"
PALE = "#aab6c2"
SOFT = "#7fb396"
SHADE = "#eef2f5"


def require_kind(path: Path) -> None:
    """Refuse a file name whose extension is not one of a figure, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(f'"{path.name}" is not a figure file', "name it .png, .svg or .pdf")


def new_figure(
    rows: int = 1, heights: tuple[float, ...] = (1.0,), *, shared: bool = True
) -> tuple[Figure, list[Axes]]:
    """A figure with axes under each other that share time, unless they show different things."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=SIZE_INCHES, dpi=DPI, layout="constrained")
    drawn = figure.subplots(rows, 1, sharex=shared, squeeze=False, height_ratios=heights)
    axes = [row[0] for row in drawn]
    for ax in axes:
        ax.spines[["top", "right"]].set_visible(False)
        ax.spines[["left", "bottom"]].set_color(FAINT)
        ax.tick_params(colors=INK, labelcolor=INK)
        ax.grid(axis="y", color=FAINT, linewidth=0.6)
        ax.set_axisbelow(True)
    return figure, axes


def save(figure: Figure, path: Path) -> None:
    """Write a figure; the extension says how.

    Raises:
        InputError: not the extension of a figure.
        StorageError: the disk would not take it.
    """
    require_kind(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        figure.savefig(path)
    except OSError as error:
        what = error.strerror or str(error)
        raise StorageError(what, "choose another place", str(path)) from None
