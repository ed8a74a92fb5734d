"""Watch the stream that another program sends, from outside."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from eager_kestrel.actions.broadcasts import (
    LOOK_SECONDS,
    About,
    BroadcastWriter,
    ExpectedStream,
    KeptBroadcast,
    Tell,
    meant_by,
    meant_by_settings,
    plan_meant,
)
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import Now, WatchVerdict
from eager_kestrel.core.connection.run import is_loopback
from eager_kestrel.core.errors import InputError, NotFoundError, interruptible
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.units import parse_seconds
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.guides import load_guide, whole_guides
from eager_kestrel.files.plans import LATEST
from eager_kestrel.net.addresses import PORTS, result_of
from eager_kestrel.net.connections import (
    Connection,
    ConnectionState,
    Diagnostics,
    Program,
    open_connections,
    resolved,
    sees_connections,
    sent_bytes,
)

INGEST_PORTS = frozenset({PORTS["rtmp"]})
"""To which streams go, whatever the host; others only where a guide or somebody names the host."""
SENDING_KBPS = 64.0
"""A connection that sends less is no stream."""
RANK_SECONDS = 1.0
"""How long connections are looked at to see which of them send."""
FIND_SECONDS = 1.0
"""Between two searches."""
EXIT_SECONDS = 0.1
"""Between the end of a program's connection and its own."""
GONE_SECONDS = 30.0
"""A connection that is not back by then has ended ..."""
RESTART_SECONDS = 10.0
"""... and a program that ended and was not started again by then."""


@dataclass(frozen=True, slots=True)
class WatchOptions:
    """Which stream to watch, and by what to judge it."""

    plan: str = LATEST
    settings: Path | None = None
    platform: str | None = None
    to: str | None = None
    """``HOST`` or ``HOST:PORT``."""
    pid: int | None = None
    program: str | None = None
    max_time: str = "12 h"
    gone_seconds: float = GONE_SECONDS


Choose = Callable[[Sequence[Connection]], Connection]
"""Asks a person which of several is meant."""


def watch(
    wish: WatchOptions,
    tell: Tell,
    choose: Choose | None = None,
    found: Callable[[Connection], None] = lambda _: None,
    waiting: Callable[[], None] = lambda: None,
) -> KeptBroadcast:
    """Watch until the stream ends, the time is up, or Ctrl-C; what was seen is kept.

    Args:
        choose: asked when several programs send; None when nobody is there to ask.
        waiting: called while there is none.

    Raises:
        NotFoundError: nothing was sent in time.
        InputError: several are, and nobody is there to choose.
    """
    until = time.perf_counter() + parse_seconds(wish.max_time)
    plan = plan_meant(wish.plan)
    with Diagnostics() as kernel:
        hosts = _hosts(wish, plan)
        seeking = StreamSearch(wish, kernel, hosts)
        connection = seeking.first(until, choose, waiting)
        found(connection)
        meant = _meant(wish, plan, connection, hosts)
        about = About(meant, connection.to, connection.program, "connection", connection.to)
        return Watching(seeking, connection, BroadcastWriter(about, tell), found).until(until)


def _meant(
    wish: WatchOptions, plan: Plan | None, connection: Connection, hosts: dict[str, set[str]]
) -> ExpectedStream:
    """The destination whose ingest the connection goes to, unless it is named."""
    platform = wish.platform
    if platform is None:
        platform = next((name for name, at in hosts.items() if connection.remote[0] in at), None)
    if wish.settings is not None:
        return meant_by_settings(wish.settings, platform)
    known = plan is not None and any(
        platform == destination.platform for destination in plan.destinations
    )
    if wish.platform is not None or known or platform is None:
        return meant_by(plan, platform)
    return ExpectedStream(platform)


def _hosts(wish: WatchOptions, plan: Plan | None) -> dict[str, set[str]]:
    """By platform, the addresses its guide names; the plan's platforms before all others."""
    first = [destination.platform for destination in plan.destinations] if plan is not None else []
    if wish.platform is not None:
        first = [wish.platform.partition(":")[0]]
    known = {name: load_guide(name) for name in first}
    if wish.to is None and wish.pid is None and wish.program is None:
        known |= {g.name: g for g in whole_guides() if g.name not in known}
    with ThreadPoolExecutor(max(1, len(known))) as pool:
        asked = {name: pool.submit(_addresses, guide) for name, guide in known.items()}
        return {name: result_of(answer) for name, answer in asked.items()}


def _addresses(guide: Guide) -> set[str]:
    return resolved({urlsplit(one.url).hostname or "" for one in guide.servers} - {""})


