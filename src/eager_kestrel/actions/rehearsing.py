"""Rehearse a plan: send a stand-in stream, reach a verdict, find settings that hold.

One destination, or all of a plan at the same time over one connection.
"""

from __future__ import annotations

import contextlib
import secrets
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from pathlib import Path

from eager_kestrel.actions.bitrate_search import BitrateSearch, again_of
from eager_kestrel.actions.checking import settings_from
from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.receiving import APP, Reception, receive
from eager_kestrel.actions.shows import destination
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.checks.rehearsal import Rehearsal, Rehearsals, rehearsal_of
from eager_kestrel.core.errors import InputError, UnitError, interruptible
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import DestinationPlan, Fallback, Plan
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate, DataSize, parse_seconds
from eager_kestrel.files.guides import guide_named, load_guide
from eager_kestrel.files.keys import Asker, needed_key
from eager_kestrel.files.plans import read_plan
from eager_kestrel.media.stand_in import StandIn
from eager_kestrel.net.addresses import is_ingest, result_of
from eager_kestrel.net.publishing import CONNECT_SECONDS, SEND_BUFFER_BYTES, PublishTarget
from eager_kestrel.net.rehearsing import FIRST_WAIT, PublishTerms, rehearse_once
from eager_kestrel.practice.ingest import Misbehaviour, Platform
from eager_kestrel.practice.servers import LOOPBACK
from eager_kestrel.practice.uplink import PracticeUplink, SimulatedConnection

QUIET = Misbehaviour()
LEAST_SECONDS, MOST_SECONDS = 1.0, 86_400.0
LEAST_UNSENT, MOST_UNSENT = 4096, 64 * 2**20
BETWEEN_SECONDS = 1.0
"""Between two rehearsals, for queues to drain."""


@dataclass(frozen=True, slots=True)
class RehearseOptions:
    """How to rehearse."""

    seconds: float = 30.0
    settle: bool = False
    """Whether to close in on the most that holds."""
    slowed_ms: float = 0.0
    """Added to each frame's encoding, to see what a slow machine does."""
    timeout_seconds: float = CONNECT_SECONDS
    first_wait_seconds: float = FIRST_WAIT
    context: ssl.SSLContext | None = None
    unsent_bytes: int = SEND_BUFFER_BYTES
    """That may sit in the system's send buffer."""
    stop: threading.Event | None = None


def rehearse_options(seconds: str, unsent: str, *, settle: bool) -> RehearseOptions:
    """How to rehearse, as written.

    Raises:
        UnitError: one of them cannot be read, or is out of range.
    """
    asked = parse_seconds(seconds, bare=True)
    bytes_ = DataSize.parse(unsent).bytes
    if not LEAST_SECONDS <= asked <= MOST_SECONDS:
        raise UnitError(f"{asked:g} s is not a valid rehearsal time", "write 1 s to 24 h")
    if not LEAST_UNSENT <= bytes_ <= MOST_UNSENT:
        raise UnitError(f'"{unsent}" is not a send buffer', "write 4 KiB to 64 MiB")
    return RehearseOptions(seconds=asked, settle=settle, unsent_bytes=bytes_)


def destination_of(plan: Plan, platform: str | None) -> DestinationPlan:
    """The destination to rehearse: the one named, or the first with settings.

    Raises:
        InputError: it is not in the plan, or has no settings.
    """
    fitting = [d for d in plan.destinations if platform in (None, d.platform, d.name)]
    chosen = next((d for d in fitting if d.feasible), None)
    if chosen is None:
        names = ", ".join(d.platform for d in plan.destinations if d.feasible)
        if not names:
            raise InputError("the plan has no settings for any platform", "make one that has")
        raise InputError(f"the plan has no settings for {platform}", f"choose from {names}")
    return chosen


