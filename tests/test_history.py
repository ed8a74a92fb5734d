"""The history: other versions, keys of later ones, repair, what is listed and let go."""

from __future__ import annotations

import json
import sqlite3
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.files.database import FILE_NAME, VERSION
from eager_kestrel.files.history import BROADCASTS, RUNS, History, HistoryFilter
from eager_kestrel.files.repair import repair
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel
from tests.test_runs import at, kept

EVER = ("--days", "3650")


def add_keys(home: Path, table: str) -> None:
    """What a later version may write: a key that this one does not know, in every document."""
    with closing(sqlite3.connect(home / FILE_NAME)) as database:
        for number, text in database.execute(f"SELECT rowid, document FROM {table}").fetchall():
            document = json.loads(text) | {"weather": {"rain": True}}
            if "one_connection" in document:
                document["one_connection"]["colour"] = "blue"
            database.execute(
                f"UPDATE {table} SET document = ?, rules = 0 WHERE rowid = ?",
                (json.dumps(document), number),
            )
        database.commit()


def test_unknown_keys_are_ignored_and_kept(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for hour in range(20, 23):
        kept(at(hour, 8000))
    with History() as history:
        history.keep([a_broadcast([4000] * 30)])
    before = kestrel("plan", "--for", "oxbow", *EVER, "--json").document["uplink"]
    for table in ("runs", "broadcasts"):
        add_keys(home, table)
    assert kestrel("plan", "--for", "oxbow", *EVER, "--json").document["uplink"] == before
    assert "Nothing is damaged: all 4" in kestrel("runs", "repair").out
    out = tmp_path / "all.json"
    assert kestrel("runs", "export", out).code == 0
    monkeypatch.setenv("EAGER_KESTREL_HOME", str(tmp_path / "other"))
    assert kestrel("runs", "import", out).code == 0
    with History() as history:
        texts = [json.loads(text) for table in (RUNS, BROADCASTS) for text in history.texts(table)]
    assert len(texts) == 4
    assert all(text["weather"] == {"rain": True} for text in texts)
    assert texts[0]["one_connection"]["colour"] == "blue"


@pytest.mark.parametrize(("version", "instead"), [(VERSION + 1, "update"), (3, "begin anew")])
def test_another_schema_is_neither_read_nor_repaired(
    kestrel: Kestrel, home: Path, version: int, instead: str
) -> None:
    kept(at(20, 8000))
    with closing(sqlite3.connect(home / FILE_NAME)) as database:
        database.execute(f"PRAGMA user_version = {version}")
    before = (home / FILE_NAME).read_bytes()
    for command in (("runs", "list"), ("runs", "repair"), ("plan", "--for", "oxbow")):
        said = kestrel(*command)
        assert said.code == 1
        assert f"of version {version}" in said.error_line
        assert instead in said.error_line
    assert (home / FILE_NAME).read_bytes() == before


@given(st.data())
def test_repair_saves_every_readable_row_whatever_the_numbers(data: st.DataObject) -> None:
    """Row numbers with gaps far wider than any history, some documents broken."""
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        numbers = data.draw(st.lists(st.integers(1, 10**7), min_size=2, max_size=8, unique=True))
        broken = data.draw(st.sets(st.sampled_from(numbers), max_size=len(numbers) - 1))
        with History(home) as history:
            history.add([at(20, 8000).model_copy(update={"id": f"r{n}"}) for n in numbers])
        with closing(sqlite3.connect(home / FILE_NAME)) as database:
            for row, number in enumerate(numbers, 1):
                database.execute("UPDATE runs SET rowid = -? WHERE rowid = ?", (number, row))
            database.execute("UPDATE runs SET rowid = -rowid")
            for number in broken:
                database.execute("UPDATE runs SET document = '{' WHERE rowid = ?", (number,))
            database.commit()
        found = repair(home)
        assert (found.saved, found.lost) == (len(numbers) - len(broken), len(broken))
        with History(home) as history:
            assert {run.id for run in history.runs()} == {f"r{n}" for n in set(numbers) - broken}


def test_evidence_is_the_run_itself(home: Path) -> None:
    """Asked both ways, the uplink is the same to the last bit."""
    runs = [at(hour, 3000 + 517 * hour) for hour in range(18, 23)]
    with History() as history:
        history.add(runs)
        assert uplink_of(history.evidence()) == uplink_of(runs) == uplink_of(history.runs())


def test_the_newest_are_listed_and_the_rest_is_counted(kestrel: Kestrel) -> None:
    for day in range(1, 27):
        kept(at(20, 8000 + day, day))
    listed = kestrel("runs", "list")
    assert "20 of 26 runs" in listed.out
    assert "MB on the disk" in listed.out
    document = kestrel("runs", "list", "--last", "3", "--json").document
    assert [row["typical_kbps"] for row in document["runs"]] == [8024, 8025, 8026]
    assert document["all_runs"] == 26
    since = document["runs"][1]["taken_at"][:10]
    assert len(kestrel("runs", "list", "--since", since, "--json").document["runs"]) == 2
    assert kestrel("runs", "list", "--endpoint", "elsewhere", "--json").document["runs"] == []
    assert kestrel("runs", "list", "--since", "soon").code == 2


def test_what_is_forgotten_gives_its_space_back(kestrel: Kestrel, home: Path) -> None:
    for day in range(1, 27):
        kept(at(20, 8000, day))
    with History() as history:
        history.compact()
        days = [run.taken_at[:10] for run in history.runs()]
    full = (home / FILE_NAME).stat().st_size
    assert "20 forgotten" in kestrel("runs", "forget", "--before", days[20]).out
    with History() as history:
        assert [run.taken_at[:10] for run in history.runs()] == days[20:]
        assert len(history.runs(HistoryFilter(endpoint="up.oxbow.example"))) in (0, 6)
    assert (home / FILE_NAME).stat().st_size < full / 2
    assert kestrel("runs", "forget", "--all", "--before", days[0]).code == 2


def test_those_who_begin_a_history_at_once_wait_for_each_other(tmp_path: Path) -> None:
    def opened(folder: Path) -> bool:
        with History(folder) as history:
            return history.rows() == [] and not history.read_only

    with ThreadPoolExecutor(4) as pool:
        for number in range(25):
            folder = tmp_path / str(number)
            assert all(pool.map(opened, [folder] * 4))
