"""A candidate that was weighed, as documents have it."""

from __future__ import annotations

from typing import ClassVar

from eager_kestrel.core.document import Spread
from eager_kestrel.core.picture import Resolution
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.words.numbers import settings


class Option(Spread):
    """A picture at a frame rate, with the bitrate it would get and how that looks."""

    SPREAD: ClassVar = {"picture": ("width", "height"), "frame_rate": ("fps",)}

    picture: Resolution
    frame_rate: FrameRate
    bitrate_kbps: float
    quality: float
    """0..1 by the model in :mod:`eager_kestrel.core.choice.quality`, mean over its scenes."""
    quality_range: tuple[float, float]
    """The 10th and 90th percentile of footage of that kind."""

    @property
    def words(self) -> str:
        """``1920x1080 at 60, 6,000 kbit/s``."""
        return settings(self.picture, self.frame_rate, self.bitrate_kbps)
