"""The evidence a plan rests on, the seen-safe rate it gives, and what a plan sends."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending, group_of_frames, planned, together
from eager_kestrel.core.time_of_day import near_moment, parse_time_of_day
from eager_kestrel.core.words import runs as words

if TYPE_CHECKING:
    from eager_kestrel.core.connection.uplink import Uplink
    from eager_kestrel.core.plan.plan import Fallback, Plan, VideoSettings
    from eager_kestrel.core.show.show import Motion
    from eager_kestrel.core.stutter import StutterSeen

SLOWEST_FPS, LONGEST_SECONDS = 24.0, 2.0
"""Frames for which a keyframe is the longest part of a second: before a plan says its own."""


def evidence_behind(uplink: Uplink) -> Evidence:
    """What was observed in the runs and broadcasts an uplink rests on, as far as they are kept.

    Of a bare number there is none, and readings from elsewhere say nothing of seconds.
    """
    if not uplink.runs and not uplink.broadcasts:
        return Evidence.of(())
    from eager_kestrel.files.history import History, HistoryFilter

    with History() as history:
        runs = history.evidence(HistoryFilter(ids=uplink.runs))
        evidence = Evidence.of(
            runs, history.broadcast_evidence(HistoryFilter(ids=uplink.broadcasts))
        )
    return near_hour(evidence, uplink.around)


def near_hour(evidence: Evidence, around: str | None) -> Evidence:
    """Return what was observed within an hour and a half of a time of day, or all of it.

    Args:
        around: ``"20:00"``; None for any hour.

    Raises:
        InputError: it is no time of day.
    """
    if around is None:
        return evidence
    wanted = parse_time_of_day(around)
    return evidence.where(lambda stretch: near_moment(stretch.began, wanted))


def with_seen_safe(
    uplink: Uplink,
    motion: Motion,
    limit: float,
    evidence: Evidence | None = None,
    sending: Sending | None = None,
) -> Uplink:
    """An uplink with its seen-safe rate.

    Args:
        limit: seconds of stutter an hour that are accepted.
        evidence: what it rests on; else what is kept of it.
        sending: the frames that go through it; else any that such a show may have.
    """
    evidence = evidence_behind(uplink) if evidence is None else evidence
    if not evidence.seconds.size:
        return uplink
    replay = Replay(evidence, sending or _any_frames(motion))
    safe = replay.safe_kbps(limit) or 0.0
    seen = replay.seen(safe) if safe else None
    observed = evidence.observed_seconds if seen is None else seen.observed_seconds
    why = words.safe_step(limit, observed, replay.headroom(safe))
    return uplink.model_copy(update={"seen_safe_kbps": round(safe, 3), "seen_safe_why": why})


def _any_frames(motion: Motion) -> Sending:
    frames = round(SLOWEST_FPS * LONGEST_SECONDS)
    return planned(group_of_frames(frames, 2, motion), 1.0, 1.0, SLOWEST_FPS, 1e9)


def stutter_of(plan: Plan, evidence: Evidence) -> StutterSeen | None:
    """Return how much a plan would have stuttered, or None if the evidence does not reach it."""
    sending = sending_of(plan)
    if sending is None:
        return None
    replay = Replay(evidence, sending)
    return replay.seen(sending.kbps + plan.budget.reserved_kbps)


def sending_of(plan: Plan) -> Sending | None:
    """Return everything a plan sends, or None if it sends nothing."""
    streams = tuple(
        _stream(there.video, there.total_kbps, plan.inputs.motion)
        for there in plan.destinations
        if there.video is not None
    )
    return together(streams) if streams else None


def sending_at(steps: Sequence[Fallback], motion: Motion) -> Sending:
    """The same of one fallback of each destination."""
    return together(tuple(_stream(step.video, step.total_kbps, motion) for step in steps))


def _stream(video: VideoSettings, total_kbps: float, motion: Motion) -> Sending:
    group = group_of_frames(video.keyframe_frames, video.b_frames, motion)
    return planned(group, total_kbps, video.most_kbps, float(video.frame_rate), video.buffer_kbit)