@dataclass(slots=True)
class StreamSearch:
    """Finds the connection that is meant."""

    wish: WatchOptions
    kernel: Diagnostics
    hosts: dict[str, set[str]]

    def first(self, until: float, choose: Choose | None, waiting: Callable[[], None]) -> Connection:
        """The one that is meant, once something is sent.

        Raises:
            NotFoundError: nothing was, in time.
            InputError: several are, and nobody is there to choose.
        """
        while True:
            fitting = self.sending(self.fitting())
            if len(fitting) == 1:
                return fitting[0]
            if fitting and choose is not None:
                return choose(fitting)
            if fitting:
                named = ", ".join(f"--pid {c.pid} ({c.program} to {c.to})" for c in fitting)
                raise InputError("several programs send a stream", f"choose one: {named}")
            if time.perf_counter() > until:
                break
            waiting()
            time.sleep(min(FIND_SECONDS, max(0.0, until - time.perf_counter())))
        raise NotFoundError(
            f"nothing that looks like a stream was sent{self._said()}",
            "start the stream first, or name it with --pid, --program or --to HOST",
        )

    def _said(self) -> str:
        wish = self.wish
        named = [
            said
            for value, said in (
                (wish.pid, f"by process {wish.pid}"),
                (wish.program, f"by {wish.program}"),
                (wish.to, f"to {_host_and_port(wish.to)[0]}"),
            )
            if value is not None
        ]
        return f" {' '.join(named)}" if named else ""

    def fitting(self) -> list[Connection]:
        """Connections that may be the one."""
        wish = self.wish
        host, port = _host_and_port(wish.to)
        destination = None if host is None else resolved([host])
        found = []
        for one in open_connections():
            if wish.pid is not None and one.pid != wish.pid:
                continue
            if wish.program is not None and wish.program.lower() not in one.program.lower():
                continue
            if destination is not None and one.remote[0] not in destination:
                continue
            if port is not None and one.remote[1] != port:
                continue
            named = wish.pid is not None or wish.program is not None or wish.to is not None
            if named or self._ingest(one):
                found.append(one)
        return found

    def _ingest(self, one: Connection) -> bool:
        """Whether it goes where streams go."""
        host, port = one.remote
        return port in INGEST_PORTS or any(host in known for known in self.hosts.values())

    def sending(self, candidates: list[Connection]) -> list[Connection]:
        """Those that send something, looked at for a second."""
        before = {one: self.kernel.standing(one) for one in candidates}
        if not candidates:
            return []
        time.sleep(RANK_SECONDS)
        found = []
        for one, then in before.items():
            now = self.kernel.standing(one)
            if now is None or then is None:
                continue
            gained = now.carried_bytes + now.queued_bytes - then.carried_bytes - then.queued_bytes
            if gained * 8e-3 / RANK_SECONDS >= SENDING_KBPS or now.queued_bytes > 0:
                found.append(one)
        return found

    def again(self, lost: Connection) -> Connection | None:
        """The connection by which a program has come back."""
        known = [one for one in self.fitting() if one.program == lost.program]
        fresh = [one for one in known if one.local != lost.local]
        near = [one for one in fresh if one.remote == lost.remote]
        return next(iter(near or [one for one in fresh if one.remote[1] == lost.remote[1]]), None)


def _host_and_port(written: str | None) -> tuple[str | None, int | None]:
    """``HOST`` or ``HOST:PORT``, of an address, too.

    Raises:
        InputError: it is neither. It is not repeated: it might hold a key.
    """
    if written is None:
        return None, None
    try:
        parts = urlsplit(written if "://" in written else f"//{written}")
        port = parts.port
    except ValueError:
        parts, port = urlsplit(""), None
    if not parts.hostname:
        raise InputError("no host given to watch", "write --to HOST or --to HOST:PORT")
    return parts.hostname, port


@dataclass(slots=True)
class _Counts:
    """Of connections that are over."""

    handed: int = 0
    carried: int = 0
    resent: int = 0
    closed: float = 0.0


