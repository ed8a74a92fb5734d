"""The SQLite file behind the history: opening it, making its tables, whole transactions.

Write-ahead logging keeps readers and a writer apart and a half-written run out; each change is one
transaction, safe under two processes and kill -9. The schema version is SQLite's ``user_version``;
a database of another version is refused and left alone.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Self

from pydantic import ValidationError

from eager_kestrel.core.errors import StorageError
from eager_kestrel.files.documents import free_bytes, replace_file
from eager_kestrel.files.home import data_home, made, storage_error

FILE_NAME = "runs.sqlite3"
BUSY_SECONDS = 10.0
UNWRITABLE = ("readonly", "unable to open", "full", "disk I/O")
"""What is said of a disk that takes nothing; what is kept can still be read."""
LOCKED_SECONDS = 0.02
"""Between two tries."""
COMPANIONS = ("-wal", "-shm")
"""Files that SQLite keeps beside it."""
SPARE_BYTES = 65_536
"""Free space in the file from which on it is given back to the disk."""
VERSION = 9
"""Of the schema; raised with every change."""
SCHEMA = (
    """
    CREATE TABLE runs (
        id TEXT PRIMARY KEY,
        taken_at TEXT NOT NULL,
        taken_epoch REAL NOT NULL,
        endpoint TEXT NOT NULL,
        endpoint_name TEXT NOT NULL,
        kind TEXT NOT NULL,
        partial INTEGER NOT NULL,
        failed INTEGER NOT NULL,
        typical_kbps REAL,
        floor_kbps REAL,
        imported_kbps REAL,
        max_kbps REAL,
        watched_seconds REAL NOT NULL DEFAULT 0,
        round_trip_ms REAL,
        rules INTEGER NOT NULL DEFAULT 0,
        windows BLOB,
        steps BLOB,
        document TEXT NOT NULL
    ) STRICT
    """,
    "CREATE INDEX runs_by_time ON runs (taken_epoch)",
    """
    CREATE TABLE broadcasts (
        id TEXT PRIMARY KEY,
        taken_at TEXT NOT NULL,
        taken_epoch REAL NOT NULL,
        platform TEXT NOT NULL,
        sent_to TEXT NOT NULL,
        kind TEXT NOT NULL,
        lasted_seconds REAL NOT NULL,
        typical_kbps REAL NOT NULL,
        troubles INTEGER NOT NULL,
        stutters INTEGER NOT NULL DEFAULT 0,
        rules INTEGER NOT NULL DEFAULT 0,
        seconds BLOB,
        document TEXT NOT NULL
    ) STRICT
    """,
    "CREATE INDEX broadcasts_by_time ON broadcasts (taken_epoch)",
)

LOG_BYTES = 262_144
"""A disk with less room does not take the log's first pages."""

_WHY = (
    ("readonly", "the run history is read-only", "set EAGER_KESTREL_HOME to a folder of your own"),
    ("full", "the disk is full", "free some space"),
    ("unable to open", "the run history cannot be opened", "check the folder's permissions"),
    ("locked", "another process is holding the run history", "try again"),
    ("disk i/o", "the disk failed", "check it"),
)
DAMAGED = (
    "the run history is damaged; nothing in it was changed",
    "eager-kestrel runs repair saves every run that can still be read",
)
"""Of whatever else the database says: its own words help nobody."""


def repaired_file(path: Path) -> Path:
    """What was saved of a damaged history, whole, until it is put in its place."""
    return path.with_name(f"{path.name}.repaired")


def finish_repair(path: Path) -> None:
    """Put what was saved of a damaged history in its place, if that is still to be done.

    Raises:
        StorageError: the disk, or another program, does not let it.
    """
    repaired = repaired_file(path)
    if not repaired.exists():
        return
    try:
        for end in COMPANIONS:  # the log of the damaged one is not for this one
            path.with_name(path.name + end).unlink(missing_ok=True)
        replace_file(repaired, path)
    except FileNotFoundError:  # another process was faster
        pass
    except OSError as error:
        raise storage_error(error, str(path), writing=True) from None


