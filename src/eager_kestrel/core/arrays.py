"""Names for arrays. ``numpy.typing`` is slow to import, so only type checkers do."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeAlias

import numpy as np

if TYPE_CHECKING:
    import numpy.typing as npt

    Floats: TypeAlias = npt.NDArray[np.float64]
    Flags: TypeAlias = npt.NDArray[np.bool_]
    Indices: TypeAlias = npt.NDArray[np.intp]
else:
    Floats = Flags = Indices = np.ndarray
