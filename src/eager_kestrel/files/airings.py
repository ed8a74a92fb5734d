"""The airings kept on this machine: in the same database as the runs, under the same rules."""

from __future__ import annotations

import sqlite3

from pydantic import ValidationError

from eager_kestrel.core.errors import NotFoundError, StorageError
from eager_kestrel.core.line.airing import Airing, AiringRow
from eager_kestrel.files.history import DAMAGED, History


class AiringHistory(History):
    """The airings kept on this machine; open it in a ``with`` block."""

    def keep(self, airings: list[Airing]) -> int:
        """Keep airings, all or none; one that is kept already is replaced. Returns how many."""
        rows = [
            (
                one.id, one.taken_at, one.taken.timestamp(), one.platform, one.to, one.kind,
                one.lasted_seconds, one.typical_kbps, len(one.troubles), one.model_dump_json(),
            )
            for one in airings
        ]  # fmt: skip
        with self._transaction() as database:
            database.executemany(
                "INSERT OR REPLACE INTO airings VALUES (?,?,?,?,?,?,?,?,?,?)", rows
            )
        return len(rows)

    def airings(self, epoch: float = 0.0) -> list[Airing]:
        """Those that began at or after a moment, oldest first."""
        return self._airings(
            "SELECT document FROM airings WHERE taken_epoch >= ? ORDER BY taken_epoch, id", (epoch,)
        )

    def airing_rows(self) -> list[AiringRow]:
        """Every airing in a line, oldest first, without reading its seconds."""
        columns = "id, taken_at, platform, sent_to, kind, lasted_seconds, typical_kbps, troubles"
        try:
            found = self._connection.execute(
                f"SELECT {columns} FROM airings ORDER BY taken_epoch, id"  # noqa: S608 - our own names
            ).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._storage_error(error) from None
        return [AiringRow(**dict(zip(AiringRow.model_fields, row, strict=True))) for row in found]

    def find_airing(self, name: str) -> Airing:
        """An airing by its id, the beginning of one, or ``latest``.

        Raises:
            NotFoundError: none or several begin so.
        """
        if name == "latest":
            found = self._airings("SELECT document FROM airings ORDER BY taken_epoch DESC LIMIT 1")
        else:
            found = self._airings(
                "SELECT document FROM airings WHERE substr(id, 1, length(?1)) = ?1 "
                "ORDER BY id = ?1 DESC, taken_epoch LIMIT 2",
                (name,),
            )
        if not found:
            said = "no airing is kept" if name == "latest" else f'no airing "{name}" is kept'
            raise NotFoundError(said, "watch a show with eager-kestrel watch, or see runs list")
        if len(found) > 1 and found[0].id != name:
            raise NotFoundError(f'several begin with "{name}"', f"write {found[0].id} in full")
        return found[0]

    def forget_airings(self, ids: list[str]) -> int:
        """Remove airings by id; returns how many there were."""
        with self._transaction() as database:
            before = database.total_changes
            database.executemany("DELETE FROM airings WHERE id = ?", [(one,) for one in ids])
            return database.total_changes - before

    def _airings(self, query: str, values: tuple[object, ...] = ()) -> list[Airing]:
        try:
            rows = self._connection.execute(query, values).fetchall()
            return [Airing.model_validate_json(document) for (document,) in rows]
        except sqlite3.Error as error:
            raise self._storage_error(error) from None
        except (ValidationError, UnicodeDecodeError):
            raise StorageError(*DAMAGED, str(self.path)) from None
