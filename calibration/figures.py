"""Figures of the fit, for docs/quality-model.md."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from eager_kestrel.core.choice.quality import QualityTable, sharpness
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, save
from fit import Fitted, modelled, seen, usual
from judge import TRIED_KBPS, Judged
from measure import RESOLUTIONS, Point

TICKS = (250, 500, 1000, 2000, 4000, 8000)
SHADES = (GOOD, LINE, CARE, "#7a5195", "#b08d2f", PALE, "#5b8c5a")


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
            ax.plot(
                100 * seen(here),
                100 * modelled(here, rows),
                "o",
                color=shade,
                markersize=4,
                alpha=0.75,
                label=scene,
            )
        ax.plot([0, 100], [0, 100], color=INK, linewidth=1)
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_xlabel("measured", fontsize=9)
        ax.set_ylabel("by the model", fontsize=9)
        ax.legend(loc="upper left", fontsize=8, frameon=False)
    save(figure, path)


def draw_crossovers(table: QualityTable, path: Path) -> None:
    """Which resolution is best at which bitrate at 30 fps: of each scene, and of their mean."""
    figure, axes = _panels("Which resolution is best at which bitrate, at 30 fps")
    lines = np.array([height for _, height in RESOLUTIONS])
    pixels = np.array([float(w * h) for w, h in RESOLUTIONS])
    rates = np.broadcast_to(TRIED_KBPS[:, None], (TRIED_KBPS.size, pixels.size))
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        every = sharpness(table, motion, "h264", pixels, np.full_like(pixels, 30.0), rates)
        for number, scene in enumerate(table.motion[motion].scenes):
            best = lines[every[number].argmax(axis=1)] - 4 * number
            ax.step(
                TRIED_KBPS,
                best,
                where="mid",
                color=SHADES[number % len(SHADES)],
                linewidth=1.2,
                label=scene,
            )
        ax.step(
            TRIED_KBPS,
            lines[table.motion[motion].mean(every).argmax(axis=1)],
            where="mid",
            color=INK,
            linewidth=2.6,
            label="mean of all",
        )
        _bitrates(ax)
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_yticks(lines)
        ax.set_ylabel("lines", fontsize=9)
        ax.set_xlabel("kbit/s", fontsize=9)
        ax.legend(loc="lower right", fontsize=8, frameon=True)
    save(figure, path)


def draw_judged(found: Sequence[Judged], path: Path) -> None:
    """What the choice costs at each bitrate on a scene whose origin was left out of the fit."""
    figure, axes = _panels("What the choice costs on footage of origins that were left out")
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [each for each in found if each.motion == motion]
        scenes = list(dict.fromkeys(each.scene for each in own))
        for each in own:
            shade = SHADES[scenes.index(each.scene) % len(SHADES)]
            style = "-" if each.fps <= 30 else "--"
            ax.plot(
                TRIED_KBPS,
                each.regret,
                style,
                color=shade,
                linewidth=1.5,
                label=f"{each.scene} at {each.fps}",
            )
        ax.axhline(3, color=PALE, linewidth=1)
        _bitrates(ax)
        ax.set_ylim(0, max(8.0, 1.05 * max(float(each.regret.max()) for each in own)))
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_ylabel("VMAF below the best resolution", fontsize=9)
        ax.set_xlabel("kbit/s", fontsize=9)
        ax.legend(loc="upper right", fontsize=7, frameon=False, ncols=2)
    save(figure, path)
