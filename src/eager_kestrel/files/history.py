"""The history: every run with its samples and every broadcast, second by second.

Beside each document the file keeps what planning needs of it (``core/connection/evidence.py``),
derived when it is first needed and again whenever the rules for deriving it have changed.
"""

from __future__ import annotations

import json
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from math import inf
from typing import Any, Final, Generic, TypeAlias, TypeVar

import numpy as np

from eager_kestrel.core.connection.broadcast import Broadcast, BroadcastRow
from eager_kestrel.core.connection.evidence import (
    RULES,
    BroadcastEvidence,
    RunEvidence,
    broadcast_evidence,
    evidence_of,
)
from eager_kestrel.core.connection.run import Run, RunRow
from eager_kestrel.core.connection.throughput import FLOOR_PERCENTILE
from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.files.database import Database


@dataclass(frozen=True, slots=True)
class HistoryFilter:
    """Which rows are meant: all of them by default."""

    since: float = 0.0
    """Seconds since 1970; at or after."""
    before: float | None = None
    endpoint: str | None = None
    """For runs: towards this endpoint. For broadcasts: to this platform."""
    last: int | None = None
    """The newest so many."""
    ids: tuple[str, ...] | None = None
    """Only these."""


BATCH_SECONDS = 0.5
"""Of evidence that is derived in one transaction."""
AHEAD_SECONDS = 86_400.0
"""What is dated further ahead of now is of a wrong clock, or a typing error."""


def lately(days: float, until: float = inf) -> HistoryFilter:
    """What was taken by now, and in the last so many days before now or an earlier moment."""
    now = time.time()
    return HistoryFilter(min(until, now) - days * 86_400, now + AHEAD_SECONDS)


NOT_DERIVED = f"CASE WHEN rules = {RULES} THEN NULL ELSE document END"
"""The document of a row whose evidence could not be kept, since the disk takes nothing."""
K = TypeVar("K", Run, Broadcast)
Row: TypeAlias = tuple[object, ...]
"""What is written of a document: its id first, then the other columns of its table."""


@dataclass(frozen=True, slots=True)
class HistoryTable(Generic[K]):
    """A table of documents, and how errors name what is in it."""

    name: str
    model: type[K]
    towards: str
    """The column that :attr:`HistoryFilter.endpoint` is of."""
    columns: tuple[str, ...]
    """That are written with a document."""
    one: str
    hint: str

    def where(self, which: HistoryFilter) -> tuple[str, tuple[object, ...]]:
        """The clause that picks rows, oldest first, and its values."""
        terms: list[tuple[str, object]] = [("taken_epoch >= ?", which.since)]
        if which.before is not None:
            terms.append(("taken_epoch < ?", which.before))
        if which.endpoint is not None:
            terms.append((f"{self.towards} = ?", which.endpoint))
        if which.ids is not None:
            terms.append(("id IN (SELECT value FROM json_each(?))", json.dumps(which.ids)))
        picked = " AND ".join(term for term, _ in terms)
        values: tuple[object, ...] = tuple(value for _, value in terms)
        if which.last is not None:
            newest = (
                f"SELECT rowid FROM {self.name} WHERE {picked} ORDER BY taken_epoch DESC, id DESC"
            )
            picked = f"rowid IN ({newest} LIMIT ?)"
            values = (*values, which.last)
        return f"WHERE {picked} ORDER BY taken_epoch, id", values


RUNS: Final = HistoryTable(
    "runs",
    Run,
    "endpoint_name",
    (
        "id",
        "taken_at",
        "taken_epoch",
        "endpoint",
        "partial",
        "document",
        "kind",
        "endpoint_name",
        "failed",
        "imported_kbps",
        "typical_kbps",
    ),
    "run",
    "see eager-kestrel runs list",
)
BROADCASTS: Final = HistoryTable(
    "broadcasts",
    Broadcast,
    "platform",
    (
        "id",
        "taken_at",
        "taken_epoch",
        "platform",
        "sent_to",
        "kind",
        "lasted_seconds",
        "typical_kbps",
        "troubles",
        "document",
    ),
    "broadcast",
    "watch a show with eager-kestrel watch, or see runs list",
)


