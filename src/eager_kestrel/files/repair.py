"""Saving what can still be read of a damaged run history into a fresh one."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal, TypeVar

from pydantic import ValidationError

from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.line.airing import Airing
from eager_kestrel.core.line.run import Run
from eager_kestrel.files.airings import AiringHistory
from eager_kestrel.files.history import FILE_NAME
from eager_kestrel.files.home import data_home, storage_error

MOST_ROWS = 200_000
MISSES = 500
"""Rows in a row that cannot be read before the rest is given up."""
COMPANIONS = ("-wal", "-shm")
Table = Literal["runs", "airings"]
SELECT: dict[Table, str] = {
    "runs": "SELECT document FROM runs WHERE rowid = ?",
    "airings": "SELECT document FROM airings WHERE rowid = ?",
}
Kept = TypeVar("Kept", Run, Airing)


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
        StorageError: the disk does not take it; then everything is as it was.
    """
    home = folder or data_home()
    path = home / FILE_NAME
    if not path.is_file():
        raise NotFoundError(f"no run history is at {path}", "there is nothing to repair")
    runs, lost = _readable(path, "runs", Run)
    airings, gone = _readable(path, "airings", Airing)
    lost += gone
    if not lost and _opens(home, len(runs), len(airings)):
        return Repaired(len(runs) + len(airings), 0, None)
    aside = home / f"{FILE_NAME}.damaged-{time.strftime('%Y%m%d-%H%M%S')}"
    fresh = home / "repairing"
    try:
        fresh.mkdir(exist_ok=True)
        with AiringHistory(fresh) as history:
            history.add(runs)
            history.keep(airings)
        for end in ("", *COMPANIONS):
            part = path.with_name(path.name + end)
            if part.exists():
                part.rename(aside.with_name(aside.name + end))
        for end in ("", *COMPANIONS):
            part = fresh / (FILE_NAME + end)
            if part.exists():
                part.rename(path.with_name(path.name + end))
        fresh.rmdir()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    return Repaired(len(runs) + len(airings), lost, aside)


def _opens(home: Path, runs: int, airings: int) -> bool:
    with contextlib.suppress(Exception), AiringHistory(home) as history:
        return len(history.all()) == runs and len(history.airings()) == airings
    return False


def _readable(path: Path, table: Table, kind: type[Kept]) -> tuple[list[Kept], int]:
    """Everything of a table that can be read, and how many rows cannot."""
    found: dict[str, Kept] = {}
    lost = failing = 0
    for document in _documents(path, table):
        if document is None:  # a row, or past the end of what can be reached: the next one tells
            failing += 1
            continue
        lost, failing = lost + failing, 0
        try:
            one = kind.model_validate_json(document)
        except (ValidationError, ValueError):
            lost += 1
        else:
            found[one.id] = one
    return sorted(found.values(), key=lambda one: one.taken), lost


def _documents(path: Path, table: Table) -> Iterator[bytes | None]:
    """The rows one by one, so that one that fails costs only itself; None for one that does."""
    with contextlib.closing(sqlite3.connect(path)) as database:
        database.text_factory = bytes
        missed = 0
        for number in range(1, MOST_ROWS):
            try:
                row = database.execute(SELECT[table], (number,)).fetchone()
            except sqlite3.OperationalError as error:
                if "no such table" in str(error) and table == "airings":
                    return  # a history from before there were any
                missed += 1
                yield None
            except sqlite3.Error:
                missed += 1
                yield None
            else:
                missed = 0 if row is not None else missed + 1
                if row is not None:
                    yield row[0] if isinstance(row[0], bytes) else None
            if missed > MISSES:
                return
