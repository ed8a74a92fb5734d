"""Advice: the nearest settings that satisfy every rule at once, and what each finding takes of it.

Proposals are tried from near to far, and each is held against the very rules it is to satisfy, so
that following one piece of advice cannot break another rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import product
from math import inf
from operator import attrgetter
from typing import TYPE_CHECKING

from eager_kestrel.core.document import Frozen
from eager_kestrel.core.resolution import divides_evenly
from eager_kestrel.core.settings.bitrate import sent_kbps
from eager_kestrel.core.settings.frame_rate import nearest_rates
from eager_kestrel.core.settings.resolution import nearest_resolutions
from eager_kestrel.core.settings.setting import PICTURE, Finding, Held, RuleResult
from eager_kestrel.core.settings.table import SETTINGS, judged
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.words import settings as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

Pair = tuple[Settings, "Guide"]
NOTHING_LOST = 1e-3


class Advice(Frozen):
    """What to set for some platforms."""

    platforms: tuple[str, ...]
    """``oxbow`` or ``oxbow:hearth``: they get one stream."""
    settings: Settings
    """Everything, what is right already included."""
    changes: dict[str, str]
    """What is to be set anew, in words."""
    unmet: tuple[str, ...] = ()
    """Rules that no settings meet together with all others."""
    unmet_fields: tuple[str, ...] = ()
    """What they are about: keys of a settings file."""


def advise(pairs: Sequence[Pair], safe_kbps: float | None) -> tuple[Advice, ...]:
    """The nearest settings for each of several streams, all within what may be sent.

    Settings that go to several platforms stay one stream where one can satisfy them all.
    """
    streams: list[tuple[Settings, list[Guide]]] = []
    for settings, guide in pairs:
        same = next((guides for known, guides in streams if known == settings), None)
        if same is None:
            streams.append((settings, [guide]))
        else:
            same.append(guide)
    sent = [sum(sent_kbps(settings, g) or 0.0 for g in guides) for settings, guides in streams]
    room = inf if safe_kbps is None else safe_kbps
    shares = [kbps * min(1.0, room / sum(sent)) if sum(sent) else 0.0 for kbps in sent]
    found: list[Advice] = []
    left = room - sum(shares)
    for (settings, guides), share in zip(streams, shares, strict=True):
        left += share
        advice = _for_stream(settings, guides, left)
        left -= sum(sent_kbps(one.settings, g) or 0.0 for one, g in advice)
        found += {one.platforms: one for one, _ in advice}.values()
    return tuple(found)


def _for_stream(
    settings: Settings, guides: Sequence[Guide], room_kbps: float
) -> list[tuple[Advice, Guide]]:
    """One advice for all guides; one each where none satisfies them all."""
    together = _nearest(settings, guides, room_kbps)
    if not together.unmet or len(guides) == 1:
        return [(together, guide) for guide in guides]
    known: dict[tuple[int, float], Advice] = {}

    def nearest(n: int) -> Advice:
        if (n, each[n]) not in known:
            known[n, each[n]] = _nearest(settings, [guides[n]], each[n])
        return known[n, each[n]]

    each = [room_kbps / len(guides)] * len(guides)
    for at in range(len(guides)):  # what one leaves is for the others
        used = [sent_kbps(nearest(n).settings, guide) for n, guide in enumerate(guides)]
        each[at] = room_kbps - sum(kbps or 0.0 for n, kbps in enumerate(used) if n != at)
    return [(nearest(n), guide) for n, guide in enumerate(guides)]


def with_advice(found: Iterable[Finding], advice: Sequence[Advice]) -> tuple[Finding, ...]:
    """Findings with what to do; every line speaks of the same settings."""
    return tuple(
        one
        if one.severity == "fine" or one.what_to_do
        else one.model_copy(update={"what_to_do": _do(one, advice)})
        for one in found
    )


def _do(finding: Finding, advice: Sequence[Advice]) -> str:
    mine = [one for one in advice if finding.label in one.platforms] or advice
    texts: dict[str, str] = {}
    for one in mine:
        changes = [one.changes[key] for key in finding.fields if key in one.changes]
        if not changes and {*finding.fields} & {*one.unmet_fields}:
            return words.UNMET
        if one.changes:
            names = " and ".join(one.platforms)
            texts[names] = words.set_these(changes or [*one.changes.values()])
    if len(texts) < 2:
        return next(iter(texts.values()), words.UNMET)
    return "; ".join(f"{name}: {what}" for name, what in texts.items())


def _nearest(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> Advice:
    """The first proposal that breaks nothing, or the one that breaks least."""
    best: tuple[tuple[int, int], Settings, list[RuleResult]] | None = None
    for proposal in _proposals(settings, guides, room_kbps):
        trouble = _trouble(proposal, guides, room_kbps)
        broken = sum(each.severity == "breach" for each in trouble)
        rank = (broken, len(trouble) - broken)
        if best is None or rank < best[0]:
            best = rank, proposal, trouble
        if rank == (0, 0):
            break
    assert best is not None
    _, proposal, unmet = best
    hopeless = dict.fromkeys(key for each in unmet for key in each.fields)
    changes = _changes(settings, proposal)
    return Advice(
        platforms=tuple(guide.label for guide in guides),
        settings=proposal,
        changes={key: text for key, text in changes.items() if key not in hopeless},
        unmet=tuple(each.rule for each in unmet),
        unmet_fields=tuple(hopeless),
    )


def _trouble(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> list[RuleResult]:
    results = (each for guide in guides for each in judged(Held(settings), guide))
    found = [each for each in results if each.severity != "fine"]
    if sum(sent_kbps(settings, guide) or 0.0 for guide in guides) > room_kbps + NOTHING_LOST:
        found.append(RuleResult("safe rate", "breach", "", "", fields=PICTURE))
    return sorted(found, key=lambda each: each.severity)


def _proposals(settings: Settings, guides: Sequence[Guide], room_kbps: float) -> Iterator[Settings]:
    """Complete settings, from near to far: each setting of the table at its nearest."""
    for setting in SETTINGS:
        if not setting.follows:
            settings = setting.instead(settings, guides, room_kbps)
    source = settings.source_fps
    sizes = nearest_resolutions(settings.video.resolution, guides)
    rates = nearest_rates(settings.video.frame_rate, source, guides)
    ordered = sorted(product(sizes, rates), key=lambda pair: pair[0][0] + pair[1][0])
    for (_, resolution), (_, rate) in ordered:
        even = source
        if source is not None and rate is not None and not divides_evenly(source, rate):
            even = rate
        proposal = settings.with_video(resolution=resolution, frame_rate=rate)
        proposal = proposal.model_copy(update={"source_fps": even})
        for setting in SETTINGS:
            if setting.follows:
                proposal = setting.instead(proposal, guides, room_kbps)
        yield proposal


def _changes(before: Settings, after: Settings) -> dict[str, str]:
    found = {
        key: words.said(key, value)
        for key in words.SET
        if (value := attrgetter(key)(after)) is not None and value != attrgetter(key)(before)
    }
    interval, rate = after.video.keyframes, after.video.frame_rate
    if "video.keyframes" in found and interval and interval.seconds and rate:
        found["video.keyframes"] += words.in_frames(round(interval.seconds * rate))
    return found
