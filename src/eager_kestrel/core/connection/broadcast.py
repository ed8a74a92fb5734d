"""A broadcast: one live show as it was watched, second by second, and how it stands meanwhile.

Each second holds what the program sent, what the other end received, and how much was queued. If
nothing was queued, the upload carried at least what was sent. If something was, it carried exactly
what arrived. So a broadcast gives lower bounds of the upload, and real dips.
"""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import model_validator

from eager_kestrel.core.document import Frozen, Kept, Moment, format_name
from eager_kestrel.core.stutter import LATE_SECONDS

Cause = Literal["upload", "ingest", "machine", "scene", "program", "connection"]
"""What caused a trouble: the upload carries less; the ingest server does not read; this machine
does not encode in time; the scene needs less; the program sends less, or more, than planned; the
connection broke."""
SeenBy = Literal["connection", "through"]
STANDING_SECONDS = 0.15
"""Of stream that waits: more, and what arrives is what the connection carries."""


class Second(Kept):
    """One second of it, as it is added."""

    sent_kbps: int
    """What the program handed over."""
    carried_kbps: int
    """What the other end took."""
    queued_ms: int
    """Of stream, the most that waited."""
    round_trip_ms: int
    """0 where it is not told."""
    cores_percent: int
    """Of one core, that the program took; 0 where it is not told."""


class Seconds(Kept):
    """The seconds in columns of equal length; a column's unit is in its name."""

    sent_kbps: tuple[int, ...] = ()
    carried_kbps: tuple[int, ...] = ()
    queued_ms: tuple[int, ...] = ()
    round_trip_ms: tuple[int, ...] = ()
    cores_percent: tuple[int, ...] = ()

    @model_validator(mode="after")
    def _columns_match(self) -> Seconds:
        if len({len(getattr(self, name)) for name in Seconds.model_fields}) != 1:
            raise ValueError("the columns must be equally long")
        if any(min(getattr(self, name), default=0) < 0 for name in Seconds.model_fields):
            raise ValueError("nothing in a second is below zero")
        return self

    @classmethod
    def of(cls, rows: list[Second]) -> Seconds:
        """Rows as columns."""
        return cls(**{name: tuple(getattr(r, name) for r in rows) for name in Second.model_fields})


class BroadcastTrouble(Kept):
    """Something that went wrong, from when it was said to when it was over."""

    cause: Cause
    at_seconds: float
    """Since the broadcast began."""
    lasted_seconds: float
    worst_queue_seconds: float
    """Of stream."""
    carried_kbps: float | None = None
    """By the connection meanwhile, where the connection was the limit."""
    warned_seconds: float | None = None
    """How long before the first late frame it was said; none where no frame was late."""
    late: bool = False
    """Whether frames were late, by more than 0.7 s."""
    text: str
    """The worst that was said of it."""


class Broadcast(Kept):
    """A stream that went out."""

    format: str = format_name("broadcast")
    id: str
    """Sortable by time, unique on this machine."""
    taken_at: Moment
    """When it began, ISO 8601 with the offset of the place."""
    version: str
    """Of the program that watched it."""
    kind: Literal["measured", "practice"]
    """Whether it went over a line, or to this machine itself."""
    seen_by: SeenBy
    """From outside, or as it passed through."""
    program: str
    """The sending program's name; empty where it is not known."""
    platform: str
    """The guide's name; empty where no guide was named."""
    server: str
    """Host and port, or the address without key."""
    planned: str = ""
    """What should be sent, in words."""
    planned_kbps: float | None = None
    """With transport overhead."""
    seconds: Seconds
    troubles: tuple[BroadcastTrouble, ...] = ()
    frames: int | None = None
    """That passed; none where they cannot be seen."""
    late_frames: int | None = None
    lost_frames: int | None = None
    """Not passed on, because there was no connection or too much waited."""
    breaches: tuple[str, ...] = ()
    """Of the guide's rules, by what passed, in words."""
    ended: str
    """Why it ended."""

    @property
    def taken(self) -> datetime:
        """When it began."""
        return datetime.fromisoformat(self.taken_at)

    @property
    def lasted_seconds(self) -> float:
        """How long it was watched."""
        return float(len(self.seconds.sent_kbps))

    @property
    def typical_kbps(self) -> float:
        """The median second of what was carried."""
        rates = sorted(self.seconds.carried_kbps)
        return float(rates[len(rates) // 2]) if rates else 0.0

    @property
    def stalls(self) -> int:
        """How often frames were late because of the connection."""
        return sum(trouble.cause == "upload" and trouble.late for trouble in self.troubles)


class BroadcastRow(Frozen):
    """A kept broadcast in a line."""

    id: str
    taken_at: Moment
    platform: str
    server: str
    kind: str
    lasted_seconds: float
    typical_kbps: float
    troubles: int


State = Literal["fine", "warned", "late", "stopped"]
"""Carried; something is the matter and no frame is late; frames are late; nothing is sent."""


class WatchVerdict(Frozen):
    """What a look means."""

    cause: Cause | None
    """Who is at fault; none when it is carried."""
    text: str
    late: bool = False
    """Whether frames are late."""
    late_in_seconds: float | None = None
    """When they will be, if it goes on so."""
    fallback: int | None = None
    """Which step down holds, 0 being the first."""
    carried_kbps: float | None = None
    """By the connection, where it is the limit."""


class Now(Frozen):
    """How a broadcast stands, for a live view and for programs: one document a second."""

    format: str = format_name("watch")
    server: str
    """Host and port, or the address without key."""
    platform: str = ""
    """Its title; empty where it is not known."""
    seconds: float
    """Since watching began."""
    sent_kbps: float
    """Handed over by the program in the last second."""
    planned_kbps: float | None
    carried_kbps: float
    """Taken by the other end in the last second."""
    queued_seconds: float
    """Of stream, in the queue."""
    round_trip_ms: float | None
    min_round_trip_ms: float | None
    resent_bytes: int
    """In all."""
    cores: float | None
    """That the sending program takes."""
    memory_mb: float | None
    fps: float | None
    frames: int | None
    late_frames: int | None
    lost_frames: int | None
    verdict: WatchVerdict
    state: State
    headline: str
    """The verdict in a few words, to be read from afar."""
    since_seconds: float
    """When this state and its cause began, since watching began."""
    step: str | None = None
    """What to set now: the settings of the fallback that holds."""
    late_after_seconds: float = LATE_SECONDS
    """Of stream in the queue, from which on frames are late."""
    troubles: tuple[BroadcastTrouble, ...] = ()
    """The last, oldest first; the last of all may not be over."""
    breaches: tuple[str, ...] = ()
    """Of guide and plan by what passed so far, in words."""
