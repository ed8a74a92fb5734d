"""The run history in SQLite: every run with its samples, safe under two processes and kill -9.

Write-ahead logging keeps readers and a writer apart and a half-written run out; each change is one
transaction. The schema version is SQLite's ``user_version``; ``MIGRATIONS[n]`` leads from n to
n + 1, and a database newer than this program is left alone.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Self

from pydantic import ValidationError

from eager_kestrel.core.errors import NotFoundError, StorageError
from eager_kestrel.core.line.run import Run
from eager_kestrel.core.line.summarising import run_uplink
from eager_kestrel.core.line.summary import RunRow
from eager_kestrel.files.home import data_home, made, storage_error

FILE_NAME = "runs.sqlite3"
BUSY_SECONDS = 10.0
UNWRITABLE = ("readonly", "unable to open", "full", "disk I/O")
"""What is said of a disk that takes nothing; what is kept can still be read."""
MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE runs (
        id TEXT PRIMARY KEY,
        taken_at TEXT NOT NULL,
        taken_epoch REAL NOT NULL,
        endpoint TEXT NOT NULL,
        typical_kbps REAL,
        floor_kbps REAL,
        partial INTEGER NOT NULL,
        document TEXT NOT NULL
    ) STRICT;
    CREATE INDEX runs_by_time ON runs (taken_epoch);
    """,
    """
    ALTER TABLE runs ADD COLUMN kind TEXT NOT NULL DEFAULT 'measured';
    UPDATE runs SET kind = 'practice'
        WHERE endpoint LIKE 'http://127.%' OR endpoint LIKE 'http://localhost%';
    """,
    """
    CREATE TABLE airings (
        id TEXT PRIMARY KEY,
        taken_at TEXT NOT NULL,
        taken_epoch REAL NOT NULL,
        platform TEXT NOT NULL,
        sent_to TEXT NOT NULL,
        kind TEXT NOT NULL,
        lasted_seconds REAL NOT NULL,
        typical_kbps REAL NOT NULL,
        troubles INTEGER NOT NULL,
        document TEXT NOT NULL
    ) STRICT;
    CREATE INDEX airings_by_time ON airings (taken_epoch);
    """,
)

_WHY = (
    ("readonly", "the run history is read-only", "set EAGER_KESTREL_HOME to a folder of your own"),
    ("full", "the disk is full", "free some space"),
    ("unable to open", "the run history cannot be opened", "check the folder's permissions"),
    ("locked", "another process is holding the run history", "try again"),
    ("disk i/o", "the disk failed", "check it"),
)
DAMAGED = ("the run history is damaged; nothing in it was changed",
           "eager-kestrel runs repair saves every run that can still be read")  # fmt: skip
"""Of whatever else the database says: its own words help nobody."""


