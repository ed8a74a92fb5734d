"""What practitioners do, as a table, and the least change to fitted parameters that does it too.

The table is the list of docs/quality-model.md. Measured footage is some scenes; the table is years
of many. A row holds when its frame rate is the best and its lines look like the best. Where it does
not, parameters move as little as they can, counted in what each is known to, until every row holds;
whether they are still within what the scenes span is said beside them.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import differential_evolution

from eager_kestrel.core.choice.alike import band_of
from eager_kestrel.core.choice.quality import QualityTable, quality
from eager_kestrel.core.show.show import MOTIONS, Motion

LINES = np.array([216, 270, 288, 360, 432, 480, 504, 540, 576, 648, 720, 792, 864, 900, 936, 1008,
                  1080])  # fmt: skip
PIXELS = LINES**2 * 16 / 9
RATES = (60.0, 30.0, 24.0)
LAW_KBPS = np.geomspace(150, 16_000, 120)
"""Where more motion is held against less."""
MARGIN = 0.001
KNOWN_TO = {
    "half_kbps": 0.3, "steepness": 0.15, "size_exponent": 0.08, "rate_exponent": 0.08,
    "half_pixels": 0.4, "detail_steepness": 0.2, "temporal": 0.5,
}  # fmt: skip
"""Relative, absolute for the exponents: what other footage of a kind might move them by."""


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
    Row("hectic", 6000, (720, 940), (60,)),
    Row("lively", 3000, (720, 720), (30,)),
    Row("lively", 6000, (1080, 1080), (60,)),
    Row("calm", 4500, (1080, 1080), (30, 60)),
    Row("calm", 5000, (1080, 1080), (30, 60)),
    Row("calm", 6000, (1080, 1080), (60,)),
    Row("calm", 600, (400, 576), (24, 30)),
    Row("lively", 600, (400, 500), (24, 30)),
    Row("hectic", 600, (270, 500), (24, 30)),
)


def judged(table: QualityTable, motion: Motion, kbps: float) -> np.ndarray:
    """Quality of every choice at a bitrate; shape (frame rates, lines)."""
    pixels, fps = np.meshgrid(PIXELS, np.array(RATES))
    return quality(table, motion, "h264", pixels, fps, np.full_like(pixels, kbps))


def holds(row: Row) -> np.ndarray:
    """Which choices satisfy a row; shape (frame rates, lines)."""
    near = (row.lines[0] <= LINES) & (row.lines[1] >= LINES)
    return np.array([[bool(n) and fps in row.fps for n in near] for fps in RATES])


def lead(table: QualityTable, row: Row) -> float:
    """How far a row is from not holding.

    Its frame rate has to be the best, since a plan keeps to that, and its lines have to be among
    those that look like the best there.
    """
    found = judged(table, row.motion, row.kbps)
    rates = np.array([fps in row.fps for fps in RATES])
    top, other = float(found[rates].max()), float(found[~rates].max())
    alike_ = float(band_of(np.array(top), table.alike))
    return min(top - other, float(found[holds(row)].max()) - top + alike_)


def choice(table: QualityTable, motion: Motion, kbps: float) -> tuple[int, float]:
    """Lines and frame rate the model finds best."""
    found = judged(table, motion, kbps)
    at = np.unravel_index(int(found.argmax()), found.shape)
    return int(LINES[at[1]]), RATES[at[0]]


def alike(table: QualityTable, motion: Motion, kbps: float) -> tuple[int, int]:
    """Least and most lines that look like the best, at its frame rate."""
    found = judged(table, motion, kbps)
    row = found[int(np.unravel_index(int(found.argmax()), found.shape)[0])]
    near = LINES[row >= row.max() - band_of(np.array(row.max()), table.alike)]
    return int(near.min()), int(near.max())


def broken(table: QualityTable, less: Motion, more: Motion) -> float:
    """How often, and how far, more motion finds a larger picture or a lower frame rate best."""
    total = 0.0
    for kbps in LAW_KBPS:
        (lines, fps), (lines_more, fps_more) = (choice(table, m, kbps) for m in (less, more))
        total += max(0.0, np.log(lines_more / lines)) + max(0.0, np.log(fps / fps_more))
    return float(total)


def reconciled(table: QualityTable) -> QualityTable:
    """The table with the parameters of each motion moved just so far that its rows hold.

    From hectic down, so that each can also be held to the law that more motion never picks a larger
    picture or a lower frame rate.
    """
    done = table
    for motion, more in zip(reversed(MOTIONS), (None, *reversed(MOTIONS)), strict=False):
        done = _reconciled(done, motion, more)
    return done


def _reconciled(table: QualityTable, motion: Motion, more: Motion | None) -> QualityTable:
    fitted = table.motion[motion]
    rows = [row for row in ROWS if row.motion == motion]
    names = [*KNOWN_TO]
    start = np.array([getattr(fitted, name) for name in names])

    def with_(moves: np.ndarray) -> QualityTable:
        values = {}
        for name, at, move in zip(names, start, moves, strict=True):
            known = KNOWN_TO[name]
            moved = at + move * known if name.endswith("exponent") else at * (1 + known) ** move
            values[name] = float(f"{max(moved, 0.01):.3g}")
        there = fitted.model_copy(update=values)
        return table.model_copy(update={"motion": {**table.motion, motion: there}})

    def missed(tried: QualityTable) -> float:
        short = sum(max(0.0, MARGIN - lead(tried, row)) for row in rows)
        return short + (broken(tried, motion, more) if more is not None else 0.0)

    if missed(table) == 0:
        return table
    found = differential_evolution(
        lambda moves: float((moves**2).sum()) + 1e4 * missed(with_(moves)),
        [(-3, 3)] * len(names), seed=7, maxiter=60, popsize=10, tol=1e-6, polish=False,
    )  # fmt: skip
    return with_(found.x)
