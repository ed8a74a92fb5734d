"""Try a clip: around which settings, and the plan that follows."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.encode_trial import TrialEncodes, TrialOptions, screen_of, try_clip
from eager_kestrel.actions.planning import plan, uplink_from_history, uplink_from_number
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.footage import Trial, TrialPoint
from eager_kestrel.core.plan.trial_report import TrialReport
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.core.words.numbers import looks
from eager_kestrel.files.documents import copy_file
from eager_kestrel.files.footage import footage_names, quality_table, require_footage_name

if TYPE_CHECKING:
    from eager_kestrel.media.clip import Clip


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
    show = None
    motion, keep = wish.motion, wish.save_as
    if wish.platforms:
        show = asked_show(None, ShowOptions(platforms=wish.platforms, motion=motion)).show
    clip = look_at(path, looked)
    if show is None:
        return Prepared(clip, _unplanned(most, motion, keep))
    show = show.model_copy(update={"source": clip.resolution, "frame_rate": clip.frame_rate})
    uplink = uplink_from_history() if wish.upload is None else uplink_from_number(wish.upload)
    destination = next((d for d in plan(show, uplink).plan.destinations if d.video), None)
    if destination is None or destination.video is None:
        raise InputError("the plan sends nothing there", "see why with eager-kestrel plan --why")
    video = destination.video
    lines = min(video.resolution.width, video.resolution.height)
    preset = CODECS[video.codec].preset if video.own_encoder else video.preset
    preset = preset or CODECS[video.codec].preset
    wanted = TrialOptions(video.codec, preset, lines, video.bitrate_kbps, show.motion, keep)
    return Prepared(clip, wanted, show, uplink)


def _unplanned(most: float | None, motion: str | None, keep: str | None) -> TrialOptions:
    """Around a bitrate, or the latest plan."""
    from eager_kestrel.files.plans import latest_plan

    bare = asked_show(None, ShowOptions(platforms=("-",), motion=motion)).show
    made = latest_plan() if most is None else None
    video = next((d.video for d in made.destinations if d.video), None) if made else None
    if video is None:
        kbps = USUAL_KBPS if most is None else most
        return TrialOptions("h264", CODECS["h264"].preset, USUAL_LINES, kbps, bare.motion, keep)
    lines = min(video.resolution.width, video.resolution.height)
    preset = CODECS[video.codec].preset if video.own_encoder else video.preset
    preset = preset or CODECS[video.codec].preset
    return TrialOptions(video.codec, preset, lines, video.bitrate_kbps, bare.motion, keep)


def report_of(asked: Prepared, trial: Trial) -> TrialReport:
    """A trial, and the plan by the measured figures if a platform was named."""
    if asked.show is None or asked.uplink is None:
        return TrialReport(trial=trial, plan=None)
    motion = asked.show.motion
    table = quality_table().with_own(motion, trial.footage.parameters)
    basis = words.basis(trial.clip, trial.footage.encodes, trial.footage.off_by)
    table = table.model_copy(update={"basis": basis})
    made = plan(asked.show, asked.uplink, table=table).plan
    return TrialReport(trial=trial, plan=made)


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
