"""What other rates would bring: steps down and up, offers, and the upload a picture takes.

All of it reads the same :class:`eager_kestrel.core.choose.Field` at other safe rates, so nothing
here can disagree with the plan. Steps down are for a show that struggles, or for an encoder that
adapts by itself: each is a complete set of settings about a fifth cheaper.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Self

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.choice.budget import Budget
from eager_kestrel.core.choice.field import Field, Weighed, field_of
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.plan.card import audio_at, settings_at
from eager_kestrel.core.plan.plan import Fallback, Offer, Option
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate

STEP = 0.78
"""Each step down costs about a fifth less."""
MOST_STEPS = 5
ACCEPTABLE = 0.25
"""Quality below which a step is not worth sending."""
GRID_KBPS = 10.0
LOOK_AHEAD = 128
"""Grid points weighed at a time in search of the next choice."""
BETTER = 0.005
"""A gain in quality smaller than this is no offer."""


@dataclass(frozen=True, slots=True)
class Standpoint:
    """A chosen candidate, from which other rates are looked at."""

    guide: Guide
    """With the standing applied."""
    field: Field
    weighed: Weighed
    best: int
    budget: Budget
    transport: str
    """Of the destination that is looked at; others may get the same encode."""
    following: tuple[float, int] | None
    """The least higher safe rate that chooses another candidate, and which."""

    @classmethod
    def of(
        cls,
        guide: Guide,
        field: Field,
        weighed: Weighed,
        best: int,
        budget: Budget,
        transport: str,
    ) -> Self:
        """With the next choice above found."""
        following = _next(field, best, budget.safe_kbps)
        return cls(guide, field, weighed, best, budget, transport, following)


def _fallback(stand: Standpoint, safe_kbps: float) -> Fallback | None:
    """The full settings at another safe rate; None where nothing is allowed."""
    weighed = stand.field.at(safe_kbps)
    order = weighed.order()
    if not order:
        return None
    index = order[0]
    video = settings_at(stand.guide, stand.field, weighed, index)
    carried = video.most_kbps + weighed.audio_kbps
    all_copies = float(carried * stand.field.per_byte[index] + stand.field.fixed_kbps[index])
    audio = audio_at(stand.guide, stand.field.show, weighed.audio_kbps)
    extra = overhead(stand.transport, Fraction(video.frame_rate), audio.sample_rate_hz)
    total = extra.total_kbps(video.most_kbps, audio.bitrate_kbps)
    return Fallback(
        video=video,
        audio=audio,
        quality=weighed.option(index).quality,
        total_kbps=round(total, 3),
        upload_kbps=round(stand.budget.upload_for(all_copies), 1),
    )


def steps_down(stand: Standpoint) -> tuple[Fallback, ...]:
    """Cheaper settings in order; ends where nothing is allowed or worth sending."""
    found: list[Fallback] = []
    now, field = stand.best, stand.field
    carried = stand.weighed.kbps[now] + stand.weighed.audio_kbps
    safe = float(carried * field.per_byte[now] + field.fixed_kbps[now])
    for _ in range(MOST_STEPS):
        safe *= STEP
        step = _fallback(stand, safe)
        if step is None or step.quality < ACCEPTABLE:
            break
        if not found or step.total_kbps < found[-1].total_kbps:
            found.append(step)
    return tuple(found)


def _grid(field: Field, from_kbps: float = 0.0) -> Floats:
    """Safe rates up to where no candidate gains any more."""
    if not field.candidates:
        return np.empty(0)
    most = field.rules_kbps.min(axis=0).max() * field.per_byte.max() + field.fixed_kbps.max()
    top = most + field.audio_steps[-1] * (field.per_byte.max() + 20) + GRID_KBPS
    begin = np.floor(from_kbps / GRID_KBPS) * GRID_KBPS + GRID_KBPS
    return np.arange(begin, max(top, begin) + GRID_KBPS, GRID_KBPS)


def _next(field: Field, best: int, safe_kbps: float) -> tuple[float, int] | None:
    """The least safe rate above this one that chooses another candidate, and which."""
    for part in np.array_split(grid := _grid(field, safe_kbps), max(1, grid.size // LOOK_AHEAD)):
        chosen = field.best(part)
        other = np.flatnonzero((chosen != best) & (chosen >= 0))
        if other.size:
            return float(part[other[0]]), int(chosen[other[0]])
    return None


def step_up(stand: Standpoint) -> Fallback | None:
    """The settings that a little more upload would choose; None when none would change them."""
    return None if stand.following is None else _fallback(stand, stand.following[0])


def offers(
    stand: Standpoint, destination: Destination, guide: Guide, show: Show, table: QualityTable
) -> tuple[Offer, ...]:
    """What more upload, another standing or another codec would bring.

    Args:
        stand: the present choice.
        destination: it is for.
        guide: without any standing applied.
        show: what is streamed.
        table: of the quality model.
    """
    found = [_more_upload(stand)]
    if stand.field.copies > 1:  # another standing of one changes nothing for the rest
        return tuple(offer for offer in found if offer is not None)
    now = stand.weighed.option(stand.best)
    for standing in guide.standings:
        if standing != destination.standing:
            ruled = guide.under(standing)
            option = _elsewhere(stand, ruled, show, table, ruled.codec(destination.codec))
            found.append(_offer("standing", standing, now, option))
    for codec in stand.guide.video.codecs:
        if codec != stand.field.codec:
            option = _elsewhere(stand, stand.guide, show, table, codec)
            found.append(_offer("codec", codec, now, option))
    return tuple(offer for offer in found if offer is not None)


def _elsewhere(
    stand: Standpoint, guide: Guide, show: Show, table: QualityTable, codec: str
) -> Option | None:
    weighed = field_of(show, guide, table, guide.codec(codec)).at(stand.budget.safe_kbps)
    order = weighed.order()
    return weighed.option(order[0]) if order else None


def _said(option: Option) -> str:
    rate = Bitrate.from_kbps(option.bitrate_kbps).in_kbps()
    return f"{option.width}x{option.height} at {option.fps:g}, {rate}"


def _more_upload(stand: Standpoint) -> Offer | None:
    if stand.following is None:
        return None
    safe, index = stand.following
    option = stand.field.at(safe).option(index)
    upload = stand.budget.upload_for(safe)
    more = Bitrate.from_kbps(max(0.0, upload - stand.budget.steps[0].after_kbps))
    return Offer(
        kind="upload",
        needs=str(more),
        upload_kbps=round(upload, 1),
        gives=option,
        text=f"another {more} of upload would give {_said(option)}",
    )


def _offer(kind: str, name: str, now: Option, option: Option | None) -> Offer | None:
    """An offer when it is seen to be better."""
    if option is None or option.quality < now.quality + BETTER:
        return None
    words = {"standing": f"the {name} standing would allow", "codec": f"{name} would give"}
    text = f"{words[kind]} {_said(option)} (quality {option.quality:.2f}, not {now.quality:.2f})"
    if kind == "standing":
        return Offer(kind="standing", needs=name, gives=option, text=text)
    return Offer(kind="codec", needs=name, gives=option, text=text)


def safe_rate_for(field: Field, picture: Picture, frame_rate_at_least: float) -> float | None:
    """The least safe rate, on a grid of 10 kbit/s, at which a plan chooses this picture.

    Args:
        field: the candidates.
        picture: exactly this one.
        frame_rate_at_least: at this many frames a second or more.

    Returns:
        kbit/s of everything sent; None when no rate chooses it.
    """
    wanted = _indices(field, picture, frame_rate_at_least)
    safe = _grid(field)
    hits = np.flatnonzero(np.isin(field.best(safe), wanted)) if safe.size else np.empty(0)
    return float(safe[int(hits[0])]) if hits.size else None


def full_rate_for(
    field: Field, picture: Picture, frame_rate_at_least: float
) -> tuple[float, Option] | None:
    """The least safe rate at which a picture is as good as it gets, and what it is then.

    For pictures that are allowed but never the best; None when it is not even allowed.
    """
    wanted = _indices(field, picture, frame_rate_at_least)
    safe = _grid(field)
    if not wanted or not safe.size:
        return None
    _, judged, allowed = field.weigh(safe)
    worth = np.where(allowed[:, wanted], judged[:, wanted], -1.0)
    row, column = np.unravel_index(int(worth.argmax()), worth.shape)
    if worth[row, column] < 0:
        return None
    return float(safe[row]), field.at(float(safe[row])).option(wanted[int(column)])


def _indices(field: Field, picture: Picture, frame_rate_at_least: float) -> list[int]:
    return [
        index
        for index, c in enumerate(field.candidates)
        if c.picture == picture and float(c.frame_rate) >= frame_rate_at_least - 1e-9
    ]
