"""What practitioners do, as a table, and the least change to fitted parameters that does it too.

The table is the list of docs/quality-model.md. Measured footage is a few scenes; the table is years
of many. Where the two disagree, parameters move as little as they can, counted in what each is
known to, until every row holds within one step of the ladder of pictures.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import differential_evolution

from eager_kestrel.core.choice.quality import QualityTable, clean_kbps, quality
from eager_kestrel.core.show.show import MOTIONS, Motion

LADDER = np.array([float(128 * n * 72 * n) for n in range(2, 16)])
LINES = np.array([72 * n for n in range(2, 16)])
RATES = (60.0, 30.0, 24.0)
LAW_KBPS = np.geomspace(150, 16_000, 250)
"""Where more motion is held against less."""
LAW_SLACK = 1.02
"""It has to hold even where less motion has so much less or more bitrate."""
STEP = 72
MARGIN = 0.001
"""By how much the quality of what practice does must lead."""
KNOWN_TO = {
    "clean_kbps": 0.05,
    "size_exponent": 0.08,
    "rate_exponent": 0.08,
    "spatial": 0.3,
    "temporal": 0.5,
}
"""Relative, absolute for the exponents: what a fit on other footage might move them by."""


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
    Row("hectic", 6000, (800, 940), (60,)),
    Row("lively", 3000, (720, 720), (30,)),
    Row("lively", 6000, (1080, 1080), (60,)),
    Row("calm", 4500, (1080, 1080), (30,)),
    Row("calm", 5000, (1080, 1080), (30,)),
    Row("calm", 6000, (1080, 1080), (60,)),
    Row("calm", 600, (400, 500), (24, 30)),
    Row("lively", 600, (400, 500), (24, 30)),
    Row("hectic", 600, (400, 500), (24, 30)),
)


def holds(row: Row) -> np.ndarray:
    """Which choices satisfy a row within a step; shape (frame rates, ladder)."""
    low, high = (LINES[np.abs(LINES - end).argmin()] for end in row.lines)
    near = (low - STEP <= LINES) & (high + STEP >= LINES)
    return np.array([[bool(n) and fps in row.fps for n in near] for fps in RATES])


def judged(table: QualityTable, row: Row) -> np.ndarray:
    """Quality of every choice at a row's bitrate; shape (frame rates, ladder)."""
    pixels, fps = np.meshgrid(LADDER, np.array(RATES))
    return quality(table, row.motion, "h264", pixels, fps, np.full_like(pixels, row.kbps))


def lead(table: QualityTable, row: Row) -> float:
    """How far the best choice that satisfies a row is ahead of the best that does not."""
    found, good = judged(table, row), holds(row)
    return float(found[good].max() - found[~good].max())


def choice(table: QualityTable, row: Row) -> tuple[int, float]:
    """Lines and frame rate the model picks."""
    found = judged(table, row)
    at = np.unravel_index(int(found.argmax()), found.shape)
    return int(LINES[at[1]]), RATES[at[0]]


def picks(table: QualityTable, motion: Motion, times: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Pixels and frame rate the model picks at multiples of ``LAW_KBPS``; ties to the cheaper."""
    kbps, fps, pixels = np.meshgrid(LAW_KBPS * times, np.array(RATES), LADDER, indexing="ij")
    found = np.round(quality(table, motion, "h264", pixels, fps, kbps), 9).reshape(
        len(LAW_KBPS), -1
    )
    cost = clean_kbps(table, motion, "h264", pixels, fps).reshape(len(LAW_KBPS), -1)
    tied = found == found.max(axis=1, keepdims=True)
    best = np.where(tied, cost, np.inf).argmin(axis=1)
    return LADDER[best % len(LADDER)], np.array(RATES)[best // len(LADDER)]


def broken(table: QualityTable, less: Motion, more: Motion) -> float:
    """How often, and how far, more motion picks a larger picture or a lower frame rate."""
    pixels, _ = picks(table, less, 1 / LAW_SLACK)
    _, fps = picks(table, less, LAW_SLACK)
    pixels_more, fps_more = picks(table, more)
    larger = np.maximum(0, np.log(pixels_more / pixels))
    slower = np.maximum(0, np.log(fps / fps_more))
    return float((larger + slower).sum())


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
    scale = np.array([
        known if name in ("size_exponent", "rate_exponent") else known * at
        for (name, known), at in zip(KNOWN_TO.items(), start, strict=True)
    ])  # fmt: skip

    def with_(moves: np.ndarray) -> QualityTable:
        values = dict(zip(names, map(float, np.maximum(start + moves * scale, 0.01)), strict=True))
        values |= {n: round(v, 0 if n == "clean_kbps" else 3) for n, v in values.items()}
        there = fitted.model_copy(update=values)
        return table.model_copy(update={"motion": {**table.motion, motion: there}})

    def missed(tried: QualityTable) -> float:
        short = sum(max(0.0, MARGIN - lead(tried, row)) for row in rows)
        return short + (broken(tried, motion, more) if more is not None else 0.0)

    if missed(table) == 0:
        return table
    found = differential_evolution(
        lambda moves: float((moves**2).sum()) + 1e6 * missed(with_(moves)),
        [(-6, 6)] * len(names), seed=7, maxiter=300, popsize=15, tol=1e-6, polish=False,
    )  # fmt: skip
    return with_(found.x)
