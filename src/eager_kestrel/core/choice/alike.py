"""Which of several that look alike: differences below what the quality model can tell are none.

Among candidates at the best one's frame rate whose quality is within the table's ``alike`` of the
best, the one is taken that a person would take: the source's own size, since then nothing is
resized; then a picture the guide names; then a customary one; then the better; then fewer pixels.

Where quality is poor the model's curves are steep and everything is near 0, so there the band
narrows in proportion; that also keeps more bitrate from ever choosing a smaller picture.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from math import inf

import numpy as np

from eager_kestrel.core.arrays import Flags, Floats, Indices
from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.picture import Picture, is_customary, nearest_customary

TIE = 1e-9
FULL_BAND_FROM = 0.5
"""Quality from which on the whole band counts."""
OWN, NAMED, CUSTOMARY, ANY = range(4)
"""How a picture recommends itself, the best first."""


def ranks_of(found: Sequence[Candidate], source: Picture, named: Collection[Picture]) -> Indices:
    """How each candidate's picture recommends itself.

    Args:
        found: the candidates.
        source: its picture needs no resizing.
        named: pictures the guides name.
    """

    def rank(picture: Picture) -> int:
        if picture == source:
            return OWN
        if picture in named:
            return NAMED
        return CUSTOMARY if is_customary(picture) else ANY

    return np.array([rank(c.picture) for c in found], dtype=np.intp)


def best_of(kbps: Floats, judged: Floats, allowed: Flags) -> Indices:
    """Index of the best allowed candidate in each row, the cheaper of equals; -1 where none is."""
    rounded = np.where(allowed, np.round(judged / TIE), -1.0)
    tied = allowed & (rounded == rounded.max(axis=1, keepdims=True))
    chosen = np.argmin(np.where(tied, kbps, inf), axis=1)
    return np.where(allowed.any(axis=1), chosen, -1)


def band_of(top: Floats, alike: float) -> Floats:
    """How far below the best quality ``top`` nobody could tell; of the same shape."""
    return np.asarray(alike * np.minimum(1.0, top / FULL_BAND_FROM), dtype=np.float64)


def alike_to(
    best: Indices, judged: Floats, allowed: Flags, fps: Floats, alike: float, least: float = 0.0
) -> Flags:
    """Of each row, the allowed candidates at the best one's frame rate that look like it.

    None of them looks worse than ``least``, where the best does not.
    """
    there = np.maximum(best, 0)
    top = np.take_along_axis(judged, there[:, None], axis=1)
    near = judged >= np.maximum(top - band_of(top, alike), np.minimum(top, least)) - TIE
    return np.asarray(
        allowed & near & (fps == fps[there][:, None]) & (best >= 0)[:, None], dtype=np.bool_
    )


def preferred(kbps: Floats, judged: Floats, near: Flags, ranks: Indices) -> Indices:
    """Index of the one to take among those that look alike in each row; -1 where there is none."""
    rank = np.where(near, ranks, ANY + 1)
    first = near & (rank == rank.min(axis=1, keepdims=True))
    return best_of(kbps, judged, first)


def kinds_of(found: Sequence[Candidate]) -> list[tuple[int, float]]:
    """What a person would call each: lines, to the nearest customary ones, and frames a second."""
    return [(nearest_customary(c.picture.lines), float(c.frame_rate)) for c in found]
