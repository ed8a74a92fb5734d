"""How several destinations share one line: the division chosen, the others, and what a relay frees.

The search is in :mod:`eager_kestrel.core.division.groupings`; here its outcome becomes part of a plan.
"""

from __future__ import annotations

from dataclasses import dataclass

from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.field import field_of
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.division.groupings import Division, Encode, Grouping, Groupings, Members
from eager_kestrel.core.division.split import Alternative, Group, LeavingOut, Relay, Split, Way
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import Option
from eager_kestrel.core.plan.planner import Place
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate


@dataclass(frozen=True, slots=True)
class Outcome:
    """The division as a document, and what each destination is planned from."""

    split: Split
    places: tuple[Place, ...]


def divide(show: Show, guides: dict[str, Guide], table: QualityTable, waterfall: Budget) -> Outcome:
    """Divide the safe rate among the destinations of a show.

    Raises:
        NotFoundError: a standing is not known, or a platform does not take its codec.
    """
    ruled = [guides[d.platform].under(d.standing) for d in show.destinations]
    for guide, destination in zip(ruled, show.destinations, strict=True):
        guide.codec(destination.codec)
    tried = Groupings(show, ruled, table, waterfall.safe_kbps)
    chosen, left_out = tried.fewest_left_out()
    everyone = tuple(range(tried.count))
    served = tuple(m for m in everyone if m not in left_out)
    relay = _relay(tried, served or everyone, chosen)
    because = _left_out_because(tried, waterfall) if left_out else ""
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
        unused_kbps=round(waterfall.safe_kbps - total, 3),
        relay=relay,
        text=_text(tried, chosen, alternatives),
    )
    return Outcome(split, _places(tried, guides, chosen, groups, because))


def _way(grouping: Grouping) -> Way:
    if all(len(members) == 1 for members in grouping):
        return "one encode each"
    return "one encode for all" if len(grouping) == 1 else "grouped"


def _option(encode: Encode, choice: int) -> tuple[Option, float]:
    """What a choice comes to, and the total of all its copies in kbit/s."""
    weighed = encode.at(choice).at(float(encode.safe_kbps[choice]))
    best = weighed.order()[0]
    carried = weighed.kbps[best] + weighed.audio_kbps
    total = carried * encode.field.per_byte[best] + encode.field.fixed_kbps[best]
    return weighed.option(best), round(float(total), 3)


def _groups(tried: Groupings, division: Division | None) -> tuple[Group, ...]:
    if division is None:
        return ()
    machine = tried.show.machine
    found = []
    for encode, choice in zip(division.encodes, division.taken, strict=True):
        option, total = _option(encode, choice)
        load = machine.load(encode.field.codec, option.width * option.height * option.fps)
        found.append(
            Group(
                platforms=tuple(tried.show.destinations[m].name for m in encode.members),
                codec=encode.field.codec,
                **option.model_dump(),
                total_kbps=total,
                machine_share=round(load, 4) if machine.encoders else None,
            )
        )
    return tuple(found)


def _alternatives(
    tried: Groupings, chosen: Division | None, served: Members
) -> tuple[Alternative, ...]:
    """One encode for all and one each, whatever was chosen; and the grouping, if it was."""
    ways: dict[Way, Division | str] = {
        "one encode for all": tried.divided((served,)),
        "one encode each": tried.divided(tuple((m,) for m in served)),
    }
    if chosen is not None:
        ways[_way(chosen.grouping)] = chosen
    return tuple(_alternative(tried, way, found) for way, found in ways.items())


def _alternative(tried: Groupings, way: Way, found: Division | str) -> Alternative:
    if isinstance(found, str):
        return Alternative(way=way, feasible=False, because=found)
    groups = _groups(tried, found)
    return Alternative(
        way=way,
        feasible=True,
        quality=round(found.mean_quality(tried.weights), 4),
        total_kbps=round(sum(group.total_kbps for group in groups), 3),
        groups=groups,
    )


def _leave_out_first(
    tried: Groupings, chosen: Division | None, served: Members
) -> tuple[LeavingOut, ...]:
    """For each destination, what the others gain without it; the one that is missed least first."""
    if chosen is None or len(served) < 2:
        return ()
    found = []
    total = sum(group.total_kbps for group in _groups(tried, chosen))
    for m in served:
        less = tuple(
            rest for members in chosen.grouping if (rest := tuple(i for i in members if i != m))
        )
        division = tried.divided(less)
        if isinstance(division, str):
            continue
        place = tried.show.destinations[m]
        now, then = chosen.mean_quality(tried.weights, m), division.mean_quality(tried.weights)
        freed = total - sum(group.total_kbps for group in _groups(tried, division))
        gain = f"lifts the others from quality {now:.2f} to {then:.2f}" if then > now + 0.005 else (
            f"frees {Bitrate.from_kbps(max(0.0, freed))} and does nothing for the others"
        )  # fmt: skip
        entry = LeavingOut(
            platform=place.name,
            frees_kbps=round(freed, 3),
            quality_now=round(now, 4),
            quality_then=round(then, 4),
            text=f"without {tried.guides[m].title}: {gain}",
        )
        found.append((division.worth, entry))
    return tuple(entry for _, entry in sorted(found, key=lambda pair: -pair[0]))


