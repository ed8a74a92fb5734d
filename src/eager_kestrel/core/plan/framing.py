"""When a platform wants another shape than the source has: crop, pad, or a scene of its own.

Sides are in whole even pixels, since 4:2:0 has no half chroma sample.
"""

from __future__ import annotations

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.picture import Picture


class FrameFit(Frozen):
    """What each way of fitting a source into a picture of another shape costs."""

    crop_width: int
    crop_height: int
    """The part of the source that is kept when it is cropped, in source pixels."""
    kept_share: float
    """Of the source's pixels; the rest is cut away."""
    enlarged: float
    """How much the kept part is blown up, per side; 1 or less loses nothing."""
    pad_width: int
    pad_height: int
    """The part of the sent picture the whole source fills when it is padded."""
    used_share: float
    """Of the sent picture's pixels; the rest is bars."""


def frame_fit(source: Picture, sent: Picture) -> FrameFit | None:
    """How a source fits a picture of another shape; None when the shape is the same."""
    if sent.shape.fits(source):
        return None
    wider = source.width * sent.height > sent.width * source.height
    if wider:
        crop = Picture(_even(source.height * sent.width / sent.height), source.height)
        pad = Picture(sent.width, _even(sent.width * source.height / source.width))
    else:
        crop = Picture(source.width, _even(source.width * sent.height / sent.width))
        pad = Picture(_even(sent.height * source.width / source.height), sent.height)
    return FrameFit(
        crop_width=crop.width,
        crop_height=crop.height,
        kept_share=round(crop.pixels / source.pixels, 4),
        enlarged=round(sent.height / crop.height, 3),
        pad_width=pad.width,
        pad_height=pad.height,
        used_share=round(pad.pixels / sent.pixels, 4),
    )


def _even(side: float) -> int:
    return max(2, int(side) // 2 * 2)
