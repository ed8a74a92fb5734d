"""A stream into a simulated queue, looked at as ``watch`` looks; and broadcasts made by hand."""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import Broadcast, BroadcastTrouble, Now, Seconds
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.core.watching.recorder import Recorder
from eager_kestrel.core.watching.verdict import Expected

Rate = Callable[[float], float]


@dataclass
class Played:
    notes: Recorder
    told: list[Now] = field(default_factory=list)
    first_late: float | None = None

    @property
    def causes(self) -> list[str]:
        return [trouble.cause for trouble in self.notes.troubles]

    @property
    def warned_at(self) -> float | None:
        return next((now.seconds for now in self.told if now.verdict.cause == "upload"), None)


def planned() -> tuple[DestinationPlan, Expected]:
    """A plan for one destination at 9 Mbit/s, and what is expected of a stream by it."""
    asked = ShowOptions(platforms=("oxbow",), source="1920x1080", source_fps="60")
    made = plan(asked_show(None, asked).show, uplink_from_number("9 Mbit/s")).plan.destinations[0]
    return made, Expected(made.total_kbps, 60.0, 2.0, made.fallbacks)


def played(
    line: Rate,
    expected: Expected,
    seconds: float = 60.0,
    *,
    kbps: float = 6000,
    seen: bool = True,
    share: Rate = lambda _: 1.0,
    keyframe: float = 6.0,
    every: float = 0.25,
    seed: int = 0,
    look: Callable[[float], dict[str, object]] = lambda _: {},
) -> Played:
    """Frames of a stream, first in, first out, through a line of kbit/s by time.

    ``share`` is of the planned size, by time; ``seen`` whether frames' own waits are looked at, as
    when they pass through, or only bytes, as from outside; ``look`` adds to a look at a time.
    """
    rng = random.Random(seed)
    fps = expected.fps or 60.0
    group = round(expected.keyframe_seconds * fps)
    plain = kbps * 125 / fps * group / (group - 1 + keyframe)
    out = Played(Recorder.of("here", expected))
    waiting: deque[list[float]] = deque()
    handed = carried = now = 0.0
    number, due = 0, every
    while now < seconds:
        size = plain * (keyframe if number % group == 0 else rng.uniform(0.7, 1.3)) * share(now)
        waiting.append([now, size])
        handed += size
        room = line(now) * 125 / fps
        while waiting and room > 0:
            taken = min(room, waiting[0][1])
            waiting[0][1] -= taken
            room, carried = room - taken, carried + taken
            if waiting[0][1] <= 1e-9:
                waiting.popleft()
        if waiting and now - waiting[0][0] > LATE_SECONDS and out.first_late is None:
            out.first_late = now
        now, number = now + 1 / fps, number + 1
        if now >= due:
            due += every
            wait = now - waiting[0][0] if waiting else 0.0
            more = {
                "queued_bytes": round(handed - carried),
                "round_trip_ms": 30.0,
                "queued_seconds": wait if seen else None,
            } | look(now)
            out.told.append(
                out.notes.look(StreamSample(now, True, round(handed), round(carried), **more))  # type: ignore[arg-type]
            )
    out.notes.over()
    return out


def a_broadcast(
    carried: list[int],
    *,
    sent: list[int] | None = None,
    queued_ms: list[int] | None = None,
    platform: str = "oxbow",
    days_ago: float = 1.0,
    troubles: tuple[BroadcastTrouble, ...] = (),
    kind: str = "measured",
    name: str = "20261101-200000-w0001",
) -> Broadcast:
    taken = datetime.now(UTC).astimezone() - timedelta(days=days_ago)
    count = len(carried)
    return Broadcast(
        id=name,
        taken_at=taken.isoformat(timespec="seconds"),
        version="0",
        kind=kind,
        seen_by="through",
        program="",
        platform=platform,
        server="rtmp://ingest.oxbow.example:1935/live",
        planned_kbps=float(max(carried, default=0)),
        seconds=Seconds(
            sent_kbps=tuple(sent or carried),
            carried_kbps=tuple(carried),
            queued_ms=tuple(queued_ms or [0] * count),
            round_trip_ms=(30,) * count,
            cores_percent=(0,) * count,
        ),
        troubles=troubles,
        ended="the program ended the stream",
    )
