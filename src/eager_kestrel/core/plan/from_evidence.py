"""From evidence to a plan, in one call: the seen-safe rate, the choice, and what it would stutter.

The plan's frames decide how much it stutters, and what may be sent decides its frames. So a plan is
made from the seen-safe rate of the lumpiest frames such a show may have; where its own frames turn
out to need less, it is made again.

Evidence never takes the plan away: where no rate keeps the limit, or only one too low to be of use,
the lowest useful rate is planned, as long as share, reserves and cap leave room for it. What that
would stutter is in the plan.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.budget import budget_of
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.connection.uplink import SeenSafe, Uplink
from eager_kestrel.core.division.answers import Answer, answers_of
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending, group_of_frames, planned, together
from eager_kestrel.core.plan.alternatives import ACCEPTABLE
from eager_kestrel.core.plan.plan import Fallback, Plan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.settings.values import VideoSettings
from eager_kestrel.core.show.show import Motion, Show
from eager_kestrel.core.stutter import LOWEST_SHARE, StutterSeen
from eager_kestrel.core.words.runs import stood_still

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

SLOWEST_FPS, LONGEST_SECONDS = 24.0, 2.0
"""Frames for which a keyframe is the longest part of a second: before a plan says its own."""
ALL_BUT = 0.999
"""Of what was carried on average."""
MOST_ROUNDS = 8
"""How often a plan is made again, until its own frames are safe at its rate."""


def plan_from_evidence(
    uplink: Uplink,
    evidence: Evidence,
    show: Show,
    guides: Mapping[str, Guide],
    table: QualityTable,
    free_bytes: int | None = None,
) -> Plan:
    """Plan a show by everything observed of its connection.

    Args:
        evidence: what the uplink rests on; may be empty, and then the share alone decides.
        free_bytes: on the disk a local copy would go to, when one was named.

    Raises:
        NotFoundError: a destination's tier is not in its guide, or it does not take its codec.
    """
    known = dict(guides)
    if not evidence.seconds.size:
        return plan(uplink, show, known, table, free_bytes)
    lowest = lowest_total_kbps(show, guides, table, uplink.typical_kbps)
    line = with_seen_safe(uplink, evidence, show.motion, show.stutter, lowest)
    held: Plan | None = None
    for _ in range(MOST_ROUNDS):
        made = plan(line, show, known, table, free_bytes)
        lifted = None if made.feasible else _lifted(line, show, guides, table)
        if lifted is not None:
            line = lifted
            made = plan(line, show, known, table, free_bytes)
        own = sending_of(made)
        if own is None or line.seen_safe is None or line.seen_safe.lifted:
            break
        again = with_seen_safe(uplink, evidence, show.motion, show.stutter, lowest, own)
        assert again.seen_safe is not None
        before, after = line.seen_safe.kbps, again.seen_safe.kbps
        if after == before or (after > before and held is not None):
            break
        if after < before and held is not None:
            made = held  # the frames of a higher rate are not safe at it
            break
        held = made if after > before else None
        line = again
    seen = stutter_of(made, evidence)
    stopped = stood_still(seen)
    warnings = (*([] if stopped is None else [stopped]), *made.warnings)
    return made.model_copy(update={"stutter": seen, "warnings": warnings})


def with_seen_safe(
    uplink: Uplink,
    evidence: Evidence,
    motion: Motion,
    limit: float,
    lowest_kbps: float,
    own: Sending | None = None,
) -> Uplink:
    """An uplink with its seen-safe rate.

    Args:
        limit: seconds of stutter an hour that are accepted.
        lowest_kbps: the lowest total worth sending.
        own: frames that have to be safe as well as any that such a show may have.
    """
    if not evidence.seconds.size:
        return uplink
    found = []
    for sending in (_any_frames(motion), *(() if own is None else (own,))):
        replay = Replay(evidence, sending, lowest_kbps)
        safe, held = replay.safe_kbps(limit) or 0.0, replay.max_kbps(limit) or 0.0
        found.append(
            SeenSafe(
                kbps=round(safe, 3),
                held_kbps=round(held, 3),
                held_is_all=held >= evidence.highest_kbps * ALL_BUT,
                headroom=round(max(0.0, held / safe - 1), 4) if safe else 0.0,
                observed_seconds=round(evidence.observed_seconds, 2),
                limit_seconds_per_hour=limit,
                lowest_kbps=lowest_kbps,
            )
        )
    least = min(found, key=lambda one: one.kbps)
    return uplink.model_copy(update={"seen_safe": least})


def lowest_total_kbps(
    show: Show, guides: Mapping[str, Guide], table: QualityTable, typical_kbps: float
) -> float:
    """The lowest total worth sending: the least all destinations take, at most a tenth of typical.

    Raises:
        NotFoundError: a destination's tier is not in its guide, or it does not take its codec.
    """
    total = 0.0
    for destination in show.destinations:
        guide = guides[destination.platform].under(destination.tier)
        made = candidates_table(show, guide, table, guide.codec(destination.codec))
        if made.candidates:
            least = (made.min_kbps + made.audio_steps[0]) * made.per_byte + made.fixed_kbps
            total += float(least.min())
    most = LOWEST_SHARE * typical_kbps
    return round(min(total or most, most), 3)


def _lifted(
    line: Uplink, show: Show, guides: Mapping[str, Guide], table: QualityTable
) -> Uplink | None:
    """Return the uplink with the lowest useful rate as seen-safe, or None if the share is lower."""
    seen = line.seen_safe
    whole = budget_of(line.model_copy(update={"seen_safe": None}), show)
    if seen is None or seen.lifted or seen.kbps >= whole.before_reserves_kbps:
        return None
    ruled = [guides[d.platform].under(d.tier) for d in show.destinations]
    answers = answers_of(show, ruled, table, whole.safe_kbps)

    def all_served(answer: Answer) -> bool:
        return all(destination is not None for destination in answer)

    def all_useful(answer: Answer) -> bool:
        return all(
            destination is not None and destination.option.quality >= ACCEPTABLE
            for destination in answer
        )

    for holds in (all_useful, all_served):
        found = answers.least(holds)
        if found is not None and found[0] <= whole.safe_kbps:
            kbps = round(found[0] + whole.reserved_kbps, 3)
            lifted = seen.model_copy(update={"kbps": kbps, "lifted": True})
            return line.model_copy(update={"seen_safe": lifted})
    return None


def stutter_of(made: Plan, evidence: Evidence) -> StutterSeen | None:
    """Return how much a plan would have stuttered, or None if the evidence does not reach it."""
    sending = sending_of(made)
    if sending is None:
        return None
    replay = Replay(evidence, sending, lowest_kbps_of(made))
    return replay.seen(sending.kbps + made.budget.reserved_kbps)


def lowest_kbps_of(made: Plan) -> float:
    """The lowest total worth sending, as a plan has it; a tenth of typical if nothing was."""
    seen = made.uplink.seen_safe
    return LOWEST_SHARE * made.uplink.typical_kbps if seen is None else seen.lowest_kbps


def sending_of(made: Plan) -> Sending | None:
    """Return everything a plan sends, or None if it sends nothing."""
    streams = tuple(
        _stream(destination.video, destination.total_kbps, made.inputs.motion)
        for destination in made.destinations
        if destination.video is not None
    )
    return together(streams) if streams else None


def sending_at(steps: Sequence[Fallback], motion: Motion) -> Sending:
    """The same of one fallback of each destination."""
    return together(tuple(_stream(step.video, step.total_kbps, motion) for step in steps))


def _stream(video: VideoSettings, total_kbps: float, motion: Motion) -> Sending:
    group = group_of_frames(video.keyframe_frames, video.b_frames, motion)
    return planned(group, total_kbps, video.max_kbps, float(video.frame_rate), video.buffer_kbit)


def _any_frames(motion: Motion) -> Sending:
    frames = round(SLOWEST_FPS * LONGEST_SECONDS)
    return planned(group_of_frames(frames, 2, motion), 1.0, 1.0, SLOWEST_FPS, 1e9)
