"""What counts when a line is divided: the policy, apart from the search that follows it.

Worth is the quality of each destination by its weight. Only how weights stand to each other counts:
they are scaled to a mean of 1. Of divisions that look alike the one with the fewest encodes is
taken, since an encode costs the machine.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from eager_kestrel.core.show.show import Destination

SERVED_WORTH = 1.0
"""When not all fit: what serving a destination at all counts, beside its quality."""


def relative_weights(destinations: Sequence[Destination]) -> list[float]:
    """Weights with a mean of 1."""
    mean = sum(place.weight for place in destinations) / len(destinations)
    return [place.weight / mean for place in destinations]


def wanted(grouping: Sequence[Sequence[int]], destinations: Sequence[Destination]) -> bool:
    """Whether a grouping is as the destinations want: an encode of their own, or a shared one."""
    refused = {"own": False, "shared": True, "either": None}
    return all(
        (len(members) == 1) is not refused[destinations[m].encode]
        for members in grouping
        for m in members
    )