class History(Database):
    """The runs and broadcasts kept on this machine; open it in a ``with`` block."""

    # Runs

    def add(self, runs: Iterable[Run]) -> int:
        """Keep runs, all or none; one already kept (same id) stays as it is. Returns how many."""
        taken = list(runs)
        added = self.add_rows(run_row(run, run.model_dump_json()) for run in taken)
        if taken:
            self._derive(RUNS, HistoryFilter(ids=tuple(run.id for run in taken)), _derived_run)
        return added

    def add_rows(self, rows: Iterable[Row]) -> int:
        """As :meth:`add`, of rows with the very text to keep; nothing is derived yet."""
        return self._insert(RUNS, "OR IGNORE", rows)

    def evidence(self, which: HistoryFilter = HistoryFilter()) -> list[RunEvidence]:
        """What runs say of the connection, oldest first; those without a usable rate are left out.

        Documents are read only where their evidence is not derived yet.
        """
        self._derive(RUNS, which, _derived_run)
        clause, values = RUNS.where(which)
        query = (
            "SELECT id, taken_at, endpoint, endpoint_name, kind, partial, failed, imported_kbps, "
            f"max_kbps, watched_seconds, round_trip_ms, windows, steps, {NOT_DERIVED} FROM runs "
            f"{clause}"
        )
        with self.reading() as database:
            found = [_run_evidence(row) for row in database.execute(query, values)]
        return [one for one in found if one.usable or one.failed]

    def runs(self, which: HistoryFilter = HistoryFilter()) -> list[Run]:
        """Runs with all their samples, oldest first."""
        return self._documents(RUNS, which)

    def rows(self, which: HistoryFilter = HistoryFilter()) -> list[RunRow]:
        """Runs in a line each, oldest first, without their samples."""
        self._derive(RUNS, which, _derived_run)
        clause, values = RUNS.where(which)
        query = "SELECT id, taken_at, endpoint, typical_kbps, floor_kbps, partial, kind FROM runs "
        with self.reading() as database:
            return [
                RunRow(**dict(zip(RunRow.model_fields, row, strict=True)))
                for row in database.execute(query + clause, values)
            ]

    def find(self, name: str) -> Run:
        """A run by its id, the beginning of one, or ``latest``.

        Raises:
            NotFoundError: none or several begin so.
        """
        return self._find(RUNS, name)

    def forget(self, ids: Sequence[str]) -> int:
        """Remove runs by id; returns how many there were."""
        return self._forget(RUNS, ids)

    # Broadcasts

    def keep(self, broadcasts: Iterable[Broadcast]) -> int:
        """Keep broadcasts, all or none; one that is kept already is replaced. Returns how many."""
        return self.keep_rows(broadcast_row(one, one.model_dump_json()) for one in broadcasts)

    def keep_rows(self, rows: Iterable[Row]) -> int:
        """As :meth:`keep`, of rows with the very text to keep."""
        return self._insert(BROADCASTS, "OR REPLACE", rows)

    def broadcast_evidence(self, which: HistoryFilter = HistoryFilter()) -> list[BroadcastEvidence]:
        """What broadcasts say of the connection, oldest first."""
        self._derive(BROADCASTS, which, _derived_broadcast)
        clause, values = BROADCASTS.where(which)
        query = (
            "SELECT id, taken_at, platform, kind, stutters, seconds, "
            f"{NOT_DERIVED} FROM broadcasts {clause}"
        )
        with self.reading() as database:
            return [_broadcast_evidence(row) for row in database.execute(query, values)]

    def broadcasts(self, which: HistoryFilter = HistoryFilter()) -> list[Broadcast]:
        """Broadcasts with all their seconds, oldest first."""
        return self._documents(BROADCASTS, which)

    def broadcast_rows(self, which: HistoryFilter = HistoryFilter()) -> list[BroadcastRow]:
        """Broadcasts in a line each, oldest first, without their seconds."""
        clause, values = BROADCASTS.where(which)
        columns = "id, taken_at, platform, sent_to, kind, lasted_seconds, typical_kbps, troubles"
        with self.reading() as database:
            found = database.execute(
                f"SELECT {columns} FROM broadcasts {clause}", values
            ).fetchall()
        return [
            BroadcastRow(**dict(zip(BroadcastRow.model_fields, row, strict=True))) for row in found
        ]

    def find_broadcast(self, name: str) -> Broadcast:
        """A broadcast by its id, the beginning of one, or ``latest``.

        Raises:
            NotFoundError: none or several begin so.
        """
        return self._find(BROADCASTS, name)

    def forget_broadcasts(self, ids: Sequence[str]) -> int:
        """Remove broadcasts by id; returns how many there were."""
        return self._forget(BROADCASTS, ids)

    # Both

    def counts(self) -> tuple[int, int]:
        """How many runs and broadcasts are kept."""
        with self.reading() as database:
            return tuple(
                database.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
                for table in ("runs", "broadcasts")
            )

    def ids(self, table: HistoryTable[Any], which: HistoryFilter = HistoryFilter()) -> list[str]:
        """Ids of rows, oldest first."""
        clause, values = table.where(which)
        with self.reading() as database:
            query = f"SELECT id FROM {table.name} {clause}"
            return [name for (name,) in database.execute(query, values)]

    def texts(self, table: HistoryTable[Any]) -> Iterator[str]:
        """Every document as it is kept, oldest first, one at a time."""
        with self.reading() as database:
            query = f"SELECT document FROM {table.name} ORDER BY taken_epoch, id"
            for (text,) in database.execute(query):
                yield text

    def _insert(self, table: HistoryTable[Any], otherwise: str, rows: Iterable[Row]) -> int:
        marks = ", ".join("?" * len(table.columns))
        with self.transaction() as database:
            before = database.total_changes
            database.executemany(
                f"INSERT {otherwise} INTO {table.name} ({', '.join(table.columns)}) "
                f"VALUES ({marks})",
                rows,
            )
            return database.total_changes - before

    def _derive(
        self,
        table: HistoryTable[K],
        which: HistoryFilter,
        derived: Callable[[K], dict[str, object]],
    ) -> None:
        """Derive and keep the evidence of rows that have none, or one by other rules.

        In transactions of about a second, so that others get in between, and what is done stays
        done when somebody presses Ctrl-C.
        """
        if self.read_only:
            return
        clause, values = table.where(which)
        stale = clause.replace("WHERE", f"WHERE rules != {RULES} AND", 1)
        with self.reading() as database:
            numbers = database.execute(f"SELECT rowid FROM {table.name} {stale}", values).fetchall()
        left = [number for (number,) in numbers]
        while left:
            until = time.perf_counter() + BATCH_SECONDS
            with self.transaction() as database:
                while left and time.perf_counter() < until:
                    self._derive_row(database, table, left.pop(), derived)

    def _derive_row(
        self,
        database: sqlite3.Connection,
        table: HistoryTable[K],
        number: int,
        derived: Callable[[K], dict[str, object]],
    ) -> None:
        query = f"SELECT document FROM {table.name} WHERE rowid = ?"
        row = database.execute(query, (number,)).fetchone()
        if row is None:  # forgotten since
            return
        with self.reading():
            document = table.model.model_validate_json(row[0])
            columns: dict[str, object] = {"rules": RULES} | derived(document)
        sets = ", ".join(f"{name} = ?" for name in columns)
        database.execute(
            f"UPDATE {table.name} SET {sets} WHERE rowid = ?", (*columns.values(), number)
        )

    def _documents(self, table: HistoryTable[K], which: HistoryFilter) -> list[K]:
        clause, values = table.where(which)
        with self.reading() as database:
            rows = database.execute(f"SELECT document FROM {table.name} {clause}", values)
            return [table.model.model_validate_json(document) for (document,) in rows]

    def _find(self, table: HistoryTable[K], name: str) -> K:
        with self.reading() as database:
            if name == "latest":
                rows = database.execute(
                    f"SELECT document FROM {table.name} ORDER BY taken_epoch DESC LIMIT 1"
                ).fetchall()
            else:
                rows = database.execute(
                    f"SELECT document FROM {table.name} WHERE substr(id, 1, length(:name)) = :name "
                    "ORDER BY id = :name DESC, taken_epoch LIMIT 2",
                    {"name": name},
                ).fetchall()
            found = [table.model.model_validate_json(document) for (document,) in rows]
        if not found:
            said = f'no {table.one} "{name}" is kept'
            if name == "latest":
                said = f"no {table.one} is kept"
            raise NotFoundError(said, table.hint)
        if len(found) > 1 and found[0].id != name:
            raise NotFoundError(
                f'several {table.one}s begin with "{name}"', f"write {found[0].id} in full"
            )
        return found[0]

    def _forget(self, table: HistoryTable[Any], ids: Sequence[str]) -> int:
        with self.transaction() as database:
            before = database.total_changes
            database.executemany(
                f"DELETE FROM {table.name} WHERE id = ?", [(name,) for name in ids]
            )
            return database.total_changes - before


