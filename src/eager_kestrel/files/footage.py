"""Footage kept to plan by, and the encodes of trials, bounded in size."""

from __future__ import annotations

import contextlib
import hashlib
import re
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.errors import InputError, NotFoundError, nearest_name
from eager_kestrel.core.settings.recording import RECORDING_KINDS
from eager_kestrel.core.show.show import Motion
from eager_kestrel.files.documents import file_bytes, read_kept, write_kept
from eager_kestrel.files.home import bundled_toml, data_home, made, storage_error

if TYPE_CHECKING:
    from eager_kestrel.core.footage import Footage

FOLDER = "footage"
TRIALS = "trials"
MOST_BYTES = 2_000_000_000
"""Of encodes that are kept from trials; the oldest go first."""
SAMPLE_BYTES = 1 << 20
MARK = 10
"""Digits of a content's mark in the name of a quick look."""
NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,39}")


def footage_names() -> list[str]:
    """Every footage that is kept, sorted."""
    return sorted(path.stem for path in (data_home() / FOLDER).glob("*.json"))


def require_footage_name(name: str) -> None:
    """Refuse a name that could not be a file's.

    Raises:
        InputError: says which could.
    """
    if NAME.fullmatch(name) is None:
        raise InputError(f'"{name}" is not a name', "use lower-case letters, digits and dashes")


def read_footage(name: str) -> Footage:
    """A footage by name.

    Raises:
        NotFoundError: there is none; suggests one.
        FormatError: its file is damaged.
    """
    from eager_kestrel.core.footage import Footage

    found = None
    if NAME.fullmatch(name) is not None:
        found = read_kept(f"{FOLDER}/{name}.json", "footage", Footage)
    if found is None:
        raise NotFoundError(
            f'no footage "{name}" is kept, and no clip has that name',
            nearest_name(name, footage_names(), "")
            or "give the path of a clip, or run eager-kestrel trial CLIP --save-as NAME",
        )
    return found


def write_footage(footage: Footage) -> None:
    """Keep a footage; one of the same name is replaced.

    Raises:
        InputError: its name could not be a file's.
        StorageError: the disk would not take it.
    """
    require_footage_name(footage.name)
    write_kept(f"{FOLDER}/{footage.name}.json", footage)


def table_for(motion: Motion, footage: str | None) -> QualityTable:
    """The quality model's table, by footage that is known, where some is named.

    Args:
        footage: the name of a kept one, or a clip that was looked at.

    Raises:
        NotFoundError: there is no such footage, or nobody has looked at the clip.
    """
    if footage is None:
        return quality_table()
    if not is_clip(footage):
        return table_by(read_footage(footage), motion)
    found = known_look(Path(footage))
    if found is None:
        raise NotFoundError(
            f"no look at {footage} is kept", f"run eager-kestrel plan --footage {footage} first"
        )
    return table_by(found, motion)


def table_by(footage: Footage, motion: Motion) -> QualityTable:
    """The table by what was learned of a footage, taken as of some kind of motion."""
    from eager_kestrel.core.words import broadcasts as words

    basis = words.basis(footage.text, footage.encodes, footage.off_by)
    own = quality_table().with_own(motion, *footage.scenes)
    return own.model_copy(update={"basis": basis, "own_footage": footage.text})


def is_clip(written: str) -> bool:
    """Whether a footage is written as a file, not by the name of a kept one."""
    return NAME.fullmatch(written) is None and (
        Path(written).suffix.lower() in RECORDING_KINDS or Path(written).exists()
    )


def known_look(clip: Path) -> Footage | None:
    """What a quick look at a clip of that content has taught, whatever its name is now.

    Raises:
        FormatError: the file it is kept in is damaged.
        StorageError: the clip cannot be read.
    """
    from eager_kestrel.core.footage import Footage

    mark = content_mark(clip)[:MARK]
    found = next((data_home() / FOLDER).glob(f"*-{mark}.json"), None)
    return None if found is None else read_kept(f"{FOLDER}/{found.name}", "footage", Footage)


def look_name(clip: Path) -> str:
    """The name that a quick look at a clip is kept by: the file's, and a mark of its content."""
    plain = re.sub(r"[^a-z0-9]+", "-", clip.stem.lower()).strip("-")[: 39 - MARK]
    return f"{plain.strip('-') or 'clip'}-{content_mark(clip)[:MARK]}"


def trial_folder(clip: Path) -> Path:
    """Where encodes of a clip are kept, by its content.

    Raises:
        StorageError: the clip cannot be read, or the folder not made.
    """
    return made(data_home() / TRIALS / content_mark(clip)[:20])


def content_mark(clip: Path) -> str:
    """Hexadecimal digits that tell a file's content from others', by its size and some of it.

    Raises:
        StorageError: it cannot be read.
    """
    size = file_bytes(clip)
    try:
        found = hashlib.sha256(str(size).encode())
        with clip.open("rb") as file:
            for at in (0, size // 3, 2 * size // 3, max(0, size - SAMPLE_BYTES)):
                file.seek(at)
                found.update(file.read(SAMPLE_BYTES))
    except OSError as error:
        raise storage_error(error, str(clip)) from None
    return found.hexdigest()


def remove_reels(clip: Path) -> None:
    """Remove what was cut out of a clip for a quick look; what cannot be removed stays."""
    for path in (data_home() / TRIALS / content_mark(clip)[:20]).glob("reel-*.nut"):
        with contextlib.suppress(OSError):
            path.unlink()


def bound_trials(most_bytes: int = MOST_BYTES, keep: Path | None = None) -> None:
    """Remove the oldest encodes beyond a size; what cannot be removed stays.

    Args:
        most_bytes: that may stay.
        keep: a folder that is still needed; it counts, but nothing of it goes.
    """
    files = [path for path in (data_home() / TRIALS).rglob("*") if path.is_file()]
    total = sum(path.stat().st_size for path in files)
    free = [path for path in files if path.parent != keep]
    for path in sorted(free, key=lambda path: path.stat().st_mtime):
        if total <= most_bytes:
            return
        total -= path.stat().st_size
        with contextlib.suppress(OSError):
            path.unlink()


def quality_table() -> QualityTable:
    """The parameters of the quality model."""
    return QualityTable.model_validate(bundled_toml("quality.toml"))
