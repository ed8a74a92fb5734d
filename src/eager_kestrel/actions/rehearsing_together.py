"""Rehearse all destinations of a plan at the same time over one connection."""

from __future__ import annotations

import contextlib
import secrets
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace

from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.receiving import APP, receive
from eager_kestrel.actions.rehearsing import RehearseOptions, rehearse
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.checks.rehearsal import Rehearsal, Rehearsals
from eager_kestrel.core.errors import InputError, interruptible
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import load_guide
from eager_kestrel.files.keys import Asker, needed_key
from eager_kestrel.net.addresses import result_of
from eager_kestrel.net.publishing import PublishTarget
from eager_kestrel.practice.ingest import Platform
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import PracticeUplink


@dataclass(frozen=True, slots=True)
class RehearsalPart:
    """One destination, and where its stand-in goes."""

    planned: DestinationPlan
    target: PublishTarget
    key: str = field(repr=False)


def feasible(plan: Plan) -> list[DestinationPlan]:
    """The destinations that have settings."""
    return [destination for destination in plan.destinations if destination.feasible]


def parts_at(plan: Plan, written: Sequence[str], ask: Asker | None) -> list[RehearsalPart]:
    """Every destination with its ingest and key.

    Args:
        written: ``PLATFORM=rtmp://HOST/APP`` for each destination that has settings.
        ask: for keys that are kept nowhere; None when nobody is there.

    Raises:
        InputError: one has no address, or an address names none.
    """
    addresses = dict(one.partition("=")[::2] for one in written)
    places = feasible(plan)
    names = [destination.platform for destination in places]
    stray = [name for name in addresses if name not in names]
    if stray:
        raise InputError(f"the plan has no settings for {stray[0]}", f"it has {', '.join(names)}")
    without = [name for name in names if name not in addresses]
    if without:
        raise InputError(
            f"no address for {' and '.join(without)}, which would be left out",
            f"give --to {without[0]}=rtmp://HOST/APP, too, or rehearse one with --for",
        )
    targets = [PublishTarget.parse(addresses[destination.platform]) for destination in places]
    return [
        RehearsalPart(destination, target, needed_key(destination.platform, ask))
        for destination, target in zip(places, targets, strict=True)
    ]


def rehearse_together(
    plan: Plan,
    parts: Sequence[RehearsalPart],
    wish: RehearseOptions,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Rehearsals:
    """Send all stand-ins at once; one report each.

    Raises:
        NetworkError: an ingest cannot be reached or does not answer.
        EndpointError: one refuses.
    """
    stop = threading.Event()
    asked = replace(wish, stop=stop, settle=False)

    def one(number: int) -> Rehearsal:
        part = parts[number]
        told = tell if number == 0 else lambda _: None
        try:
            return rehearse(plan, part.planned, part.target, part.key, asked, told).best
        except BaseException:
            stop.set()  # the others would prove nothing without it
            raise

    with ThreadPoolExecutor(len(parts)) as pool:
        begun = [pool.submit(one, number) for number in range(len(parts))]
        with interruptible() as ctrl_c:
            wait(begun)
        if ctrl_c.stopped:
            stop.set()
        done = tuple(result_of(one) for one in begun)
    held = all(one.verdict.held for one in done)
    return Rehearsals(held=held, together=True, rehearsals=done, settled=plan if held else None)


def rehearse_together_in_practice(
    plan: Plan,
    wish: RehearseOptions,
    connection: str | Bitrate,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Rehearsals:
    """The same at simulated platforms behind one simulated connection."""
    line = simulated_connection(connection)
    places = feasible(plan)
    with contextlib.ExitStack() as stack:
        keys, ports = [], []
        for destination in places:
            guide = load_guide(destination.platform).under(destination.tier)
            key = secrets.token_hex(8)
            taking = receive(key, 0, [guide], None, Platform(guide))
            keys.append(key)
            ports.append(PublishTarget.parse(stack.enter_context(taking)[1]).port)
        relay = PracticeUplink(line, ports[0])
        through = [relay.port, *(relay.also_to(port) for port in ports[1:])]
        stack.enter_context(relay)
        parts = [
            RehearsalPart(destination, PublishTarget("rtmp", LOOPBACK, port, APP), key)
            for destination, port, key in zip(places, through, keys, strict=True)
        ]
        return rehearse_together(plan, parts, wish, tell)
