"""Save what can still be read of a damaged history into a new one.

The new one is written aside, row by row, while everybody else is locked out. Once it is whole and
the damaged file has a second name, it takes the name that :func:`eager_kestrel.files.database.
finish_repair` looks for; from then on every command puts it in place before it opens the history. A
kill at any moment leaves either the damaged file or what was saved from it, and never neither.
"""

from __future__ import annotations

import contextlib
import itertools
import shutil
import sqlite3
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Generic

from pydantic import ValidationError

from eager_kestrel.core.connection.broadcast import Broadcast
from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.errors import NotFoundError, StorageError
from eager_kestrel.files.database import (
    BUSY_SECONDS,
    COMPANIONS,
    FILE_NAME,
    finish_repair,
    refuse_other,
    repaired_file,
)
from eager_kestrel.files.documents import replace_file
from eager_kestrel.files.history import (
    BROADCASTS,
    RUNS,
    History,
    HistoryTable,
    K,
    Row,
    broadcast_row,
    run_row,
)
from eager_kestrel.files.home import data_home, storage_error

MOST_UNKNOWN = 50_000
"""Row numbers that are tried one by one where nothing says how many there are."""
WRITING = "repairing"
"""The folder a fresh history is written in."""


@dataclass(frozen=True, slots=True)
class Repaired:
    """What became of it."""

    saved: int
    lost: int
    """Rows that are there and cannot be read."""
    kept_at: Path | None
    """Where the damaged file is now; None when there was nothing to repair."""


def repair(folder: Path | None = None) -> Repaired:
    """Save every run still readable into a fresh history; the damaged one is moved aside, whole.

    Raises:
        NotFoundError: there is no history.
        StorageError: it is of another version, or the disk does not take the fresh one; then
            everything is as it was.
    """
    home = folder or data_home()
    path = home / FILE_NAME
    if not path.is_file():
        raise NotFoundError(f"no run history is at {path}", "there is nothing to repair")
    finish_repair(path)
    with _alone(path) as database:
        with contextlib.suppress(sqlite3.Error):
            (version,) = database.execute("PRAGMA user_version").fetchone()
            refuse_other(version, path)
        database.text_factory = bytes
        runs = _Rows(database, RUNS, run_row)
        broadcasts = _Rows(database, BROADCASTS, broadcast_row)
        counts = [sum(1 for _ in rows.readable()) for rows in (runs, broadcasts)]
        lost = runs.lost + broadcasts.lost
        if not lost and _whole(database, *counts):
            return Repaired(sum(counts), 0, None)
        aside = _free_name(home / f"{FILE_NAME}.damaged-{time.strftime('%Y%m%d-%H%M%S')}")
        try:
            saved = _write(path, runs, broadcasts)
            for end in ("", *COMPANIONS):
                _second_name(path.with_name(path.name + end), aside.with_name(aside.name + end))
            replace_file(home / WRITING / FILE_NAME, repaired_file(path))
        except OSError as error:
            raise storage_error(error, str(path), writing=True) from None
    finish_repair(path)
    with contextlib.suppress(OSError):
        (home / WRITING).rmdir()
    return Repaired(saved, lost, aside)


@contextlib.contextmanager
def _alone(path: Path) -> Iterator[sqlite3.Connection]:
    """Open the file and lock every other process out until the block ends.

    Raises:
        StorageError: another process is using it.
    """
    with contextlib.closing(
        sqlite3.connect(path, timeout=BUSY_SECONDS, isolation_level=None)
    ) as database:
        try:
            database.execute("PRAGMA locking_mode = EXCLUSIVE")
            database.execute("BEGIN EXCLUSIVE")
        except sqlite3.Error as error:
            if "locked" in str(error) or "busy" in str(error):
                raise StorageError(
                    "another process is using the run history", "try again when it has ended"
                ) from None  # any other fault is what is to be repaired
        yield database


