"""Watch a stream that passes through: the program sends to us and we relay it.

The destinations are named, or those of a plan, each with its key; each has a line of its own, and
a broadcast of its own in the history.
"""

from __future__ import annotations

import contextlib
import secrets
import ssl
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from eager_kestrel.actions import broadcasts
from eager_kestrel.actions.practice import simulated_connection
from eager_kestrel.actions.receiving import APP, Reception
from eager_kestrel.actions.rehearsing import backups_of, destination_of, stage
from eager_kestrel.core.checks.findings import Findings, against_plan
from eager_kestrel.core.errors import InputError, NetworkError, NotFoundError, interruptible
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.units import parse_seconds
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.guides import guide_at, guide_names, load_guide
from eager_kestrel.files.keys import LOCAL_VARIABLE, Asker, local_key, needed_key
from eager_kestrel.files.plans import LATEST
from eager_kestrel.net.addresses import is_ingest, wait_for_end
from eager_kestrel.net.publishing import CONNECT_SECONDS, PublishTarget
from eager_kestrel.net.receiving import IngestServer, ReceivedTag
from eager_kestrel.net.rehearsing import PublishTerms
from eager_kestrel.net.relay import SEND_BUFFER_BYTES, Relay, RelayedPacket
from eager_kestrel.wire import flv

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


HOLD_SECONDS = 1.5
"""Queued stream after which the program is slowed down, as the connection itself would do."""
LAST_SECONDS = 10.0
"""That what waits still has to arrive once the program has ended."""
HOLD_BYTES = 131_072
"""Less than this holds nobody up."""
DRAINED_BYTES = 16_384
RESTART_SECONDS = 10.0
"""A program that ended the stream and does not begin again by then has ended it."""
AGAIN_SECONDS = 5.0
"""Between two tries at a platform that has not taken the stream yet."""
JUMP_SECONDS = 60.0
"""A program's clock that is further off has jumped."""
FINDINGS_SECONDS = 10.0
ENDED = "ended"
"""Why a program left that did so by the protocol."""
SWITCH_SECONDS = 0.0005
"""How soon another thread gets its turn: a frame is to be passed on at once."""


@dataclass(frozen=True, slots=True)
class RelayReport:
    """Where programs send to."""

    address: str
    key: str = field(repr=False)
    own: bool
    """Whether the key is kept somewhere; then it is not shown."""
    targets: tuple[str, ...]

    @property
    def shown_key(self) -> str:
        """Itself where nobody knows it yet, else where it is kept."""
        return f"the key from {LOCAL_VARIABLE} or your keyring" if self.own else self.key


def watch_through(
    wish: RelayOptions,
    tell: broadcasts.Tell,
    ask: Asker | None = None,
    ready: Callable[[RelayReport], None] = lambda _: None,
    failed: Callable[[str], None] = lambda _: None,
) -> tuple[broadcasts.KeptBroadcast, ...]:
    """Stand between a program and its platforms until the stream ends; what was seen is kept.

    Args:
        ask: for the key of a platform where none is kept; None when nobody is there.
        failed: told why a platform does not take the stream, when that is so.

    Raises:
        InputError: an address is none, a destination has no settings, or there is no key.
        NetworkError: the port is taken, or no platform took the stream.
        NotFoundError: no program came in time.
    """
    until = time.perf_counter() + parse_seconds(wish.max_time)
    with contextlib.ExitStack() as stack:
        stack.enter_context(_quick_switching())
        targets = places_of(wish, ask, stack)
        known = local_key()
        key = known or secrets.token_hex(6)
        passage = RelaySession(key, targets, tell, failed)
        server = stack.enter_context(IngestServer(passage, wish.port))
        named = tuple(place.onward.target.url for place in targets)
        ready(RelayReport(f"rtmp://127.0.0.1:{server.port}/{APP}", key, known is not None, named))
        return passage.until(until, wish.gone_seconds)


