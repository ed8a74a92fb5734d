"""One number in 0..1 for how a picture, frame rate and bitrate look for a kind of motion.

The separable spatial, temporal and amplitude model of Ou, Xue and Wang, "Q-STAR: A Perceptual
Video Quality Model Considering Impact of Spatial, Temporal, and Amplitude Resolutions", IEEE
Trans. Image Processing 23(6), 2014, with the power-law rate model that goes with it inverted, so
that it is a function of bitrate. Parameters come in as a table (``data/quality.toml``).
"""

from __future__ import annotations

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.quantities import PictureSize
from eager_kestrel.core.show.show import Motion

REFERENCE_PIXELS = 1280 * 720
REFERENCE_FPS = 30
TOP_FPS = 60
SPATIAL_EXPONENT = 0.74
"""Q-STAR, equation for the spatial factor."""
TEMPORAL_EXPONENT = 0.63
"""Q-STAR, equation for the temporal factor."""


class MotionParameters(Frozen):
    """How one motion class behaves."""

    clean_kbps: float
    """Bitrate of the reference picture and rate beyond which nothing more is seen, in H.264."""
    size_exponent: float
    """How that bitrate grows with pixels: 1 in proportion, less where larger pictures code better.
    """
    rate_exponent: float
    """How it grows with frames a second: less than 1, since close frames are alike."""
    spatial: float
    """How steeply quality falls with pixels: the higher, the less a smaller picture loses."""
    temporal: float
    """How steeply it falls with frames a second."""
    least_fps: float
    """Below this nothing of this motion is sent, where more can be had."""


class QualityTable(Frozen):
    """Parameters of the model."""

    basis: str
    viewed_on: PictureSize
    amplitude: float
    ordinary_delivery: float = 1.0
    """What is left of quality where a platform delivers larger pictures with a better codec."""
    codec: dict[str, float]
    motion: dict[Motion, MotionParameters]


def clean_kbps(
    table: QualityTable, motion: Motion, codec: str, pixels: Floats, fps: Floats
) -> Floats:
    """Bitrate in kbit/s beyond which nothing more is seen; arrays of one shape in and out."""
    m = table.motion[motion]
    size = (pixels / REFERENCE_PIXELS) ** m.size_exponent
    return np.asarray(
        m.clean_kbps * size * (fps / REFERENCE_FPS) ** m.rate_exponent * table.codec[codec],
        dtype=np.float64,
    )


def _saturating(rate: float, x: Floats) -> Floats:
    """(1 - exp(-rate x)) / (1 - exp(-rate)): 0 at 0, 1 at 1, steep first."""
    return np.asarray(np.expm1(-rate * x) / np.expm1(-rate), dtype=np.float64)


def quality(
    table: QualityTable,
    motion: Motion,
    codec: str,
    pixels: Floats,
    fps: Floats,
    kbps: Floats,
    seen: Floats | None = None,
    seen_fps: Floats | None = None,
) -> Floats:
    """Quality in 0..1 of each candidate; arrays of one shape (pixels, frames/s, kbit/s).

    Where a picture is larger than its source, ``seen`` gives the pixels of detail there are, and
    ``seen_fps`` the frames a second that differ where more are sent than it has.
    """
    m = table.motion[motion]
    amplitude = np.minimum(1.0, kbps / clean_kbps(table, motion, codec, pixels, fps))
    detail = pixels if seen is None else seen
    size = np.minimum(1.0, detail / table.viewed_on.pixels)
    smooth = np.minimum(1.0, (fps if seen_fps is None else seen_fps) / TOP_FPS)
    return (
        _saturating(table.amplitude, amplitude)
        * _saturating(m.spatial, size**SPATIAL_EXPONENT)
        * _saturating(m.temporal, smooth**TEMPORAL_EXPONENT)
    )
