"""What all figures share, and the contact sheet of a trial."""

from __future__ import annotations

import contextlib
import functools
import textwrap
from collections.abc import Iterator, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import InputError
from eager_kestrel.files.documents import written

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from eager_kestrel.core.arrays import Floats


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
USUAL_FONT = "DejaVu Sans"
"""Comes with the drawing library."""


def require_kind(path: Path) -> None:
    """Refuse a file name whose extension is not one of a figure, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(f'"{path.name}" is not a figure file', "name it .png, .svg or .pdf")


narrow: ContextVar[bool] = ContextVar("narrow", default=False)
"""Whether figures are drawn as narrow as a phone, their text as large as the page's."""
NARROW_INCHES = (4.0, 6.0)
SIGN_INCHES = 0.6 / 72
"""How wide a sign is on average, by its size in points."""


@contextlib.contextmanager
def for_a_phone() -> Iterator[None]:
    """Draw what is drawn within as narrow as a phone."""
    before = narrow.set(True)
    try:
        yield
    finally:
        narrow.reset(before)


def new_figure(
    title: str,
    rows: int = 1,
    heights: tuple[float, ...] = (1.0,),
    *,
    shared: bool = True,
    tall: float | None = None,
) -> tuple[Figure, list[Axes]]:
    """A figure with axes under each other that share time, unless they show different things.

    Args:
        tall: inches, where the usual height does not do.
    """
    from matplotlib.figure import Figure

    wide, usual = NARROW_INCHES if narrow.get() else SIZE_INCHES
    figure = Figure(figsize=(wide, tall or usual), dpi=DPI, layout="constrained")
    points = 10 if narrow.get() else 14
    said = textwrap.fill(title, int(wide / (points * SIGN_INCHES)))
    figure.suptitle(said, color=INK, x=0.01, ha="left", fontsize=points)
    drawn = figure.subplots(rows, 1, sharex=shared, squeeze=False, height_ratios=heights)
    axes = [row[0] for row in drawn]
    for ax in axes:
        ax.spines[["top", "right"]].set_visible(False)
        ax.spines[["left", "bottom"]].set_color(FAINT)
        ax.tick_params(colors=INK, labelcolor=INK)
        ax.grid(axis="y", color=FAINT, linewidth=0.6)
        ax.set_axisbelow(True)
    return figure, axes


def key(axes: Axes, handles: Sequence[Any] = (), points: int = 9) -> None:
    """What lines and colours mean, above the axes, where it covers nothing."""
    shown, named = axes.get_legend_handles_labels()
    shown, named = [*shown, *handles], [*named, *(str(one.get_label()) for one in handles)]
    wide = NARROW_INCHES[0] if narrow.get() else SIZE_INCHES[0]
    column = 0.7 + points * SIGN_INCHES * max(map(len, named), default=0)
    axes.legend(
        shown,
        [textwrap.fill(name, int((wide - 1.6) / (points * SIGN_INCHES))) for name in named],
        loc="lower left",
        bbox_to_anchor=(0.0, 1.0),
        ncols=max(1, int(wide / column)),
        frameon=False,
        fontsize=points,
        borderaxespad=0.2,
    )


def save(figure: Figure, path: Path) -> None:
    """Write a figure; the extension says how.

    Raises:
        InputError: not the extension of a figure.
        StorageError: the disk would not take it.
    """
    require_kind(path)
    _show_every_sign(figure)
    with written(path) as part:
        figure.savefig(part)


def _show_every_sign(figure: Figure) -> None:
    """Draw signs that the usual font lacks with one that has them; what none has is left out."""
    from matplotlib.text import Text

    for text in figure.findobj(Text):
        lacking = {sign for sign in text.get_text() if not _has(_usual_font(), sign)} - {"\n"}
        if not lacking:
            continue
        families = []
        for family, file in _other_fonts():
            if shown := {sign for sign in lacking if _has(file, sign)}:
                families.append(family)
                lacking -= shown
            if not lacking:
                break
        text.set_fontfamily([USUAL_FONT, *families])
        text.set_text("".join(sign for sign in text.get_text() if sign not in lacking))


@functools.cache
def _usual_font() -> str:
    from matplotlib.font_manager import findfont

    return str(findfont(USUAL_FONT))


def _has(file: str, sign: str) -> bool:
    from matplotlib.font_manager import get_font

    return bool(get_font(file).get_char_index(ord(sign)))


@functools.cache
def _other_fonts() -> list[tuple[str, str]]:
    """Families and files of this system's fonts that can be drawn at any size."""
    from matplotlib.font_manager import fontManager, get_font

    found: dict[str, str] = {}
    for entry in fontManager.ttflist:
        if entry.style == "normal" and entry.name != USUAL_FONT and entry.name not in found:
            with contextlib.suppress(OSError, RuntimeError):
                if get_font(entry.fname).scalable:
                    found[entry.name] = entry.fname
    return list(found.items())


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
