"""Parameters of one footage from a dozen measured encodes, with the bundled ones as prior.

What is known beforehand of each parameter is a bell curve about the value of the kind's typical
scene, in its logarithm, as wide as the fitted scenes of that kind differ; the most likely
parameters are found by damped Gauss-Newton steps (Levenberg 1944, Marquardt 1963).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, SceneParameters, sharpness
from eager_kestrel.core.show.show import MOTIONS, Motion

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats

LEAST_WIDTH = 0.2
"""Of what is known beforehand of a parameter, as a natural logarithm."""
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
    """What each scene of a kind says of samples, smoothness aside; shape (scenes, samples)."""
    pixels = np.array([s.pixels for s in samples])
    fps = np.array([s.fps for s in samples])
    kbps = np.array([s.kbps for s in samples])
    return sharpness(table, motion, codec, pixels, fps, kbps)


def fit(
    table: QualityTable, motion: Motion, codec: str, samples: Sequence[Sample]
) -> SceneParameters:
    """The parameters of a footage.

    Args:
        table: with the bundled parameters.
        motion: the kind from whose typical scene they start.
        codec: of all samples.
        samples: measured encodes, one or more.
    """
    start = table.motion[motion].typical
    names = list(SceneParameters.model_fields)
    first = np.log([getattr(start, name) for name in names])
    widths = _widths(table, names)
    seen = np.array([s.look for s in samples])

    def parameters(x: Floats) -> SceneParameters:
        return SceneParameters(**dict(zip(names, (float(v) for v in np.exp(x)), strict=True)))

    def off(x: Floats) -> Floats:
        said = modelled(table.with_own(motion, parameters(x)), motion, codec, samples)[0]
        return np.concatenate([(said - seen) / MEASURED_WIDTH, (x - first) / widths])

    x = _least(off, np.asarray(first, dtype=np.float64))
    return SceneParameters(**dict(zip(names, (float(f"{v:.4g}") for v in np.exp(x)), strict=True)))


def _widths(table: QualityTable, names: Sequence[str]) -> Floats:
    """How far scenes of one kind lie apart, as deviations of the logarithm of each parameter."""
    kinds = [kind.arrays for kind in table.motion.values() if len(kind.scenes) > 1]
    spread = [np.mean([np.log(kind[name]).var(ddof=1) for kind in kinds]) for name in names]
    return np.maximum(np.sqrt(spread), LEAST_WIDTH)


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
    """How far samples lie from the nearest scene of a kind, root mean square."""
    seen = np.array([s.look for s in samples])
    off = modelled(table, motion, codec, samples) - seen
    return float(np.sqrt(np.mean(off**2, axis=1)).min())


def behaves_like(table: QualityTable, codec: str, samples: Sequence[Sample]) -> Motion:
    """The bundled kind of motion with the scene that comes nearest to what was measured."""
    return min(MOTIONS, key=lambda motion: off_by(table, motion, codec, samples))
