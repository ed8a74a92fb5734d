"""Divide one connection among several destinations, and say what else was possible.

The search is in :mod:`eager_kestrel.core.division.groupings`; here its outcome becomes a document.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.choice.refusal import refused
from eager_kestrel.core.division import groupings
from eager_kestrel.core.division.knapsack import Choices, KnapsackTable
from eager_kestrel.core.division.split import Alternative, Group, LeavingOut, RelayOffer, Split, Way
from eager_kestrel.core.guide.rules import Transport
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.choice.budget import Budget
    from eager_kestrel.core.guide.guide import Guide


@dataclass(frozen=True, slots=True)
class DestinationContext:
    """A destination with the candidates it is planned from."""

    destination: Destination
    guide: Guide
    """With its tier applied."""
    rules: Guide
    """The same; where it shares an encode, what satisfies all that do."""
    choices: CandidatesTable
    safe_kbps: float
    """For all copies of the encode."""
    others_kbps: float = 0.0
    """Of the same connection, for other encodes."""
    left_out: str | None = None
    """Why it gets nothing."""

    @property
    def transport(self) -> Transport:
        """How it is sent to this destination."""
        return self.guide.transports[0]


def alone(
    destination: Destination, guide: Guide, show: Show, table: QualityTable, budget: Budget
) -> DestinationContext:
    """One destination that may use the whole safe rate; its guide with the tier applied."""
    made = candidates_table(show, guide, table, guide.codec(destination.codec))
    choices = replace(made, min_quality=destination.min_quality)
    return DestinationContext(destination, guide, guide, choices, budget.safe_kbps)


def fewest_left_out(
    tried: groupings.Groupings,
) -> tuple[groupings.Division | None, groupings.Members]:
    """The best division of all destinations, or of those worth most where not all fit.

    Returns:
        The division, None when not even one fits, and the destinations it leaves out.
    """
    everyone = tuple(range(tried.count))
    whole = tried.best(everyone)
    if whole is not None:
        return whole, ()
    found = [(division, which) for which in _subsets(tried) if (division := tried.best(which))]
    if not found:
        return None, everyone

    def worth(candidate: tuple[groupings.Division, groupings.Members]) -> float:
        served = sum(tried.weights[m] for m in candidate[1])
        return candidate[0].worth + groupings.SERVED_WORTH * served

    division, which = max(found, key=worth)
    return division, tuple(m for m in everyone if m not in which)


def _subsets(tried: groupings.Groupings) -> list[groupings.Members]:
    """Destinations to serve without the rest: all ways where they are few, else the best alone."""
    if tried.count > groupings.ALL_GROUPINGS:
        return [which] if (which := _served_alone(tried)) else []
    everyone = range(tried.count)
    return [w for size in range(tried.count - 1, 0, -1) for w in combinations(everyone, size)]


def _served_alone(tried: groupings.Groupings) -> groupings.Members:
    """Which to serve when each gets an encode of its own and may be left out."""
    table = KnapsackTable(tried.line_cells, tried.machine_cells)
    nothing = Choices(np.zeros(1, np.intp), np.zeros(1, np.intp), np.zeros(1))
    for m in range(tried.count):
        encode = tried.encode((m,))
        if isinstance(encode, str):
            table = table.with_(nothing)
            continue
        own, served = encode.choices, groupings.SERVED_WORTH * tried.weights[m]
        table = table.with_(
            Choices(
                np.concatenate([nothing.cells, own.cells]),
                np.concatenate([nothing.loads, own.loads]),
                np.concatenate([nothing.worth, own.worth + served]),
            )
        )
    return tuple(m for m, choice in enumerate(table.taken()) if choice > 0)


class DividedShow(NamedTuple):
    """The division as a document, and what each destination is planned from."""

    split: Split
    contexts: tuple[DestinationContext, ...]


def divide(show: Show, guides: Sequence[Guide], table: QualityTable, budget: Budget) -> DividedShow:
    """Divide the safe rate among the destinations of a show.

    Raises:
        NotFoundError: a platform does not take the codec that is asked for.
    """
    for guide, destination in zip(guides, show.destinations, strict=True):
        guide.codec(destination.codec)
    tried = groupings.Groupings(show, guides, table, budget.safe_kbps)
    chosen, left_out = chosen_division(tried)
    everyone = tuple(range(tried.count))
    served = tuple(m for m in everyone if m not in left_out)
    because = _left_out_because(tried, budget) if left_out else ""
    groups = _groups(tried, chosen)
    total = sum(group.total_kbps for group in groups)
    alternatives = _alternatives(tried, chosen, served or everyone)
    split = Split(
        way=_way(chosen.grouping) if chosen else "one encode each",
        quality=round(chosen.mean_quality(tried.weights), 4) if chosen else 0.0,
        groups=groups,
        alternatives=alternatives,
        left_out=tuple(show.destinations[m].name for m in left_out),
        left_out_because=because,
        leave_out_first=_leave_out_first(tried, chosen, served),
        unused_kbps=round(budget.safe_kbps - total, 3),
        relay=_relay(tried, served or everyone, total),
        text=_text(tried, chosen, alternatives),
    )
    return DividedShow(split, _places(tried, chosen, groups, because))


def chosen_division(
    tried: groupings.Groupings,
) -> tuple[groupings.Division | None, tuple[int, ...]]:
    """The division that is planned, filled up, and the destinations it leaves out."""
    chosen, left_out = fewest_left_out(tried)
    return None if chosen is None else chosen.filled(tried.safe_kbps, tried.weights), left_out


def _way(grouping: groupings.Grouping) -> Way:
    if all(len(members) == 1 for members in grouping):
        return "one encode each"
    return "one encode for all" if len(grouping) == 1 else "grouped"


def _groups(tried: groupings.Groupings, division: groupings.Division | None) -> tuple[Group, ...]:
    if division is None:
        return ()
    machine = tried.show.machine
    presets = presets_of(tried, division)
    found = []
    for encode, outcome, preset in zip(division.encodes, division.outcomes, presets, strict=True):
        option, codec = outcome.option, encode.candidates.codec
        pixels = option.resolution.pixels * float(option.frame_rate)
        load = machine.load_of(codec, preset, pixels) / machine.share if preset else 0.0
        found.append(
            Group(
                platforms=tuple(tried.show.destinations[m].name for m in encode.members),
                codec=codec,
                resolution=option.resolution,
                frame_rate=option.frame_rate,
                bitrate_kbps=option.bitrate_kbps,
                quality=option.quality,
                total_kbps=outcome.total_kbps,
                machine_share=round(load, 4) if machine.encoders else None,
            )
        )
    return tuple(found)


def presets_of(tried: groupings.Groupings, division: groupings.Division) -> list[str | None]:
    """The slowest presets that the machine holds side by side, of the weightiest first."""
    needs = [
        (encode.candidates.codec, o.option.resolution.pixels * float(o.option.frame_rate))
        for encode, o in zip(division.encodes, division.outcomes, strict=True)
    ]
    weights = [sum(tried.weights[m] for m in encode.members) for encode in division.encodes]
    return tried.show.machine.presets(needs, weights)


def _alternatives(
    tried: groupings.Groupings, chosen: groupings.Division | None, served: groupings.Members
) -> tuple[Alternative, ...]:
    """One encode for all and one each, whatever was chosen; and the grouping, if it was."""
    ways: dict[Way, groupings.Division | str] = {
        "one encode for all": tried.divided((served,)),
        "one encode each": tried.divided(tuple((m,) for m in served)),
    }
    if chosen is not None:
        ways[_way(chosen.grouping)] = chosen
    return tuple(_alternative(tried, way, found) for way, found in ways.items())


def _alternative(
    tried: groupings.Groupings, way: Way, found: groupings.Division | str
) -> Alternative:
    if isinstance(found, str):
        return Alternative(way=way, feasible=False, because=found)
    found = found.filled(tried.safe_kbps, tried.weights)
    groups = _groups(tried, found)
    return Alternative(
        way=way,
        feasible=True,
        quality=round(found.mean_quality(tried.weights), 4),
        total_kbps=round(sum(group.total_kbps for group in groups), 3),
        groups=groups,
    )


def _leave_out_first(
    tried: groupings.Groupings, chosen: groupings.Division | None, served: groupings.Members
) -> tuple[LeavingOut, ...]:
    """For each destination, what the others gain without it; the one that is missed least first."""
    if chosen is None or len(served) < 2:
        return ()
    divisions = {m: d for m in served if (d := _without(tried, chosen, m)) is not None}
    least_missed = sorted(divisions, key=lambda m: -divisions[m].worth)
    return tuple(_leaving_out(tried, chosen, divisions[m], m) for m in least_missed)


def _without(
    tried: groupings.Groupings, chosen: groupings.Division, m: int
) -> groupings.Division | None:
    """The same grouping less one destination."""
    less = tuple(
        rest for members in chosen.grouping if (rest := tuple(i for i in members if i != m))
    )
    division = tried.divided(less)
    if isinstance(division, str):
        return None
    return division.filled(tried.safe_kbps, tried.weights)


def _leaving_out(
    tried: groupings.Groupings, chosen: groupings.Division, division: groupings.Division, m: int
) -> LeavingOut:
    now, then = chosen.mean_quality(tried.weights, m), division.mean_quality(tried.weights)
    freed = _total(tried, chosen) - _total(tried, division)
    others = sum(len(members) for members in division.grouping)
    return LeavingOut(
        platform=tried.show.destinations[m].name,
        frees_kbps=round(freed, 3),
        quality_now=round(now, 4),
        quality_then=round(then, 4),
        text=words.without(tried.guides[m].title, others, (now, then), freed, tried.table.tie),
    )


def _total(tried: groupings.Groupings, division: groupings.Division) -> float:
    return sum(group.total_kbps for group in _groups(tried, division))


def _left_out_because(tried: groupings.Groupings, budget: Budget) -> str:
    """The minimum all of them would take together."""
    least = 0.0
    for m in range(tried.count):
        encode, title = tried.encode((m,)), tried.guides[m].title
        if isinstance(encode, str):
            return words.cannot_have(title, encode)
        if not len(encode.choices):
            made, wish = encode.candidates, tried.show.destinations[m].min_quality
            refusal = refused(encode.guide, made, made.at(tried.safe_kbps), budget, wish)
            if refusal is not None:
                return refusal.text
            continue
        least += encode.outcome(int(encode.choices.cells.argmin())).total_kbps
    return words.together_too_much(least, tried.safe_kbps)


def _relay(
    tried: groupings.Groupings, served: groupings.Members, now_kbps: float
) -> RelayOffer | None:
    """One stream to a relay that passes it on to all, against what is sent now."""
    if len(served) < 2:
        return None
    encode = tried.encode(served)
    if isinstance(encode, str):
        return RelayOffer(possible=False, because=encode, text=words.relay_impossible(encode))
    codec = encode.candidates.codec
    once = candidates_table(
        tried.show, encode.guide, tried.table, codec, encode.guides, relayed=True
    )
    scored = once.at(tried.safe_kbps)
    best = scored.chosen
    if best is None:
        because = words.RELAY_TOO_MUCH
        return RelayOffer(possible=False, because=because, text=words.RELAY_TOO_MUCH_TEXT)
    option = scored.option(best)
    carried = scored.kbps[best] + scored.audio_kbps
    sends = float(carried * once.per_byte[best] + once.fixed_kbps[best])
    saved = now_kbps - sends
    return RelayOffer(
        possible=True,
        sends_kbps=round(sends, 3),
        frees_kbps=round(saved, 3),
        quality=option.quality,
        resolution=option.resolution,
        frame_rate=option.frame_rate,
        bitrate_kbps=option.bitrate_kbps,
        text=words.relay(option.resolution, option.frame_rate, option.quality, saved),
    )


def _quality_by_platform(way: Alternative) -> dict[str, float]:
    return {name: group.quality for group in way.groups for name in group.platforms}


def _text(
    tried: groupings.Groupings,
    chosen: groupings.Division | None,
    alternatives: tuple[Alternative, ...],
) -> str:
    """The choice, and how it differs from the other ways."""
    if chosen is None:
        return words.NOTHING_DIVIDED
    way, mean = _way(chosen.grouping), chosen.mean_quality(tried.weights)
    said = [words.chosen_way(way, mean)]
    now = next(_quality_by_platform(other) for other in alternatives if other.way == way)
    for other in alternatives:
        if other.way == way:
            continue
        if not other.feasible or other.quality is None:
            said.append(words.impossible_way(other.way, other.because))
        else:
            more = len(other.groups) > len(chosen.grouping)
            tie = tried.table.tie
            then = _quality_by_platform(other)
            loss, worst = max((now[name] - then[name], name) for name in now)
            alike = abs(other.quality - mean) <= tie
            said.append(
                words.uneven_way(other.way, worst, then[worst], now[worst])
                if alike and loss > tie and not more
                else words.other_division(other.way, other.quality, mean, tie, more=more)
            )
    return "; ".join(said)


def _places(
    tried: groupings.Groupings,
    chosen: groupings.Division | None,
    groups: tuple[Group, ...],
    because: str,
) -> tuple[DestinationContext, ...]:
    """What each destination is planned from, in the order of the show."""
    total = sum(group.total_kbps for group in groups)
    found: dict[int, DestinationContext] = {}
    if chosen is not None:
        rooms = _rooms(tried, chosen)
        for number, (encode, choice) in enumerate(zip(chosen.encodes, chosen.taken, strict=True)):
            for m in encode.members:
                found[m] = DestinationContext(
                    destination=tried.show.destinations[m],
                    guide=tried.guides[m],
                    rules=encode.guide,
                    choices=replace(encode.at(choice), show=rooms[number]),
                    safe_kbps=chosen.outcomes[number].safe_kbps,
                    others_kbps=round(total - groups[number].total_kbps, 3),
                )
    return tuple(found.get(m) or _nothing(tried, m, because) for m in range(tried.count))


def _rooms(tried: groupings.Groupings, chosen: groupings.Division) -> list[Show]:
    """For each encode the show on what the others leave of the machine."""
    show, machine = tried.show, tried.show.machine
    if not machine.encoders:
        return [show] * len(chosen.encodes)
    loads = [(group.machine_share or 0.0) * machine.share for group in _groups(tried, chosen)]
    left = [machine.share - (sum(loads) - load) for load in loads]
    return [
        show.model_copy(update={"machine": machine.model_copy(update={"share": min(1.0, room)})})
        for room in left
    ]


def _nothing(tried: groupings.Groupings, m: int, because: str) -> DestinationContext:
    """A destination that is left out."""
    context, guide = tried.show.destinations[m], tried.guides[m]
    choices = candidates_table(tried.show, guide, tried.table, guide.codec(context.codec))
    return DestinationContext(context, guide, guide, choices, 0.0, left_out=words.left_out(because))
