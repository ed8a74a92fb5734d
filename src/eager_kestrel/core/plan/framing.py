"""When a platform wants another shape than the source has: crop, pad, or a scene of its own.

Sides are in whole even pixels, since 4:2:0 has no half chroma sample.
"""

from __future__ import annotations

from eager_kestrel.core.picture import Resolution
from eager_kestrel.core.plan.plan import FrameFit


def frame_fit(source: Resolution, sent: Resolution) -> FrameFit | None:
    """How a source fits a picture of another shape; None when the shape is the same."""
    if sent.shape.fits(source):
        return None
    wider = source.width * sent.height > sent.width * source.height
    if wider:
        crop = Resolution(_even(source.height * sent.width / sent.height), source.height)
        pad = Resolution(sent.width, _even(sent.width * source.height / source.width))
    else:
        crop = Resolution(source.width, _even(source.width * sent.height / sent.width))
        pad = Resolution(_even(sent.height * source.width / source.height), sent.height)
    return FrameFit(
        crop=crop,
        kept_share=round(crop.pixels / source.pixels, 4),
        enlarged=round(sent.height / crop.height, 3),
        pad=pad,
        used_share=round(pad.pixels / sent.pixels, 4),
    )


def _even(side: float) -> int:
    return max(2, int(side) // 2 * 2)
