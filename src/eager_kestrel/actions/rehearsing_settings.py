"""Settings as a plan, so that a settings file can be rehearsed, too."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.checking import settings_from
from eager_kestrel.actions.planning import plan, uplink_from_number
from eager_kestrel.actions.shows import destination
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.plans import read_plan

if TYPE_CHECKING:
    from eager_kestrel.core.checks.settings import Settings
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan

ROOM = 2.0
"""Times what is set: an upload that leaves a plan room for it."""


def plan_or_settings(name: str, platform: str | None, guides: Path | None = None) -> Plan:
    """A plan's file, ``latest``, or a settings file as ``plan --out x.toml`` writes it.

    Args:
        name: of the file.
        platform: that settings are for.
        guides: a folder whose guides come first.

    Raises:
        InputError: settings come without a platform, or say too little to be sent.
        FormatError: the file is neither.
    """
    if not name.endswith(".toml"):
        return read_plan(name)
    if platform is None:
        raise InputError("settings name no platform", "give --for PLATFORM")
    found = settings_from(Path(name), {}, platform)
    video = found.video
    if video.picture is None or video.frame_rate is None or video.bitrate is None:
        raise InputError("these settings say too little to be sent",
                         "give picture, frame_rate and bitrate at the least")  # fmt: skip
    show = Show(source=video.picture, frame_rate=video.frame_rate, motion="lively",
                destinations=(destination(platform),))  # fmt: skip
    upload = Bitrate.from_kbps(ROOM * video.bitrate.kbps + 1000)
    made = plan(show, uplink_from_number(str(upload)), guides).plan
    (there,) = made.destinations
    return made.model_copy(update={"destinations": (_as_set(there, found),)})


def _as_set(there: DestinationPlan, found: Settings) -> DestinationPlan:
    """A destination with what is set in place of what was planned."""
    if there.video is None or there.audio is None:
        raise InputError(f"no settings at all go to {there.title}", there.infeasible_because)
    said, heard = found.video, found.audio
    rate = said.frame_rate or there.video.frame_rate
    kbps = said.bitrate.kbps if said.bitrate is not None else there.video.bitrate_kbps
    update: dict[str, object] = {
        "picture": said.picture, "frame_rate": rate, "bitrate_kbps": kbps,
        "peak_kbps": None if said.peak is None else said.peak.kbps,
        "codec": said.codec, "profile": said.profile, "level": said.level,
        "b_frames": said.b_frames, "rate_control": said.rate_control,
        "buffer_kbit": said.buffer_kbit or kbps,
    }  # fmt: skip
    if said.keyframes is not None and not said.keyframes.automatic:
        frames = said.keyframes.frames or round((said.keyframes.seconds or 0) * rate)
        update |= {"keyframe_frames": frames, "keyframe_seconds": float(frames / rate)}
    video = there.video.model_copy(update={k: v for k, v in update.items() if v is not None})
    spoken = {
        "codec": heard.codec, "sample_rate_hz": heard.sample_rate_hz, "channels": heard.channels,
        "bitrate_kbps": None if heard.bitrate is None else heard.bitrate.kbps,
    }  # fmt: skip
    audio = there.audio.model_copy(update={k: v for k, v in spoken.items() if v is not None})
    total = there.total_kbps - there.video.most_kbps - there.audio.bitrate_kbps
    total = round(total + video.most_kbps + audio.bitrate_kbps, 3)
    below = tuple(step for step in there.steps_down if step.total_kbps < total)
    return there.model_copy(
        update={"video": video, "audio": audio, "total_kbps": total, "steps_down": below}
    )
