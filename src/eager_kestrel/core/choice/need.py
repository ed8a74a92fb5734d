"""The inverse of a plan: what upload a picture takes.

For each picture and frame rate, the least upload at which a plan for an evenly assumed line chooses
it. Exact: planning from the answer chooses the picture, planning from less does not.
"""

from __future__ import annotations

from typing import Any

from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.choice.field import field_of
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.line.uplink import assumed_uplink
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.plan.alternatives import full_rate_for, safe_rate_for
from eager_kestrel.core.plan.plan import Option
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate

REFERENCE = Bitrate(100_000_000)
"""Any line of the assumed evenness will do to learn how safe rate and upload hang together."""


class Need(Frozen):
    """The upload one picture takes on one platform."""

    platform: str
    standing: str | None
    picture: str
    fps: float
    upload_kbps: float | None
    """The least typical upload; none when no upload makes a plan choose it."""
    gives: Option | None
    """What that upload gives."""
    forced: Option | None = None
    """For a picture no plan chooses: the most that can be made of it when it is set anyway."""
    forced_upload_kbps: float | None = None
    """The upload that takes."""
    better: Option | None = None
    """What a plan chooses with that upload."""


class Needs(Frozen):
    """Answers, in the order asked."""

    format: str = format_name("need")
    needs: tuple[Need, ...]


def need(
    show: Show,
    destination: Destination,
    guide: Guide,
    table: QualityTable,
    pictures: list[Picture] | None = None,
    frame_rate_at_least: float | None = None,
) -> tuple[Need, ...]:
    """What upload pictures take.

    Args:
        show: source, motion, share and reserves.
        destination: where to.
        guide: without any standing applied.
        table: of the quality model.
        pictures: which; all the candidates when none are named.
        frame_rate_at_least: frames a second; any when none is given.
    """
    ruled = guide.under(destination.standing)
    field = field_of(show, ruled, table, ruled.codec(destination.codec))
    waterfall = budget(assumed_uplink(REFERENCE), show.safe_share, show.reserves)
    asked = pictures or sorted({c.picture for c in field.candidates}, key=lambda p: p.pixels)
    found = []
    for picture in asked:
        safe = safe_rate_for(field, picture, frame_rate_at_least or 0.0)
        gives = None
        forced: dict[str, Any] = {}
        if safe is not None:
            weighed = field.at(safe)
            gives = weighed.option(weighed.order()[0])
        elif (most := full_rate_for(field, picture, frame_rate_at_least or 0.0)) is not None:
            safe_forced, option = most
            weighed = field.at(safe_forced)
            forced = {
                "forced": option,
                "forced_upload_kbps": _rounded_up(waterfall.upload_for(safe_forced)),
                "better": weighed.option(weighed.order()[0]),
            }
        found.append(
            Need(
                platform=guide.name,
                standing=destination.standing,
                picture=str(picture),
                fps=frame_rate_at_least or (gives.fps if gives else 0.0),
                upload_kbps=None if safe is None else _rounded_up(waterfall.upload_for(safe)),
                gives=gives,
                **forced,
            )
        )
    return tuple(found)


def _rounded_up(kbps: float) -> float:
    """To a bit a second, so that the safe rate is reached and not just missed."""
    return -(-round(kbps * 1e6) // 1000) / 1000
