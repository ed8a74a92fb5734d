"""Try a clip: around which settings, and the plan that follows."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import combinations
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.encode_trial import (
    TrialEncodes,
    TrialOptions,
    look_quickly,
    of_clip,
    quick_settings,
    try_clip,
)
from eager_kestrel.actions.encodes import Tell, screen_of
from eager_kestrel.actions.planning import plan, uplink_from_history, uplink_from_number
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.choice.candidates import takes
from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.footage import Footage, Trial, TrialPoint
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.plan.trial_report import TrialReport
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.settings.values import VideoSettings
from eager_kestrel.core.show.show import Motion, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.core.words.numbers import looks
from eager_kestrel.files.documents import copy_file
from eager_kestrel.files.footage import (
    footage_names,
    is_clip,
    known_look,
    look_name,
    remove_reels,
    require_footage_name,
    table_by,
    write_footage,
)
from eager_kestrel.files.guides import guide_for

if TYPE_CHECKING:
    from eager_kestrel.media.clip import Clip


USUAL_KBPS, USUAL = 6000.0, Resolution(1280, 720)
"""Around which a clip is tried where nothing is planned."""
FAR = 1.5
"""A plan whose bitrate lies further from what was tried wants a look of its own."""


def look_at(path: Path, tell: Callable[[float], None] = lambda _: None) -> Clip:
    """Look through a clip.

    Raises:
        FormatError: it cannot be tried.
    """
    from eager_kestrel.media.clip import read_clip

    return read_clip(path, tell)


def by_own_footage(show: Show, uplink: Uplink, tell: Tell = lambda _: None) -> Show:
    """A show whose footage is a clip, with the name of what a quick look at it teaches.

    The look is a few encodes of busy moments around what the show would be sent with; it is kept
    by the clip's content, and made again where a plan is far from what was tried.

    Raises:
        FormatError: the clip cannot be tried.
        InputError: its shape is not the source's.
        StoppedError: the user stopped it.
        StorageError: the disk would not take it.
    """
    if show.footage is None or not is_clip(show.footage):
        return show
    path = Path(show.footage)
    known = known_look(path)
    video = _most(plan(show.model_copy(update={"footage": None}), uplink).plan)
    if video is None:
        return show.model_copy(update={"footage": None})
    if known is None or not _near(known, video):
        from eager_kestrel.media.clip import glance

        clip = glance(path)
        _require_shape(clip, show)
        around = _around(video, show.motion, look_name(path))
        known = look_quickly(clip, around, tell)
        then = _most(plan(show, uplink, table=table_by(known, show.motion)).plan)
        beyond = of_clip(clip, then.resolution if then else video.resolution)
        tried = [setting.resolution.pixels for setting in quick_settings(clip, around)[1]]
        if not min(tried) <= beyond.pixels <= max(tried):
            known = look_quickly(clip, replace(around, asked=(beyond,)), tell)
        write_footage(known)
        remove_reels(path)
    return show.model_copy(update={"footage": known.name})


def _most(made: Plan) -> VideoSettings | None:
    """Of what a plan sends, the settings with the highest bitrate."""
    videos = [d.video for d in made.destinations if d.video is not None]
    return max(videos, key=lambda video: video.bitrate_kbps, default=None)


def _near(known: Footage, video: VideoSettings) -> bool:
    """Whether what was tried of a footage says something of these settings."""
    by = video.bitrate_kbps / known.around_kbps
    return known.codec == video.codec and 1 / FAR <= by <= FAR


def _require_shape(clip: Clip, show: Show) -> None:
    if not show.picture.shape.fits(clip.resolution):
        raise InputError(
            f"{clip.path.name} is {clip.resolution}, and the show's source is {show.picture}",
            "give a clip of the show itself, or --source as the clip is",
        )


def _around(video: VideoSettings, motion: Motion, keep: str | None) -> TrialOptions:
    """What to try around settings of a plan."""
    preset = CODECS[video.codec].preset if video.own_encoder else video.preset
    return TrialOptions(
        codec=video.codec,
        preset=preset or CODECS[video.codec].preset,
        resolution=video.resolution,
        kbps=video.bitrate_kbps,
        motion=motion,
        fps=video.frame_rate,
        keep=keep,
    )


@dataclass(frozen=True, slots=True)
class Prepared:
    """A clip, around what to try, and the show to plan at the end."""

    clip: Clip
    wanted: TrialOptions
    show: Show | None = None
    uplink: Uplink | None = None


@dataclass(frozen=True, slots=True)
class TrialRequest:
    """What to try, as written."""

    platforms: tuple[str, ...] = ()
    """To plan for; none: around ``bitrate`` or the latest plan."""
    upload: str | None = None
    bitrate: str | None = None
    motion: str | None = None
    """None: lively."""
    save_as: str | None = None
    resolutions: tuple[str, ...] = ()
    """To try as well."""


def prepare_trial(
    path: Path, wish: TrialRequest, looked: Callable[[float], None] = lambda _: None
) -> Prepared:
    """Check what was asked for, look through the clip, plan first where a platform is named.

    Args:
        looked: told the seconds of the clip that were looked through so far.

    Raises:
        InputError: something cannot be read, or does not go together.
        FormatError: the clip cannot be tried.
        NotFoundError: a platform is not known, or no run is kept to plan with.
    """
    if wish.save_as is not None:
        require_footage_name(wish.save_as)
    most = None if wish.bitrate is None else Bitrate.parse(wish.bitrate).kbps
    show, asked = None, tuple(Resolution.parse(written) for written in wish.resolutions)
    motion, keep = wish.motion, wish.save_as
    if wish.platforms:
        show = asked_show(None, ShowOptions(platforms=wish.platforms, motion=motion)).show
        uplink = uplink_from_history() if wish.upload is None else uplink_from_number(wish.upload)
    clip = look_at(path, looked)
    if show is None:
        return Prepared(clip, replace(_unplanned(most, motion, keep), asked=asked))
    update = {"source": clip.resolution, "shape": None, "source_fps": clip.frame_rate}
    show = show.model_copy(update=update)
    video = _most(plan(show, uplink).plan)
    if video is None:
        raise InputError("the plan sends nothing there", "see why with eager-kestrel plan --why")
    taken = takes(guide_for(show.destinations[0]).video, clip.resolution)
    wanted = replace(_around(video, show.motion, keep), source_too=taken, asked=asked)
    return Prepared(clip, wanted, show, uplink)


def _unplanned(most: float | None, motion: str | None, keep: str | None) -> TrialOptions:
    """Around a bitrate, or the latest plan."""
    from eager_kestrel.files.plans import latest_plan

    bare = asked_show(None, ShowOptions(platforms=("-",), motion=motion)).show
    made = latest_plan() if most is None else None
    video = None if made is None else _most(made)
    if video is not None:
        return _around(video, bare.motion, keep)
    kbps = USUAL_KBPS if most is None else most
    return TrialOptions("h264", CODECS["h264"].preset, USUAL, kbps, bare.motion, keep=keep)


def report_of(asked: Prepared, trial: Trial) -> TrialReport:
    """A trial, and the plan by the measured figures if a platform was named."""
    if asked.show is None or asked.uplink is None:
        return TrialReport(trial=trial, plan=None)
    made = plan(asked.show, asked.uplink, table=table_by(trial.footage, asked.show.motion)).plan
    encoded = {(point.resolution, point.frame_rate) for point in trial.points}
    planned = [d.video for d in made.destinations if d.video is not None]
    between = (v for v in planned if (v.resolution, v.frame_rate) not in encoded)
    names = (resolution_at(v.resolution, v.frame_rate) for v in between)
    return TrialReport(trial=trial, plan=made, interpolated=tuple(dict.fromkeys(names)))


def names() -> list[str]:
    """Every footage that is kept."""
    return footage_names()


__all__ = ["TrialEncodes", "TrialOptions", "look_at", "names", "report_of", "try_clip"]


MOST = 5
"""Finalists, beside the source."""
MOMENT_SECONDS = 2.5
"""Into the hardest stretch: half a keyframe interval after the last keyframe."""
LETTERS = "ABCDE"


def finalists(trial: Trial) -> list[int]:
    """The encodes nobody beats at their bitrate, best first; then the best of the rest."""
    ranked = sorted(range(len(trial.points)), key=lambda n: -trial.points[n].look)
    on = [n for n in ranked if trial.points[n].on_hull]
    return [*on, *(n for n in ranked if n not in on)][:MOST]


def write_clips(tried: TrialEncodes, folder: Path) -> list[Path]:
    """Write each finalist's hardest stretch; says where.

    Raises:
        StorageError: the disk would not take it.
    """
    found = []
    for number in finalists(tried.trial):
        point = tried.trial.points[number]
        name = f"{point.resolution}-{float(point.frame_rate):g}-{point.target_kbps:.0f}.mkv"
        copy_file(tried.encodes[number][tried.hardest], folder / name)
        found.append(folder / name)
    return found


@dataclass(frozen=True, slots=True)
class Sheet:
    """What a sheet shows."""

    title: str
    crops: list[tuple[str, Floats]]
    """Captions, and pixels of shape (rows, columns, 3), 0..1."""
    letters: dict[str, int]
    """Blind, which encode each stands for."""


def sheet_of(tried: TrialEncodes, size: tuple[int, int], *, blind: bool = False) -> Sheet:
    """The same crop of the hardest stretch, of the source and each finalist."""
    from eager_kestrel.media.clip import crop_of

    chosen = finalists(tried.trial)
    screen = screen_of(tried.trial.points[0].resolution)
    if blind:
        secrets.SystemRandom().shuffle(chosen)
    source, where = crop_of(tried.sources[tried.hardest], MOMENT_SECONDS, screen, size, None)
    crops = [("your source", source)]
    for letter, number in zip(LETTERS, chosen, strict=False):
        file = tried.encodes[number][tried.hardest]
        pixels, _ = crop_of(file, MOMENT_SECONDS, screen, size, where)
        crops.append((letter if blind else _caption(tried.trial.points[number]), pixels))
    title = f"{tried.trial.clip}, as a screen of {screen} shows it, 1:1"
    return Sheet(title, crops, dict(zip(LETTERS, chosen, strict=False)) if blind else {})


def _caption(point: TrialPoint) -> str:
    return f"{point.text}: {looks(point.look)}"


def judged(trial: Trial, shown: dict[str, int], answer: str) -> list[str]:
    """Which was which, and how far a person's ranking agrees with the model.

    Raises:
        InputError: not every letter once.
    """
    letters = [letter for letter in answer.upper() if letter.isalpha()]
    if sorted(letters) != sorted(shown):
        raise InputError(
            f'"{answer.strip()}" does not name each letter once',
            f"write {' '.join(sorted(shown))}, best first",
        )
    pairs = [
        trial.points[shown[first]].look >= trial.points[shown[second]].look
        for first, second in combinations(letters, 2)
    ]
    told = [f"{letter}: {_caption(trial.points[shown[letter]])}" for letter in letters]
    return [*told, words.agreed(sum(pairs), len(pairs))]
