"""Footage kept to plan by, and the encodes of trials, bounded in size."""

from __future__ import annotations

import contextlib
import hashlib
import re
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.quality import QualityTable
from eager_kestrel.core.errors import InputError, NotFoundError, nearest_name
from eager_kestrel.core.show.show import Motion
from eager_kestrel.files.documents import file_bytes
from eager_kestrel.files.home import bundled_toml, data_home, made, storage_error
from eager_kestrel.files.saved import read_kept, write_kept

if TYPE_CHECKING:
    from eager_kestrel.core.footage import Footage

FOLDER = "footage"
TRIALS = "trials"
MOST_BYTES = 2_000_000_000
"""Of encodes that are kept from trials; the oldest go first."""
SAMPLE_BYTES = 1 << 20
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
            f'no footage "{name}" is kept',
            nearest_name(name, footage_names(), "")
            or "run eager-kestrel trial CLIP --save-as NAME",
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
    """The quality model's table, by a kept footage where one is named.

    Raises:
        NotFoundError: there is no such footage.
    """
    table = quality_table()
    if footage is None:
        return table
    from eager_kestrel.core.words import broadcasts as words

    found = read_footage(footage)
    own = table.with_own(motion, found.parameters)
    basis = words.basis(found.clip, found.encodes, found.off_by)
    return own.model_copy(update={"basis": basis})


def trial_folder(clip: Path) -> Path:
    """Where encodes of a clip are kept, by its content.

    Raises:
        StorageError: the clip cannot be read, or the folder not made.
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
    return made(data_home() / TRIALS / found.hexdigest()[:20])


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
