"""Figures of the fit, for docs/quality-model.md."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from eager_kestrel.core.choice.quality import QualityTable, quality
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, save
from fit import TRIED_KBPS, Fitted, Regret, measured_curves, modelled, seen, usual
from measure import PICTURES, Point

TICKS = (250, 500, 1000, 2000, 4000, 8000)
SHADES = (GOOD, LINE, CARE, "#7a5195", "#b08d2f", PALE)


def _panels(title: str) -> tuple[Figure, np.ndarray]:
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
    axes = figure.subplots(2, 2, squeeze=False)
    for ax in axes.flat:
        ax.spines[["top", "right"]].set_visible(False)
        ax.grid(color=FAINT, linewidth=0.6)
        ax.set_axisbelow(True)
    return figure, axes


def _bitrates(ax: Axes) -> None:
    ax.set_xscale("log")
    ax.set_xticks(TICKS, [f"{kbps:,}" for kbps in TICKS])
    ax.minorticks_off()


def draw_fit(points: Sequence[Point], found: dict[str, Fitted], path: Path) -> None:
    """VMAF of every H.264 encode, measured and by the model with its scene's own parameters."""
    figure, axes = _panels("VMAF of every encode, measured and by the model")
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [p for p in usual(points) if p.motion == motion]
        for scene, shade in zip(dict.fromkeys(p.scene for p in own), SHADES, strict=False):
            here = [p for p in own if p.scene == scene]
            rows = {n: np.full(len(here), v) for n, v in found[motion].of(scene).items()}
            ax.plot(100 * seen(here), 100 * modelled(here, rows), "o", color=shade, markersize=4,
                    alpha=0.75, label=scene)  # fmt: skip
        ax.plot([0, 100], [0, 100], color=INK, linewidth=1)
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_xlabel("measured", fontsize=9)
        ax.set_ylabel("by the model", fontsize=9)
        ax.legend(loc="upper left", fontsize=8, frameon=False)
    save(figure, path)


def draw_crossovers(points: Sequence[Point], shipped: QualityTable, path: Path) -> None:
    """Which picture is best at which bitrate at 30 frames a second, measured and by the table."""
    figure, axes = _panels("Which picture is best at which bitrate, at 30 frames a second")
    lines = np.array([height for _, height in PICTURES])
    pixels = np.array([float(w * h) for w, h in PICTURES])[:, None]
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [p for p in usual(points) if p.motion == motion and p.fps <= 30]
        for scene, shade in zip(dict.fromkeys(p.scene for p in own), SHADES, strict=False):
            here = [p for p in own if p.scene == scene]
            curves = np.nan_to_num(measured_curves(here, here[0].fps, TRIED_KBPS), nan=-1.0)
            ax.step(TRIED_KBPS, lines[curves.argmax(axis=0)], where="mid", color=shade,
                    linewidth=1.6, label=scene)  # fmt: skip
        judged = quality(shipped, motion, "h264", pixels, np.full_like(pixels, 30.0),
                         TRIED_KBPS[None, :])  # fmt: skip
        ax.step(TRIED_KBPS, lines[judged.argmax(axis=0)] - 6, where="mid", color=INK, linewidth=2,
                linestyle="--", label="model")  # fmt: skip
        _bitrates(ax)
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_yticks(lines)
        ax.set_ylabel("lines", fontsize=9)
        ax.set_xlabel("kbit/s", fontsize=9)
        ax.legend(loc="lower right", fontsize=8, frameon=True)
    save(figure, path)


def draw_regret(points: Sequence[Point], found: Sequence[Regret], path: Path) -> None:
    """What the choice costs at each bitrate on a scene that was left out of the fit."""
    figure, axes = _panels("What the model's choice costs on footage it has not seen")
    motion_of = {p.scene: p.motion for p in points}
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [r for r in found if motion_of[r.scene] == motion]
        scenes = list(dict.fromkeys(r.scene for r in own))
        for each in own:
            shade = SHADES[scenes.index(each.scene)]
            style = "-" if each.fps <= 30 else "--"
            ax.plot(TRIED_KBPS, each.taken, style, color=shade, linewidth=1.5,
                    label=f"{each.scene} at {each.fps}")  # fmt: skip
        ax.axhline(3, color=PALE, linewidth=1)
        _bitrates(ax)
        ax.set_ylim(0, max(8.0, 1.05 * max(float(each.taken.max()) for each in own)))
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_ylabel("VMAF below the best picture", fontsize=9)
        ax.set_xlabel("kbit/s", fontsize=9)
        ax.legend(loc="upper right", fontsize=8, frameon=False)
    save(figure, path)
