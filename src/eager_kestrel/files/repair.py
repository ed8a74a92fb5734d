"""Save what can still be read of a damaged history into a new one."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from eager_kestrel.core.connection.broadcast import Broadcast
from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.errors import NotFoundError, StorageError
from eager_kestrel.files.database import BUSY_SECONDS, FILE_NAME, refuse_other
from eager_kestrel.files.history import (
    BROADCASTS,
    RUNS,
    History,
    HistoryTable,
    K,
    broadcast_row,
    run_row,
)
from eager_kestrel.files.home import data_home, storage_error

MOST_UNKNOWN = 50_000
"""Row numbers that are tried one by one where nothing says how many there are."""
COMPANIONS = ("-wal", "-shm")


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
    with _alone(path) as database:
        with contextlib.suppress(sqlite3.Error):
            (version,) = database.execute("PRAGMA user_version").fetchone()
            refuse_other(version, path)
        runs, lost = _readable(database, RUNS)
        broadcasts, gone = _readable(database, BROADCASTS)
        lost, saved = lost + gone, len(runs) + len(broadcasts)
        if not lost and _whole(database, len(runs), len(broadcasts)):
            return Repaired(saved, 0, None)
        aside = home / f"{FILE_NAME}.damaged-{time.strftime('%Y%m%d-%H%M%S')}"
        try:
            _swap(path, aside, runs, broadcasts)
        except OSError as error:
            raise storage_error(error, str(path)) from None
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


def _swap(
    path: Path,
    aside: Path,
    runs: list[tuple[Run, str]],
    broadcasts: list[tuple[Broadcast, str]],
) -> None:
    """A fresh history in place of the damaged one, which is moved aside."""
    fresh = path.parent / "repairing"
    fresh.mkdir(exist_ok=True)
    with History(fresh) as history:
        history.add_rows(run_row(*one) for one in runs)
        history.keep_rows(broadcast_row(*one) for one in broadcasts)
    for end in ("", *COMPANIONS):
        part = path.with_name(path.name + end)
        if part.exists():
            part.rename(aside.with_name(aside.name + end))
    for end in ("", *COMPANIONS):
        part = fresh / (FILE_NAME + end)
        if part.exists():
            part.rename(path.with_name(path.name + end))
    fresh.rmdir()


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


def _readable(
    database: sqlite3.Connection, table: HistoryTable[K]
) -> tuple[list[tuple[K, str]], int]:
    """Everything of a table that can be read, with its text, and how many rows cannot."""
    found: dict[str, tuple[K, str]] = {}
    lost = 0
    database.text_factory = bytes
    for number in _numbers(database, table):
        try:
            row = database.execute(
                f"SELECT document FROM {table.name} WHERE rowid = ?", (number,)
            ).fetchone()
            if row is None:
                continue
            text = row[0].decode()
            one = table.model.model_validate_json(text)
        except (sqlite3.Error, ValidationError, ValueError, AttributeError):
            lost += 1
        else:
            found[one.id] = (one, text)
    return sorted(found.values(), key=lambda one: one[0].taken), lost


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
