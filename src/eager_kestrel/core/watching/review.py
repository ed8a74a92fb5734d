"""Review of a broadcast: what went wrong, when, the cause, and what to plan next time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.checks.causes import HOLDS_SHARE
from eager_kestrel.core.checks.findings import Findings
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.connection.broadcast import STANDING_SECONDS, Broadcast, BroadcastTrouble
from eager_kestrel.core.connection.evidence import broadcast_evidence
from eager_kestrel.core.connection.run import RunDocument
from eager_kestrel.core.connection.throughput import GRID_SECONDS
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending
from eager_kestrel.core.plan.plan import DestinationPlan, Fallback, Plan
from eager_kestrel.core.stutter import LATE_SECONDS, LOWEST_SHARE, Stutter, stutters
from eager_kestrel.core.words import broadcasts as words

if TYPE_CHECKING:
    from eager_kestrel.core.connection.uplink import Hours
    from eager_kestrel.core.forecast.forecast import Forecast


LEAST_SECONDS = 10
"""A shorter broadcast says nothing of the next."""


STANDSTILL_KBPS = 100.0
"""Where less is carried, nothing of use gets through: that is no question of bitrate."""


class Incident(Frozen):
    """A trouble, by the clock, with what to do about it."""

    at: str
    """``20:14:31``, in the place where it was aired."""
    trouble: BroadcastTrouble
    what_to_do: str


class Review(Frozen):
    """A broadcast looked back on."""

    format: str = format_name("review")
    broadcast: Broadcast
    carried_share: float
    """Of the seconds, in which nothing waited for long."""
    worst_queue_seconds: float
    would_have_held_kbps: float | None
    """The most an even stream could have sent without a late frame, as far as was seen."""
    stutters: tuple[Stutter, ...]
    """Runs of late frames, each with its cause."""
    incidents: tuple[Incident, ...]
    next_time: tuple[str, ...]
    """What to plan next time, and why, most important first."""


def review_of(broadcast: Broadcast, planned: DestinationPlan | None = None) -> Review:
    """Look back on a broadcast."""
    waited = np.array(broadcast.seconds.queued_ms, dtype=np.float64) / 1000
    held = _would_have_held(broadcast)
    return Review(
        broadcast=broadcast,
        carried_share=round(float((waited <= STANDING_SECONDS).mean()), 4) if waited.size else 1.0,
        worst_queue_seconds=round(float(waited.max(initial=0.0)), 2),
        would_have_held_kbps=held,
        stutters=_stutters(broadcast, waited),
        incidents=tuple(_incident(broadcast, trouble) for trouble in broadcast.troubles),
        next_time=tuple(_next_time(broadcast, planned, held)),
    )


def _incident(broadcast: Broadcast, trouble: BroadcastTrouble) -> Incident:
    at = broadcast.taken + timedelta(seconds=trouble.at_seconds)
    do = words.STOOD_STILL_DO if _stood_still(trouble) else words.DO[trouble.cause]
    return Incident(at=at.strftime("%H:%M:%S"), trouble=trouble, what_to_do=do)


def _stood_still(trouble: BroadcastTrouble) -> bool:
    """Whether next to nothing got through: no bitrate avoids that."""
    carried = trouble.carried_kbps
    return trouble.cause == "upload" and carried is not None and carried < STANDSTILL_KBPS


def _stutters(broadcast: Broadcast, queued: Floats) -> tuple[Stutter, ...]:
    """Stutters by the second, and whose trouble they were part of."""
    causes = [""] * queued.size
    for trouble in broadcast.troubles:
        begin, end = int(trouble.at_seconds), int(trouble.at_seconds + trouble.lasted_seconds) + 1
        causes[begin : end + 1] = [trouble.cause] * len(causes[begin : end + 1])
    return stutters(queued > LATE_SECONDS, np.arange(queued.size, dtype=np.float64), 1.0, causes)


def _would_have_held(broadcast: Broadcast) -> float | None:
    """The most an even stream could have sent without a late frame, up to what was sent."""
    seen = broadcast_evidence(broadcast)
    if seen.sent_kbps.size < LEAST_SECONDS:
        return None
    usual = float(np.median(seen.sent_kbps))
    even = Sending(1.0, 1 / GRID_SECONDS, np.full(1, GRID_SECONDS))
    most = Replay(Evidence.of((), (seen,)), even, LOWEST_SHARE * seen.typical_kbps).max_kbps(0.0)
    return None if most is None else round(min(usual, most), 1)


def _next_time(
    broadcast: Broadcast, planned: DestinationPlan | None, held_kbps: float | None
) -> list[str]:
    causes = {trouble.cause for trouble in broadcast.troubles}
    late = {trouble.cause for trouble in broadcast.troubles if trouble.late}
    steps: Sequence[Fallback] = planned.fallbacks if planned is not None else ()
    said = []
    by_upload = [t for t in broadcast.troubles if t.late and t.cause == "upload"]
    if by_upload and all(_stood_still(trouble) for trouble in by_upload):
        said.append(words.STOOD_STILL)
    elif "upload" in late:
        own = planned.video if planned is not None else None
        rates = [(step.video.text, step.total_kbps) for step in steps]
        if planned is not None and own is not None:  # it may have been planned anew since
            rates.insert(0, (own.text, planned.total_kbps))
        fitting = (step for step in rates if step[1] <= HOLDS_SHARE * (held_kbps or 0.0))
        said.append(words.send_less(held_kbps, next(fitting, None)))
    if "machine" in causes:
        step = _smaller(planned, steps)
        said.append(words.encode_less(None if step is None else step.video.text))
    said += [
        words.NEXT[cause]
        for cause in ("ingest", "connection", "program", "scene")
        if cause in causes and not (cause == "scene" and late)
    ]
    if not late and not causes - {"upload", "scene"} and held_kbps is not None:
        step_up = planned.step_up if planned is not None else None
        up = None if step_up is None else (step_up.video.text, step_up.upload_kbps)
        worst = max(broadcast.seconds.queued_ms, default=0) / 1000
        said.insert(0, words.keep_it(worst, up))
    return said


def _smaller(planned: DestinationPlan | None, steps: Sequence[Fallback]) -> Fallback | None:
    """The first step down that has fewer pixels to encode."""
    if planned is None or planned.video is None:
        return None
    most = planned.video.pixels_per_second
    return next((step for step in steps if step.video.pixels_per_second < most), None)


@dataclass(frozen=True, slots=True)
class ReportMaterial:
    """A plan and whatever else is kept that is about the same."""

    plan: Plan
    words: tuple[tuple[str, str], ...]
    """Terms it uses, and what they mean."""
    hours: Hours | None
    forecast: Forecast | None
    rehearsals: tuple[Rehearsal, ...]
    findings: Findings | None
    review: Review | None


class DemoStory(Frozen):
    """What the demo went through."""

    format: str = format_name("demo")
    run: RunDocument
    plan: Plan
    rehearsal: Rehearsal
    findings: Findings
    """Of the recording of what arrived, held against Oxbow's guide."""
