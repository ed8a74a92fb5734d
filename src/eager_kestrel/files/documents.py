"""Write documents so that nothing half-written is ever left.

Documents that a person names, and those kept beside the history, a JSON document a file.
"""

from __future__ import annotations

import contextlib
import csv
import io
import json
import os
import shutil
import stat
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from pydantic import BaseModel, ValidationError

from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError, MissingError, printable_in
from eager_kestrel.files.home import data_home, made, storage_error

if TYPE_CHECKING:
    from eager_kestrel.core.show.machine import MeasuredMachine


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
        replace_file(temporary, path)
        temporary = None
    except OSError as error:
        raise storage_error(error, str(path), writing=True) from None
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


HELD = (5, 32)
"""What Windows says of a file that another program has open: access denied, sharing violation."""
HELD_SECONDS = 2.0


def replace_file(source: Path, target: Path) -> None:
    """Rename a file over another; one that another program holds for a moment is waited for.

    Raises:
        OSError: it cannot be renamed.
    """
    until = time.monotonic() + HELD_SECONDS
    while True:
        try:
            source.replace(target)
        except PermissionError as error:
            if getattr(error, "winerror", None) not in HELD or time.monotonic() > until:
                raise
            time.sleep(HELD_SECONDS / 40)
        else:
            return


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


MOST_DOCUMENT_BYTES = 50_000_000
"""Of a plan or another document of ours; a plan for many destinations has a few hundred kB."""


def read_bounded(path: Path, most_bytes: int, instead: str = "name another file") -> bytes:
    """A file's bytes, looked at before it is read: regular files only, and not without end.

    Args:
        most_bytes: that it may have.

    Raises:
        FormatError: it is no regular file, or larger.
        StorageError: it cannot be read.
    """
    found = file_bytes(path)
    if found > most_bytes:
        raise FormatError(f"{found:,} bytes, more than {most_bytes:,}", instead, str(path))
    try:
        with path.open("rb") as file:
            return file.read(most_bytes)
    except OSError as error:
        raise storage_error(error, str(path)) from None


def file_bytes(path: Path) -> int:
    """How large a file is; it is not opened, since a pipe nobody writes to would wait for ever.

    Raises:
        FormatError: it is no regular file.
        StorageError: it cannot be looked at.
    """
    try:
        found = path.stat()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    if not stat.S_ISREG(found.st_mode):
        raise FormatError("not a regular file", "name a file", str(path))
    return found.st_size


def csv_text(rows: Iterable[Iterable[object]]) -> str:
    """Rows as CSV; no cell is one that a spreadsheet would run."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerows(
        [
            (f"'{cell}" if isinstance(cell, str) and cell[:1] in ("=", "+", "-", "@") else cell)
            for cell in row
        ]
        for row in rows
    )
    return out.getvalue()


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
        return printable_in(json.loads(raw))
    except (ValueError, RecursionError) as error:
        line = getattr(error, "lineno", 1)
        raise FormatError("not JSON", "correct it", f"{where}:{line}") from None


M = TypeVar("M", bound=BaseModel)


def read_kept(name: str, kind: str, model: type[M]) -> M | None:
    """A document of the program's own folder; None when there is none.

    Args:
        kind: as its ``format`` says.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    path = data_home() / name
    try:
        raw = read_bounded(path, MOST_DOCUMENT_BYTES)
    except MissingError:
        return None
    document = read_json(raw, str(path))
    require_format(document.get("format") if isinstance(document, dict) else None, kind, str(path))
    try:
        return model.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it, or move it away", str(path)) from None


def write_kept(name: str, document: BaseModel) -> None:
    """Keep it.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_text(data_home() / name, document.model_dump_json(indent=2) + "\n", private=True)


MACHINE_FILE = "machine.json"


def is_measured() -> bool:
    """Whether there is a file of figures."""
    return (data_home() / MACHINE_FILE).exists()


def read_machine() -> MeasuredMachine | None:
    """What was measured last; None when nothing was.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    from eager_kestrel.core.show.machine import MeasuredMachine

    return read_kept(MACHINE_FILE, "machine", MeasuredMachine)


def write_machine(measured: MeasuredMachine) -> None:
    """Keep it.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_kept(MACHINE_FILE, measured)
