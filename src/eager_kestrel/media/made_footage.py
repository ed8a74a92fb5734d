"""Moving pictures made for measuring encoders: texture that drifts, things that move, grain."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain, cycle
from typing import TYPE_CHECKING, TypeAlias

import av
import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from eager_kestrel.core.picture import Resolution

FRAMES = 24
"""Kept in memory, shown forth and back."""
GRAIN = 3.0
SPREAD = 42.0
DRIFT = (3, 2)
"""Pixels a frame, across and down."""

Samples: TypeAlias = NDArray[np.float32]


def made_frames(
    picture: Resolution, pixel_format: str = "yuv420p", seed: int = 5
) -> list[av.VideoFrame]:
    """So many frames of one scene, ready to encode; shown forth and back they never jump."""
    rng = np.random.default_rng(seed)
    down, across = FRAMES * DRIFT[1], FRAMES * DRIFT[0]
    height, width = picture.height, picture.width
    back = _texture(rng, height + down, width + across)
    front = _texture(rng, height // 3, width // 4)
    grain = (GRAIN * rng.standard_normal((height + 64, width + 64))).astype(np.float32)
    colour = _texture(rng, height // 2, width // 2) / 3 + 85
    frames = []
    for number in range(FRAMES):
        luma = back[number * DRIFT[1] :, number * DRIFT[0] :][:height, :width].copy()
        top, left = (number * 5) % (height // 2), (number * 11) % (width // 2)
        luma[top : top + front.shape[0], left : left + front.shape[1]] = front
        y, x = rng.integers(0, 64, 2)
        luma += grain[y : y + height, x : x + width]
        chroma: Samples = np.roll(colour, number, axis=1)
        planes: list[Samples] = [luma.ravel(), chroma.ravel(), (255 - chroma).ravel()]
        whole = np.clip(np.concatenate(planes), 16, 235).astype(np.uint8)
        frame = av.VideoFrame.from_ndarray(whole.reshape(-1, width), format="yuv420p")
        frames.append(frame if pixel_format == "yuv420p" else frame.reformat(format=pixel_format))
    return frames


def endless(frames: list[av.VideoFrame]) -> Iterator[av.VideoFrame]:
    """The frames forth and back without end."""
    return cycle(chain(frames, frames[-2:0:-1]))


def _texture(rng: np.random.Generator, height: int, width: int) -> Samples:
    """Noise whose amplitude falls with frequency, as in natural pictures.

    Field, J. Opt. Soc. Am. A 4, 1987.
    """
    down, across = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None, :]
    fall = 1 / np.maximum(np.hypot(down, across), 1 / max(height, width))
    phase = np.exp(2j * np.pi * rng.random(fall.shape))
    made = np.fft.irfft2(fall * phase, (height, width))
    made *= SPREAD / made.std()
    return np.asarray(made + 120, dtype=np.float32)