class Database:
    """The file the history is in; open it in a ``with`` block."""

    def __init__(self, folder: Path | None = None) -> None:
        self.path = (folder or data_home()) / FILE_NAME
        self._database: sqlite3.Connection | None = None
        self.read_only = False
        self._number = 0
        """Of the file, on its disk."""

    def __enter__(self) -> Self:
        try:
            made(self.path.parent)
            finish_repair(self.path)
            self._open()
        except sqlite3.Error as error:
            self._close()
            raise self._storage_error(error) from None
        except BaseException:
            self._close()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        self._close()

    def _close(self) -> None:
        if self._database is not None:
            self._database.close()
            self._database = None

    def _open(self) -> None:
        try:
            if not self.path.exists():  # only its owner may read it and its log
                self.path.touch(0o600)
            self._number = self.path.stat().st_ino
            self._database = sqlite3.connect(self.path, timeout=BUSY_SECONDS, isolation_level=None)
            self._version(self._database)
            self._write_ahead(self._database)
        except sqlite3.OperationalError as error:
            if not any(sign in str(error) for sign in UNWRITABLE):
                raise
            self._open_to_read(error)
            return
        if self._version(self._database):
            self._connection.execute("SELECT id, kind FROM runs LIMIT 1").fetchone()
        else:
            self._make()

    def _write_ahead(self, database: sqlite3.Connection) -> None:
        """Keep a log beside the file. SQLite does not wait for another process here, so we do."""
        until = time.perf_counter() + BUSY_SECONDS
        while True:
            try:
                database.execute("PRAGMA journal_mode = WAL")
            except sqlite3.OperationalError as error:
                if "locked" not in str(error) or time.perf_counter() > until:
                    raise
                time.sleep(LOCKED_SECONDS)
            else:
                return

    def _open_to_read(self, reason: sqlite3.OperationalError) -> None:
        """On a read-only disk the log cannot be written, but what is kept can still be read."""
        self._close()
        if not self.path.is_file():
            raise reason
        address = f"{self.path.resolve().as_uri()}?mode=ro&immutable=1"
        self._database = sqlite3.connect(address, uri=True, isolation_level=None)
        self.read_only = True
        if not self._version(self._database):
            raise reason

    def _version(self, database: sqlite3.Connection) -> int:
        """The version of the schema; 0 for a file with nothing in it yet."""
        (version,) = database.execute("PRAGMA user_version").fetchone()
        refuse_other(version, self.path)
        return int(version)

    def _make(self) -> None:
        """Make the tables in one transaction, once even if two processes come."""
        with self.transaction() as database:
            if database.execute("PRAGMA user_version").fetchone() == (VERSION,):
                return
            for statement in SCHEMA:
                database.execute(statement)
            database.execute(f"PRAGMA user_version = {VERSION}")

    @property
    def _connection(self) -> sqlite3.Connection:
        if self._database is None:
            raise StorageError("the run history is not open", where=str(self.path))
        return self._database

    @contextlib.contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """A block whose changes are made all or not at all."""
        database = self._connection
        try:
            database.execute("BEGIN IMMEDIATE")
            try:
                self._require_place()
                yield database
            except BaseException:
                database.execute("ROLLBACK")
                raise
            database.execute("COMMIT")
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except OSError as error:
            raise storage_error(error, str(self.path)) from None

    def _require_place(self) -> None:
        """Write into no file that a repair has put aside since it was opened.

        Raises:
            StorageError: it has.
        """
        if repaired_file(self.path).exists() or self.path.stat().st_ino != self._number:
            raise StorageError("the run history was just repaired", "try again", str(self.path))

    @contextlib.contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """Whatever the database or a document says is wrong becomes one line."""
        try:
            yield self._connection
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except (ValidationError, ValueError, TypeError):
            raise StorageError(*DAMAGED, str(self.path)) from None

    def _storage_error(self, error: Exception) -> StorageError:
        text = str(error).lower()
        if "readonly" in text and self._disk_full():  # then it was opened to be read
            text = "full"
        for sign, what, instead in _WHY:
            if sign in text:
                return StorageError(what, instead, str(self.path))
        return StorageError(*DAMAGED, str(self.path))

    def _disk_full(self) -> bool:
        with contextlib.suppress(StorageError):
            return free_bytes(self.path.parent) < LOG_BYTES
        return False

    def size_bytes(self) -> int:
        """What the history takes on the disk, its log included."""
        parts = (self.path, self.path.with_name(self.path.name + "-wal"))
        return sum(part.stat().st_size for part in parts if part.exists())

    def compact(self) -> None:
        """Give free space in the file back to the disk, unless somebody else is at it."""
        with contextlib.suppress(sqlite3.Error):
            database = self._connection
            free = database.execute("PRAGMA freelist_count").fetchone()[0]
            page = database.execute("PRAGMA page_size").fetchone()[0]
            if free * page >= SPARE_BYTES:
                database.execute("VACUUM")
            database.execute("PRAGMA wal_checkpoint(TRUNCATE)")


def refuse_other(version: int, path: Path) -> None:
    """Refuse a history whose schema this program does not know; nothing of it is touched.

    Raises:
        StorageError: it is of another version, and was not just begun.
    """
    if version in (0, VERSION):
        return
    what = f"the run history is of version {version}; this program reads version {VERSION}"
    instead = "update eager-kestrel" if version > VERSION else "move the file away to begin anew"
    raise StorageError(what, instead, str(path))
