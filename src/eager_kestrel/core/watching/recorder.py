"""Record a broadcast as it goes: samples become seconds, verdicts become troubles."""

from __future__ import annotations

from dataclasses import dataclass, field

from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import (
    BroadcastTrouble,
    Cause,
    Now,
    Second,
    Seconds,
    State,
    WatchVerdict,
)
from eager_kestrel.core.watching.verdict import Expected, Judge
from eager_kestrel.core.words import broadcasts as words

OVER_SECONDS = 3.0
"""Of quiet, before a trouble is over."""
MOST_TROUBLES = 500
"""Of one broadcast; a show with more has one trouble."""
SHOWN_TROUBLES = 20
"""Of them while it goes on."""


@dataclass(slots=True)
class _Open:
    """A trouble that is not over."""

    cause: Cause
    at: float
    seen: float
    worst: float = 0.0
    carried: float | None = None
    late_at: float | None = None
    verdict: WatchVerdict = field(default_factory=lambda: WatchVerdict(cause=None, text=""))

    def trouble(self) -> BroadcastTrouble:
        """What is known of it."""
        warned = None if self.late_at is None else round(self.late_at - self.at, 2)
        return BroadcastTrouble(
            cause=self.cause,
            at_seconds=round(self.at, 2),
            lasted_seconds=round(self.seen - self.at, 2),
            worst_queue_seconds=round(self.worst, 2),
            carried_kbps=None if self.carried is None else round(self.carried, 1),
            warned_seconds=warned if self.cause == "upload" else None,
            late=self.late_at is not None,
            text=self.verdict.text,
        )