def _write(path: Path, runs: _Rows[Run], broadcasts: _Rows[Broadcast]) -> int:
    """Write what can be read into a fresh history beside the damaged one; returns how many."""
    fresh = path.parent / WRITING
    fresh.mkdir(exist_ok=True)
    for part in fresh.iterdir():  # of a repair that was killed
        part.unlink()
    with History(fresh) as history:
        return history.add_rows(runs.readable()) + history.keep_rows(broadcasts.readable())


def _free_name(path: Path) -> Path:
    """The path, or with a number behind it if a repair in the same second took it."""
    names = (path.with_name(f"{path.name}-{number}") for number in itertools.count(2))
    return next(name for name in itertools.chain([path], names) if not name.exists())


def _second_name(file: Path, name: Path) -> None:
    """Keep a file under another name as well, or as a copy where the disk knows no second names."""
    if not file.exists():
        return
    try:
        name.hardlink_to(file)
    except OSError:
        shutil.copyfile(file, name)


def _whole(database: sqlite3.Connection, runs: int, broadcasts: int) -> bool:
    """Whether the file is sound, and holds just what could be read."""
    with contextlib.suppress(sqlite3.Error):
        if database.execute("PRAGMA quick_check(1)").fetchone()[0] not in ("ok", b"ok"):
            return False
        counted = [
            database.execute(f"SELECT count(*) FROM {name}").fetchone()[0]
            for name in (RUNS.name, BROADCASTS.name)
        ]
        return counted == [runs, broadcasts]
    return False


@dataclass
class _Rows(Generic[K]):
    """The rows of a table that can be read, one at a time, and how many cannot."""

    database: sqlite3.Connection
    table: HistoryTable[K]
    row: Callable[[K, str], Row]
    lost: int = 0

    def readable(self) -> Iterator[Row]:
        """Each row to write, from the document as it is kept."""
        self.lost = 0
        query = f"SELECT document FROM {self.table.name} WHERE rowid = ?"
        for number in _numbers(self.database, self.table):
            try:
                found = self.database.execute(query, (number,)).fetchone()
                if found is None:
                    continue
                text = found[0].decode()
                one = self.table.model.model_validate_json(text)
            except (sqlite3.Error, ValidationError, ValueError, AttributeError):
                self.lost += 1
            else:
                yield self.row(one, text)


def _numbers(database: sqlite3.Connection, table: HistoryTable[Any]) -> Iterator[int]:
    """Every row number that may hold something: as the table says, from both ends.

    Between the last one that can be reached from the front and from the back each is tried, so
    that a damaged page costs what is on it and nothing else.
    """
    front, whole = _along(database, f"SELECT rowid FROM {table.name} ORDER BY rowid")
    yield from front
    if whole:
        return
    back, _ = _along(database, f"SELECT rowid FROM {table.name} ORDER BY rowid DESC")
    indexed, _ = _along(database, f"SELECT rowid FROM {table.name} ORDER BY taken_epoch")
    known = {*back, *indexed} - set(front)
    yield from sorted(known)
    begin = max(front, default=0) + 1
    end = min(back, default=max(indexed, default=begin + MOST_UNKNOWN) + 1)
    for number in range(begin, end):
        if number not in known and _there(database, table, number):
            yield number


def _along(database: sqlite3.Connection, query: str) -> tuple[list[int], bool]:
    """Row numbers until the database gives up, and whether it did not."""
    found: list[int] = []
    try:
        for (number,) in database.execute(query):
            found.append(number)
    except sqlite3.OperationalError as error:
        return found, "no such table" in str(error)  # from before there was one
    except sqlite3.Error:
        return found, False
    return found, True


def _there(database: sqlite3.Connection, table: HistoryTable[Any], number: int) -> bool:
    """Whether a row that nothing names can be reached."""
    with contextlib.suppress(sqlite3.Error):
        query = f"SELECT 1 FROM {table.name} WHERE rowid = ?"
        return database.execute(query, (number,)).fetchone() is not None
    return False