@dataclass
class Watching:
    """One program's stream, over all its connections."""

    seeking: StreamSearch
    connection: Connection
    writing: BroadcastWriter
    found: Callable[[Connection], None]
    """Told when the program goes on to another address."""

    def __post_init__(self) -> None:
        """Nothing is counted that was sent before."""
        self._program = Program(self.connection.pid)
        self._before = _Counts()
        self._last: ConnectionState | None = None
        self._gone_at: float | None = None
        first = self.seeking.kernel.standing(self.connection)
        if first is not None:
            sent = first.carried_bytes
            self._before = _Counts(-sent, -sent, -first.resent_bytes, -first.window_closed_seconds)

    def until(self, until: float) -> KeptBroadcast:
        """Look until the stream ends or the time is up."""
        with interruptible() as ctrl_c:
            while True:
                look = self._look()
                if (why := self._over(until)) is not None:
                    break
                self.writing.look(look)
                time.sleep(LOOK_SECONDS)
        return self.writing.end("stopped watching" if ctrl_c.stopped else why, self._gone_at)

    def _over(self, until: float) -> str | None:
        """Why it is over; None when it is not."""
        if time.perf_counter() > until:
            return "the time was up"
        if self._gone_at is None:
            return None
        gone = self.writing.seconds() - self._gone_at
        if not self._program.runs and gone > min(RESTART_SECONDS, self.seeking.wish.gone_seconds):
            return "the program ended"
        if gone > self.seeking.wish.gone_seconds:
            return "the connection was closed and did not come back"
        return None

    def _look(self) -> StreamSample:
        standing = self.seeking.kernel.standing(self.connection)
        if standing is None:
            standing = self._gone()
        if standing is None and self._program.runs:
            time.sleep(EXIT_SECONDS)  # it may be about to end
        before = self._before
        cores, memory = self._program.takes()
        carried = standing.carried_bytes if standing is not None else 0
        queued = standing.queued_bytes if standing is not None else 0
        if standing is not None:
            self._last, self._gone_at = standing, None
        return StreamSample(
            seconds=self.writing.seconds(),
            connected=standing is not None,
            handed_bytes=before.handed + carried + queued,
            carried_bytes=before.carried + carried,
            queued_bytes=0 if standing is None else standing.unsent_bytes,
            unacknowledged_bytes=queued - (standing.unsent_bytes if standing is not None else 0),
            round_trip_ms=None if standing is None else standing.round_trip_ms,
            min_round_trip_ms=None if standing is None else standing.min_round_trip_ms,
            resent_bytes=before.resent + (standing.resent_bytes if standing is not None else 0),
            window_closed_seconds=self._closed(standing),
            cores=cores,
            memory_mb=memory,
            program_ended=standing is None and not self._program.runs,
        )

    def _closed(self, standing: ConnectionState | None) -> float | None:
        """How long the window was closed; a relay on this machine closes it for its line, too."""
        if is_loopback(f"//{self.connection.to}"):
            return None
        return self._before.closed + (standing.window_closed_seconds if standing else 0.0)

    def _gone(self) -> ConnectionState | None:
        """The connection is not there; perhaps the program has made another."""
        if self._last is not None:
            last = self._last
            self._before = _Counts(
                self._before.handed + last.carried_bytes,
                self._before.carried + last.carried_bytes,
                self._before.resent + last.resent_bytes,
                self._before.closed + last.window_closed_seconds,
            )
            self._last = None
        if self._gone_at is None:
            self._gone_at = self.writing.seconds()
        again = self.seeking.again(self.connection)
        if again is None:
            return None
        if again.pid != self.connection.pid:
            self._program = Program(again.pid)
        if again.remote != self.connection.remote:
            self.writing.about.server = again.to
            self.found(again)
        self.connection = again
        return self.seeking.kernel.standing(again)


def watch_interface(wish: WatchOptions, tell: Tell) -> None:
    """Where a system tells no more: what all programs send together, against the plan.

    It says nothing of the connection, and is not kept.
    """
    planned = meant_by(plan_meant(wish.plan), wish.platform).expected.kbps
    began, count = time.perf_counter(), sent_bytes()
    until, at = began + parse_seconds(wish.max_time), began
    with interruptible():
        while time.perf_counter() < until:
            time.sleep(1.0)
            now, sent = time.perf_counter(), sent_bytes()
            tell(_only_a_rate(now - began, (sent - count) * 8e-3 / (now - at), planned))
            at, count = now, sent


def _only_a_rate(seconds: float, kbps: float, planned_kbps: float | None) -> Now:
    """A look that sees nothing else."""
    return Now(
        server="all interfaces",
        seconds=round(seconds, 2),
        sent_kbps=round(kbps, 1),
        planned_kbps=planned_kbps,
        carried_kbps=round(kbps, 1),
        queued_seconds=0.0,
        round_trip_ms=None,
        min_round_trip_ms=None,
        resent_bytes=0,
        cores=None,
        memory_mb=None,
        fps=None,
        frames=None,
        late_frames=None,
        lost_frames=None,
        verdict=WatchVerdict(cause=None, text=words.only_a_rate(kbps)),
        state="fine",
        headline=words.SENDING,
        since_seconds=0.0,
    )


__all__ = ["Choose", "Connection", "WatchOptions", "sees_connections", "watch", "watch_interface"]
