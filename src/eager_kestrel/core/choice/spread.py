"""How far footage of a kind may lie from the mean over its scenes.

A kind's scenes are a small sample of what is streamed. The quality of other footage of that kind is
expected between the 10th and the 90th percentile of Student's predictive distribution for one more
observation (W. S. Gosset, "The Probable Error of a Mean", Biometrika 6, 1908), taken in logits so
that it stays between 0 and 1.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats

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
