"""The inverse of a plan: what upload a picture takes.

For each picture and frame rate, the least upload at which a plan for an evenly assumed line chooses
it. Exact: planning from the answer chooses the picture, planning from less does not.
"""

from __future__ import annotations

from typing import Any

from eager_kestrel.core.choice.budget import Budget, budget
from eager_kestrel.core.choice.field import Field, field_of
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.turning_points import full_rate_for, safe_rate_for
from eager_kestrel.core.choice.what_if import Need
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import assumed_uplink
from eager_kestrel.core.picture import Picture, frame_rate_text
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate

REFERENCE = Bitrate(100_000_000)
"""Any line of the assumed evenness will do to learn how safe rate and upload hang together."""


def need(
    show: Show,
    guide: Guide,
    codec: str | None,
    table: QualityTable,
    pictures: list[Picture] | None = None,
    frame_rate_at_least: float | None = None,
) -> tuple[Need, ...]:
    """What upload pictures take.

    Args:
        show: source, motion, share and reserves.
        guide: with its standing applied.
        codec: that is asked for; None leaves it to the guide.
        table: of the quality model.
        pictures: which; all the candidates when none are named.
        frame_rate_at_least: frames a second; any when none is given.
    """
    field = field_of(show, guide, table, guide.codec(codec))
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    asked = pictures or sorted({c.picture for c in field.candidates}, key=lambda p: p.pixels)
    return tuple(
        _needed(field, guide, waterfall, picture, frame_rate_at_least or 0.0) for picture in asked
    )


def _needed(field: Field, guide: Guide, waterfall: Budget, picture: Picture, fps: float) -> Need:
    """The answer for one picture at so many frames a second or more, 0 taking any."""
    safe = safe_rate_for(field, picture, fps)
    gives = None if safe is None else _best(field, safe)
    forced: dict[str, Any] = {}
    if safe is None and (most := full_rate_for(field, picture, fps)) is not None:
        safe_forced, option = most
        forced = {
            "forced": option,
            "forced_upload_kbps": _rounded_up(waterfall.upload_for(safe_forced)),
            "better": _best(field, safe_forced),
        }
    return Need(
        platform=guide.name,
        standing=guide.standing,
        picture=str(picture),
        fps=fps or (float(frame_rate_text(gives.frame_rate)) if gives else 0.0),
        upload_kbps=None if safe is None else _rounded_up(waterfall.upload_for(safe)),
        gives=gives,
        **forced,
    )


def _best(field: Field, safe_kbps: float) -> Option:
    weighed = field.at(safe_kbps)
    return weighed.option(weighed.order()[0])


def _rounded_up(kbps: float) -> float:
    """To a bit a second, so that the safe rate is reached and not just missed."""
    return -(-round(kbps * 1e6) // 1000) / 1000