class RelaySession(Reception):
    """A private ingest that passes on what it takes, and writes down how that goes."""

    def __init__(
        self,
        key: str,
        targets: Sequence[RelayTarget],
        tell: broadcasts.Tell,
        failed: Callable[[str], None],
    ) -> None:
        """Wait for a program that knows the key."""
        super().__init__(key, [place.guide for place in targets if place.guide is not None])
        self._places, self._tell, self._failed = targets, tell, failed
        self._failures: dict[str, NetworkError] = {}
        """The last of each platform that has not taken the stream yet, by its address."""
        self._sole = targets[0].onward if len(targets) == 1 else None
        if self._sole is not None:
            self._sole.patient = True
        self._holding = False
        self._usual: float | None = None
        """When pieces come, by their own time, when nothing holds them up."""
        self._handed = 0
        self._judged_at = self._tried_at = time.perf_counter()
        self._left_at: float | None = None
        self._left_why = ""
        self._went = words.DISCONNECTED
        """How the program left last, in words."""
        self._over = threading.Event()
        self.on = False
        """Whether a program is sending."""

    def asked(self, app: str, key: str, address: str) -> str | None:
        """Let the right key in, once a platform takes the stream."""
        refusal = super().asked(app, key, address)
        if refusal is not None:
            return refusal
        self._at_once(self._open_one)
        self._tried_at = time.perf_counter()
        failures = list(self._failures.values())
        if failures and not any(place.onward.connected for place in self._places):
            self._now = None
            return failures[0].what
        for place in self._places:
            if place.writing is not None and self._left_at is not None:
                gone_at = self._left_at - place.writing.began
                place.writing.notes.program_gone(gone_at, place.writing.seconds(), self._went)
            place.writing = place.writing or self._writing(place)
        self.on, self._left_at, self._left_why = True, None, ""
        self._holding, self._usual = False, None
        return None

    def _open_one(self, place: RelayTarget) -> None:
        """Connect to a platform; why it failed is told once, and again when it is another."""
        at = place.onward.target.url
        try:
            place.onward.open()
        except NetworkError as error:
            before = self._failures.get(at)
            self._failures[at] = error
            if before is None or before.what != error.what:
                self._failed(f"{at}: {error.line()}")
        else:
            self._failures.pop(at, None)

    def _open_again(self) -> None:
        """Try for those that did not take the stream when it came, now and then."""
        shut = [place for place in self._places if not place.onward.opened]
        if not shut or time.perf_counter() - self._tried_at < AGAIN_SECONDS:
            return
        self._tried_at = time.perf_counter()
        for place in shut:
            threading.Thread(target=self._open_one, args=(place,), daemon=True).start()

    def _at_once(self, work: Callable[[RelayTarget], None]) -> None:
        """Do something for every place at the same time."""
        threads = [threading.Thread(target=work, args=(place,)) for place in self._places]
        for thread in threads:
            thread.start()
        for thread in threads:
            wait_for_end(thread)

    def arrived(self, piece: ReceivedTag) -> str | None:
        """Pass it on first, then count it."""
        kind = flv.VIDEO if piece.kind == "video" else flv.AUDIO
        self._handed += len(piece.payload)
        frame = piece.kind == "video" and not piece.header
        due = piece.at - self._held_up(piece, frame=frame)
        passed = RelayedPacket(
            kind,
            piece.sent_ms,
            piece.payload,
            piece.header,
            frame,
            frame and piece.keyframe,
            due,
            piece.at,
        )
        for place in self._places:
            place.onward.take(passed)
        why = super().arrived(piece)
        self._hold()
        return why

    def besides(self, kind: int, milliseconds: int, payload: bytes) -> None:
        """Pass on what describes the stream, and what we do not know."""
        super().besides(kind, milliseconds, payload)
        self._handed += len(payload)
        plain = payload[1:] if kind == flv.DATA and payload[:1] == b"\0" else payload
        now = time.perf_counter()
        passed = RelayedPacket(kind, milliseconds, plain, True, False, False, now, now)
        for place in self._places:
            place.onward.take(passed)

    def _held_up(self, piece: ReceivedTag, *, frame: bool) -> float:
        """How late a piece is because we held the program up; it was due so much sooner."""
        behind = piece.at - piece.sent_ms / 1000
        if self._usual is None or not -JUMP_SECONDS < behind - self._usual < JUMP_SECONDS:
            self._usual = behind
        self._usual = min(self._usual, behind)
        if not self._holding:
            return 0.0
        late = behind - self._usual
        drained = self._sole is None or self._sole.queued_bytes < DRAINED_BYTES
        if frame and drained:  # from now on the program is later, and that is how it is
            self._holding, self._usual = False, behind
            if self._now is not None:
                self._now.watch.start_pace_anew()
            return 0.0
        return late

    def _hold(self) -> None:
        """Where there is one destination, hold the program up as its line would.

        So its own counting of frames, and its adapting, work as they do without us.
        """
        only = self._sole
        if only is None or only.queued_bytes <= HOLD_BYTES or self._now is None:
            return
        view = self._now.watch.live()
        most = max(HOLD_BYTES, HOLD_SECONDS * 125 * (view.video_kbps + view.audio_kbps))
        while only.connected and only.queued_bytes > most:
            self._holding = True
            if self._over.wait(0.01):
                return

    def left(self, why: str) -> None:
        """End every connection; the program may come back."""
        self._went = words.ENDED_IT if why == ENDED else words.DISCONNECTED
        self.on, self._left_at = False, time.perf_counter()
        self._at_once(lambda place: place.onward.close(LAST_SECONDS))
        super().left(why)
        self._left_why = why

    def until(self, until: float, gone_seconds: float) -> tuple[broadcasts.KeptBroadcast, ...]:
        """Look until the stream ends.

        Raises:
            NotFoundError: no program came in time.
            NetworkError: one came, and no platform took its stream.
        """
        why = "stopped watching"
        with interruptible():
            while (over := self._why_over(until, gone_seconds)) is None:
                self._looks()
                time.sleep(broadcasts.LOOK_SECONDS)
            why = over
        self._over.set()
        return self._ended(why)

    def _why_over(self, until: float, gone_seconds: float) -> str | None:
        if time.perf_counter() > until:
            return "the time was up"
        if self._left_at is None or not self._left_why:
            return None
        gone = time.perf_counter() - self._left_at
        if self._left_why == ENDED:
            waits = min(RESTART_SECONDS, gone_seconds)
            return f"the program {words.ENDED_IT}" if gone > waits else None
        return f"the program left: {self._left_why}" if gone > gone_seconds else None

    def _ended(self, why: str) -> tuple[broadcasts.KeptBroadcast, ...]:
        """Every broadcast, kept."""
        self._at_once(lambda place: place.onward.close())
        aired = []
        for place in self._places:
            writing = place.writing
            if writing is None:
                continue
            writing.breaches = self._breaches(place)
            seen = place.onward.sample(writing.seconds(), self._handed)
            writing.counts = (seen.frames, seen.late_frames, seen.lost_frames)
            cut = None if self._left_at is None else self._left_at - writing.began
            aired.append(writing.end(why, cut))
        if not aired and self._failures:
            raise next(iter(self._failures.values()))
        if not aired:
            raise NotFoundError("no program connected", "start the stream in your program")
        return tuple(aired)

    def _looks(self) -> None:
        """A look at each destination."""
        if not self.on:
            self._look_away()
            return
        stream = self._now
        view = stream.watch.live() if stream is not None else None
        self._judge()
        self._open_again()
        for place in self._places:
            writing = place.writing
            assert writing is not None
            url = place.onward.server.url
            if place.onward.connected and writing.about.server != url:
                self._failed(words.goes_over(writing.about.server, url))
                writing.about.server = writing.notes.server = url
            sample = place.onward.sample(writing.seconds(), self._handed)
            late = None if view is None or self._holding else view.delay_seconds
            fps = None if view is None else view.fps
            writing.look(replace(sample, media_late_seconds=late, fps=fps))

    def _look_away(self) -> None:
        """Tell of each destination that the program is not there, until it is back."""
        for place in self._places:
            if place.writing is not None and self._left_at is not None:
                since = self._left_at - place.writing.began
                now = place.writing.notes.program_away(since, place.writing.seconds(), self._went)
                if now is not None:
                    self._tell(now)

    def _writing(self, place: RelayTarget) -> broadcasts.BroadcastWriter:
        target = place.onward.target
        return broadcasts.BroadcastWriter(
            broadcasts.About(place.meant, target.url, "", "through", target.host), self._tell
        )

    def _judge(self) -> None:
        """Hold what passed so far against guide and plan, now and then."""
        if time.perf_counter() - self._judged_at < FINDINGS_SECONDS:
            return
        self._judged_at = time.perf_counter()
        found = self.so_far()
        for place in self._places:
            if place.writing is not None and found is not None:
                place.writing.breaches = breaches_of(found, place)

    def _breaches(self, place: RelayTarget) -> tuple[str, ...]:
        """What guide and plan do not have of what passed, in words."""
        found = self.received[-1].findings if self.received else None
        return breaches_of(found, place)


def breaches_of(found: Findings | None, place: RelayTarget) -> tuple[str, ...]:
    """The rules of a guide that are broken, and what differs from the plan, in words."""
    if found is None or found.recording is None:
        return ()
    guide, planned = place.guide, place.meant.destination
    of_guide = [one for one in found.findings if guide is not None and one.platform == guide.name]
    of_plan = against_plan(found.recording, planned) if planned is not None else []
    title = guide.title if guide is not None else ""
    return tuple(
        words.breach(
            title if one in of_guide else "the plan",
            one.rule,
            one.found,
            one.wanted,
            one.what_to_do,
        )
        for one in [*of_guide, *of_plan]
        if one.severity == "breach"
    )


@contextlib.contextmanager
def _quick_switching() -> Iterator[None]:
    """Threads change quickly while the ``with`` block runs."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(SWITCH_SECONDS)
    try:
        yield
    finally:
        sys.setswitchinterval(before)
