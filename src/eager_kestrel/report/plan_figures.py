"""Figures of plans: the budget, needed upload, sweeps, encoders."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import InputError
from eager_kestrel.core.resolution import resolution_at
from eager_kestrel.core.units import Bitrate
from eager_kestrel.report import figures

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.choice.budget import BudgetStep
    from eager_kestrel.core.choice.what_if import Need, Needs, Sweep
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.show.machine import MeasuredMachine


TALL = 0.62
WIDE_ENOUGH = 0.14
"""Of the connection, for a name and a rate to fit in; those of narrower ones stand below."""


def save_budget_figure(plan: Plan, path: Path) -> None:
    """Draw the waterfall, and under it how the safe rate is divided; write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    title = f"The budget of {plan.inputs.title or 'your stream'}"
    figure, (axes,) = figures.new_figure(title)
    steps = [*plan.budget.steps]
    if len(plan.destinations) == 1:
        steps += plan.destinations[0].budget_steps
    for row, step in enumerate(steps):
        _row(axes, row, step, first=row == 0)
    _sent(axes, plan, len(steps))
    _key(axes)
    names = [step.name for step in steps]
    axes.set_yticks(range(len(steps) + 1), [*names, "sent"])
    axes.set_ylim(len(steps) + 1.1, -0.8)
    axes.set_xlabel("Mbit/s", color=figures.INK)
    axes.set_xlim(0, plan.uplink.typical_kbps / 1000 * (2.8 if figures.narrow.get() else 1.28))
    axes.grid(axis="y", visible=False)
    axes.grid(axis="x", color=figures.FAINT, linewidth=0.6)
    axes.axvline(plan.budget.safe_kbps / 1000, color=figures.CARE, linewidth=1.2, linestyle="--")
    axes.annotate(
        f"safe rate {Bitrate.from_kbps(plan.budget.safe_kbps)}",
        (plan.budget.safe_kbps / 1000, -0.5),
        color=figures.CARE,
        ha="left",
        va="center",
        xytext=(6, 0),
        textcoords="offset points",
        fontsize=10,
    )
    figures.save(figure, path)


