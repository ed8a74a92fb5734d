"""A whole home in one file: a ZIP of the history's export, and of guides, plans and footage.

What this machine's encoders do, and the encodes of trials, stay: they are this machine's.
"""

from __future__ import annotations

import contextlib
import filecmp
import shutil
import tempfile
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath

from eager_kestrel.core.errors import FormatError
from eager_kestrel.files.documents import MACHINE_FILE, file_bytes, free_bytes, written
from eager_kestrel.files.home import data_home, made, storage_error

HISTORY = "runs.json"
TAKEN = ("*.json", "guides/**/*", "footage/**/*")
MOST_TIMES = 200
"""How many times its size on the disk a packed file may have."""


def pack(history: Iterable[str], path: Path) -> int:
    """Write the history's export, in pieces, and every other file; returns how many files.

    Raises:
        StorageError: one cannot be read, or the disk does not take it.
    """
    home = data_home()
    files = sorted({file for taken in TAKEN for file in home.glob(taken) if file.is_file()})
    files = [file for file in files if file.name != MACHINE_FILE]
    with written(path) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as packed:
        with packed.open(HISTORY, "w", force_zip64=True) as out:
            for piece in history:
                out.write(piece.encode())
        for file in files:
            packed.write(file, PurePosixPath("home", file.relative_to(home).as_posix()).as_posix())
    return len(files)


@contextlib.contextmanager
def unpacked(path: Path) -> Iterator[Path]:
    """What a packed home holds, in a folder for as long as the block lasts.

    Raises:
        FormatError: it is none, it is damaged, or it claims to be far larger than it is.
        StorageError: it cannot be read, or the disk does not take it.
    """
    most = MOST_TIMES * file_bytes(path)
    with tempfile.TemporaryDirectory() as folder:
        try:
            with zipfile.ZipFile(path) as packed:
                whole = sum(one.file_size for one in packed.infolist())
                if whole > min(most, free_bytes(Path(folder))):
                    raise FormatError("unpacked it would fill the disk", "export again", str(path))
                if HISTORY not in packed.namelist():
                    raise FormatError("no exported home", "export one: runs export home.zip")
                packed.extractall(folder)
        except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, ValueError):
            raise FormatError("not a whole ZIP file", "export again", str(path)) from None
        except OSError as error:
            raise storage_error(error, str(path)) from None
        yield Path(folder)


def take_files(folder: Path) -> tuple[int, list[str]]:
    """Copy the files of an unpacked home; what is there already stays.

    Returns:
        How many were copied, and a line for each that differs from what is there.
    """
    home, copied, differ = data_home(), 0, list[str]()
    for file in sorted(one for one in (folder / "home").rglob("*") if one.is_file()):
        name = file.relative_to(folder / "home")
        if not any(name.match(taken.replace("**/", "")) for taken in TAKEN):
            continue
        target = home / name
        if not target.exists():
            made(target.parent)
            with written(target, private=True) as part:
                shutil.copyfile(file, part)
            copied += 1
            continue
        alike = False
        with contextlib.suppress(OSError):  # what cannot be read stays, too
            alike = filecmp.cmp(file, target, shallow=False)
        if not alike:
            differ.append(f"{name.as_posix()} is there already and differs: it stays as it is")
    return copied, differ
