"""Where a stream is relayed to: the destinations that are named, each with its key."""

from __future__ import annotations

import contextlib
import ssl
from dataclasses import dataclass, replace
from pathlib import Path

from eager_kestrel.actions import broadcasts
from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.rehearsing import backups_of, destination_of, stage
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.files.guides import guide_at, guide_names, load_guide
from eager_kestrel.files.keys import Asker, needed_key
from eager_kestrel.files.plans import LATEST
from eager_kestrel.net.addresses import is_ingest
from eager_kestrel.net.publishing import CONNECT_SECONDS, PublishTarget
from eager_kestrel.net.rehearsing import PublishTerms
from eager_kestrel.net.relay import SEND_BUFFER_BYTES, Relay

GONE_SECONDS = 30.0
"""A program whose connection broke and that is not back by then has ended."""


@dataclass(frozen=True, slots=True)
class RelayOptions:
    """What to stand between, and by what to judge it."""

    plan: str = LATEST
    settings: Path | None = None
    platform: str | None = None
    to: tuple[str, ...] = ()
    """Each ``PLATFORM``, ``rtmp://HOST/APP`` or ``PLATFORM=rtmp://HOST/APP``."""
    port: int = 1935
    practice: str | None = None
    """A bundled connection's name, or a rate, for a simulated platform behind a simulated one."""
    max_time: str = "12 h"
    gone_seconds: float = GONE_SECONDS
    context: ssl.SSLContext | None = None


@dataclass
class RelayTarget:
    """One destination the stream is passed on to."""

    meant: broadcasts.ExpectedStream
    onward: Relay
    guide: Guide | None
    writing: broadcasts.BroadcastWriter | None = None


def places_of(
    wish: RelayOptions, ask: Asker | None, stack: contextlib.ExitStack
) -> list[RelayTarget]:
    """Every destination, with its key."""
    plan = broadcasts.plan_meant(wish.plan)
    terms = PublishTerms(
        frame_seconds=1 / 60,
        asked_seconds=0.0,
        context=wish.context,
        timeout_seconds=CONNECT_SECONDS,
        unsent_bytes=SEND_BUFFER_BYTES,
    )
    if wish.practice is not None:
        return [_practice(wish, plan, terms, stack)]
    written = wish.to or ((wish.platform,) if wish.platform else ()) or _only(plan)
    places = []
    for one in written:
        platform, target, meant = _named(one, wish, plan)
        guide = _guide(platform, meant)
        key = needed_key(platform or target.host, ask)
        backups = backups_of(guide, target)
        onward = Relay(target, key, replace(terms, backups=backups))
        places.append(RelayTarget(meant, onward, guide))
    return places


def _only(plan: Plan | None) -> tuple[str, ...]:
    """The plan's destination, where it has one.

    Raises:
        InputError: it has none, or several.
    """
    names = (
        [destination.name for destination in plan.destinations if destination.feasible]
        if plan
        else []
    )
    if len(names) == 1:
        return (names[0],)
    instead = "give --to rtmp://HOST/APP"
    if names:
        instead = f"give --to {' or --to '.join(names)}; several if they share one encode"
    raise InputError("no destination given to pass the stream on to", instead)


def _named(
    written: str, wish: RelayOptions, plan: Plan | None
) -> tuple[str, PublishTarget, broadcasts.ExpectedStream]:
    """What a destination that was named comes to."""
    platform, equals, address = written.partition("=")
    if not equals and is_ingest(written):
        platform, address = wish.platform or _platform_at(written), written
    elif not equals:
        address = _address_of(platform, plan)
    target = PublishTarget.parse(address)
    if wish.settings is not None:
        return platform, target, broadcasts.meant_by_settings(wish.settings, platform)
    known = plan is not None and any(
        platform in (destination.platform, destination.name) and destination.feasible
        for destination in plan.destinations
    )
    return (
        platform,
        target,
        broadcasts.meant_by(plan, platform) if known else broadcasts.ExpectedStream(platform),
    )


def _platform_at(address: str) -> str:
    """The platform whose guide names a host; empty where none does."""
    found = guide_at(PublishTarget.parse(address).host)
    return "" if found is None else found.name


def _address_of(platform: str, plan: Plan | None) -> str:
    """The first ingest server that takes RTMP, as the plan or the guide has it.

    Raises:
        InputError: there is none.
    """
    planned = [
        url
        for destination in (plan.destinations if plan else ())
        if platform in (destination.platform, destination.name)
        for url in destination.servers
    ]
    guide = load_guide(platform.partition(":")[0])
    known = [url for url in (*planned, *guide.addresses) if is_ingest(url)]
    if not known:
        raise InputError(
            f"the guide {guide.name} names no ingest server that takes RTMP",
            f"give --to {platform}=rtmp://HOST/APP",
        )
    return known[0]


def _guide(platform: str, meant: broadcasts.ExpectedStream) -> Guide | None:
    name, _, tier = platform.partition(":")
    if not name or name not in guide_names():
        return None
    destination = meant.destination
    return load_guide(name).under(destination.tier if destination else tier or None)


def _practice(
    wish: RelayOptions, plan: Plan | None, terms: PublishTerms, stack: contextlib.ExitStack
) -> RelayTarget:
    """A simulated platform behind a simulated connection."""
    if plan is None:
        raise InputError("no plan was made yet", "run eager-kestrel plan, or name a plan file")
    assert wish.practice is not None
    destination = destination_of(plan, wish.platform)
    guide = load_guide(destination.platform).under(destination.tier)
    set_up = stack.enter_context(stage(simulated_connection(wish.practice), guide))
    return RelayTarget(
        broadcasts.of_plan(destination), Relay(set_up.target, set_up.key, terms), guide
    )
