"""What practitioners do, as a table, and what the model takes there.

Measured footage is some scenes; the table is years of many. Nothing that was measured is moved to
it: a row either holds or is said not to.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, sharpness, smoothness
from eager_kestrel.core.choice.scored import ANY, as_good_as, best_of, preferred, tied_with
from eager_kestrel.core.show.show import Motion

LINES = np.array(
    [216, 270, 288, 360, 432, 480, 504, 540, 576, 648, 720, 792, 864, 900, 936, 1008, 1080]
)
RATES = (60.0, 30.0, 24.0)
COMMON = (360, 480, 540, 720, 900, 1080)


@dataclass(frozen=True, slots=True)
class Row:
    """At a bitrate, which lines and frame rates practice picks from a source of 1080 at 60."""

    motion: Motion
    kbps: float
    lines: tuple[int, int]
    fps: tuple[float, ...]


ROWS = (
    Row("hectic", 4000, (720, 720), (60,)),
    Row("hectic", 4500, (720, 720), (60,)),
    Row("hectic", 5000, (792, 936), (60,)),
    Row("hectic", 6000, (792, 936), (60,)),
    Row("hectic", 8000, (864, 1008), (60,)),
    Row("lively", 3000, (720, 720), (30,)),
    Row("lively", 4400, (720, 1080), (30, 60)),
    Row("lively", 6000, (1080, 1080), (60,)),
    Row("calm", 4500, (1080, 1080), (30,)),
    Row("calm", 600, (360, 504), (24, 30)),
    Row("lively", 600, (360, 504), (24, 30)),
    Row("hectic", 600, (270, 504), (24, 30)),
)


def choice(
    table: QualityTable, motion: Motion, kbps: float
) -> tuple[int, float, tuple[int, int], float]:
    """What is taken of a source of 1920x1080 at 60 fps at a bitrate.

    Returns:
        Lines, frames a second, the least and most lines about the same as that, and quality.
    """
    lines, fps = (found.ravel() for found in np.meshgrid(LINES, np.array(RATES)))
    pixels = lines**2 * 16 / 9
    rates = np.full((1, lines.size), kbps)
    scenes = sharpness(table, motion, "h264", pixels, fps, rates)
    scenes = scenes * smoothness(table, motion, fps)
    mean, allowed = table.motion[motion].mean(scenes), (fps >= table.motion[motion].min_fps)[None]
    best = best_of(rates, mean, allowed)
    rivals = allowed & (fps == fps[best[0]])
    ranks = np.select([lines == LINES[-1], np.isin(lines, COMMON)], [0, 2], 3)
    good = as_good_as(best, scenes, mean, table) & rivals
    chosen = preferred(good & rivals, mean, pixels, ranks < ANY, table)
    alike = lines[(tied_with(chosen, scenes, mean, table) & rivals)[0]]
    at = int(chosen[0])
    return int(lines[at]), float(fps[at]), (int(alike.min()), int(alike.max())), float(mean[0, at])


def said(table: QualityTable) -> None:
    """Print what practice says and what is taken, as a table for the page."""
    print("\n| motion | kbit/s | practice | taken | about the same | quality |")
    print("| --- | ---: | --- | --- | --- | ---: |")
    for row in ROWS:
        low, high = row.lines
        lines, fps, (least, most), quality = choice(table, row.motion, row.kbps)
        holds = least <= high and most >= low and fps in row.fps
        taken = low <= lines <= high
        mark = "" if holds and taken else "*" if holds else "**"
        wanted = f"{low}" if low == high else f"{low} to {high}"
        rates = " or ".join(f"{f:g}" for f in row.fps)
        print(
            f"| {row.motion} | {row.kbps:,.0f} | {wanted} at {rates} | "
            f"{mark}{lines} at {fps:g}{mark} | {least} to {most} | "
            f"{100 * quality:.0f} |"
        )
