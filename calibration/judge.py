"""What the model is judged by: every origin of footage left out of the fit of its kind, in turn.

A *cell* is a scene, frame rate, resolution and bitrate that was measured, or lies between points
that were. *Regret* is the VMAF of the best resolution at a bitrate less that of the one a plan
takes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, expected_range, sharpness
from eager_kestrel.core.choice.scored import as_good_as, best_of, preferred, tied_with
from eager_kestrel.core.show.show import MOTIONS, Motion
from fit import fitted, modelled, seen, usual
from measure import RESOLUTIONS, Point
from scenes import SCENES

TRIED_KBPS = np.geomspace(250, 12_000, 24)


@dataclass(frozen=True, slots=True)
class Judged:
    """One scene at one frame rate, by a model that has seen none of its origin; VMAF points."""

    motion: Motion
    scene: str
    fps: int
    regret: np.ndarray
    """At each of ``TRIED_KBPS``."""
    losses: np.ndarray
    """What each of ``RESOLUTIONS`` would lose, shape (bitrates, resolutions); the nearest one's
    where it was not measured."""
    off: np.ndarray
    """The model's mean less what was measured, at each point."""
    inside: np.ndarray
    """Whether the measured value is in the range shown, at each point."""
    apart: np.ndarray
    """How far what is called about the same as the one taken differs from it, at each pair."""


def measured_curves(points: Sequence[Point], fps: int, kbps: np.ndarray) -> np.ndarray:
    """VMAF / 100 of each of ``PICTURES`` of one scene at bitrates; shape (pictures, bitrates).

    Straight in the logarithm of bitrate between the points. Beyond them, where no resolution
    measured there is likely to be the best, as the scene's own fit goes on from the last one. NaN
    for a resolution that was not measured.
    """
    scene = fitted([p for p in points if p.fps == fps or p.kbps == 0]).of(points[0].scene)
    rows = []
    for width, _ in RESOLUTIONS:
        own = sorted(
            (p for p in points if (p.width, p.fps) == (width, fps) and p.kbps > 0),
            key=lambda p: p.kbps,
        )
        if len(own) < 2:
            rows.append(np.full(kbps.shape, np.nan))
            continue
        at, value = np.log([p.kbps for p in own]), seen(own)
        ends = np.clip(np.log(kbps), at[0], at[-1])
        like = [Point(**{**_fields(own[0]), "kbps": float(k)}) for k in (*kbps, *np.exp(ends))]
        curve = modelled(like, {name: np.full(len(like), v) for name, v in scene.items()})
        beyond = curve[: kbps.size] - curve[kbps.size :]
        rows.append(np.clip(np.interp(ends, at, value) + beyond, 0.0, 1.0))
    return np.array(rows)


def _fields(point: Point) -> dict[str, object]:
    return {name: getattr(point, name) for name in Point.__dataclass_fields__}


