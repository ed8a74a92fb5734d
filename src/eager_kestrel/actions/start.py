"""Beginning: from a few answers to a show file."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.shows import ShowOptions, asked_show, reserve
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.names import nearest_name
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.guides import guide_for, guide_named, guide_names
from eager_kestrel.files.show_text import show_toml
from eager_kestrel.files.shows import USUAL

if TYPE_CHECKING:
    from eager_kestrel.core.show.show import Motion, Show

MOTION_CHOICES: dict[Motion, str] = {
    "still": "hardly anything moves: a kiln, slides, a page",
    "calm": "a person at a table who talks",
    "lively": "hands at work, a board game, a concert from the front",
    "hectic": "a walk, sports, the camera in the hand",
}
CARE: dict[str, str] = {
    "80 %": "daring: nobody else uses the line",
    "70 %": "usual",
    "60 %": "careful: other people are at home",
    "50 %": "very careful: the line comes and goes",
}


@dataclass(frozen=True, slots=True)
class Usual:
    """A use of the line that many homes have."""

    name: str
    rate: str


RESERVES = (
    Usual("a video call", "1.5 Mbit/s"),
    Usual("somebody who plays online", "0.3 Mbit/s"),
    Usual("a camera that backs itself up", "0.4 Mbit/s"),
    Usual("a backup of files or photos", "2 Mbit/s"),
)


def reserves_from(answer: str) -> tuple[str, ...]:
    """Reserves from an answer: numbers of usual ones, or ``name=rate``, with commas between.

    Raises:
        InputError: neither.
    """
    found = []
    for part in filter(None, (piece.strip() for piece in answer.split(","))):
        if part.isdigit():
            if not 1 <= int(part) <= len(RESERVES):
                raise InputError(f"there is no number {part}", f"write 1 to {len(RESERVES)}")
            usual = RESERVES[int(part) - 1]
            found.append(f"{usual.name}={usual.rate}")
        else:
            reserve(part)
            found.append(part)
    return tuple(found)


def new_show(wishes: ShowOptions, title: str = "", guides: Path | None = None) -> Show:
    """The show that answers describe; every platform must be known.

    Raises:
        InputError: an answer cannot be read.
        NotFoundError: a platform or standing is not known.
    """
    if not wishes.platforms:
        raise InputError("nothing says where the stream goes", "give --for PLATFORM")
    show = asked_show(None, replace(wishes, any_machine=True)).show
    for place in show.destinations:
        guide_for(place, guides).codec(place.codec)
    return show.model_copy(update={"title": title})


def is_unknown(platform: str, guides: Path | None = None) -> bool:
    """Whether no guide is of that name or title, nor of one that was probably meant."""
    if not platform or guide_named(platform, guides) is not None:
        return False
    return not nearest_name(platform, guide_names(guides), "").startswith("write")


def usual_path(out: Path | None) -> Path:
    """Where a show goes: the file that was named, else ``show.toml`` here."""
    return out or Path(USUAL)


def show_path(out: Path | None, *, replace: bool = False) -> Path:
    """Where the file goes; over one that is there only when it may be replaced.

    Raises:
        InputError: a file is there already, or it would be no TOML.
    """
    path = usual_path(out)
    if path.suffix != ".toml":
        raise InputError(f'"{path}" is no TOML file', "name it .toml")
    if path.exists() and not replace:
        raise InputError(f"{path} is there already", "move it, or give --out another name")
    return path


def write_show(show: Show, path: Path) -> None:
    """Write a show file.

    Raises:
        StorageError: the disk would not take it.
    """
    write_text(path, show_toml(show))
