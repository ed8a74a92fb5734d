"""A destination and what it is planned from, whether it has the line to itself or shares it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.field import CandidatesTable, candidates_table

if TYPE_CHECKING:
    from eager_kestrel.core.choice.budget import Budget
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.rules import Transport
    from eager_kestrel.core.show.show import Destination, Show


@dataclass(frozen=True, slots=True)
class DestinationContext:
    """A destination with the candidates it is planned from."""

    destination: Destination
    guide: Guide
    """With its standing applied."""
    rules: Guide
    """The same; where it shares an encode, what satisfies all that do."""
    field: CandidatesTable
    safe_kbps: float
    """For all copies of the encode."""
    others_kbps: float = 0.0
    """Of the same line, for other encodes."""
    left_out: str | None = None
    """Why it gets nothing."""

    @property
    def transport(self) -> Transport:
        """How it is sent to this destination."""
        return self.guide.transports[0]


def alone(
    destination: Destination, guide: Guide, show: Show, table: QualityTable, waterfall: Budget
) -> DestinationContext:
    """One destination that may use the whole safe rate; its guide with the standing applied."""
    made = candidates_table(show, guide, table, guide.codec(destination.codec))
    field = replace(made, least_quality=destination.least_quality)
    return DestinationContext(destination, guide, guide, field, waterfall.safe_kbps)
