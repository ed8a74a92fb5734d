"""How a resolution, frame rate and bitrate look, for every scene of a kind of motion.

Separable in spatial, temporal and amplitude resolution, as in Ou, Xue and Wang, "Q-STAR: A
Perceptual Video Quality Model Considering Impact of Spatial, Temporal, and Amplitude Resolutions",
IEEE Trans. Image Processing 23(6), 2014. What compression takes and what a smaller resolution takes
are logistic in the logarithm of bitrate and of pixels, fitted to VMAF (docs/quality-model.md), so
that 100 times the number is what VMAF gives at 60 fps; how much fewer frames take is the paper's
temporal factor, since VMAF says nothing of it.

A kind of motion is a set of scenes, each with parameters of its own (``data/quality.toml``), since
one game is sharper than another. Quality is the mean over them; how far they lie apart gives the
range in which footage of that kind is to be expected.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from pydantic import Field

from eager_kestrel.core.document import Frozen, Kept
from eager_kestrel.core.quantities import ResolutionSize
from eager_kestrel.core.show.show import Motion, Preference

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


REFERENCE_PIXELS = 1280 * 720
REFERENCE_FPS = 30
TOP_FPS = 60
TEMPORAL_EXPONENT = 0.63
"""Q-STAR, equation for the temporal factor."""


class SceneParameters(Kept):
    """How one scene behaves."""

    half_kbps: float
    """Bitrate at which compression leaves half of 1280x720 at 30 fps."""
    steepness: float
    """How steeply quality rises there, in the logarithm of bitrate."""
    size_exponent: float
    """How that bitrate grows with pixels: 1 in proportion, less where larger sizes code better."""
    rate_exponent: float
    """How it grows with frames a second: less than 1, since close frames are alike."""
    half_pixels: float
    """Pixels of a resolution that keeps half of what a large one shows."""
    detail_steepness: float
    """How steeply quality rises there, in the logarithm of pixels."""
    weight: float = 1.0
    """What it counts for in a mean: all scenes of one origin count as much as one of another."""


PARAMETERS = tuple(name for name in SceneParameters.model_fields if name != "weight")


class MotionParameters(Frozen):
    """How one kind of motion behaves."""

    temporal: float
    """How steeply quality falls with frames a second."""
    min_fps: float
    """Below this nothing of this motion is sent, where more can be had."""
    scenes: dict[str, SceneParameters]

    def with_scenes(self, scenes: dict[str, SceneParameters]) -> MotionParameters:
        """The kind with other scenes; a copy would keep the arrays of its own."""
        return MotionParameters(temporal=self.temporal, min_fps=self.min_fps, scenes=scenes)

    @cached_property
    def arrays(self) -> Mapping[str, Floats]:
        """Each parameter of all scenes; shape (scenes,)."""
        return {
            name: np.array([getattr(scene, name) for scene in self.scenes.values()])
            for name in (*PARAMETERS, "weight")
        }

    def mean(self, scenes: Floats) -> Floats:
        """What is expected of footage like its scenes; shape (...) for (scenes, ...)."""
        weights = self.arrays["weight"]
        return np.asarray(np.tensordot(weights / weights.sum(), scenes, 1), dtype=np.float64)

    @cached_property
    def typical(self) -> SceneParameters:
        """A scene in the middle of them: the geometric mean of each parameter."""
        return SceneParameters(
            **{name: float(np.exp(self.mean(np.log(self.arrays[name])))) for name in PARAMETERS}
        )


class QualityTable(Frozen):
    """Parameters of the model."""

    basis: str
    own_footage: str | None = None
    """What of the streamer's own footage the parameters of its kind are by."""
    viewed_on: ResolutionSize
    ordinary_delivery: float = 1.0
    """What is left of quality where a platform delivers larger resolutions with a better codec."""
    tie: float
    """Candidates that differ by less on average are about the same, where no scene tells."""
    noticeable: float
    """By how much they may differ on any one scene: one just noticeable difference."""
    flat: float
    """Among candidates whose mean is within this of the best mean, the largest is taken."""
    prefer: dict[Preference, float]
    """``temporal`` of a show that says which of the two matters more."""
    codec: dict[str, float]
    """Of H.264's bitrate, what each takes for the same look."""
    preset: dict[str, dict[str, float]] = Field(default_factory=dict)
    """The same of each encoder's presets beside the usual one."""
    motion: dict[Motion, MotionParameters]

    def preferring(self, motion: Motion, prefer: Preference | None) -> QualityTable:
        """Return the table for a show that prefers smooth motion, or sharp frames, to the usual."""
        if prefer is None:
            return self
        kind, asked = self.motion[motion], self.prefer[prefer]
        temporal = (min if prefer == "smooth" else max)(kind.temporal, asked)
        return self.with_kind(motion, kind.model_copy(update={"temporal": temporal}))

    def with_own(self, motion: Motion, *own: SceneParameters) -> QualityTable:
        """The table that knows only the streamer's own footage of a kind: what it could be."""
        scenes = {f"own {number}": scene for number, scene in enumerate(own, 1)}
        return self.with_kind(motion, self.motion[motion].with_scenes(scenes))

    def with_kind(self, motion: Motion, kind: MotionParameters) -> QualityTable:
        """The table with other parameters for one kind of motion."""
        return self.model_copy(update={"motion": {**self.motion, motion: kind}})


