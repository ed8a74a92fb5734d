"""What a sample means: whether the stream arrives, and if not, the cause and what to do.

Queued frames are told apart by where they are queued (docs/watching.md): in the send buffer,
because the upload carries less; in the send buffer while the other end's window is closed, because
the ingest server does not read; before the connection, because the encoder is late. A growing queue
is reported before a frame is late. The lowest queue over a keyframe interval counts, since one
keyframe makes any queue grow for a moment.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field
from itertools import pairwise

from eager_kestrel.core.checks import causes
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import STANDING_SECONDS, WatchVerdict
from eager_kestrel.core.plan.plan import Fallback
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.core.words import broadcasts as words


@dataclass(frozen=True, slots=True)
class Expected:
    """What should be sent; nothing known of it by default."""

    kbps: float | None = None
    """With transport overhead."""
    fps: float | None = None
    keyframe_seconds: float = causes.SPAN_SECONDS
    steps: tuple[Fallback, ...] = ()
    """Steps down, in order."""

    def step(self, carried_kbps: float) -> tuple[int | None, str]:
        """The first step that holds on a line, by number and in words."""
        for number, step in enumerate(self.steps):
            if step.total_kbps <= causes.HOLDS_SHARE * carried_kbps:
                return number, words.step_to(step.video.text)
        return None, words.step_to(None, carried_kbps if carried_kbps > 0 else None)


@dataclass(slots=True)
class Judge:
    """Says what each look means, by the looks of the last half minute."""

    expected: Expected = field(default_factory=Expected)
    _looks: deque[tuple[StreamSample, float]] = field(default_factory=deque)
    """Each with the seconds of stream that waited."""
    _usual: float = 0.0
    """kbit/s when nothing held it up last."""
    _ingest: bool = False
    """Whether what waits is what the ingest server did not take."""
    _stood_at: float = -1e9
    """When a queue stood last."""
    _resumed_at: float = -1e9
    """When the program went on after a pause of its own."""
    _late_at: float | None = None
    """When frames were last late for the connection."""
    _hidden: float = 0.0
    """Seconds of stream that wait inside the program, as far as can be told from outside."""
    _off_plan: bool = False
    """Whether the program's rate was off the plan at the last look."""
    _handed: int = -1
    """Bytes that the program had handed over, at the last look or before ..."""
    _handed_at: float = 0.0
    """... since this look."""
    _began_at: float = 0.0
    """When the connection was made that there is now."""
    _broke_at: float | None = None
    _back_at: float | None = None
    _broke_for: float = 0.0
    _why: str = ""

    def told(self, look: StreamSample) -> WatchVerdict:
        """What a look means; each later than the one before."""
        while self._looks and self._looks[0][0].seconds < look.seconds - causes.KEPT_SECONDS:
            self._looks.popleft()
        self._connection(look)
        self._pause(look)
        self._looks.append((look, self._waited(look)))
        self._stood_at = look.seconds if self.queued_seconds > STANDING_SECONDS else self._stood_at
        return (
            self._of_connection(look)
            or self._of_pause(look)
            or self._halts(look)
            or self._of_queue(look)
            or self._of_program(look)
            or self._fine(look)
        )

    def start_anew(self) -> None:
        """Nothing that was seen before says anything of what comes."""
        self._looks.clear()
        self._late_at, self._ingest, self._hidden = None, False, 0.0
        self._off_plan = False

    @property
    def queued_seconds(self) -> float:
        """Of stream, now."""
        return self._looks[-1][1] if self._looks else 0.0

    def sent_kbps(self, seconds: float = causes.LATELY_SECONDS) -> float:
        """Handed over lately."""
        return causes.rate_of([look for look, _ in self._since(seconds)], "handed_bytes")

    def carried_kbps(self, seconds: float = causes.LATELY_SECONDS) -> float:
        """Taken by the other end lately."""
        return causes.rate_of([look for look, _ in self._since(seconds)], "carried_bytes")

    def usual_kbps(self) -> float:
        """What the program hands over when nothing holds it up."""
        free = [
            (after.handed_bytes - before.handed_bytes) * 8e-3 / (after.seconds - before.seconds)
            for (before, waited), (after, _) in pairwise(self._looks)
            if waited < STANDING_SECONDS
            and before.connected
            and after.seconds > before.seconds
            and causes.closed_share(before, after) < causes.CLOSED_SHARE
        ]
        if len(free) >= causes.FREE_LOOKS:
            self._usual = sum(free) / len(free)
        return self._usual or self.expected.kbps or self.sent_kbps(causes.PROGRAM_SECONDS)

    def _since(self, seconds: float) -> list[tuple[StreamSample, float]]:
        """The looks of the last seconds, with the one before them."""
        kept = list(self._looks)
        if not kept:
            return []
        begins = kept[-1][0].seconds - seconds
        first = next((i for i, (look, _) in enumerate(kept) if look.seconds > begins), 0)
        return kept[max(0, first - 1) :]

    def _connection(self, look: StreamSample) -> None:
        if not look.connected and self._broke_at is None:
            self._broke_at, self._why, self._hidden = look.seconds, look.said, 0.0
        elif look.connected and self._broke_at is not None:
            self._broke_for, self._back_at = look.seconds - self._broke_at, look.seconds
            self._broke_at, self._began_at = None, look.seconds
            self._looks.clear()
        if look.said:
            self._why = look.said

    def _waited(self, look: StreamSample) -> float:
        """Seconds of stream that wait: seen, or reckoned from bytes and from what is held up."""
        if look.queued_seconds is not None:
            return look.queued_seconds
        usual = self.usual_kbps()
        flying = usual * (look.min_round_trip_ms or 0.0) / 8
        waiting = look.queued_bytes + max(0.0, look.unacknowledged_bytes - flying)
        visible = waiting * 8e-3 / usual if usual > 0 else 0.0
        if visible < STANDING_SECONDS or not self._looks:
            self._hidden = 0.0
            return visible
        before, _ = self._looks[-1]
        took = (look.seconds - before.seconds) or 1e-3
        handed = (look.handed_bytes - before.handed_bytes) * 8e-3 / took
        held_up = self._hidden + (1 - handed / usual) * took
        self._hidden = min(max(0.0, held_up), causes.MOST_HIDDEN_SECONDS)
        return visible + self._hidden

    def _of_connection(self, look: StreamSample) -> WatchVerdict | None:
        if self._broke_at is not None:
            gone = look.seconds - self._broke_at
            if look.program_ended:
                return WatchVerdict(cause=None, text=words.PROGRAM_ENDED)
            return WatchVerdict(cause="connection", text=words.broken(gone, self._why), late=True)
        if self._back_at is not None and look.seconds - self._back_at < causes.BACK_SECONDS:
            text = words.back(self._broke_for, self._why)
            return WatchVerdict(cause="connection", text=text, late=True)
        self._back_at = None
        return None

    def _of_pause(self, look: StreamSample) -> WatchVerdict | None:
        """The program sends nothing at all, and nothing waits."""
        quiet = look.seconds - self._handed_at
        if quiet < causes.PAUSE_SECONDS or self.queued_seconds > STANDING_SECONDS:
            return None
        return WatchVerdict(cause="machine", text=words.nothing_comes(quiet), late=True)

    def _pause(self, look: StreamSample) -> None:
        """Note when the program last handed something over; after a pause, rates begin anew."""
        if look.handed_bytes == self._handed:
            return
        for last, queued in list(self._looks)[-1:]:
            quiet = last.seconds - self._handed_at
            if quiet >= causes.PAUSE_SECONDS and queued <= STANDING_SECONDS:
                self.start_anew()
                self._looks.append((last, queued))
                self._resumed_at = look.seconds
        self._handed, self._handed_at = look.handed_bytes, look.seconds

    def _hurries(self) -> WatchVerdict | None:
        """What waits was sent faster than planned, and the connection carries what is planned.

        A program that was held up itself makes up for it so, or its bitrate is not held. Since
        something waits, the connection has carried the plan all along.
        """
        planned, now = self.expected.kbps, self.queued_seconds
        begun = [n for n, (_, wait) in enumerate(self._looks) if wait <= STANDING_SECONDS]
        since = [look for look, _ in list(self._looks)[begun[-1] if begun else 0 :]]
        if planned is None or len(since) < 2:
            return None
        spells = [
            since[n : n + causes.SPELL_LOOKS]
            for n in range(max(1, len(since) - causes.SPELL_LOOKS + 1))
        ]
        carried = [causes.rate_of(spell, "carried_bytes") for spell in spells]
        resumes = (
            since[-1].seconds - self._resumed_at < causes.RESUME_SECONDS
        )  # too short for a rate
        slow = min(carried) < planned or carried[-1] < causes.HURRY_SHARE * planned
        if slow and not resumes:
            return None
        return WatchVerdict(
            cause="program",
            text=words.hurries(now, carried[-1], planned),
            late=now > LATE_SECONDS,
        )

    def _starts(self, look: StreamSample) -> bool:
        """Whether a connection may still be getting up to speed (slow start, RFC 5681)."""
        trip = (look.min_round_trip_ms or look.round_trip_ms or 0.0) / 1000
        return look.seconds - self._began_at < max(
            causes.START_SECONDS, causes.START_ROUND_TRIPS * trip
        )

    def _of_queue(self, look: StreamSample) -> WatchVerdict | None:
        if self._starts(look):
            return None
        lately = self._since(causes.LATELY_SECONDS)
        waited = max(wait for _, wait in lately[-max(1, len(lately) - 1) :])
        now = lately[-1][1]
        if now <= STANDING_SECONDS:
            self._ingest = self._ingest and look.seconds - self._stood_at < causes.AFTER_SECONDS
        elif self._closed() >= causes.CLOSED_SHARE and (
            self.carried_kbps(causes.LATELY_SECONDS / 2) < causes.LITTLE_SHARE * self.usual_kbps()
        ):
            self._ingest = True
            return WatchVerdict(cause="ingest", text=words.not_taken(now), late=now > LATE_SECONDS)
        elif self._ingest:
            return WatchVerdict(
                cause="ingest", text=words.taken_again(now), late=now > LATE_SECONDS
            )
        if now > STANDING_SECONDS and (window := self._small_window(look)) is not None:
            return window
        stalled = causes.stalled_seconds(self._looks, self.usual_kbps())
        if stalled is not None and now > STANDING_SECONDS:
            left = LATE_SECONDS - now
            return WatchVerdict(
                cause="upload",
                text=words.stalls(stalled, left),
                late=left < 0,
                late_in_seconds=max(left, 0.0),
                carried_kbps=self.carried_kbps(stalled),
            )
        if now > LATE_SECONDS or (waited > LATE_SECONDS and now > STANDING_SECONDS):
            return self._hurries() or self._late(now)
        grows = causes.growing(self._looks, self.expected.keyframe_seconds) or causes.rising(
            self._looks
        )
        return None if grows is None else self._hurries() or self._warned(*grows)

    def _late(self, now: float) -> WatchVerdict:
        """More waits than may; it may be on its way down."""
        self._late_at = self._looks[-1][0].seconds
        carried, usual = self.carried_kbps(causes.SPAN_SECONDS), self.usual_kbps()
        if carried > usual and now < max(wait for _, wait in self._since(2 * causes.SPAN_SECONDS)):
            return WatchVerdict(cause="upload", text=words.drains(now), late=True)
        step, said = self.expected.step(carried)
        sent = usual if usual > carried else max(self.expected.kbps or 0.0, carried)
        text = words.late(now, carried, sent, said)  # just begun, little was sent on average
        return WatchVerdict(
            cause="upload", text=text, late=True, fallback=step, carried_kbps=carried
        )

    def _warned(self, slope: float, wait: float, over_seconds: float) -> WatchVerdict:
        """The queue grows, by so much a second."""
        late_in = (LATE_SECONDS - wait) / slope
        carried = self.carried_kbps(over_seconds)
        step, said = self.expected.step(carried)
        return WatchVerdict(
            cause="upload",
            text=words.grows(slope, late_in, said),
            late_in_seconds=round(late_in, 1),
            fallback=step,
            carried_kbps=carried,
        )

    def _closed(self, seconds: float = causes.LATELY_SECONDS / 2) -> float:
        """The share of the last seconds in which the other end's window was closed."""
        seen = [look for look, _ in self._since(seconds)]
        return causes.closed_share(seen[0], seen[-1])

    def _small_window(self, look: StreamSample) -> WatchVerdict | None:
        trip, closed = look.round_trip_ms, self._closed(causes.SPAN_SECONDS)
        if trip is None or not causes.small_window(closed, trip, look.min_round_trip_ms):
            return None
        return WatchVerdict(
            cause="ingest",
            text=words.small_window(self.carried_kbps(causes.SPAN_SECONDS), trip),
            late=self.queued_seconds > LATE_SECONDS,
        )

    def _of_program(self, look: StreamSample) -> WatchVerdict | None:
        late = look.media_late_seconds
        if late is not None and late > causes.MEDIA_LATE_SECONDS:
            return WatchVerdict(cause="machine", text=words.behind(late), late=late > LATE_SECONDS)
        if self._looks[0][0].seconds > look.seconds - causes.PROGRAM_SECONDS:
            return None
        if max(wait for _, wait in self._since(causes.PROGRAM_SECONDS)) > STANDING_SECONDS:
            return None  # what the connection held up is made up for afterwards
        wanted = self.expected.fps
        fps = causes.mean_of([seen.fps for seen, _ in self._since(causes.PROGRAM_SECONDS)])
        if wanted is not None and fps is not None and fps < causes.FPS_SHARE * wanted:
            return WatchVerdict(cause="machine", text=words.few_frames(fps, wanted))
        planned = self.expected.kbps
        until = self._stood_at + causes.AFTER_SECONDS  # it may make up for a queue
        steadily = causes.program_kbps(self._looks, self.expected.keyframe_seconds, until)
        if planned is None or steadily is None or not self._is_off_plan(steadily, planned):
            return None
        if steadily > planned:
            return WatchVerdict(cause="program", text=words.more(steadily, planned))
        seen_frames = look.fps is not None
        text = words.less(steadily, planned, frames_seen=seen_frames)
        return WatchVerdict(cause="scene" if seen_frames else "program", text=text)

    def _halts(self, look: StreamSample) -> WatchVerdict | None:
        """The program hands over nothing again and again, and the connection is done each time."""
        if not self._looks or self._looks[0][0].seconds > look.seconds - causes.PROGRAM_SECONDS:
            return None
        pauses = causes.pauses_of(self._since(causes.PROGRAM_SECONDS))
        if pauses is None or pauses[0] < causes.HALTS_SHARE * causes.PROGRAM_SECONDS:
            return None
        text = words.halts(pauses[0], causes.PROGRAM_SECONDS)
        return WatchVerdict(cause="machine", text=text, late=pauses[1] > LATE_SECONDS)

    def _is_off_plan(self, sent: float, planned: float) -> bool:
        """Whether a rate is off the plan: beginning and ending at different levels."""
        watched = self._looks[-1][0].seconds - self._looks[0][0].seconds
        back = causes.BACK_SHARE if self._off_plan else 0.0
        less = causes.LESS_SHARE + back
        more = (
            causes.MORE_SHARE
            + causes.BUFFER_SECONDS / min(watched, causes.MOST_PROGRAM_SECONDS)
            - back
        )
        self._off_plan = not less * planned <= sent <= more * planned
        return self._off_plan

    def _fine(self, look: StreamSample) -> WatchVerdict:
        """On time, or recovering."""
        if self._late_at is not None and look.seconds - self._late_at < causes.CALM_SECONDS:
            return WatchVerdict(cause="upload", text=words.drained(self.queued_seconds))
        return WatchVerdict(cause=None, text=words.CARRIES)
