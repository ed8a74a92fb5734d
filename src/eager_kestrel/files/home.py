"""Where state lives: where the operating system keeps it, or under ``EAGER_KESTREL_HOME``."""

from __future__ import annotations

import csv
import errno
import io
import os
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import (
    FormatError,
    MissingError,
    NotFoundError,
    StorageError,
    nearest_name,
)

if TYPE_CHECKING:
    from eager_kestrel.core.connection.trace import Trace

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


SHARED = 32
"""What Windows calls a sharing violation."""
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
    if getattr(error, "winerror", None) == SHARED:
        what, instead = "another program has it open", "close it there, and try again"
    missing = error.errno in _MISSING and not writing
    kind = MissingError if missing else StorageError
    return kind(what, instead, where)


DATA = Path(__file__).parent.parent / "data"


def bundled_guide_text(name: str) -> str:
    """The text of a bundled guide."""
    return (DATA / "guides" / f"{name}.toml").read_text(encoding="utf-8")


def bundled_toml(*path: str) -> dict[str, Any]:
    """A bundled TOML file."""
    return tomllib.loads(DATA.joinpath(*path).read_text(encoding="utf-8"))


def bundled_names(folder: str, suffix: str) -> list[str]:
    """Names of the bundled files of one kind, sorted."""
    return sorted(
        entry.name.removesuffix(suffix)
        for entry in (DATA / folder).iterdir()
        if entry.name.endswith(suffix)
    )


def trace_names() -> list[str]:
    """Bundled traces."""
    return bundled_names("traces", ".csv")


def load_trace(name: str) -> Trace:
    """A bundled trace by name.

    Raises:
        NotFoundError: there is none of that name; suggests one.
    """
    if name not in trace_names():
        raise NotFoundError(
            f'no practice connection "{name}"',
            nearest_name(name, trace_names(), "none are bundled"),
        )
    text = (DATA / "traces" / f"{name}.csv").read_text(encoding="utf-8")
    return read_trace(text, name)


def read_trace(text: str, where: str) -> Trace:
    """A trace from CSV text.

    Raises:
        FormatError: a row is not two numbers; names the line.
    """
    from eager_kestrel.core.connection.trace import Trace

    lines = [line for line in text.splitlines() if not line.startswith("#")]
    rows = list(csv.DictReader(io.StringIO("\n".join(lines))))
    seconds: list[float] = []
    kbps: list[float] = []
    for number, row in enumerate(rows, 2):
        try:
            seconds.append(float(row["seconds"]))
            kbps.append(float(row["kbps"]))
        except (KeyError, TypeError, ValueError):
            raise FormatError(
                "a trace row is two numbers", "write seconds,kbps", f"{where}:{number}"
            ) from None
    if len(seconds) < 2:
        raise FormatError("a trace needs two rows at least", "give it an end", where)
    return Trace(tuple(seconds[:-1]), tuple(kbps[:-1]), seconds[-1], where)
