"""A crop of a frame as a viewer's screen shows it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import av
import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.picture import Resolution

RED, GREEN, BLUE = 0, 1, 2


def crop_of(
    file: Path,
    seconds: float,
    screen: Resolution,
    size: tuple[int, int],
    at: tuple[int, int] | None,
) -> tuple[Floats, tuple[int, int]]:
    """The pixels of a crop at a moment, scaled as a screen of that size shows the whole.

    Args:
        file: of a stretch or an encode of it.
        seconds: since its start.
        screen: what the whole is scaled to.
        size: of the crop, across and down.
        at: its left and top; None for where the picture is busiest.

    Returns:
        Shape (rows, columns, 3), 0..1, and where it was taken.
    """
    with av.open(str(file)) as opened:
        stream: Any = opened.streams.video[0]
        base, last = float(stream.time_base), None
        for frame in opened.decode(stream):
            last = frame
            if frame.pts is not None and frame.pts * base >= seconds - 1e-6:
                break
    assert last is not None
    shown = last.reformat(screen.width, screen.height, "rgb24", interpolation="BICUBIC")
    pixels = shown.to_ndarray().astype(np.float64) / 255
    across, down = min(size[0], screen.width), min(size[1], screen.height)
    left, top = at or _busiest(pixels[..., GREEN], across, down)
    return pixels[top : top + down, left : left + across], (left, top)


def _busiest(luma: Floats, across: int, down: int) -> tuple[int, int]:
    """Where a crop holds most of the picture's edges."""
    edges = np.abs(np.diff(luma[1:], axis=1)) + np.abs(np.diff(luma[:, 1:], axis=0))
    total = np.pad(edges.cumsum(axis=0).cumsum(axis=1), ((1, 0), (1, 0)))
    down, across = min(down, edges.shape[0]), min(across, edges.shape[1])
    sums = total[down:, across:] - total[:-down, across:] - total[down:, :-across]
    sums = sums + total[:-down, :-across]
    top, left = np.unravel_index(int(sums.argmax()), sums.shape)
    return int(left), int(top)