def _key(axes: Axes) -> None:
    """What the colours mean."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    figures.key(
        axes,
        [
            Patch(color=figures.SOFT, label="left after each step"),
            Patch(color=figures.FAINT, label="taken by it"),
            Patch(color=figures.GOOD, label="video sent"),
            Patch(
                color=figures.LINE, label="the connection; and of what is sent: audio and headers"
            ),
            Line2D([], [], color=figures.CARE, linestyle="--", label="safe rate"),
        ],
    )


def _sent(axes: Axes, plan: Plan, end: int) -> None:
    """The last row: what is sent to each, and what of the safe rate is left."""
    left = 0.0
    for planned in plan.destinations:
        if planned.video is None or planned.audio is None:
            continue
        video = planned.video.max_kbps
        rest = planned.total_kbps - video
        axes.barh(end, video / 1000, TALL, left=left / 1000, color=figures.GOOD)
        axes.barh(end, rest / 1000, TALL, left=(left + video) / 1000, color=figures.LINE)
        said = f"{planned.title}\n{Bitrate.from_kbps(video)}"
        wide = video / plan.uplink.typical_kbps > WIDE_ENOUGH and not figures.narrow.get()
        axes.text(
            (left + video / 2) / 1000,
            end if wide else end + TALL / 2,
            said,
            ha="center",
            va="center" if wide else "top",
            color="white" if wide else figures.INK,
            fontsize=10 if wide else 8,
        )
        left += planned.total_kbps
    unused = plan.budget.safe_kbps - plan.total_kbps
    if unused > 0:
        axes.barh(
            end,
            unused / 1000,
            TALL,
            left=plan.total_kbps / 1000,
            color="none",
            edgecolor=figures.PALE,
            hatch="//",
            linewidth=0.8,
        )
        axes.text(
            plan.budget.safe_kbps / 1000,
            end,
            f"  {Bitrate.from_kbps(unused)} unused",
            va="center",
            color=figures.INK,
            fontsize=10,
        )


def _row(axes: Axes, row: int, step: BudgetStep, *, first: bool) -> None:
    """One step: what is left in full, what it took away in pale."""
    after, before = step.after_kbps / 1000, step.before_kbps / 1000
    axes.barh(row, after, TALL, color=figures.LINE if first else figures.SOFT)
    if before > after:
        axes.barh(row, before - after, TALL, left=after, color=figures.FAINT)
    taken = "" if first else f"  −{Bitrate.from_kbps(step.before_kbps - step.after_kbps)}"
    axes.text(
        max(before, after),
        row,
        f" {Bitrate.from_kbps(step.after_kbps)}{taken}",
        va="center",
        color=figures.INK,
        fontsize=10,
    )


MARGIN = 1.25


def save_need_figure(found: Needs, path: Path) -> None:
    """Draw the answers and write them.

    Raises:
        InputError: there is nothing to draw, or the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    from matplotlib.ticker import FuncFormatter, LogLocator, NullLocator

    rows = [need for need in found.needs if need.full_kbps is not None]
    if not rows:
        raise InputError("no upload gives any of these resolutions", "ask for another")
    tall = max(3.0, 1.9 + 0.4 * len(rows))
    figure, (ax,) = figures.new_figure("What upload a resolution takes", tall=tall)
    ax.grid(axis="y", visible=False)
    ax.grid(axis="x", color=figures.FAINT, linewidth=0.6)
    most = MARGIN * max(need.full_kbps or 0.0 for need in rows) / 1000
    least = min(need.from_kbps or need.full_kbps or 1.0 for need in rows) / 1000 / MARGIN
    for place, need in enumerate(reversed(rows)):
        _draw(ax, place, need, most)
    several = len({(need.platform, need.tier) for need in rows}) > 1
    names = [_name(need, several=several) for need in reversed(rows)]
    ax.set_yticks(range(len(rows)), names, color=figures.INK)
    ax.set_ylim(-0.7, len(rows) - 0.3)
    ax.tick_params(axis="y", length=0)
    ax.set_xscale("log")
    ax.set_xlim(least, most)
    ax.xaxis.set_major_locator(LogLocator(subs=(1, 2, 3, 5, 7)))
    ax.xaxis.set_minor_locator(NullLocator())
    ax.xaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    ax.set_xlabel("upload, Mbit/s", color=figures.INK)
    _need_key(ax)
    figures.save(figure, path)


def _name(need: Need, *, several: bool) -> str:
    where = f"{need.platform}:{need.tier}" if need.tier else need.platform
    return (
        f"{where}  {resolution_at(need.resolution, need.fps)}"
        if several
        else resolution_at(need.resolution, need.fps)
    )


def _draw(ax: Axes, place: int, need: Need, most: float) -> None:
    if place % 2:
        ax.axhspan(place - 0.5, place + 0.5, color=figures.SHADE, zorder=0)
    full = (need.full_kbps or 0.0) / 1000
    if need.from_kbps is not None:
        begin = need.from_kbps / 1000
        end = most if need.until_kbps is None else need.until_kbps / 1000
        ax.plot(
            [begin, end], [place, place], color=figures.LINE, linewidth=9, solid_capstyle="butt"
        )
    if need.good_kbps is not None:
        ax.plot(need.good_kbps / 1000, place, "o", color=figures.GOOD, markersize=7, zorder=3)
    colour = figures.CARE if need.from_kbps is not None else figures.PALE
    ax.plot(full, place, "|", color=colour, markersize=15, markeredgewidth=2.5, zorder=3)


def _need_key(axes: Axes) -> None:
    from matplotlib.lines import Line2D

    beyond = "nothing is gained beyond (grey: something else always looks better)"
    figures.key(
        axes,
        [
            Line2D([], [], color=figures.LINE, linewidth=9, label="among the best-looking"),
            Line2D([], [], marker="o", color=figures.GOOD, linestyle="", label="good from here"),
            Line2D(
                [],
                [],
                marker="|",
                color=figures.CARE,
                linestyle="",
                markersize=13,
                markeredgewidth=2.5,
                label=beyond,
            ),
        ],
    )


