"""One number in 0..1 for how a picture, frame rate and bitrate look for a kind of motion.

Separable in spatial, temporal and amplitude resolution, as in Ou, Xue and Wang, "Q-STAR: A
Perceptual Video Quality Model Considering Impact of Spatial, Temporal, and Amplitude Resolutions",
IEEE Trans. Image Processing 23(6), 2014. What compression takes and what a smaller picture takes
are logistic in the logarithm of bitrate and of pixels, fitted to VMAF (docs/quality-model.md), so
that 100 times the number is what VMAF gives at 60 frames a second; how much fewer frames take is
the paper's temporal factor, since VMAF says nothing of it. Parameters come in as a table
(``data/quality.toml``).
"""

from __future__ import annotations

import numpy as np
from pydantic import Field

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.quantities import PictureSize
from eager_kestrel.core.show.show import Motion

REFERENCE_PIXELS = 1280 * 720
REFERENCE_FPS = 30
TOP_FPS = 60
TEMPORAL_EXPONENT = 0.63
"""Q-STAR, equation for the temporal factor."""


class MotionParameters(Frozen):
    """How one motion class behaves."""

    half_kbps: float
    """Bitrate at which compression leaves half of the reference picture at the reference rate."""
    steepness: float
    """How steeply quality rises there, in the logarithm of bitrate."""
    size_exponent: float
    """How that bitrate grows with pixels: 1 in proportion, less where larger pictures code better.
    """
    rate_exponent: float
    """How it grows with frames a second: less than 1, since close frames are alike."""
    half_pixels: float
    """Pixels of a picture that keeps half of what a large one shows."""
    detail_steepness: float
    """How steeply quality rises there, in the logarithm of pixels."""
    temporal: float
    """How steeply it falls with frames a second."""
    least_fps: float
    """Below this nothing of this motion is sent, where more can be had."""


class QualityTable(Frozen):
    """Parameters of the model."""

    basis: str
    viewed_on: PictureSize
    ordinary_delivery: float = 1.0
    """What is left of quality where a platform delivers larger pictures with a better codec."""
    alike: float
    """Differences up to this are none: the band within which choosing costs least on footage that
    was left out of the fit."""
    codec: dict[str, float]
    """Of H.264's bitrate, what each takes for the same look."""
    preset: dict[str, dict[str, float]] = Field(default_factory=dict)
    """The same of each encoder's presets beside the usual one."""
    motion: dict[Motion, MotionParameters]


def half_kbps(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats
) -> Floats:
    """Bitrate in kbit/s at which compression leaves half; arrays of one shape in and out."""
    m = table.motion[motion]
    size = (pixels / REFERENCE_PIXELS) ** m.size_exponent
    return np.asarray(
        m.half_kbps * size * (fps / REFERENCE_FPS) ** m.rate_exponent * table.codec[codec],
        dtype=np.float64,
    )


def clean_kbps(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats
) -> Floats:
    """Bitrate in kbit/s from which on no gain is seen; arrays of one shape in and out.

    There compression leaves so much that the rest looks alike.
    """
    left = (1 - table.alike) / table.alike
    above = left ** (1 / table.motion[motion].steepness)
    return np.asarray(half_kbps(table, motion, codec, pixels, fps) * above, dtype=np.float64)


def _logistic(steepness: float, ratio: Floats) -> Floats:
    """1 / (1 + ratio^-steepness): 0 at 0, a half at 1, towards 1 beyond."""
    with np.errstate(divide="ignore"):
        return np.asarray(1.0 / (1.0 + ratio**-steepness), dtype=np.float64)


def smoothness(table: QualityTable, motion: Motion, fps: Floats) -> Floats:
    """What is left of the impression at so many frames a second, 1 at 60; of the same shape."""
    steep = table.motion[motion].temporal
    rate = np.minimum(1.0, fps / TOP_FPS) ** TEMPORAL_EXPONENT
    return np.asarray(np.expm1(-steep * rate) / np.expm1(-steep), dtype=np.float64)


def quality(
    table: QualityTable,
    motion: Motion,
    codec: str,
    pixels: Floats,
    fps: Floats,
    kbps: Floats,
    seen: Floats | None = None,
    seen_fps: Floats | None = None,
    takes: Floats | None = None,
) -> Floats:
    """Quality in 0..1 of each candidate; arrays of one shape (pixels, frames/s, kbit/s).

    Where a picture is larger than its source, ``seen`` gives the pixels of detail there are, and
    ``seen_fps`` the frames a second that differ where more are sent than it has. ``takes`` is how
    much of the usual bitrate its preset takes for the same look.
    """
    m = table.motion[motion]
    detail = np.minimum(pixels if seen is None else seen, table.viewed_on.pixels)
    half = half_kbps(table, motion, codec, pixels, fps) * (1.0 if takes is None else takes)
    whole = np.asarray(float(table.viewed_on.pixels))
    return (
        _logistic(m.steepness, kbps / half)
        * _logistic(m.detail_steepness, detail / m.half_pixels)
        / _logistic(m.detail_steepness, whole / m.half_pixels)
        * smoothness(table, motion, fps if seen_fps is None else seen_fps)
    )
