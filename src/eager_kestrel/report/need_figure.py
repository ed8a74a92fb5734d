"""What upload each picture takes, as bars over upload."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import InputError
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, SHADE, save

if TYPE_CHECKING:
    from eager_kestrel.core.choice.what_if import Need, Needs

MARGIN = 1.25


def save_need_figure(found: Needs, path: Path) -> None:
    """Draw the answers and write them.

    Raises:
        InputError: there is nothing to draw, or the file name is no picture's.
        StorageError: the disk would not take it.
    """
    from matplotlib.figure import Figure
    from matplotlib.ticker import FuncFormatter, LogLocator, NullLocator

    rows = [need for need in found.needs if need.full_kbps is not None]
    if not rows:
        raise InputError("no upload gives any of these pictures", "ask for another")
    figure = Figure(figsize=(12.8, max(3.0, 1.6 + 0.4 * len(rows))), dpi=100, layout="constrained")
    figure.suptitle("What upload a picture takes", color=INK, x=0.01, ha="left", fontsize=14)
    ax = figure.subplots()
    ax.spines[["top", "right", "left"]].set_visible(False)
    ax.set_axisbelow(True)
    ax.grid(axis="x", color=FAINT, linewidth=0.6)
    most = MARGIN * max(need.full_kbps or 0.0 for need in rows) / 1000
    least = min(need.from_kbps or need.full_kbps or 1.0 for need in rows) / 1000 / MARGIN
    for place, need in enumerate(reversed(rows)):
        _draw(ax, place, need, most)
    several = len({(need.platform, need.standing) for need in rows}) > 1
    names = [_name(need, several=several) for need in reversed(rows)]
    ax.set_yticks(range(len(rows)), names, color=INK)
    ax.tick_params(axis="y", length=0)
    ax.set_xscale("log")
    ax.set_xlim(least, most)
    ax.xaxis.set_major_locator(LogLocator(subs=(1, 2, 3, 5, 7)))
    ax.xaxis.set_minor_locator(NullLocator())
    ax.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    ax.set_xlabel("upload, Mbit/s", color=INK)
    _legend(ax)
    save(figure, path)


def _name(need: Need, *, several: bool) -> str:
    where = f"{need.platform}:{need.standing}" if need.standing else need.platform
    return (
        f"{where}  {need.picture} at {need.fps:g}" if several else f"{need.picture} at {need.fps:g}"
    )


def _draw(ax: object, place: int, need: Need, most: float) -> None:
    from matplotlib.axes import Axes

    assert isinstance(ax, Axes)
    if place % 2:
        ax.axhspan(place - 0.5, place + 0.5, color=SHADE, zorder=0)
    full = (need.full_kbps or 0.0) / 1000
    if need.from_kbps is not None:
        begin = need.from_kbps / 1000
        end = most if need.until_kbps is None else need.until_kbps / 1000
        ax.plot([begin, end], [place, place], color=LINE, linewidth=9, solid_capstyle="butt")
    if need.good_kbps is not None:
        ax.plot(need.good_kbps / 1000, place, "o", color=GOOD, markersize=7, zorder=3)
    colour = CARE if need.from_kbps is not None else PALE
    ax.plot(full, place, "|", color=colour, markersize=15, markeredgewidth=2.5, zorder=3)


def _legend(ax: object) -> None:
    from matplotlib.axes import Axes
    from matplotlib.lines import Line2D

    assert isinstance(ax, Axes)
    ax.legend(
        handles=[
            Line2D([], [], color=LINE, linewidth=9, label="among the best-looking"),
            Line2D([], [], marker="o", color=GOOD, linestyle="", label="looks good from here"),
            Line2D([], [], marker="|", color=CARE, linestyle="", markersize=13, markeredgewidth=2.5,
                   label="nothing is gained beyond (grey: something else always looks better)"),
        ],
        loc="lower center", bbox_to_anchor=(0.5, 1.0), ncols=3, frameon=False, fontsize=9,
    )  # fmt: skip
