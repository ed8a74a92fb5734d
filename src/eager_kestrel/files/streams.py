"""A stream written to a file as it comes: under another name until it is whole."""

from __future__ import annotations

from pathlib import Path

from eager_kestrel.core.errors import InputError
from eager_kestrel.files.home import made, storage_error


def require_new(path: Path) -> None:
    """Refuse a name that is no FLV file's, or taken, before anything comes.

    Raises:
        InputError: says what to do.
    """
    if path.suffix.lower() != ".flv":
        raise InputError(f'"{path.name}" is no FLV file', "name it .flv")
    if path.exists():
        raise InputError(f"{path} is there already", "move it, or give another name")


class StreamFile:
    """An FLV file being written; what came is kept whatever happens."""

    def __init__(self, path: Path, beginning: bytes) -> None:
        """Begin a file.

        Raises:
            InputError: its name is no FLV file's, or it is there already.
            StorageError: the disk does not take it.
        """
        require_new(path)
        made(path.parent)
        self._path, self._part = path, path.with_name(path.name + ".part")
        try:
            self._file = self._part.open("wb")
            self._file.write(beginning)
        except OSError as error:
            raise storage_error(error, str(path)) from None

    def add(self, piece: bytes) -> None:
        """Append.

        Raises:
            StorageError: the disk is full.
        """
        try:
            self._file.write(piece)
        except OSError as error:
            raise storage_error(error, str(self._path)) from None

    def close(self) -> None:
        """Give it its name."""
        try:
            self._file.close()
            self._part.replace(self._path)
        except OSError as error:
            raise storage_error(error, str(self._path)) from None
