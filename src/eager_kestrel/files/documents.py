"""Write documents so that nothing half-written is ever left."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from eager_kestrel.core.errors import FormatError
from eager_kestrel.files.home import made, storage_error


@contextlib.contextmanager
def written(path: Path, *, private: bool = False) -> Iterator[Path]:
    """A file to write in place of another, which it replaces once it is whole; makes its folder.

    Args:
        private: only its owner may read it; for other files the umask decides.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    import tempfile

    folder = made(path.parent)
    temporary: Path | None = None
    try:
        handle, name = tempfile.mkstemp(path.suffix, f".{path.stem}.", folder)
        os.close(handle)
        temporary = Path(name)
        yield temporary
        temporary.chmod(0o600 if private else 0o666 & ~_umask())
        temporary.replace(path)
        temporary = None
    except OSError as error:
        raise storage_error(error, str(path), writing=True) from None
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def _umask() -> int:
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def write_text(path: Path, text: str | Iterable[str], *, private: bool = False) -> None:
    """Write a file as :func:`written` does; text may come in pieces."""
    with (
        written(path, private=private) as part,
        part.open("w", encoding="utf-8", newline="\n") as out,
    ):
        out.writelines([text] if isinstance(text, str) else text)


def read_bounded(path: Path, most_bytes: int, instead: str = "name another file") -> bytes:
    """A file's bytes, looked at before it is read: regular files only, and not without end.

    Args:
        most_bytes: that it may have.

    Raises:
        FormatError: it is no regular file, or larger.
        StorageError: it cannot be read.
    """
    try:
        found = path.stat()
        if stat.S_ISDIR(found.st_mode) or not stat.S_ISREG(found.st_mode):
            raise FormatError("not a regular file", "name a file", str(path))
        if found.st_size > most_bytes:
            size = f"{found.st_size:,} bytes, more than {most_bytes:,}"
            raise FormatError(size, instead, str(path))
        with path.open("rb") as file:
            return file.read(most_bytes)
    except OSError as error:
        raise storage_error(error, str(path)) from None


def free_bytes(folder: Path) -> int:
    """Free space on the disk of a folder, for this user.

    Raises:
        StorageError: there is no such folder.
    """
    try:
        return shutil.disk_usage(folder).free
    except OSError as error:
        raise storage_error(error, str(folder)) from None


def copy_file(source: Path, target: Path) -> None:
    """Copy a file over another, making its folder.

    Raises:
        StorageError: the disk would not take it.
    """
    made(target.parent)
    try:
        shutil.copyfile(source, target)
    except OSError as error:
        raise storage_error(error, str(target), writing=True) from None


def read_json(raw: bytes, where: str) -> Any:
    """A JSON document.

    Raises:
        FormatError: it is none; names the line.
    """
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        line = getattr(error, "lineno", 1)
        raise FormatError("not JSON", "correct it", f"{where}:{line}") from None