def _left_out_because(tried: Groupings, waterfall: Budget) -> str:
    """How much all of them would take at the least."""
    least = 0.0
    for m in range(tried.count):
        encode = tried.encode((m,))
        if isinstance(encode, str):
            return f"{tried.guides[m].title}: {encode}"
        if not len(encode.choices):
            title = tried.guides[m].title
            return f"{title} takes nothing that fits {_rate(waterfall.safe_kbps)}"
        least += _option(encode, int(encode.choices.cells.argmin()))[1]
    return f"all together take at least {_rate(least)} of the {_rate(waterfall.safe_kbps)} there is"


def _relay(tried: Groupings, served: Members, chosen: Division | None) -> Relay | None:
    """One stream to a relay that passes it on to all."""
    if len(served) < 2:
        return None
    encode = tried.encode(served)
    if isinstance(encode, str):
        why = f"a relay that only passes on cannot serve them all: {encode}"
        return Relay(possible=False, because=encode, text=why)
    codec = encode.field.codec
    once = field_of(tried.show, encode.guide, tried.table, codec, encode.guides, relayed=True)
    weighed = once.at(tried.safe_kbps)
    order = weighed.order()
    if not order:
        return Relay(possible=False, because="nothing fits", text="not even one stream fits")
    option = weighed.option(order[0])
    carried = weighed.kbps[order[0]] + weighed.audio_kbps
    sends = float(carried * once.per_byte[order[0]] + once.fixed_kbps[order[0]])
    now = sum(group.total_kbps for group in _groups(tried, chosen))
    said = f"{option.width}x{option.height} at {option.fps:g} for all"
    saved = now - sends
    text = (
        f"a relay that passes on one stream would give {said} (quality {option.quality:.2f}) and "
        + (f"free {Bitrate.from_kbps(saved)}" if saved > 0 else "take no more than now")
    )
    return Relay(
        possible=True,
        sends_kbps=round(sends, 3),
        frees_kbps=round(saved, 3),
        **option.model_dump(),
        text=text,
    )


def _rate(kbps: float) -> str:
    return Bitrate.from_kbps(kbps).in_kbps()


def _text(tried: Groupings, chosen: Division | None, alternatives: tuple[Alternative, ...]) -> str:
    """The choice, and how it differs from the other ways."""
    if chosen is None:
        return "nothing fits"
    way, mean = _way(chosen.grouping), chosen.mean_quality(tried.weights)
    said = [f"{way}, mean quality {mean:.2f}"]
    for other in alternatives:
        if other.way == way:
            continue
        if not other.feasible or other.quality is None:
            said.append(f"{other.way} is not possible ({other.because})")
        elif abs(other.quality - mean) < 0.005:
            more = "more" if len(other.groups) > len(chosen.grouping) else "fewer"
            said.append(f"{other.way} would look the same with {more} encodes")
        else:
            word = "worse" if other.quality < mean else "better, but not by enough for its encodes"
            said.append(f"{other.way} would be {abs(other.quality - mean):.2f} {word}")
    return "; ".join(said)


def _places(
    tried: Groupings,
    guides: dict[str, Guide],
    chosen: Division | None,
    groups: tuple[Group, ...],
    because: str,
) -> tuple[Place, ...]:
    """What each destination is planned from, in the order of the show."""
    show = tried.show
    total = sum(group.total_kbps for group in groups)
    found: dict[int, Place] = {}
    if chosen is not None:
        for encode, choice, group in zip(chosen.encodes, chosen.taken, groups, strict=True):
            for m in encode.members:
                place = show.destinations[m]
                found[m] = Place(
                    destination=place,
                    guide=guides[place.platform],
                    rules=encode.guide,
                    field=encode.at(choice),
                    safe_kbps=float(encode.safe_kbps[choice]),
                    others_kbps=round(total - group.total_kbps, 3),
                )
    for m, place in enumerate(show.destinations):
        if m not in found:
            guide, ruled = guides[place.platform], tried.guides[m]
            field = field_of(show, ruled, tried.table, ruled.codec(place.codec))
            found[m] = Place(place, guide, ruled, field, 0.0, left_out=f"left out: {because}")
    return tuple(found[m] for m in range(tried.count))
