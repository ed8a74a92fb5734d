"""Writing documents so that nothing half-written is ever left: to a neighbour, then renamed."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from pathlib import Path

from eager_kestrel.files.home import made, storage_error


def write_text(path: Path, text: str | Iterable[str]) -> None:
    """Write a file whole or not at all, making its folder; text may come in pieces.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    import tempfile

    folder = made(path.parent)
    temporary: str | None = None
    try:
        handle, temporary = tempfile.mkstemp(dir=folder, prefix=f".{path.name}.")
        with os.fdopen(handle, "w", encoding="utf-8", newline="\n") as out:
            out.writelines([text] if isinstance(text, str) else text)
        Path(temporary).chmod(0o644)
        Path(temporary).replace(path)
        temporary = None
    except OSError as error:
        raise storage_error(error, str(path), writing=True) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


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
