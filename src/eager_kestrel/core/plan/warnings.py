"""What a plan cannot promise, each said once: warnings under the card."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.core.plan.encoder_settings import frame_fit
from eager_kestrel.core.resolution import divides_evenly
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import look_word

if TYPE_CHECKING:
    from eager_kestrel.core.connection.uplink import Uplink
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.plan.plan import DestinationPlan, VideoSettings
    from eager_kestrel.core.show.show import Show


LOW = ("bad", "poor")


def plan_warnings(
    show: Show, guides: list[Guide], planned: list[DestinationPlan], uplink: Uplink
) -> tuple[str, ...]:
    """Warnings about the uplink and each destination."""
    found: list[str] = []
    if uplink.basis == "assumed":
        found.append(words.nobody_measured(readings=bool(uplink.runs)))
    elif uplink.basis == "one run":
        found.append(words.ONE_RUN)
    for guide, there in zip(guides, planned, strict=True):
        if there.video is None:
            continue
        found += _misfits(guide, there.video, show)
        if there.quality is not None and look_word(there.quality) in LOW:
            way_out = there.offers[0].text if there.offers else words.NO_OFFER
            found.append(words.low_quality(guide.title, there.quality, way_out))
        transcodes = guide.delivery.transcodes
        if transcodes != "always":
            sometimes = transcodes == "when there is capacity"
            found.append(words.viewers_buffer(guide.title, there.total_kbps, sometimes=sometimes))
    return tuple(dict.fromkeys(found))


def _misfits(guide: Guide, video: VideoSettings, show: Show) -> list[str]:
    """Where the source does not fit what is sent: shape and frame rate."""
    found = []
    fit = frame_fit(show.source, video.resolution)
    if fit is not None:
        found.append(
            words.other_shape(
                guide.title,
                show.source,
                video.resolution,
                video.resolution.shape,
                fit.crop,
                fit.kept_share,
                fit.pad,
                fit.used_share,
            )
        )
    if not divides_evenly(show.frame_rate, video.frame_rate):
        found.append(words.judder(video.frame_rate, show.frame_rate))
    return found
