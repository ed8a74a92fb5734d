"""Where state lives: where the operating system keeps it, or under ``EAGER_KESTREL_HOME``."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from eager_kestrel.core.errors import MissingError, StorageError

_first: list[Path] = []


def look_for_guides_in(folder: Path | None) -> None:
    """Look for guides in this folder before all others, from now on; None: no longer.

    Raises:
        MissingError: there is no such folder.
    """
    if folder is not None and not folder.is_dir():
        raise MissingError(f"no folder {folder}", "give one that has guides in it")
    _first[:] = [] if folder is None else [folder]


def guide_folders() -> list[Path]:
    """Folders of the user's own guides, the first wins."""
    return [*_first, data_home() / "guides"]


def data_home() -> Path:
    """The folder of the run history and the user's own guides; may not exist yet.

    Raises:
        StorageError: nothing says where it is.
    """
    own = os.environ.get("EAGER_KESTREL_HOME")
    try:
        if own:
            return Path(own).expanduser()
        import platformdirs

        return Path(platformdirs.user_data_dir("eager-kestrel", appauthor=False)).expanduser()
    except (RuntimeError, KeyError):
        what = f'"{own}" is nobody\'s home' if own else "this user has no home folder"
        raise StorageError(what, "set EAGER_KESTREL_HOME to a folder") from None


def made(folder: Path) -> Path:
    """The folder, made if need be.

    Raises:
        StorageError: it cannot be made.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise storage_error(error, str(folder), writing=True) from None
    return folder


_MISSING = (errno.ENOENT, errno.ENOTDIR, errno.EISDIR)
_WHY = {
    errno.ENOSPC: ("the disk is full", "free some space"),
    errno.EDQUOT: ("the disk quota is used up", "free some space"),
    errno.EROFS: (
        "the disk is read-only",
        "set EAGER_KESTREL_HOME to a folder that can be written",
    ),
    errno.EACCES: (
        "not allowed",
        "set EAGER_KESTREL_HOME or --out to a folder that can be written",
    ),
    errno.EPERM: ("not allowed", "set EAGER_KESTREL_HOME or --out to a folder that can be written"),
    errno.ENOENT: ("no such file or folder", "check the path"),
    errno.EEXIST: ("a file stands where a folder should", "move it or choose another"),
    errno.ENOTDIR: ("part of the path is a file", "choose another"),
    errno.EISDIR: ("it is a folder", "name a file in it"),
}


def storage_error(error: OSError, where: str, *, writing: bool = False) -> StorageError:
    """An error of the disk as one line; of a file to read that is not there, a kind of its own."""
    what, instead = _WHY.get(error.errno or 0, (error.strerror or str(error), "check the disk"))
    missing = error.errno in _MISSING and not writing
    kind = MissingError if missing else StorageError
    return kind(what, instead, where)
