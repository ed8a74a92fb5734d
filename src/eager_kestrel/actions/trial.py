"""Trying somebody's own clip: around which settings, and the plan that follows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.planning import plan, uplink_from_history, uplink_from_number
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.actions.trying import TrialEncodes, TrialOptions, try_clip
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import trials as words
from eager_kestrel.files.bundled import quality_table
from eager_kestrel.files.footage import footage_names, require_footage_name

if TYPE_CHECKING:
    from eager_kestrel.core.footage.trial import Trial
    from eager_kestrel.core.guide.rules import Codec
    from eager_kestrel.core.line.uplink import Uplink
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.show.show import Show
    from eager_kestrel.media.clip import Clip

USUAL_PRESET: dict[Codec, str] = {"h264": "veryfast", "hevc": "veryfast", "av1": "8"}
"""What the quality model's bitrates are for."""
USUAL_KBPS, USUAL_LINES = 6000.0, 720


def look_at(path: Path, tell: Callable[[float], None] = lambda _: None) -> Clip:
    """Look through a clip.

    Raises:
        FormatError: it cannot be tried.
    """
    from eager_kestrel.media.clip import read_clip

    return read_clip(path, tell)


@dataclass(frozen=True, slots=True)
class Prepared:
    """A clip, around what to try, and the show to plan at the end."""

    clip: Clip
    wanted: TrialOptions
    show: Show | None = None
    uplink: Uplink | None = None
    guides: Path | None = None


def prepared(
    path: Path, platforms: tuple[str, ...], upload: str | None, bitrate: str | None,
    motion: str | None, keep: str | None, guides: Path | None,
) -> Prepared:  # fmt: skip
    """Check what was asked for, look through the clip, plan first where a platform is named.

    Args:
        path: of the clip.
        platforms: to plan for; none: around ``bitrate`` or the latest plan.
        upload: to plan with, in place of the runs that are kept.
        bitrate: the most to try where no platform is named.
        motion: as the person says; else lively.
        keep: the name to keep what is learned by.
        guides: a folder whose guides come first.

    Raises:
        InputError: something cannot be read, or does not go together.
        FormatError: the clip cannot be tried.
        NotFoundError: a platform is not known, or no run is kept to plan with.
    """
    if keep is not None:
        require_footage_name(keep)
    most = None if bitrate is None else Bitrate.parse(bitrate).kbps
    show = None
    if platforms:
        show = asked_show(None, ShowOptions(platforms=platforms, motion=motion)).show
    clip = look_at(path)
    if show is None:
        return Prepared(clip, _unplanned(most, motion, keep))
    show = show.model_copy(update={"source": clip.picture, "frame_rate": clip.frame_rate})
    uplink = uplink_from_history() if upload is None else uplink_from_number(upload)
    there = next((d for d in plan(show, uplink, guides).plan.destinations if d.video), None)
    if there is None or there.video is None:
        raise InputError("the plan sends nothing there", "see why with eager-kestrel plan --why")
    video = there.video
    lines = min(video.picture.width, video.picture.height)
    preset = USUAL_PRESET[video.codec] if video.own_encoder else video.preset
    preset = preset or USUAL_PRESET[video.codec]
    wanted = TrialOptions(video.codec, preset, lines, video.bitrate_kbps, show.motion, keep)
    return Prepared(clip, wanted, show, uplink, guides)


def _unplanned(most: float | None, motion: str | None, keep: str | None) -> TrialOptions:
    """Around a bitrate, or the latest plan."""
    from eager_kestrel.files.plans import latest_plan

    bare = asked_show(None, ShowOptions(platforms=("-",), motion=motion)).show
    made = latest_plan() if most is None else None
    video = next((d.video for d in made.destinations if d.video), None) if made else None
    if video is None:
        kbps = USUAL_KBPS if most is None else most
        return TrialOptions("h264", USUAL_PRESET["h264"], USUAL_LINES, kbps, bare.motion, keep)
    lines = min(video.picture.width, video.picture.height)
    preset = USUAL_PRESET[video.codec] if video.own_encoder else video.preset
    preset = preset or USUAL_PRESET[video.codec]
    return TrialOptions(video.codec, preset, lines, video.bitrate_kbps, bare.motion, keep)


def plan_with(asked: Prepared, trial: Trial) -> Plan | None:
    """The plan by the measured figures; None where no platform was named."""
    if asked.show is None or asked.uplink is None:
        return None
    motion = asked.show.motion
    table = quality_table().with_own(motion, trial.footage.parameters)
    basis = words.basis(trial.clip, trial.footage.encodes, trial.footage.off_by)
    table = table.model_copy(update={"basis": basis})
    return plan(asked.show, asked.uplink, asked.guides, table=table).plan


def names() -> list[str]:
    """Every footage that is kept."""
    return footage_names()


__all__ = ["TrialEncodes", "TrialOptions", "look_at", "names", "plan_with", "prepared", "try_clip"]