def rehearse(
    plan: Plan,
    chosen: DestinationPlan,
    target: PublishTarget,
    key: str,
    wish: RehearseOptions,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Rehearsals:
    """Send a stand-in as planned; with ``settle``, close in on the most that holds.

    Raises:
        NetworkError: the ingest cannot be reached or does not answer.
        EndpointError: it refuses.
        InputError: this machine has no encoder for it.
    """
    if chosen.video is None or chosen.audio is None:
        raise InputError(f"the plan has no settings for {chosen.title}", "plan again")
    now = Fallback(
        video=chosen.video,
        audio=chosen.audio,
        quality=chosen.quality or 0.0,
        total_kbps=chosen.total_kbps,
        upload_kbps=0.0,
    )
    settling = BitrateSearch((now, *chosen.fallbacks), again_of(plan, chosen))
    step: Fallback | None = now
    while step is not None:
        settling.noted(step, _once(chosen, step, target, key, wish, tell))
        step = settling.next() if wish.settle else None
        if step is not None:
            time.sleep(BETWEEN_SECONDS)
    done = tuple(seen for _, seen in settling.tried)
    held = settling.held
    return Rehearsals(
        held=held is not None,
        together=False,
        rehearsals=done,
        settled=None if held is None else _settled(plan, chosen, held),
    )


def _below(chosen: DestinationPlan, step: Fallback) -> tuple[Fallback, ...]:
    return tuple(s for s in chosen.fallbacks if s.total_kbps < step.total_kbps)


def _once(
    chosen: DestinationPlan,
    step: Fallback,
    target: PublishTarget,
    key: str,
    wish: RehearseOptions,
    tell: Callable[[StreamSample], None],
) -> Rehearsal:
    stand_in = StandIn(step.video, step.audio, wish.slowed_ms)
    guide = load_guide(chosen.platform) if guide_named(chosen.platform) else None
    try:
        sent = rehearse_once(
            target,
            key,
            stand_in.steps(),
            PublishTerms(
                frame_seconds=float(1 / step.video.frame_rate),
                asked_seconds=wish.seconds,
                context=wish.context,
                timeout_seconds=wish.timeout_seconds,
                first_wait_seconds=wish.first_wait_seconds,
                unsent_bytes=wish.unsent_bytes,
                stop=wish.stop,
                backups=backups_of(guide, target),
            ),
            tell,
        )
    finally:
        stand_in.close()
    return rehearsal_of(
        sent,
        step,
        _below(chosen, step),
        server=target.url,
        platform=chosen.platform,
        asked_seconds=wish.seconds,
    )


def backups_of(guide: Guide | None, target: PublishTarget) -> tuple[PublishTarget, ...]:
    """The servers to use, in this order, when the target cannot be reached."""
    spare = () if guide is None else guide.backups_of(target.url)
    return tuple(PublishTarget.parse(url) for url in spare if is_ingest(url))


def _settled(plan: Plan, chosen: DestinationPlan, step: Fallback) -> Plan:
    """The plan with the step that held in place of what was planned."""
    there = chosen.model_copy(
        update={
            "video": step.video,
            "audio": step.audio,
            "quality": step.quality,
            "total_kbps": step.total_kbps,
            "fallbacks": _below(chosen, step),
        }
    )
    places = tuple(there if d is chosen else d for d in plan.destinations)
    total = round(sum(d.total_kbps for d in places), 3)
    return plan.model_copy(update={"destinations": places, "total_kbps": total})


def rehearse_at(
    plan: Plan,
    chosen: DestinationPlan,
    url: str,
    wish: RehearseOptions,
    ask: Callable[[str], str] | None = None,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Rehearsals:
    """Rehearse at an ingest; the key is looked up only once the address is known to be one.

    Args:
        url: where to, without key.
        ask: for the key of a platform, where none is kept; None when nobody is there.

    Raises:
        InputError: the address is none, or there is no key.
        NetworkError: the ingest cannot be reached or does not answer.
        EndpointError: it refuses.
    """
    target = PublishTarget.parse(url)
    key = needed_key(chosen.platform, ask)
    return rehearse(plan, chosen, target, key, wish, tell)


def rehearse_in_practice(
    plan: Plan,
    chosen: DestinationPlan,
    wish: RehearseOptions,
    connection: str | Bitrate,
    tell: Callable[[StreamSample], None] = lambda _: None,
) -> Rehearsals:
    """Rehearse at a simulated platform behind a simulated connection."""
    line = simulated_connection(connection)
    guide = load_guide(chosen.platform).under(chosen.tier)
    with stage(line, guide) as there:
        return rehearse(plan, chosen, there.target, there.key, wish, tell)


@dataclass(frozen=True, slots=True)
class Stage:
    """A simulated platform behind a simulated connection."""

    target: PublishTarget
    key: str
    taking: Reception


@contextlib.contextmanager
def stage(
    line: SimulatedConnection,
    guide: Guide,
    trouble: Misbehaviour = QUIET,
    record_to: Path | None = None,
) -> Iterator[Stage]:
    """Run a simulated platform behind a simulated connection, for the ``with`` block."""
    key = secrets.token_hex(8)
    with (
        receive(key, 0, [guide], record_to, Platform(guide, trouble)) as (taking, url),
        PracticeUplink(line, PublishTarget.parse(url).port) as relay,
    ):
        yield Stage(PublishTarget("rtmp", LOOPBACK, relay.port, APP), key, taking)


ROOM = 2.0
"""Times what is set: an upload that leaves a plan room for it."""


def plan_or_settings(name: str, platform: str | None) -> Plan:
    """A plan's file, ``latest``, or a settings file as ``plan --out x.toml`` writes it.

    Raises:
        InputError: settings come without a platform, or say too little to be sent.
        FormatError: the file is neither.
    """
    if not name.endswith(".toml"):
        return read_plan(name)
    if platform is None:
        raise InputError("no platform given for these settings", "give --for PLATFORM")
    found = settings_from(Path(name), {}, platform)
    video = found.video
    if video.resolution is None or video.frame_rate is None or video.bitrate is None:
        raise InputError(
            "these settings are incomplete",
            "give at least resolution, frame_rate and bitrate",
        )
    show = Show(
        source=video.resolution,
        shape=video.resolution.shape,
        source_fps=video.frame_rate,
        motion="lively",
        destinations=(destination(platform),),
    )
    upload = Bitrate.from_kbps(ROOM * video.bitrate.kbps + 1000)
    made = plan(show, uplink_from_number(str(upload))).plan
    (there,) = made.destinations
    return made.model_copy(update={"destinations": (_as_set(there, found),)})


def _as_set(there: DestinationPlan, found: Settings) -> DestinationPlan:
    """A destination with what is set in place of what was planned."""
    if there.video is None or there.audio is None:
        raise InputError(f"no settings at all go to {there.title}", there.infeasible_because)
    said, heard = found.video, found.audio
    rate = said.frame_rate or there.video.frame_rate
    kbps = said.bitrate.kbps if said.bitrate is not None else there.video.bitrate_kbps
    update: dict[str, object] = {
        "resolution": said.resolution,
        "frame_rate": rate,
        "bitrate_kbps": kbps,
        "peak_kbps": None if said.peak is None else said.peak.kbps,
        "codec": said.codec,
        "profile": said.profile,
        "level": said.level,
        "b_frames": said.b_frames,
        "rate_control": said.rate_control,
        "buffer_kbit": said.buffer_kbit or kbps,
    }
    if said.keyframes is not None and not said.keyframes.automatic:
        frames = said.keyframes.frames or round((said.keyframes.seconds or 0) * rate)
        update |= {"keyframe_frames": frames, "keyframe_seconds": float(frames / rate)}
    video = there.video.model_copy(update={k: v for k, v in update.items() if v is not None})
    spoken = {
        "codec": heard.codec,
        "sample_rate_hz": heard.sample_rate_hz,
        "channels": heard.channels,
        "bitrate_kbps": None if heard.bitrate is None else heard.bitrate.kbps,
    }
    audio = there.audio.model_copy(update={k: v for k, v in spoken.items() if v is not None})
    total = there.total_kbps - there.video.max_kbps - there.audio.bitrate_kbps
    total = round(total + video.max_kbps + audio.bitrate_kbps, 3)
    below = tuple(step for step in there.fallbacks if step.total_kbps < total)
    return there.model_copy(
        update={"video": video, "audio": audio, "total_kbps": total, "fallbacks": below}
    )


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
