"""Write a stream to an FLV file as it arrives, under another name until it is whole."""

from __future__ import annotations

from pathlib import Path

from eager_kestrel.core.errors import InputError, StorageError
from eager_kestrel.files.home import made, storage_error


def require_new(path: Path) -> None:
    """Refuse a name that is no FLV file's, or taken, before anything comes.

    Raises:
        InputError: says what to do.
    """
    if path.suffix.lower() != ".flv":
        raise InputError(f'"{path.name}" is not an FLV file', "name it .flv")
    if path.exists():
        raise InputError(f"{path} already exists", "move it, or give another name")
    if part_of(path).exists():
        raise InputError(
            f"{part_of(path)} is there: an earlier recording that was never ended",
            "rename it to keep it, or give another name",
        )


def part_of(path: Path) -> Path:
    """What a recording is called until it is whole."""
    return path.with_name(path.name + ".part")


class StreamFile:
    """An FLV file being written; what came is kept whatever happens."""

    def __init__(self, path: Path, beginning: bytes) -> None:
        """Begin a file.

        Raises:
            InputError: its name is no FLV file's, or it already exists.
            StorageError: the disk does not take it.
        """
        require_new(path)
        made(path.parent)
        self._path, self._part = path, part_of(path)
        try:
            self._file = self._part.open("xb")
            self._file.write(beginning)
        except OSError as error:
            raise storage_error(error, str(path), writing=True) from None

    def add(self, piece: bytes) -> None:
        """Append.

        Raises:
            StorageError: the disk is full.
        """
        try:
            self._file.write(piece)
        except OSError as error:
            raise storage_error(error, str(self._path), writing=True) from None

    def close(self) -> None:
        """Give it its name, unless something else has taken it meanwhile.

        Raises:
            StorageError: it could not be written to its end, or named; it stays as it is.
        """
        try:
            self._file.close()
            if self._path.exists():
                raise StorageError(
                    "something else took that name", f"it is kept as {self._part}", str(self._path)
                )
            self._part.rename(self._path)
        except OSError as error:
            raise storage_error(error, str(self._path), writing=True) from None