def half_kbps(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats
) -> Floats:
    """Bitrate in kbit/s at which compression leaves half; shape (scenes, ...) for (...)."""
    of = _scenes_first(table.motion[motion], pixels)
    grown = of["size_exponent"] * np.log(pixels / REFERENCE_PIXELS)
    grown = grown + of["rate_exponent"] * np.log(fps / REFERENCE_FPS)
    return np.asarray(of["half_kbps"] * np.exp(grown) * table.codec[codec], dtype=np.float64)


def _scenes_first(kind: MotionParameters, like: Floats) -> Mapping[str, Floats]:
    """Parameters of scenes that broadcast before an array; each of shape (scenes, 1, ...)."""
    shape = (-1, *(1 for _ in np.shape(like)))
    return {name: values.reshape(shape) for name, values in kind.arrays.items()}


def clean_kbps(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats
) -> Floats:
    """Bitrate in kbit/s from which on no scene gains visibly; arrays of one shape in and out.

    From there on, more bitrate gains less than ``tie`` on every scene.
    """
    left = (1 - table.tie) / table.tie
    above = left ** (1 / _scenes_first(table.motion[motion], pixels)["steepness"])
    every = half_kbps(table, motion, codec, pixels, fps) * above
    return np.asarray(every.max(axis=0), dtype=np.float64)


def _logistic(steepness: Floats, log_ratio: Floats) -> Floats:
    """1 / (1 + ratio^-steepness): 0 at 0, a half at 1, towards 1 beyond."""
    with np.errstate(over="ignore"):
        return np.asarray(1.0 / (1.0 + np.exp(-steepness * log_ratio)), dtype=np.float64)


def smoothness(table: QualityTable, motion: Motion, fps: Floats) -> Floats:
    """What is left of the impression at so many frames a second, 1 at 60; of the same shape."""
    steep = table.motion[motion].temporal
    rate = np.minimum(1.0, fps / TOP_FPS) ** TEMPORAL_EXPONENT
    return np.asarray(np.expm1(-steep * rate) / np.expm1(-steep), dtype=np.float64)


def compression(table: QualityTable, motion: Motion, kbps: Floats, half: Floats) -> Floats:
    """0..1 for what compression leaves of every scene, C of the model; shape (scenes, ...).

    Args:
        kbps: what the encoder aims at.
        half: the bitrate that leaves half of each scene (:func:`half_kbps`); its further axes
            broadcast against those of ``kbps``.
    """
    of = _scenes_first(table.motion[motion], kbps)
    wider = max(0, kbps.ndim - half.ndim + 1)
    half = half.reshape(half.shape[0], *(1,) * wider, *half.shape[1:])
    with np.errstate(divide="ignore"):
        above = np.log(kbps) - np.log(half)
    return _logistic(of["steepness"], above)


def detail(table: QualityTable, motion: Motion, pixels: Floats) -> Floats:
    """0..1 for what a resolution can show of every scene, D of the model; shape (scenes, ...)."""
    of = _scenes_first(table.motion[motion], pixels)
    shown = np.minimum(pixels, table.viewed_on.pixels)
    half, steep = np.log(of["half_pixels"]), of["detail_steepness"]
    whole = _logistic(steep, np.log(table.viewed_on.pixels) - half)
    return np.asarray(_logistic(steep, np.log(shown) - half) / whole, dtype=np.float64)


def sharpness(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats, kbps: Floats
) -> Floats:
    """0..1 for how single frames look on every scene, smoothness aside; as :func:`compression`."""
    half = half_kbps(table, motion, codec, *np.broadcast_arrays(pixels, fps))
    left = compression(table, motion, np.asarray(kbps, dtype=np.float64), half)
    return left * detail(table, motion, np.broadcast_to(pixels, left.shape[1:]))


def quality(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats, kbps: Floats
) -> Floats:
    """Mean quality in 0..1 over the scenes of a kind; arrays of one shape in and out."""
    every = sharpness(table, motion, codec, pixels, fps, kbps)
    return table.motion[motion].mean(every) * smoothness(table, motion, fps)


STUDENT_90 = (3.078, 1.886, 1.638, 1.533, 1.476, 1.440, 1.415, 1.397, 1.383, 1.372)
"""The 90th percentile of Student's t with 1 to 10 degrees of freedom."""
NORMAL_90 = 1.282
EDGE = 1e-3


def expected_range(scenes: Floats) -> tuple[Floats, Floats]:
    """The 10th and the 90th percentile of footage like some scenes.

    Args:
        scenes: quality in 0..1 on each; shape (scenes, ...). Of one scene nothing is known beyond
            itself, and both are its quality.

    Returns:
        Two arrays of shape (...).
    """
    count = scenes.shape[0]
    if count < 2:
        return scenes[0], scenes[0]
    inner = np.clip(scenes, EDGE, 1 - EDGE)
    logits = np.log(inner / (1 - inner))
    times = STUDENT_90[count - 2] if count - 2 < len(STUDENT_90) else NORMAL_90
    reach = times * np.sqrt(1 + 1 / count) * logits.std(axis=0, ddof=1)
    middle = logits.mean(axis=0)
    low, high = (1 / (1 + np.exp(-(middle + side * reach))) for side in (-1, 1))
    return np.asarray(low), np.asarray(high)