def run_row(run: Run, text: str) -> Row:
    """A run as it is kept, with its text."""
    return (
        run.id,
        run.taken_at,
        run.taken.timestamp(),
        run.endpoint.url,
        int(run.partial),
        text,
        run.kind,
        run.endpoint_name,
        int(bool(run.failed)),
        run.imported_kbps,
        run.imported_kbps,
    )


def broadcast_row(one: Broadcast, text: str) -> Row:
    """A broadcast as it is kept, with its text."""
    return (
        one.id,
        one.taken_at,
        one.taken.timestamp(),
        one.platform,
        one.server,
        one.kind,
        one.lasted_seconds,
        one.typical_kbps,
        len(one.troubles),
        text,
    )


def _derived_run(run: Run) -> dict[str, object]:
    """The columns of a run's evidence."""
    evidence = evidence_of(run)
    rates = evidence.windows_kbps
    typical, floor = run.imported_kbps, None
    if rates.size:
        low, middle = (float(x) for x in np.percentile(rates, [FLOOR_PERCENTILE, 50]))
        typical, floor = (round(middle, 1), round(low, 1)) if middle > 0 else (None, None)
    return {
        "typical_kbps": typical,
        "floor_kbps": floor,
        "max_kbps": evidence.max_kbps,
        "watched_seconds": evidence.watched_seconds,
        "round_trip_ms": evidence.round_trip_ms,
        "windows": rates.astype("<f4").tobytes(),
        "steps": evidence.steps_kbit.astype("<f4").tobytes(),
    }


