"""Check settings or a recording against guides and the upload."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from eager_kestrel.actions.endpoints import measure_command
from eager_kestrel.actions.planning import evidence_behind, safe_uplink, uplink_from_history
from eager_kestrel.actions.shows import destination
from eager_kestrel.core.checks.findings import (
    Findings,
    TonightCheck,
    against_plan,
    check as hold,
    check_each,
    check_recording as hold_recording,
)
from eager_kestrel.core.choice.budget import budget, budget_of
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.from_evidence import (
    lowest_kbps_of,
    sending_of,
    stutter_of,
    with_seen_safe,
)
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.resolution import with_frame_rate
from eager_kestrel.core.settings.recording import Recording, settings_seen
from eager_kestrel.core.settings.setting import Finding
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.show.show import SAFE_SHARE, Reserve, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import plans as words
from eager_kestrel.files.guides import guide_for
from eager_kestrel.files.plans import LATEST, plan_in, read_plan, read_settings

WINDOW_SECONDS = 1.0
"""Over which the highest bitrate of a recording is taken, where nothing is said."""


def settings_from(path: Path | None, given: dict[str, Any], platform: str) -> Settings:
    """A file's settings, if any, with what was given in words over them.

    Args:
        given: as in a settings file; None where nothing was said.

    Raises:
        InputError: what was given cannot be read, or nothing was.
        FormatError: the file is neither settings nor a plan.
    """
    base = {} if path is None else read_settings(path, platform).model_dump(exclude_none=True)
    merged = {**base, **{key: value for key, value in given.items() if value is not None}}
    for part in ("video", "audio"):
        said = {key: value for key, value in given.get(part, {}).items() if value is not None}
        merged[part] = {**base.get(part, {}), **said}
    size, fps = with_frame_rate(str(merged["video"].get("resolution", "")))
    if fps is not None and given.get("video", {}).get("frame_rate") is None:
        merged["video"] |= {"resolution": size, "frame_rate": fps}
    try:
        return Settings.model_validate(merged)
    except ValidationError as error:
        raise InputError(first_error(error)) from None


def check_tonight() -> TonightCheck:
    """Hold the kept plan against the newest evidence, at its hour.

    Raises:
        InputError: no plan is kept.
        NotFoundError: nothing was measured lately, or nothing near that hour.
    """
    plan = read_plan(LATEST)
    asked, hour = plan.inputs, plan.uplink.around or plan.inputs.at
    platforms = tuple(there.platform for there in plan.destinations)
    try:
        uplink = uplink_from_history(around=hour, platforms=platforms)
    except NotFoundError as error:
        when = f"at {hour}" if hour else "at the hour of the show"
        raise NotFoundError(error.what, f"run {measure_command(platforms)} {when}") from None
    evidence, before = evidence_behind(uplink), plan.uplink.seen_safe
    lowest = lowest_kbps_of(plan)
    sends = sending_of(plan)
    uplink = with_seen_safe(uplink, evidence, asked.motion, asked.stutter_limit, lowest, sends)
    kept = tuple(Reserve(name=r.name, rate=Bitrate.from_kbps(r.kbps)) for r in asked.reserves)
    safe = budget(uplink, asked.safe_share, kept).safe_kbps
    fits = plan.total_kbps <= safe
    if before is not None and before.lifted and evidence.seconds.size:
        seen = stutter_of(plan.model_copy(update={"uplink": uplink}), evidence)
        fits = seen is not None and seen.within(asked.stutter_limit)
    steps = plan.destinations[0].fallbacks if len(plan.destinations) == 1 else ()
    step = next((step for step in steps if step.total_kbps <= safe), None)
    do = words.PLAN_AGAIN if step is None else words.tonight_fallback(step.video.text)
    text = (
        words.tonight_fits(plan.total_kbps, safe, uplink.text)
        if fits
        else words.tonight_too_much(plan.total_kbps, safe, uplink.text, do)
    )
    return TonightCheck(
        fits=fits,
        plan_made_at=plan.made_at,
        platforms=platforms,
        total_kbps=plan.total_kbps,
        safe_kbps=round(safe, 1),
        text=text,
    )


def guides_of(platforms: list[str]) -> list[Guide]:
    """Guides by name, each under the tier that was written.

    Args:
        platforms: each ``PLATFORM`` or ``PLATFORM:TIER``.

    Raises:
        NotFoundError: a platform or tier is not known.
    """
    return [guide_for(destination(written)) for written in platforms]


def check(
    settings: Settings,
    platforms: list[str],
    uplink: Uplink | None = None,
    safe_share: float = SAFE_SHARE,
    reserves: tuple[Reserve, ...] = (),
) -> Findings:
    """Hold settings against one or several guides and, when it is known, against the connection.

    Args:
        platforms: each ``PLATFORM`` or ``PLATFORM:TIER``.
        safe_share: of it that a stream may take.

    Raises:
        NotFoundError: a platform or tier is not known.
    """
    safe = None if uplink is None else budget(uplink, safe_share, reserves).safe_kbps
    return hold(settings, guides_of(platforms), safe)


def check_show(
    path: Path | None,
    given: dict[str, Any],
    show: Show,
    uplink: Uplink | None = None,
) -> Findings:
    """Check what is set for a show's destinations against their guides and the upload.

    A plan has settings of its own for each destination. Other files, and settings given in words,
    apply to all of them. A destination the plan leaves out is reported.

    Args:
        given: as in a settings file; None for whatever is unknown.
        show: whose destinations, share and reserves count.

    Raises:
        InputError: a value cannot be read, or no rule of the guides covers it.
        FormatError: the file is neither settings nor a plan.
        NotFoundError: a platform or tier is not known.
    """
    planned = None if path is None else plan_in(path)
    pairs, found = [], []
    for place in show.destinations:
        guide = guide_for(place)
        if planned is not None and _left_out(planned, place.name) and len(planned.destinations) > 1:
            found.append(_without_settings(guide))
            continue
        pairs.append((settings_from(path, given, place.name), guide))
    safe = None if uplink is None else _safe_kbps(show, uplink)
    changed = planned is None or any(
        settings != settings_from(path, {}, guide.label) for settings, guide in pairs
    )
    held = check_each(pairs, safe, None if changed else planned)
    if not held.findings and not found:
        names = " or ".join(guide.title for _, guide in pairs)
        raise InputError(
            f"no rule of {names} covers these settings",
            "set more, such as --bitrate, --resolution or --keyframes",
        )
    return held.model_copy(update={"findings": (*found, *held.findings)})


def _safe_kbps(show: Show, uplink: Uplink) -> float:
    """What a show may send."""
    return budget_of(safe_uplink(show, uplink), show).safe_kbps


def _left_out(planned: Plan, name: str) -> bool:
    there = next((d for d in planned.destinations if name in (d.name, d.platform)), None)
    return there is not None and not there.feasible


def _without_settings(guide: Guide) -> Finding:
    return Finding(
        platform=guide.name,
        tier=guide.tier,
        rule="settings",
        severity="caution",
        found="none: the plan leaves it out",
        wanted="settings",
        what_to_do="see why with plan --why",
    )


@dataclass(frozen=True, slots=True)
class RecordingOptions:
    """How to look at a recording."""

    planned: DestinationPlan | None = None
    """What it should have."""
    deep: bool = False
    """Decode every frame."""
    window_seconds: float = WINDOW_SECONDS
    """The highest bitrate is that of a window of this length."""


def check_recording(
    path: Path,
    platforms: list[str],
    show: Show | None = None,
    uplink: Uplink | None = None,
    options: RecordingOptions = RecordingOptions(),
    progress: Callable[[float], None] = lambda _: None,
) -> Findings:
    """Describe a recording and check it against guides.

    Args:
        platforms: each ``PLATFORM`` or ``PLATFORM:TIER``; none just describes it.
        show: whose share and reserves the connection is held to.
        progress: told the seconds read so far.

    Raises:
        NotFoundError: a platform or tier is not known.
        FormatError: it is no recording that can be read.
    """
    from eager_kestrel.media.recording import read_recording

    ruled = guides_of(platforms)
    safe = None
    if uplink is not None and show is not None:
        safe = _safe_kbps(show, uplink)
    seen = read_recording(
        path, deep=options.deep, buffer_seconds=options.window_seconds, progress=progress
    )
    held = hold_recording(seen, ruled, safe)
    if options.planned is None:
        return held
    return held.model_copy(
        update={"findings": (*against_plan(seen, options.planned), *held.findings)}
    )


def settings_of_recording(
    path: Path, progress: Callable[[float], None] = lambda _: None
) -> Settings:
    """What a recording was made with, as far as it shows.

    Args:
        progress: told the seconds read so far.

    Raises:
        FormatError: it is no recording that can be read.
    """
    from eager_kestrel.media.recording import read_recording

    return settings_seen(read_recording(path, progress=progress))


def max_kbps(platforms: list[str], recording: Recording) -> float | None:
    """The lowest maximum guides give a recording's resolution, for a figure; None without any."""
    seen = recording.video
    found = []
    for guide in guides_of(platforms):
        most = guide.video.max_bitrate
        codec = next((taken for taken in guide.video.codecs if taken == seen.codec), None)
        if codec is not None and seen.frame_rate is not None:
            rows = guide.bitrate_table(codec, guide.transports[0])
            limits = guide.within_rules(rows.limits(seen.resolution, seen.frame_rate))
            most = limits.max or most
        found.append(most.kbps)
    return min(found, default=None)
