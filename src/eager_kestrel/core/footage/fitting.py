"""Parameters of one footage from a dozen measured encodes, with the bundled ones as prior.

What is known beforehand of each parameter is a bell curve about the bundled kind's value, in its
logarithm, as wide as the fitted scenes of that kind differ; the most likely parameters are found by
damped Gauss-Newton steps (Levenberg 1944, Marquardt 1963).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.choice.quality import MotionParameters, QualityTable, quality, smoothness
from eager_kestrel.core.show.show import MOTIONS, Motion

WIDTHS: Mapping[str, float] = {
    "half_kbps": 1.0,
    "steepness": 0.2,
    "size_exponent": 0.3,
    "rate_exponent": 0.3,
    "half_pixels": 0.8,
    "detail_steepness": 0.2,
}
"""How far each may lie from the bundled value, as a natural logarithm."""
MEASURED_WIDTH = 0.02
"""How far a measured encode lies from the model's curve."""
ROUNDS = 60
STEP = 1e-4


@dataclass(frozen=True, slots=True)
class Sample:
    """A measured encode, as the fit takes it."""

    pixels: float
    fps: float
    kbps: float
    """At the usual preset: what it took, less what its preset costs."""
    look: float
    """0..1, smoothness aside."""


def modelled(table: QualityTable, motion: Motion, codec: str, samples: Sequence[Sample]) -> Floats:
    """What the model says of samples, smoothness aside; shape (samples,)."""
    pixels = np.array([s.pixels for s in samples])
    fps = np.array([s.fps for s in samples])
    kbps = np.array([s.kbps for s in samples])
    said = quality(table, motion, codec, pixels, fps, kbps)
    return np.asarray(said / smoothness(table, motion, fps), dtype=np.float64)


def with_parameters(table: QualityTable, motion: Motion, own: MotionParameters) -> QualityTable:
    """A table that goes by other parameters for one kind of motion."""
    return table.model_copy(update={"motion": {**table.motion, motion: own}})


def fit(
    table: QualityTable, motion: Motion, codec: str, samples: Sequence[Sample]
) -> MotionParameters:
    """The parameters of a footage.

    Args:
        table: with the bundled parameters.
        motion: the kind they start from; how much smoothness counts stays as it is there.
        codec: of all samples.
        samples: measured encodes, one or more.
    """
    start = table.motion[motion]
    names = list(WIDTHS)
    first = np.log([getattr(start, name) for name in names])
    widths = np.array([WIDTHS[name] for name in names])
    seen = np.array([s.look for s in samples])

    def parameters(x: Floats) -> MotionParameters:
        return start.model_copy(update=dict(zip(names, (float(v) for v in np.exp(x)), strict=True)))

    def off(x: Floats) -> Floats:
        said = modelled(with_parameters(table, motion, parameters(x)), motion, codec, samples)
        return np.concatenate([(said - seen) / MEASURED_WIDTH, (x - first) / widths])

    x = _least(off, np.asarray(first, dtype=np.float64))
    return start.model_copy(
        update=dict(zip(names, (float(f"{v:.4g}") for v in np.exp(x)), strict=True))
    )


def _least(residuals: Callable[[Floats], Floats], first: Floats) -> Floats:
    """The x at which the squares of what is off are least, from a start."""
    x, damping = first.copy(), 1e-2
    now = residuals(x)
    for _ in range(ROUNDS):
        slope = np.stack(
            [(residuals(x + STEP * unit) - now) / STEP for unit in np.eye(x.size)], axis=1
        )
        normal = slope.T @ slope
        moved = x - np.linalg.solve(normal + damping * np.diag(np.diag(normal)), slope.T @ now)
        then = residuals(moved)
        if then @ then < now @ now:
            done = now @ now - then @ then < 1e-9 * (now @ now)
            x, now, damping = moved, then, damping / 3
            if done:
                break
        else:
            damping *= 4
            if damping > 1e9:
                break
    return x


def off_by(table: QualityTable, motion: Motion, codec: str, samples: Sequence[Sample]) -> float:
    """How far samples lie from the model, root mean square, with its bitrates as they are."""
    seen = np.array([s.look for s in samples])
    return float(np.sqrt(np.mean((modelled(table, motion, codec, samples) - seen) ** 2)))


def behaves_like(table: QualityTable, codec: str, samples: Sequence[Sample]) -> Motion:
    """The bundled kind of motion whose parameters come nearest to what was measured."""
    return min(MOTIONS, key=lambda motion: off_by(table, motion, codec, samples))
