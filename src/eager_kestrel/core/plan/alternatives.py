"""Alternatives to a plan: fallbacks, a step up, and offers.

Everything here reads the plan's own :class:`CandidatesTable` at other safe rates, so it cannot
disagree with the plan. Fallbacks are for a show that struggles, or for an encoder that adapts by
itself: each is a complete set of settings that needs about a fifth less.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from math import ceil, inf
from typing import TYPE_CHECKING, Literal

import numpy as np

from eager_kestrel.core.choice.budget import Budget, beside
from eager_kestrel.core.choice.candidates_table import CandidatesTable
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.scored import Option, ScoredCandidates
from eager_kestrel.core.division.answers import Answer, Answers, Served, answers_of
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.plan.plan import DestinationPlan, Fallback, FrameRateTrade, Offer
from eager_kestrel.core.settings.audio import audio_settings
from eager_kestrel.core.settings.table import video_settings
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import rate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


STEP = 0.78
"""Each step down costs about a fifth less."""
MOST_STEPS = 5
LEAST_TRADED = 15
"""Frames a second; nobody would take fewer for sharpness."""
ACCEPTABLE = 0.30
"""Quality below which a step is not worth sending."""


def fallback_at(
    guide: Guide, choices: CandidatesTable, budget: Budget, transport: str, safe_kbps: float
) -> Fallback | None:
    """The full settings at another safe rate; None where nothing is allowed."""
    scored = choices.at(safe_kbps)
    index = scored.chosen
    if index is None:
        return None
    video = video_settings(guide, choices, scored, index)
    carried = video.max_kbps + scored.audio_kbps
    all_copies = float(carried * choices.per_byte[index] + choices.fixed_kbps[index])
    audio = audio_settings(guide, choices.show, scored.audio_kbps)
    extra = overhead(transport, video.frame_rate, audio.sample_rate_hz)
    total = extra.total_kbps(video.max_kbps, audio.bitrate_kbps)
    upload = _tenths(budget.upload_for(all_copies))
    if not _same(choices.at(budget.safe_of(upload)), scored):  # where less audio leaves it more
        upload = _tenths(budget.upload_for(safe_kbps))
    return Fallback(
        video=video,
        audio=audio,
        quality=scored.option(index).quality,
        total_kbps=round(total, 3),
        upload_kbps=upload,
    )


def _tenths(kbps: float) -> float:
    """The next tenth of a kbit/s that is not below."""
    return ceil(kbps * 10 - 1e-6) / 10


def _same(one: ScoredCandidates, other: ScoredCandidates) -> bool:
    """Whether both choose the same settings."""
    if one.chosen is None or one.chosen != other.chosen:
        return False
    at, same_audio = one.chosen, one.audio_kbps == other.audio_kbps
    return same_audio and bool(one.kbps[at] == other.kbps[at])


def fallbacks(
    guide: Guide,
    scored: ScoredCandidates,
    best: int,
    choices: CandidatesTable,
    budget: Budget,
    transport: str,
) -> tuple[Fallback, ...]:
    """Cheaper settings in order; ends where nothing is allowed or worth sending.

    Args:
        guide: with the tier applied.
        best: the candidate that is chosen, of ``weighed``.
        transport: of the destination that is looked at; others may get the same encode.
    """
    found: list[Fallback] = []
    carried = scored.kbps[best] + scored.audio_kbps
    safe = float(carried * choices.per_byte[best] + choices.fixed_kbps[best])
    for _ in range(MOST_STEPS):
        safe *= STEP
        step = fallback_at(guide, choices, budget, transport, safe)
        if step is None or step.quality < ACCEPTABLE:
            break
        if not found or step.total_kbps < found[-1].total_kbps:
            found.append(step)
    return tuple(found)


def other_way(
    kind: Literal["tier", "codec", "machine"],
    name: str,
    now: Option,
    option: Option | None,
    tie: float,
) -> Offer | None:
    """An offer when it is seen to be better."""
    if option is None or not _better(option, now, tie):
        return None
    text = words.other_way(kind, name, option.text, option.quality, now.quality)
    return Offer(kind=kind, needs=name, gives=option, text=text)


def frame_rate_trade(scored: ScoredCandidates, best: int) -> FrameRateTrade | None:
    """The frame rate sent beside twice it, or half of it where there is no faster one."""
    now = scored.candidates[best].frame_rate
    found: dict[Fraction, int] = {}
    for index in np.flatnonzero(scored.allowed):
        rate = scored.candidates[index].frame_rate
        if rate not in found or scored.quality[index] > scored.quality[found[rate]]:
            found[rate] = int(index)
    other = next((found[r] for r in (now * 2, now / 2) if r in found and r >= LEAST_TRADED), None)
    if other is None:
        return None
    return FrameRateTrade(
        resolution=scored.candidates[other].resolution,
        frame_rate=scored.candidates[other].frame_rate,
        sharpness=round(scored.sharpness(best), 4),
        other_sharpness=round(scored.sharpness(other), 4),
    )


MOST_LINE = 3.0
"""Times the safe rate, and what is added to it, up to which more upload is looked at."""
MOST_MORE_KBPS = 12_000.0
FEW = 4
"""Destinations up to which other tiers and codecs of each are planned as well."""


@dataclass(frozen=True)
class OfferSearch:
    """A show on its connection, to be planned again with one thing changed."""

    show: Show
    guides: Sequence[Guide]
    """Of each destination, with its tier applied."""
    table: QualityTable
    budget: Budget

    def with_offers(self, planned: Sequence[DestinationPlan]) -> list[DestinationPlan]:
        """Each destination with what would be better for it."""
        most = MOST_LINE * self.budget.safe_kbps + MOST_MORE_KBPS
        larger = answers_of(self.show, self.guides, self.table, most)
        return [self._offered(m, destination, larger) for m, destination in enumerate(planned)]

    def _offered(self, m: int, destination: DestinationPlan, larger: Answers) -> DestinationPlan:
        if destination.video is None or destination.quality is None:
            return destination
        now = Option(
            resolution=destination.video.resolution,
            frame_rate=destination.video.frame_rate,
            bitrate_kbps=destination.video.bitrate_kbps,
            quality=destination.quality,
            quality_range=destination.quality_range or (destination.quality, destination.quality),
        )
        found: list[Offer | None] = []
        update: dict[str, object] = {}
        upload = self._upload(m, now, larger)
        if upload is not None:
            offer, served = upload
            found.append(offer)
            line = beside(self.budget, served.others_kbps)
            step = fallback_at(
                served.choices.guide, served.choices, line, destination.transport, served.safe_kbps
            )
            if step is not None:
                update["step_up"] = step.model_copy(update={"upload_kbps": offer.upload_kbps})
        if len(self.show.destinations) <= FEW:
            found += self._other_ways(m, now)
        offers = tuple(offer for offer in found if offer is not None)
        return destination.model_copy(update={**update, "offers": offers})

    def _upload(self, m: int, now: Option, larger: Answers) -> tuple[Offer, Served] | None:
        def better(answer: Answer) -> bool:
            destination = answer[m]
            return destination is not None and _better(destination.option, now, self.table.tie)

        most = inf if self.show.cap_kbps is None else self.show.cap_kbps
        found = larger.least(better, self.budget.safe_kbps)
        if found is None or found[0] > most:
            return None
        upload = ceil(self.budget.upload_for(found[0]) * 10) / 10
        destination = larger.at(min(most, self.budget.safe_of(upload)))[m]
        if destination is None or not _better(destination.option, now, self.table.tie):
            return None
        more = max(0.0, upload - self.budget.steps[0].after_kbps)
        text = words.more_upload(more, destination.option.text)
        return Offer(
            kind="upload", needs=rate(more), upload_kbps=upload, gives=destination.option, text=text
        ), destination

    def _other_ways(self, m: int, now: Option) -> list[Offer | None]:
        """Another machine, other tiers of its account, and other codecs it takes."""
        guide, place = self.guides[m], self.show.destinations[m]
        found = []
        if self.show.machine.encoders:
            anywhere = replace(self, show=self.show.model_copy(update={"machine": Machine()}))
            destination = anywhere._again(m, guide, place.codec)
            found.append(other_way("machine", words.ENCODER, now, destination, self.table.tie))
        for tier in guide.ordinary.tiers:
            if tier != guide.tier and guide.under(tier).takes_codec(place.codec):
                destination = self._again(m, guide.under(tier), place.codec)
                found.append(other_way("tier", tier, now, destination, self.table.tie))
        for codec in guide.video.codecs:
            if codec != guide.codec(place.codec):
                destination = self._again(m, guide, codec)
                found.append(other_way("codec", codec, now, destination, self.table.tie))
        return found

    def _again(self, m: int, guide: Guide, codec: str | None) -> Option | None:
        """What the destination would get under another guide or codec."""
        guides = [guide if i == m else g for i, g in enumerate(self.guides)]
        places = tuple(
            place.model_copy(update={"codec": codec}) if i == m else place
            for i, place in enumerate(self.show.destinations)
        )
        show = self.show.model_copy(update={"destinations": places})
        safe = self.budget.safe_kbps
        destination = answers_of(show, guides, self.table, safe).at(safe)[m]
        return None if destination is None else destination.option


def _better(option: Option, now: Option, tie: float) -> bool:
    """Whether it is seen to be better."""
    return option.quality >= now.quality + tie
