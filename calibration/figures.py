"""Figures of the fit, for docs/quality-model.md."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.figure import Figure

from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.report.figures import CARE, FAINT, GOOD, INK, LINE, PALE, save
from fit import CLEAN, WORTHLESS, curve, measured_best, modelled_best, rates_of, residuals, share
from measure import PICTURES, RATES, Point

SHADES = (GOOD, LINE, CARE, "#7a5195", "#b08d2f", PALE)


def _panels(title: str, rows: int, columns: int) -> tuple[Figure, np.ndarray]:
    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    figure.suptitle(title, color=INK, x=0.01, ha="left", fontsize=14)
    axes = figure.subplots(rows, columns, squeeze=False)
    for ax in axes.flat:
        ax.spines[["top", "right"]].set_visible(False)
        ax.grid(color=FAINT, linewidth=0.6)
        ax.set_axisbelow(True)
    return figure, axes


def draw_fit(
    points: Sequence[Point], fitted: QualityTable, shipped: QualityTable, path: Path
) -> None:
    """Every H.264 point against its share of the rate of no visible loss, and the one curve."""
    figure, axes = _panels("What compression takes away, measured and fitted", 2, 2)
    x = np.geomspace(0.02, 3, 200)
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [p for p in points if p.motion == motion and p.codec == "h264"]
        m, s = fitted.motion[motion], shipped.motion[motion]
        for (width, height), shade in zip(PICTURES, SHADES, strict=True):
            for fps, mark in zip(RATES, ("o", "^"), strict=True):
                here = [p for p in own if p.width == width and p.fps == fps]
                clean = m.clean_kbps * (width * height / 921_600) ** m.size_exponent
                clean *= (fps / 30) ** m.rate_exponent
                label = f"{height} lines" if fps == RATES[0] else None
                seen = [np.clip(share(p.xpsnr), 0, 1) for p in here]
                at = [p.kbps / clean for p in here]
                ax.plot(at, seen, mark, color=shade, markersize=5, label=label)
        ax.plot(x, curve(fitted.amplitude, x), color=INK, linewidth=1.6)
        if s != m:
            ax.plot(x * s.clean_kbps / m.clean_kbps, curve(shipped.amplitude, x), color=CARE,
                    linewidth=1.2, linestyle="--", label="as shipped")  # fmt: skip
        off = np.array([r.measured - r.model for r in residuals(own, fitted)])
        ax.set_title(f"{motion}: off by {np.sqrt((off**2).mean()):.3f} (rms)", fontsize=11,
                     color=INK, loc="left")  # fmt: skip
        ax.set_xscale("log")
        ax.set_ylim(0, 1.05)
        ax.set_ylabel(f"XPSNR from {WORTHLESS:g} to {CLEAN:g} dB, as 0 to 1", fontsize=9)
        ax.set_xlabel("bitrate / bitrate of no visible loss", fontsize=9)
    axes[0, 0].legend(loc="upper left", fontsize=8, frameon=False)
    save(figure, path)


def draw_crossovers(points: Sequence[Point], shipped: QualityTable, path: Path) -> None:
    """Which picture is best at which bitrate, measured and by the shipped table."""
    figure, axes = _panels("Which picture is best at which bitrate", 2, 2)
    lines = np.array([height for _, height in PICTURES])
    for ax, motion in zip(axes.flat, MOTIONS, strict=True):
        own = [p for p in points if p.motion == motion and p.codec == "h264"]
        for fps, shade in zip(RATES, (LINE, CARE), strict=True):
            rates = rates_of(own, fps)
            best = measured_best(own, fps, rates)
            known = best >= 0
            ax.step(rates[known], lines[best[known]], where="mid", color=shade, linewidth=2.2,
                    label=f"measured, {fps} frames a second")  # fmt: skip
            model = modelled_best(shipped, motion, fps, rates)
            ax.step(rates, lines[model] - 8, where="mid", color=shade, linewidth=1.3,
                    linestyle="--", label=f"model, {fps}")  # fmt: skip
        ax.set_xscale("log")
        ax.set_title(motion, fontsize=11, color=INK, loc="left")
        ax.set_yticks(lines)
        ax.set_ylabel("lines", fontsize=9)
        ax.set_xlabel("kbit/s", fontsize=9)
    axes[0, 0].legend(loc="lower right", fontsize=8, frameon=True)
    save(figure, path)
