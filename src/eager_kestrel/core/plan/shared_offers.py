"""What would be better for one of several destinations: each offer is the whole show planned again.

One destination gains by more upload only if the division gives it some, and by a standing or codec
only if its encode may use it. So nothing is offered but what planning again was seen to give.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.budget import Budget, beside
from eager_kestrel.core.choice.option import Option
from eager_kestrel.core.division.answers import Answer, Answers, Served
from eager_kestrel.core.plan.alternatives import fallback_at, other_way
from eager_kestrel.core.plan.plan import DestinationPlan, Offer
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import rate

if TYPE_CHECKING:
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.show.show import Show

MOST_LINE = 3.0
"""Times the safe rate, and what is added to it, up to which more upload is looked at."""
MOST_MORE_KBPS = 12_000.0
FEW = 4
"""Destinations up to which other standings and codecs of each are planned as well."""


@dataclass(frozen=True)
class OfferSearch:
    """A show on its line, to be planned again with one thing changed."""

    show: Show
    guides: Sequence[Guide]
    """Of each destination, with its standing applied."""
    table: QualityTable
    waterfall: Budget

    def with_offers(self, planned: Sequence[DestinationPlan]) -> list[DestinationPlan]:
        """Each destination with what would be better for it."""
        most = MOST_LINE * self.waterfall.safe_kbps + MOST_MORE_KBPS
        larger = Answers.of(self.show, self.guides, self.table, most)
        return [self._offered(m, there, larger) for m, there in enumerate(planned)]

    def _offered(self, m: int, there: DestinationPlan, larger: Answers) -> DestinationPlan:
        if there.video is None or there.quality is None:
            return there
        now = Option(
            picture=there.video.picture, frame_rate=there.video.frame_rate,
            bitrate_kbps=there.video.bitrate_kbps, quality=there.quality,
            quality_range=there.quality_range or (there.quality, there.quality),
        )  # fmt: skip
        found: list[Offer | None] = []
        update: dict[str, object] = {}
        upload = self._upload(m, now, larger)
        if upload is not None:
            offer, served = upload
            found.append(offer)
            line = beside(self.waterfall, served.others_kbps)
            step = fallback_at(served.field.guide, served.field, line, there.transport,
                               served.safe_kbps)  # fmt: skip
            if step is not None:
                update["step_up"] = step.model_copy(update={"upload_kbps": offer.upload_kbps})
        if len(self.show.destinations) <= FEW:
            found += self._other_ways(m, now)
        offers = tuple(offer for offer in found if offer is not None)
        return there.model_copy(update={**update, "offers": offers})

    def _upload(self, m: int, now: Option, larger: Answers) -> tuple[Offer, Served] | None:
        def better(answer: Answer) -> bool:
            there = answer[m]
            return there is not None and _is_another(there.option, now, self.table.alike)

        found = larger.least(better, self.waterfall.safe_kbps)
        if found is None:
            return None
        upload = ceil(self.waterfall.upload_for(found[0]) * 10) / 10
        there = larger.at(self.waterfall.safe_of(upload))[m]
        if there is None or not _is_another(there.option, now, self.table.alike):
            return None
        more = max(0.0, upload - self.waterfall.steps[0].after_kbps)
        text = words.more_upload(more, there.option.words)
        return Offer(kind="upload", needs=rate(more), upload_kbps=upload, gives=there.option,
                     text=text), there  # fmt: skip

    def _other_ways(self, m: int, now: Option) -> list[Offer | None]:
        """Other standings of its account, and other codecs it takes."""
        guide, place = self.guides[m], self.show.destinations[m]
        found = []
        for standing in guide.ordinary.standings:
            if standing != guide.standing:
                there = self._again(m, guide.under(standing), place.codec)
                found.append(other_way("standing", standing, now, there, self.table.alike))
        for codec in guide.video.codecs:
            if codec != guide.codec(place.codec):
                there = self._again(m, guide, codec)
                found.append(other_way("codec", codec, now, there, self.table.alike))
        return found

    def _again(self, m: int, guide: Guide, codec: str | None) -> Option | None:
        """What the destination would get under another guide or codec."""
        guides = [guide if i == m else g for i, g in enumerate(self.guides)]
        places = tuple(
            place.model_copy(update={"codec": codec}) if i == m else place
            for i, place in enumerate(self.show.destinations)
        )
        show = self.show.model_copy(update={"destinations": places})
        safe = self.waterfall.safe_kbps
        there = Answers.of(show, guides, self.table, safe).at(safe)[m]
        return None if there is None else there.option


def _is_another(option: Option, now: Option, alike: float) -> bool:
    """Whether it is another choice, and seen to be better."""
    same = (option.picture, option.frame_rate) == (now.picture, now.frame_rate)
    return not same and option.quality >= now.quality + alike
