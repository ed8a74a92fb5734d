"""Seeing a trial: sheets of crops, clips to play, and a person's own ranking."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from itertools import combinations
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.trying import TrialEncodes, screen_of
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.words import trials as words
from eager_kestrel.core.words.numbers import looks
from eager_kestrel.files.documents import copy_file

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.footage.trial import Trial, TrialPoint

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
        name = f"{point.picture}-{float(point.frame_rate):g}-{point.target_kbps:.0f}.mkv"
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
    """The same crop of the hardest stretch, of the source and each finalist.

    Args:
        tried: the trial and its files.
        size: of a crop, across and down.
        blind: whether in random order under letters.
    """
    from eager_kestrel.media.crops import crop_of

    chosen = finalists(tried.trial)
    screen = screen_of(tried.trial.points[0].picture)
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
    return f"{point.words}: {looks(point.look)}"


def judged(trial: Trial, shown: dict[str, int], answer: str) -> list[str]:
    """Which was which, and how far a person's ranking agrees with the model.

    Args:
        trial: with the model's looks.
        shown: which encode each letter stood for.
        answer: letters, best first.

    Raises:
        InputError: not every letter once.
    """
    letters = [letter for letter in answer.upper() if letter.isalpha()]
    if sorted(letters) != sorted(shown):
        raise InputError(
            f'"{answer.strip()}" does not name each once',
            f"write {' '.join(sorted(shown))}, best first",
        )
    pairs = [
        trial.points[shown[first]].look >= trial.points[shown[second]].look
        for first, second in combinations(letters, 2)
    ]
    told = [f"{letter}: {_caption(trial.points[shown[letter]])}" for letter in letters]
    return [*told, words.agreed(sum(pairs), len(pairs))]
