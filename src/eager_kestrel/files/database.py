"""The SQLite file behind the history: opening it, bringing it up to date, whole transactions.

Write-ahead logging keeps readers and a writer apart and a half-written run out; each change is one
transaction, safe under two processes and kill -9. The schema version is SQLite's ``user_version``;
``MIGRATIONS[n]`` leads from n to n + 1, and a database newer than this program is left alone.
"""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Self

from pydantic import ValidationError

from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.errors import StorageError
from eager_kestrel.core.previous import converted_text
from eager_kestrel.files.documents import free_bytes
from eager_kestrel.files.home import data_home, made, storage_error

FILE_NAME = "runs.sqlite3"
BUSY_SECONDS = 10.0
UNWRITABLE = ("readonly", "unable to open", "full", "disk I/O")
"""What is said of a disk that takes nothing; what is kept can still be read."""
LOCKED_SECONDS = 0.02
"""Between two tries."""
SPARE_BYTES = 65_536
"""Free space in the file from which on it is given back to the disk."""
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
    """
    ALTER TABLE runs ADD COLUMN place TEXT NOT NULL DEFAULT '';
    ALTER TABLE runs ADD COLUMN failed INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE runs ADD COLUMN reading_kbps REAL;
    ALTER TABLE runs ADD COLUMN most_kbps REAL;
    ALTER TABLE runs ADD COLUMN rules INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE runs ADD COLUMN windows BLOB;
    ALTER TABLE runs ADD COLUMN steps BLOB;
    ALTER TABLE airings ADD COLUMN rules INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE airings ADD COLUMN stutters INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE airings ADD COLUMN seconds BLOB;
    """,
    """
    ALTER TABLE airings RENAME TO broadcasts;
    ALTER TABLE runs RENAME COLUMN place TO endpoint_name;
    """,
    """
    ALTER TABLE runs ADD COLUMN watched_seconds REAL NOT NULL DEFAULT 0;
    """,
    """
    ALTER TABLE runs ADD COLUMN round_trip_ms REAL;
    """,
)
DOCUMENTS_SINCE = 5
"""The schema version from which on documents are of format 2."""

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


class Database:
    """The file the history is in; open it in a ``with`` block."""

    def __init__(self, folder: Path | None = None) -> None:
        self.path = (folder or data_home()) / FILE_NAME
        self._database: sqlite3.Connection | None = None
        self.read_only = False

    def __enter__(self) -> Self:
        try:
            made(self.path.parent)
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
            self._database = sqlite3.connect(self.path, timeout=BUSY_SECONDS, isolation_level=None)
            self._write_ahead(self._database)
        except sqlite3.OperationalError as error:
            if not any(sign in str(error) for sign in UNWRITABLE):
                raise
            self._open_to_read(error)
            return
        (version,) = self._database.execute("PRAGMA user_version").fetchone()
        refuse_newer(version, self.path)
        if version < len(MIGRATIONS):
            self._migrate()
        elif version:
            self._require_table()

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
        self.read_only = True
        (version,) = self._database.execute("PRAGMA user_version").fetchone()
        if version != len(MIGRATIONS):
            raise reason

    def _migrate(self) -> None:
        """Bring the schema up to date in one transaction, once even if two processes come."""
        database = self._connection
        with self.transaction():
            (version,) = database.execute("PRAGMA user_version").fetchone()
            for number in range(version, len(MIGRATIONS)):
                for statement in MIGRATIONS[number].split(";"):
                    if statement.strip():
                        database.execute(statement)
            if 0 < version < DOCUMENTS_SINCE:
                self._convert("runs")
                self._convert("broadcasts")
            database.execute(f"PRAGMA user_version = {len(MIGRATIONS)}")

    def _convert(self, table: str) -> None:
        """Bring documents of format 1 up to date; one that cannot be read stays as it is."""
        database = self._connection
        numbers = [number for (number,) in database.execute(f"SELECT rowid FROM {table}")]
        for number in numbers:
            with contextlib.suppress(ValueError, TypeError):
                (text,) = database.execute(
                    f"SELECT document FROM {table} WHERE rowid = ?", (number,)
                ).fetchone()
                text = converted_text(text)
                database.execute(f"UPDATE {table} SET document = ? WHERE rowid = ?", (text, number))
                if table == "runs":
                    run = Run.model_validate_json(text)
                    database.execute(
                        "UPDATE runs SET endpoint_name = ?, failed = ?, reading_kbps = ? "
                        "WHERE rowid = ?",
                        (run.endpoint_name, int(bool(run.failed)), run.reading_kbps, number),
                    )

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
                yield database
            except BaseException:
                database.execute("ROLLBACK")
                raise
            database.execute("COMMIT")
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except OSError as error:
            raise storage_error(error, str(self.path)) from None

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


def refuse_newer(version: int, path: Path) -> None:
    """Refuse a history of a later version of this program.

    Raises:
        StorageError: it is one.
    """
    if version > len(MIGRATIONS):
        raise StorageError(
            f"the run history is of version {version}, newer than this program",
            "update eager-kestrel",
            str(path),
        )