class History:
    """The runs kept on this machine; open it in a ``with`` block."""

    def __init__(self, folder: Path | None = None) -> None:
        self.path = (folder or data_home()) / FILE_NAME
        self._database: sqlite3.Connection | None = None

    def __enter__(self) -> Self:
        try:
            made(self.path.parent)
            self._open()
        except sqlite3.Error as error:
            self._close()
            raise self._storage_error(error) from None
        return self

    def __exit__(self, *_: object) -> None:
        self._close()

    def _close(self) -> None:
        if self._database is not None:
            self._database.close()
            self._database = None

    def _open(self) -> None:
        try:
            self._database = sqlite3.connect(self.path, timeout=BUSY_SECONDS, isolation_level=None)
            self._database.execute("PRAGMA journal_mode = WAL")
        except sqlite3.OperationalError as error:
            if not any(sign in str(error) for sign in UNWRITABLE):
                raise
            self._open_to_read(error)
            return
        (version,) = self._database.execute("PRAGMA user_version").fetchone()
        if version > len(MIGRATIONS):
            raise StorageError(
                f"the run history is of version {version}, newer than this program",
                "update eager-kestrel",
                str(self.path),
            )
        if version < len(MIGRATIONS):
            self._migrate()
        elif version:
            self._require_table()

    def _require_table(self) -> None:
        """A history whose table is gone is damaged, not empty."""
        self._connection.execute("SELECT id, kind FROM runs LIMIT 1").fetchone()

    def _open_to_read(self, reason: sqlite3.OperationalError) -> None:
        """On a read-only disk the log cannot be written, but what is kept can still be read."""
        self._close()
        if not self.path.is_file():
            raise reason
        address = f"{self.path.resolve().as_uri()}?mode=ro&immutable=1"
        self._database = sqlite3.connect(address, uri=True, isolation_level=None)
        (version,) = self._database.execute("PRAGMA user_version").fetchone()
        if version != len(MIGRATIONS):
            raise reason

    def _migrate(self) -> None:
        """Bring the schema up to date in one transaction, once even if two processes come."""
        database = self._connection
        with self._transaction():
            (version,) = database.execute("PRAGMA user_version").fetchone()
            for number in range(version, len(MIGRATIONS)):
                for statement in MIGRATIONS[number].split(";"):
                    if statement.strip():
                        database.execute(statement)
            database.execute(f"PRAGMA user_version = {len(MIGRATIONS)}")

    @property
    def _connection(self) -> sqlite3.Connection:
        if self._database is None:
            raise StorageError("the run history is not open", where=str(self.path))
        return self._database

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        database = self._connection
        try:
            database.execute("BEGIN IMMEDIATE")
            try:
                yield database
            except BaseException:
                database.execute("ROLLBACK")
                raise
            database.execute("COMMIT")
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except OSError as error:
            raise storage_error(error, str(self.path)) from None

    def _storage_error(self, error: Exception) -> StorageError:
        text = str(error).lower()
        for sign, what, instead in _WHY:
            if sign in text:
                return StorageError(what, instead, str(self.path))
        return StorageError(*DAMAGED, str(self.path))

    def add(self, runs: list[Run]) -> int:
        """Keep runs, all or none; one already kept (same id) stays as it is. Returns how many."""
        rows = [_row(run) for run in runs]
        with self._transaction() as database:
            before = database.total_changes
            database.executemany("INSERT OR IGNORE INTO runs VALUES (?,?,?,?,?,?,?,?,?)", rows)
            return database.total_changes - before

    def since(self, epoch: float = 0.0) -> list[Run]:
        """Runs with a usable rate taken at or after a moment, oldest first."""
        return self._read(
            "SELECT document FROM runs WHERE typical_kbps IS NOT NULL AND taken_epoch >= ? "
            "ORDER BY taken_epoch, id",
            (epoch,),
        )

    def all(self) -> list[Run]:
        """Every run, oldest first."""
        return self._read("SELECT document FROM runs ORDER BY taken_epoch, id")

    def rows(self) -> list[RunRow]:
        """Every run in a line, oldest first, without reading its samples."""
        try:
            found = self._connection.execute(
                "SELECT id, taken_at, endpoint, typical_kbps, floor_kbps, partial, kind "
                "FROM runs ORDER BY taken_epoch, id"
            ).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._storage_error(error) from None
        return [RunRow(*row) for row in found]

    def find(self, name: str) -> Run:
        """A run by its id, the beginning of one, or ``latest``.

        Raises:
            NotFoundError: none or several begin so.
        """
        if name == "latest":
            rows = self._read("SELECT document FROM runs ORDER BY taken_epoch DESC LIMIT 1")
        else:
            rows = self._read(
                "SELECT document FROM runs WHERE substr(id, 1, length(?1)) = ?1 "
                "ORDER BY id = ?1 DESC, taken_epoch LIMIT 2",
                (name,),
            )
        if not rows:
            raise NotFoundError(f'no run "{name}" is kept', "see eager-kestrel runs list")
        if len(rows) > 1 and rows[0].id != name:
            raise NotFoundError(f'several runs begin with "{name}"', f"write {rows[0].id} in full")
        return rows[0]

    def forget(self, ids: list[str]) -> int:
        """Remove runs by id; returns how many there were."""
        with self._transaction() as database:
            before = database.total_changes
            database.executemany("DELETE FROM runs WHERE id = ?", [(run_id,) for run_id in ids])
            return database.total_changes - before

    def _read(self, query: str, values: tuple[object, ...] = ()) -> list[Run]:
        try:
            rows = self._connection.execute(query, values).fetchall()
            return [Run.model_validate_json(document) for (document,) in rows]
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except (ValidationError, UnicodeDecodeError):
            raise StorageError(*DAMAGED, str(self.path)) from None


def _row(run: Run) -> tuple[object, ...]:
    uplink = run_uplink(run)
    return (
        run.id,
        run.taken_at,
        run.taken.timestamp(),
        run.endpoint.url,
        uplink.typical_kbps if uplink else run.reading_kbps,
        uplink.floor_kbps if uplink else None,
        int(run.partial),
        run.model_dump_json(),
        run.kind,
    )
