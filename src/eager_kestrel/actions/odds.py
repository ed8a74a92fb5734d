"""How likely a plan has late frames, by the runs it rests on, and the share a risk comes to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from eager_kestrel.core.forecast.lines import Lines
from eager_kestrel.core.forecast.odds import Odds, most_kbps, odds_of, runs_for_risk
from eager_kestrel.core.forecast.sending import Sending, planned, together
from eager_kestrel.core.forecast.watched import Aired, Watched, watched
from eager_kestrel.core.line.aired import Quarter, quarters
from eager_kestrel.core.line.evidence import RunEvidence
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.plan.plan import Fallback, Plan, VideoSettings
from eager_kestrel.core.show.show import Motion, Show
from eager_kestrel.core.words import forecasts as words
from eager_kestrel.files.history import History

SLOWEST_FPS, LONGEST_SECONDS = 24.0, 2.0
"""Where a keyframe is the longest part of a second; what a share is reckoned for."""


def runs_behind(uplink: Uplink) -> list[RunEvidence]:
    """The runs an uplink rests on, oldest first; none where it rests on none or on one."""
    if uplink.basis != "runs":
        return []
    with History() as history:
        known = {run.id: run for run in history.evidence()}
    found = [known[name] for name in uplink.runs if name in known]
    return found if len(found) == len(uplink.runs) else []


def aired_behind(uplink: Uplink) -> tuple[Aired, ...]:
    """The shows that count beside the runs an uplink rests on."""
    if not uplink.airings:
        return ()
    with History() as history:
        kept = [one for one in history.broadcasts() if one.id in uplink.airings]
    return aired_of([quarter for airing in kept for quarter in quarters(airing)])


def aired_of(found: Sequence[Quarter]) -> tuple[Aired, ...]:
    """Quarters of an hour as the forecast takes them."""
    return tuple(Aired(one.sent_kbps, one.seconds, one.late) for one in found)


def watched_of(
    runs: Sequence[RunEvidence], piled_seconds: float, aired: tuple[Aired, ...] = ()
) -> Watched | None:
    """What runs saw, for frames that pile up so much; None where fewer than two saw anything."""
    found = watched(
        [run.steps_kbit for run in runs], [run.taken.timestamp() for run in runs], piled_seconds
    )
    return replace(found, aired=aired) if found is not None and found.count > 1 else None


def sending_of(plan: Plan) -> Sending | None:
    """Everything a plan sends; None where it sends nothing."""
    streams = tuple(
        _stream(there.video, there.total_kbps, plan.inputs.motion)
        for there in plan.destinations
        if there.video is not None
    )
    return together(streams) if streams else None


def sending_at(steps: Sequence[Fallback], motion: Motion) -> Sending:
    """The same of one step of each destination."""
    return together(tuple(_stream(step.video, step.total_kbps, motion) for step in steps))


def _stream(video: VideoSettings, total_kbps: float, motion: Motion) -> Sending:
    return planned(
        total_kbps, video.most_kbps, float(video.frame_rate), video.keyframe_frames,
        video.b_frames, video.buffer_kbit, motion,
    )  # fmt: skip


def odds_behind(
    plan: Plan, runs: Sequence[RunEvidence], aired: tuple[Aired, ...] = ()
) -> Odds | None:
    """The chance that a show of this plan has a late frame; None where runs do not say."""
    sending = sending_of(plan)
    if sending is None:
        return None
    needs, piled = sending.needs
    seen = watched_of(runs, piled, aired)
    if seen is None:
        return None
    kbps = needs + plan.budget.reserved_kbps
    return odds_of(Lines.drawn(seen), kbps, plan.inputs.lasts_seconds)


def with_share(show: Show, uplink: Uplink) -> tuple[Show, str | None]:
    """A show whose share keeps to the risk it asks for, and what has to be said about it.

    Args:
        show: as it was asked for.
        uplink: with the runs it rests on.

    Returns:
        The show with the share its risk comes to; or without its risk where runs do not say, and
        why.
    """
    if show.risk is None:
        return show, None
    coarse = planned(1.0, 1.0, SLOWEST_FPS, round(SLOWEST_FPS * LONGEST_SECONDS), 2, 1e9,
                     show.motion)  # fmt: skip
    factor, piled = coarse.needs
    seen = watched_of(runs_behind(uplink), piled, aired_behind(uplink))
    why = words.NO_RUNS
    if seen is not None:
        most = most_kbps(Lines.drawn(seen), show.risk, show.lasts)
        if most is not None:
            share = min(1.0, most / factor / uplink.typical_kbps)
            return show.model_copy(update={"safe_share": share}), None
        why = words.too_few(seen.count, runs_for_risk(seen, show.risk, show.lasts))
    note = words.risk_unknown(show.risk, show.safe_share, why)
    return show.model_copy(update={"risk": None}), note