def _derived_broadcast(broadcast: Broadcast) -> dict[str, object]:
    """The columns of a broadcast's evidence."""
    evidence = broadcast_evidence(broadcast)
    queued = np.round(evidence.queued_seconds * 1000)
    columns = np.stack([evidence.sent_kbps, evidence.carried_kbps, queued, evidence.counts])
    return {"stutters": evidence.stutters, "seconds": columns.astype("<i4").tobytes()}


def _run_evidence(row: Sequence[Any]) -> RunEvidence:
    *head, partial, failed, reading, most, watched, trip, windows, steps, text = row
    if text is not None:
        return evidence_of(Run.model_validate_json(text))
    name, taken_at, endpoint, endpoint_name, kind = head
    datetime.fromisoformat(taken_at)  # what is damaged is told while the file is read
    return RunEvidence(
        name,
        taken_at,
        endpoint,
        endpoint_name,
        kind,
        bool(partial),
        bool(failed),
        reading,
        most,
        np.frombuffer(windows, "<f4").astype(np.float64),
        np.frombuffer(steps, "<f4").astype(np.float64),
        watched,
        trip,
    )


def _broadcast_evidence(row: Sequence[Any]) -> BroadcastEvidence:
    name, taken_at, platform, kind, stutters, seconds, text = row
    if text is not None:
        return broadcast_evidence(Broadcast.model_validate_json(text))
    datetime.fromisoformat(taken_at)
    columns = np.frombuffer(seconds, "<i4").reshape(4, -1)
    sent, carried, queued = columns[:3].astype(np.float64)
    return BroadcastEvidence(
        name, taken_at, platform, kind, sent, carried, queued / 1000, columns[3] > 0, stutters
    )
