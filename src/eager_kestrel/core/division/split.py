"""The division of a connection among several destinations, as part of a plan."""

from __future__ import annotations

from typing import ClassVar, Literal

from eager_kestrel.core.document import Frozen, Spread
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution

Way = Literal["one encode for all", "one encode each", "grouped"]


class Group(Spread):
    """Destinations that get the same encode."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps",)}

    platforms: tuple[str, ...]
    """Each as ``oxbow`` or ``oxbow:hearth``."""
    codec: str
    resolution: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    quality: float
    total_kbps: float
    """All copies together, with audio and overhead."""
    machine_share: float | None
    """Of what may be used of the machine; none when nothing is known of it."""


class Alternative(Frozen):
    """One way to divide the connection."""

    way: Way
    feasible: bool
    because: str = ""
    """What stands against it: two rules that clash, or what does not fit."""
    quality: float | None = None
    """Mean over the destinations, by weight."""
    total_kbps: float | None = None
    groups: tuple[Group, ...] = ()


class LeavingOut(Frozen):
    """What leaving out one destination would bring the others."""

    platform: str
    frees_kbps: float
    quality_now: float
    """Mean of the others, by weight, with it."""
    quality_then: float
    """The same without it."""
    text: str


class RelayOffer(Spread):
    """Sending once to a relay that sends it on."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps",)}

    possible: bool
    because: str = ""
    """Why not: one stream cannot satisfy all the guides."""
    sends_kbps: float | None = None
    frees_kbps: float | None = None
    """Of what is sent now."""
    quality: float | None = None
    resolution: Resolution | None = None
    frame_rate: FrameRate | None = None
    bitrate_kbps: float | None = None
    text: str


class Split(Frozen):
    """The division chosen, and what was weighed beside it."""

    way: Way
    quality: float
    """Mean over the destinations that are served, by weight."""
    groups: tuple[Group, ...]
    alternatives: tuple[Alternative, ...]
    left_out: tuple[str, ...] = ()
    """Destinations that get nothing, because not all fit."""
    left_out_because: str = ""
    leave_out_first: tuple[LeavingOut, ...] = ()
    """Which to leave out when the connection gets worse, the least loss first."""
    unused_kbps: float
    relay: RelayOffer | None
    text: str
    """The choice and the difference in words."""
