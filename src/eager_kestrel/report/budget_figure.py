"""The budget as a figure: what the line carries, step by step down to what is left for video."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.units import Bitrate
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, SOFT, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from eager_kestrel.core.choice.budget import BudgetStep
    from eager_kestrel.core.plan.plan import Plan

TALL = 0.62
WIDE_ENOUGH = 0.14
"""Of the line, for a name and a rate to fit in; those of narrower ones stand below."""


def save_budget_figure(plan: Plan, path: Path) -> None:
    """Draw the waterfall, and under it how the safe rate is divided; write it.

    Raises:
        InputError: the file name is no picture's.
        StorageError: the disk would not take it.
    """
    figure, (axes,) = new_figure()
    title = f"The budget of {plan.inputs.title or 'your stream'}"
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
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
    axes.set_xlabel("Mbit/s", color=INK)
    axes.set_xlim(0, plan.uplink.typical_kbps / 1000 * 1.28)
    axes.grid(axis="y", visible=False)
    axes.grid(axis="x", color=FAINT, linewidth=0.6)
    axes.axvline(plan.budget.safe_kbps / 1000, color=CARE, linewidth=1.2, linestyle="--")
    axes.annotate(f"safe rate {Bitrate.from_kbps(plan.budget.safe_kbps)}",
                  (plan.budget.safe_kbps / 1000, -0.5), color=CARE, ha="left", va="center",
                  xytext=(6, 0), textcoords="offset points", fontsize=10)  # fmt: skip
    save(figure, path)


def _key(axes: Axes) -> None:
    """What the colours mean."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    axes.legend(
        handles=[
            Patch(color=SOFT, label="left after each step"),
            Patch(color=FAINT, label="taken by it"),
            Patch(color=GOOD, label="video sent"),
            Patch(color=LINE, label="the line; and of what is sent: audio and headers"),
            Line2D([], [], color=CARE, linestyle="--", label="safe rate"),
        ],
        loc="lower right",
    )


def _sent(axes: Axes, plan: Plan, end: int) -> None:
    """The last row: what is sent to each, and what of the safe rate is left."""
    left = 0.0
    for planned in plan.destinations:
        if planned.video is None or planned.audio is None:
            continue
        video = planned.video.most_kbps
        rest = planned.total_kbps - video
        axes.barh(end, video / 1000, TALL, left=left / 1000, color=GOOD)
        axes.barh(end, rest / 1000, TALL, left=(left + video) / 1000, color=LINE)
        said = f"{planned.title}\n{Bitrate.from_kbps(video)}"
        wide = video / plan.uplink.typical_kbps > WIDE_ENOUGH
        axes.text((left + video / 2) / 1000, end if wide else end + TALL / 2, said, ha="center",
                  va="center" if wide else "top", color="white" if wide else INK,
                  fontsize=10 if wide else 8)  # fmt: skip
        left += planned.total_kbps
    unused = plan.budget.safe_kbps - plan.total_kbps
    if unused > 0:
        axes.barh(end, unused / 1000, TALL, left=plan.total_kbps / 1000, color="none",
                  edgecolor=PALE, hatch="//", linewidth=0.8)  # fmt: skip
        axes.text(plan.budget.safe_kbps / 1000, end, f"  {Bitrate.from_kbps(unused)} unused",
                  va="center", color=INK, fontsize=10)  # fmt: skip


def _row(axes: Axes, row: int, step: BudgetStep, *, first: bool) -> None:
    """One step: what is left in full, what it took away in pale."""
    after, before = step.after_kbps / 1000, step.before_kbps / 1000
    axes.barh(row, after, TALL, color=LINE if first else SOFT)
    if before > after:
        axes.barh(row, before - after, TALL, left=after, color=FAINT)
    taken = "" if first else f"  −{Bitrate.from_kbps(step.before_kbps - step.after_kbps)}"
    axes.text(max(before, after), row, f" {Bitrate.from_kbps(step.after_kbps)}{taken}",
              va="center", color=INK, fontsize=10)  # fmt: skip