def taken(
    table: QualityTable, motion: Motion, pixels: np.ndarray, fps: int, kbps: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Of resolutions, the one a plan takes at each bitrate, and what is about the same as it.

    Returns:
        Indices, shape (bitrates,), and flags, shape (bitrates, resolutions).
    """
    grid = np.broadcast_to(kbps[:, None], (kbps.size, pixels.size))
    scenes = sharpness(table, motion, "h264", pixels, np.full_like(pixels, fps), grid)
    mean, everything = table.motion[motion].mean(scenes), np.ones(grid.shape, dtype=bool)
    best = best_of(grid, mean, everything)
    good = as_good_as(best, scenes, mean, table)
    chosen = preferred(good, mean, pixels, np.zeros(pixels.size, dtype=bool), table)
    return chosen, tied_with(chosen, scenes, mean, table)


def left_out(points: Sequence[Point], table: QualityTable) -> Iterator[Judged]:
    """Every scene, judged by a fit without its origin."""
    for motion in MOTIONS:
        own = [p for p in usual(points) if p.motion == motion]
        found = fitted(own)
        for scene in found.scenes:
            kind = found.kind(table.motion[motion], SCENES[scene].origin)
            of_scene = [p for p in own if p.scene == scene]
            for fps in sorted({p.fps for p in of_scene}):
                yield judged(of_scene, table.with_kind(motion, kind), motion, fps)


def judged(points: Sequence[Point], table: QualityTable, motion: Motion, fps: int) -> Judged:
    """One scene's points at one frame rate, by some parameters."""
    curves = measured_curves(points, fps, TRIED_KBPS)
    known = ~np.isnan(curves).any(axis=1)
    pixels = np.array([float(w * h) for w, h in RESOLUTIONS])[known]
    there = curves[known].T
    chosen, near = taken(table, motion, pixels, fps, TRIED_KBPS)
    places = np.arange(known.size)
    nearest = np.abs(places[:, None] - np.flatnonzero(known)).argmin(axis=1)
    rows = np.arange(TRIED_KBPS.size)
    apart = np.abs(there - there[rows, chosen][:, None])
    alone = np.arange(pixels.size) == chosen[:, None]
    cells = [p for p in points if p.fps == fps and TRIED_KBPS[0] <= p.kbps <= TRIED_KBPS[-1]]
    pixels_, rates, kbps = (
        np.array([float(value(p)) for p in cells])
        for value in (lambda p: p.width * p.height, lambda p: p.fps, lambda p: p.kbps)
    )
    each = sharpness(table, motion, "h264", pixels_, rates, kbps)
    low, high = expected_range(each)
    return Judged(
        motion,
        points[0].scene,
        fps,
        regret=100 * (there.max(axis=1) - there[rows, chosen]),
        losses=100 * (there.max(axis=1)[:, None] - there[:, nearest]),
        off=100 * (table.motion[motion].mean(each) - seen(cells)),
        inside=(low <= seen(cells)) & (seen(cells) <= high),
        apart=100 * apart[near & ~alone],
    )


FLAT = (0.0, 0.002, 0.004, 0.005, 0.006, 0.008, 0.01)


def said_of_flat(points: Sequence[Point], table: QualityTable) -> None:
    """Print what the largest within so much of the best mean loses, over all scenes."""
    lost = []
    for flat in FLAT:
        found = left_out(points, table.model_copy(update={"flat": flat}))
        lost.append(float(np.mean([each.regret.mean() for each in found])))
    print(f"\n| within, points | {' | '.join(f'{100 * flat:.1f}' for flat in FLAT)} |")
    print("| --- |" + " ---: |" * len(FLAT))
    print(f"| regret, mean of all scenes | {' | '.join(f'{each:.2f}' for each in lost)} |")


def at_best(found: Sequence[Judged]) -> tuple[float, float]:
    """What a choice by kind alone would lose that knew all answers: on average, and at worst.

    One resolution for all scenes of a kind, at each frame rate and bitrate: the one that loses
    least on average, or, for the other value, at worst. No model can lose less on these scenes.
    """
    kinds = {
        fps: np.array([e.losses for e in found if e.fps == fps]) for fps in {e.fps for e in found}
    }
    chosen = {fps: losses.mean(axis=0).argmin(axis=1) for fps, losses in kinds.items()}
    rows = np.arange(TRIED_KBPS.size)
    lost = [losses[:, rows, chosen[fps]] for fps, losses in kinds.items()]
    worst = max(losses.max(axis=0).min(axis=1).max() for losses in kinds.values())
    return float(np.concatenate(lost).mean()), float(worst)


def said(found: Sequence[Judged]) -> None:
    """Print the judged values of each kind, and of each scene, as tables for the page."""
    print(
        "\n| kind | regret: mean | worst | by all answers: mean | worst | bias of the mean "
        "| inside the range | about the same differ by less than 6 |"
    )
    print("| --- |" + " ---: |" * 7)
    for kind in dict.fromkeys(each.motion for each in found):
        own = [each for each in found if each.motion == kind]
        regret, off, inside, apart = (
            np.concatenate([getattr(each, what) for each in own])
            for what in ("regret", "off", "inside", "apart")
        )
        mean, worst = at_best(own)
        print(
            f"| {kind} | {regret.mean():.2f} | {regret.max():.1f} | {mean:.2f} | {worst:.1f} "
            f"| {off.mean():+.1f} | {inside.mean():.0%} "
            f"| {(apart < 6).mean():.0%} of {apart.size} |"
        )
    print("\n| scene | kind | fps | regret: mean | worst | bias | inside |")
    print("| --- | --- | ---: | ---: | ---: | ---: | ---: |")
    for each in found:
        print(
            f"| {each.scene} | {each.motion} | {each.fps} | {each.regret.mean():.1f} | "
            f"{each.regret.max():.1f} | {each.off.mean():+.1f} | {each.inside.mean():.0%} |"
        )