@dataclass(slots=True)
class Recorder:
    """What is kept of a broadcast, and how it stands."""

    server: str
    platform: str
    judge: Judge
    troubles: list[BroadcastTrouble] = field(default_factory=list)
    _rows: list[Second] = field(default_factory=list)
    _open: _Open | None = None
    _looks: list[tuple[StreamSample, float]] = field(default_factory=list)
    _now: Now | None = None
    _stands: tuple[State, Cause | None, float] = ("fine", None, 0.0)
    """How it stands, whose fault it is, and since when."""

    @classmethod
    def of(cls, server: str, expected: Expected, platform: str = "") -> Recorder:
        """For a stream of which something is expected."""
        return cls(server, platform, Judge(expected))

    def look(self, look: StreamSample) -> Now:
        """Take a look; what it means."""
        verdict = self.judge.told(look)
        waited = self.judge.queued_seconds
        self._trouble(look, verdict, waited)
        self._second(look, waited)
        state = _state(look, verdict)
        if (state, verdict.cause) != self._stands[:2]:
            self._stands = (state, verdict.cause, round(look.seconds, 2))
        steps = self.judge.expected.steps
        step = None if verdict.fallback is None else steps[verdict.fallback].video.text
        self._now = Now(
            server=self.server,
            platform=self.platform,
            seconds=round(look.seconds, 2),
            sent_kbps=round(self.judge.sent_kbps(), 1),
            planned_kbps=self.judge.expected.kbps,
            carried_kbps=round(self.judge.carried_kbps(), 1),
            queued_seconds=round(waited, 3),
            round_trip_ms=look.round_trip_ms,
            min_round_trip_ms=look.min_round_trip_ms,
            resent_bytes=look.resent_bytes,
            cores=None if look.cores is None else round(look.cores, 2),
            memory_mb=None if look.memory_mb is None else round(look.memory_mb, 1),
            fps=None if look.fps is None else round(look.fps, 2),
            frames=look.frames,
            late_frames=look.late_frames,
            lost_frames=look.lost_frames,
            verdict=verdict,
            state=state,
            headline=words.STOPPED
            if state == "stopped"
            else words.headline(
                verdict.cause,
                late=verdict.late,
                late_in_seconds=verdict.late_in_seconds,
                step=step,
            ),
            since_seconds=self._stands[2],
            step=step,
            troubles=self._latest(),
        )
        return self._now

    @property
    def now(self) -> Now | None:
        """How it stood at the last look."""
        return self._now

    @property
    def seconds(self) -> Seconds:
        """Every whole second so far."""
        return Seconds.of(self._rows)

    def program_away(self, since: float, now: float, went: str) -> Now | None:
        """How it stands while the program is not there; None when it never was.

        Args:
            since: seconds, when it was there last.
            now: seconds.
            went: how it went, in words.
        """
        if self._now is None:
            return None
        cause: Cause | None = None if went == words.ENDED_IT else "program"
        verdict = WatchVerdict(cause=cause, text=words.program_away(went, now - since))
        nothing = {"sent_kbps": 0.0, "carried_kbps": 0.0, "queued_seconds": 0.0, "fps": None}
        stands = {"state": "stopped", "headline": words.STOPPED, "since_seconds": round(since, 2)}
        told = {"seconds": round(now, 2), "verdict": verdict, "step": None, **nothing, **stands}
        return self._now.model_copy(update=told)

    def program_gone(self, since: float, until: float, went: str) -> None:
        """The program itself broke off, and is back: nothing was sent meanwhile.

        Args:
            since: seconds, when it was there last.
            until: seconds, now.
            went: how it went, in words.
        """
        if self._open is not None:
            self._close(self._open)
            self._open = None
        empty = Second(sent_kbps=0, carried_kbps=0, queued_ms=0, round_trip_ms=0, cores_percent=0)
        self._rows += [empty] * max(0, int(until) - len(self._rows))
        self._looks.clear()
        self.judge.start_anew()
        text = words.program_back(went, until - since)
        open_ = _Open(
            "program", since, until, late_at=since, verdict=WatchVerdict(cause=None, text=text)
        )
        self._close(open_)

    def over(self, cut_at: float | None = None) -> None:
        """No look follows: what is open ends.

        Args:
            cut_at: seconds from which on nothing was sent any more; they, and what was said of
                them, are left out.
        """
        if self._open is not None and (cut_at is None or self._open.at < cut_at):
            self._close(self._open)
        self._open = None
        if cut_at is not None:
            del self._rows[max(0, round(cut_at)) :]

    def _second(self, look: StreamSample, waited: float) -> None:
        """Rows for the whole seconds that are over; a look late by more repeats what it saw."""
        self._looks.append((look, waited))
        first = self._looks[0][0]
        took = look.seconds - first.seconds
        if look.seconds < len(self._rows) + 1:
            return
        handed = max(0, look.handed_bytes - first.handed_bytes) * 8e-3 / (took or 1.0)
        carried = max(0, look.carried_bytes - first.carried_bytes) * 8e-3 / (took or 1.0)
        row = Second(
            sent_kbps=round(handed),
            carried_kbps=round(carried),
            queued_ms=round(max(wait for _, wait in self._looks) * 1000),
            round_trip_ms=round(look.round_trip_ms or 0),
            cores_percent=round((look.cores or 0) * 100),
        )
        while len(self._rows) + 1 <= look.seconds:
            self._rows.append(row)
        self._looks = [(look, waited)]

    def _trouble(self, look: StreamSample, verdict: WatchVerdict, waited: float) -> None:
        open_ = self._open
        quiet = verdict.cause is None
        if open_ is not None and (
            (quiet and look.seconds - open_.seen > OVER_SECONDS)
            or (not quiet and verdict.cause != open_.cause)
        ):
            self._close(open_)
            open_ = self._open = None
        if quiet or verdict.cause is None:
            return
        if open_ is None:
            open_ = self._open = _Open(verdict.cause, look.seconds, look.seconds, verdict=verdict)
        open_.seen = look.seconds
        if verdict.late and open_.late_at is None:
            open_.late_at = look.seconds
        if _worse(verdict, open_.verdict, open_.carried, waited >= open_.worst):
            open_.verdict = verdict
        if verdict.carried_kbps is not None:
            least = verdict.carried_kbps if open_.carried is None else open_.carried
            open_.carried = min(least, verdict.carried_kbps)
        open_.worst = max(open_.worst, waited)

    def _close(self, open_: _Open) -> None:
        if len(self.troubles) < MOST_TROUBLES:
            self.troubles.append(open_.trouble())

    def _latest(self) -> tuple[BroadcastTrouble, ...]:
        """The last troubles, with the one that is not over."""
        open_ = [] if self._open is None else [self._open.trouble()]
        return (*self.troubles[-SHOWN_TROUBLES:], *open_)


def _state(look: StreamSample, verdict: WatchVerdict) -> State:
    """What a verdict comes to, as a colour shows it."""
    if look.program_ended:
        return "stopped"
    if verdict.cause in (None, "scene"):
        return "fine"
    return "late" if verdict.late else "warned"


def _worse(
    now: WatchVerdict, kept: WatchVerdict, carried_kbps: float | None, deepest: bool
) -> bool:
    """Whether a verdict says the worst of a trouble: late, and the connection at its least."""
    if now.late != kept.late:
        return now.late
    if now.carried_kbps is None:
        return deepest and kept.carried_kbps is None
    return carried_kbps is None or now.carried_kbps <= carried_kbps