def save_sweep_figure(found: Sweep, path: Path) -> None:
    """Draw a sweep over numbers and write it.

    Raises:
        InputError: the sweep is over names, or the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    points = [p for p in found.points if p.value is not None and p.chosen is not None]
    if not points:
        raise InputError(f"a sweep of {found.varied} has nothing to draw", "sweep upload or share")
    unit = "upload, Mbit/s" if found.varied == "upload" else "safe share"
    title = f"What {found.platform} gets, by {found.varied}"
    figure, axes = figures.new_figure(title, 3, (2.0, 1.4, 1.0))
    lines_axes, rate_axes, quality_axes = axes
    at = [p.value for p in points if p.value is not None]
    least = next(p.value for p in found.points if p.value is not None)
    if least < at[0]:
        for ax in axes:
            ax.axvspan(least, at[0], color=figures.SHADE)
        lines_axes.text(
            (least + at[0]) / 2, 0, "no settings\n", ha="center", fontsize=9, color=figures.INK
        )
    chosen = [p.chosen for p in points if p.chosen is not None]
    lines_axes.step(
        at, [c.resolution.height for c in chosen], where="post", color=figures.LINE, linewidth=2
    )
    for fps in sorted({float(c.frame_rate) for c in chosen}):
        here = [
            (x, c.resolution.height)
            for x, c in zip(at, chosen, strict=True)
            if float(c.frame_rate) == fps
        ]
        colour = figures.CARE if fps > 30 else figures.GOOD
        lines_axes.plot(
            *zip(*here, strict=True),
            ".",
            color=colour,
            markersize=7,
            label=f"at {fps:g} frames a second",
        )
    lines_axes.set_ylabel("lines", color=figures.INK)
    lines_axes.set_ylim(0, 1.12 * max(c.resolution.height for c in chosen))
    figures.key(lines_axes)
    rate_axes.step(at, [c.bitrate_kbps / 1000 for c in chosen], where="post", color=figures.LINE)
    rate_axes.set_ylabel("video, Mbit/s", color=figures.INK)
    rate_axes.set_ylim(0, 1.12 * max(c.bitrate_kbps for c in chosen) / 1000)
    quality_axes.plot(at, [100 * c.quality for c in chosen], color=figures.GOOD)
    quality_axes.set_ylabel("quality, of 100", color=figures.INK)
    quality_axes.set_ylim(0, 100)
    quality_axes.set_yticks([20, 40, 60, 80, 100])
    quality_axes.set_xlabel(unit, color=figures.INK)
    quality_axes.set_xlim(least, at[-1] if at[-1] > least else None)
    figures.save(figure, path)


COLOURS = (figures.LINE, figures.CARE, figures.GOOD, figures.PALE, figures.INK)


def save_encoders_figure(found: MeasuredMachine, path: Path) -> None:
    """Draw it and write it.

    Raises:
        InputError: the file name is no resolution's.
        StorageError: the disk would not take it.
    """
    figure, (axes,) = figures.new_figure(f"What {found.name} encodes, {found.taken_at[:10]}")
    names = list(dict.fromkeys(point.name for point in found.points))
    resolutions = list(dict.fromkeys(point.resolution for point in found.points))
    for number, resolution in enumerate(resolutions):
        here = [point for point in found.points if point.resolution == resolution]
        at = [names.index(p.name) + 0.8 * (number + 0.5) / len(resolutions) - 0.4 for p in here]
        bars = axes.bar(
            at,
            [p.fps for p in here],
            width=0.8 / len(resolutions),
            color=COLOURS[number % len(COLOURS)],
            label=str(resolution),
        )
        axes.bar_label(bars, [f"{p.fps:.0f}" for p in here], fontsize=9, color=figures.INK)
    wanted = max((float(point.wanted) for point in found.points), default=60.0)
    axes.axhline(wanted, color=figures.INK, linestyle=":", label=f"{wanted:g} frames a second")
    axes.set_xticks(range(len(names)), names, rotation=30, ha="right")
    axes.set_ylabel("frames a second", color=figures.INK)
    figures.key(axes)
    figures.save(figure, path)
