"""What is kept stays: damaged histories, odd homes, recordings that were never ended."""

from __future__ import annotations

import itertools
import json
import os
import random
import signal
import sqlite3
import sys
import threading
import time
import zipfile
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

import pytest

from eager_kestrel.core.errors import InputError, StorageError
from eager_kestrel.files.database import FILE_NAME
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.flv_writer import StreamFile, part_of
from eager_kestrel.files.history import RUNS, History
from eager_kestrel.files.repair import repair
from eager_kestrel.media.stand_in import StandIn
from eager_kestrel.net.publishing import PublishTarget
from eager_kestrel.net.rehearsing import PublishTerms
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel, running
from tests.test_runs import at, kept


def damaged(path: Path, seed: int) -> None:
    """Flip, blank or cut a few places of a file."""
    random_ = random.Random(seed)
    data = bytearray(path.read_bytes())
    for _ in range(random_.choice([1, 3, 10, 40])):
        place = random_.randrange(len(data))
        kind = random_.choice(["flip", "blank", "cut"])
        if kind == "flip":
            data[place] = random_.randrange(256)
        elif kind == "blank":
            data[place : place + 200] = bytes(min(200, len(data) - place))
        elif len(data) > 20_000:
            del data[-random_.choice([1, 100, 4096]) :]
    path.write_bytes(bytes(data))


def history_of(home: Path, count: int) -> Path:
    for number in range(count):
        kept(at(20, 8_000 + number).model_copy(update={"id": f"r-{number:03d}"}))
    path = home / FILE_NAME
    with closing(sqlite3.connect(path)) as database, database:
        database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    return path


@pytest.mark.parametrize("block", range(3))
def test_a_damaged_history_gets_one_line_and_is_left_alone(
    kestrel: Kestrel, home: Path, block: int
) -> None:
    """Whatever is broken in it: never its text, never the database's own words."""
    path = history_of(home, 4)
    whole = path.read_bytes()
    for seed in range(25 * block, 25 * block + 25):
        path.write_bytes(whole)
        damaged(path, seed)
        before = path.read_bytes()
        for command in (("runs", "list"), ("runs", "show", "latest"), ("runs", "hours")):
            said = kestrel(*command)
            if said.code in (0, 2):
                continue  # what was hit does not matter here, or is simply not found
            assert said.code == 1
            assert "runs repair" in said.error_line or "newer than" in said.error_line
            assert "sqlite" not in said.error_line.replace(str(path), "")
            assert "samples" not in said.error_line
        assert path.read_bytes()[: len(before)] == before
        for end in ("-wal", "-shm"):
            path.with_name(path.name + end).unlink(missing_ok=True)


def test_repair_saves_what_can_be_read(kestrel: Kestrel, home: Path) -> None:
    path = history_of(home, 12)
    assert "Nothing is damaged" in kestrel("runs", "repair").out
    with closing(sqlite3.connect(path)) as database, database:
        database.execute("UPDATE runs SET document = '{' WHERE id = 'r-003'")
    told = kestrel("runs", "show", "r-003")
    assert "runs repair" in told.error_line
    done = kestrel("runs", "repair")
    assert done.code == 0
    assert "11 runs saved, 1 row lost" in done.out
    with History() as history:
        assert len(history.runs()) == 11
    ends = ("-shm", "-wal")
    (aside,) = [p for p in home.iterdir() if ".damaged-" in p.name and not p.name.endswith(ends)]
    with closing(sqlite3.connect(aside)) as database:
        assert database.execute("SELECT count(*) FROM runs").fetchone() == (12,)


def test_repair_beside_a_writer_loses_nothing(home: Path) -> None:
    """What was reported as kept is there afterwards, and a healthy history is left alone."""
    history_of(home, 3)
    kept_there: list[str] = []
    over = threading.Event()

    def write() -> None:
        for number in range(200):
            run = at(20, 8_000 + number).model_copy(update={"id": f"w-{number:03}"})
            with History() as history:
                history.add([run])
            kept_there.append(run.id)
        over.set()

    writer = threading.Thread(target=write)
    writer.start()
    while not over.is_set():
        with suppress(StorageError):
            assert repair().kept_at is None
    writer.join()
    with History() as history:
        assert {run.id for run in history.runs()} >= set(kept_there)
    assert len(kept_there) == 200


class Killed(BaseException):
    """In place of a signal that nobody can catch."""


@pytest.mark.parametrize("at_call", range(12))
def test_a_repair_that_is_killed_leaves_the_old_history_or_the_new(
    home: Path, monkeypatch: pytest.MonkeyPatch, at_call: int
) -> None:
    """Before each call that changes a name, and after each commit."""
    path = history_of(home, 12)
    with closing(sqlite3.connect(path)) as database, database:
        database.execute("UPDATE runs SET document = '{' WHERE id = 'r-003'")
    calls = itertools.count()

    def dying(real: Callable[..., object]) -> Callable[..., object]:
        def call(*given: object, **named: object) -> object:
            if next(calls) == at_call:
                raise Killed
            return real(*given, **named)

        return call

    with monkeypatch.context() as patch:
        for name in ("replace", "hardlink_to", "unlink", "mkdir"):
            patch.setattr(Path, name, dying(getattr(Path, name)))
        patch.setattr(History, "add_rows", dying(History.add_rows))
        patch.setattr(History, "keep_rows", dying(History.keep_rows))
        with suppress(Killed):
            repair()
    with History() as history:
        ids = set(history.ids(RUNS))
    assert len(ids) in (11, 12)
    assert repair().saved == 11
    with History() as history:
        assert {run.id for run in history.runs()} == {f"r-{n:03}" for n in range(12)} - {"r-003"}
    names = {p.name for p in home.iterdir() if ".damaged-" not in p.name}
    assert names <= {"runs.sqlite3", "runs.sqlite3-wal", "runs.sqlite3-shm", "repairing"}


def test_a_disk_without_second_names_gets_a_copy(
    home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = history_of(home, 3)
    with closing(sqlite3.connect(path)) as database, database:
        database.execute("UPDATE runs SET document = '{' WHERE id = 'r-001'")
    before = path.read_bytes()

    def refuse(*_: object) -> None:
        raise OSError(1, "Operation not permitted")

    monkeypatch.setattr(Path, "hardlink_to", refuse)
    found = repair()
    assert found.kept_at is not None
    assert found.kept_at.read_bytes() == before
    assert (found.saved, found.lost) == (2, 1)


def test_what_another_program_holds_is_waited_for_and_told(
    home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As Windows has it: an open file cannot be replaced; simulated by what the call raises."""
    file = home / "plan.toml"
    write_text(file, "before")
    tries = itertools.count(1)

    def replace(self: Path, target: Path) -> Path:
        if next(tries) < free_at:
            error = PermissionError(13, "The process cannot access the file")
            error.winerror = 32  # type: ignore[attr-defined]
            raise error
        return really(self, target)

    really = Path.replace
    monkeypatch.setattr(Path, "replace", replace)
    free_at = 4
    write_text(file, "after")
    assert file.read_text() == "after"
    free_at = 10**9
    with pytest.raises(StorageError, match="another program has it open"):
        write_text(file, "never")
    assert file.read_text() == "after"
    assert [p.name for p in home.iterdir()] == ["plan.toml"]


@pytest.mark.parametrize("seed", range(5))
def test_repair_never_loses_the_damaged_file(home: Path, seed: int) -> None:
    path = history_of(home, 30)
    damaged(path, 1000 + seed)
    before = path.read_bytes()
    try:
        found = repair()
    except StorageError:
        assert path.read_bytes() == before
        return
    if found.kept_at is not None:
        assert found.kept_at.read_bytes() == before
    with History() as history:
        assert len(history.runs()) == found.saved


def test_without_a_home_there_is_a_line(kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAGER_KESTREL_HOME", "~nobody-of-that-name/x")
    said = kestrel("runs", "list")
    assert said.code == 1
    assert "set EAGER_KESTREL_HOME to a folder" in said.error_line


@pytest.mark.skipif(os.name == "nt", reason="users without an entry are POSIX")
def test_a_user_without_a_home_gets_the_line_too() -> None:
    away = ("HOME", "EAGER_KESTREL_HOME")
    environment = {k: v for k, v in os.environ.items() if k not in away and not k.startswith("XDG")}
    script = (
        "import pwd, runpy, sys\n"
        "pwd.getpwuid = lambda _: (_ for _ in ()).throw(KeyError('no entry'))\n"
        "sys.argv = ['eager-kestrel', 'runs', 'list']\n"
        "runpy.run_module('eager_kestrel', run_name='__main__')\n"
    )
    with running([sys.executable, "-c", script], env=environment) as process:
        _, said = process.communicate(timeout=20)
    assert "defect" not in said
    assert process.returncode == 1
    assert "no home folder" in said


def test_a_recording_that_was_never_ended_is_not_emptied(tmp_path: Path) -> None:
    path = tmp_path / "show.flv"
    part_of(path).write_bytes(b"the only copy")
    with pytest.raises(InputError, match="never ended"):
        StreamFile(path, b"FLV")
    assert part_of(path).read_bytes() == b"the only copy"


def test_a_file_that_appears_meanwhile_is_not_replaced(tmp_path: Path) -> None:
    path = tmp_path / "show.flv"
    stream = StreamFile(path, b"FLV")
    stream.add(b"frames")
    path.write_bytes(b"somebody else's")
    with pytest.raises(StorageError, match="kept as"):
        stream.close()
    assert path.read_bytes() == b"somebody else's"
    assert part_of(path).read_bytes() == b"FLVframes"


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_ctrl_c_waits_until_a_run_is_saved() -> None:
    """And twice Ctrl-C, too: what was being saved is there, and the program ends in order."""
    from eager_kestrel.cli.terminal import uninterrupted

    done = []
    before = signal.getsignal(signal.SIGINT)
    with uninterrupted():
        for _ in range(2):
            os.kill(os.getpid(), signal.SIGINT)
        time.sleep(0.05)
        done.append("saved")
    assert done == ["saved"]
    assert signal.getsignal(signal.SIGINT) is before


@pytest.mark.skipif(os.name == "nt", reason="folders without leave to write are POSIX")
def test_an_intact_history_is_read_where_nothing_can_be_written(
    kestrel: Kestrel, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A full disk refuses even the log that readers make; what is kept can be read all the same."""
    history_of(home, 3)
    real = sqlite3.connect

    class Full(sqlite3.Connection):
        def execute(self, sql: str, *rest: Any) -> Any:
            if "journal_mode" in sql:
                raise sqlite3.OperationalError("database or disk is full")
            return super().execute(sql, *rest)

    def opened(path: str, **named: Any) -> sqlite3.Connection:
        return real(path, **named) if named.get("uri") else real(path, factory=Full, **named)

    monkeypatch.setattr(sqlite3, "connect", opened)
    assert len(kestrel("runs", "list", "--json").document["runs"]) == 3


@pytest.mark.parametrize("seed", [0, 7])
def test_a_rehearsal_that_is_stopped_says_what_it_learned(seed: int) -> None:
    """Ctrl-C at any moment after the first look."""
    from eager_kestrel.core.checks.causes import StreamSample
    from eager_kestrel.core.checks.rehearsal import verdict
    from eager_kestrel.net.rehearsing import rehearse_once
    from tests.test_hostile_peers import raw_ingest
    from tests.test_rehearse import planned

    step = planned("3 Mbit/s").destinations[0].fallbacks[-1]
    looks: list[StreamSample] = []

    def tell(moment: StreamSample) -> None:
        looks.append(moment)
        if len(looks) > seed:
            raise KeyboardInterrupt

    stand_in = StandIn(step.video, step.audio, 0.0)
    terms = PublishTerms(frame_seconds=float(1 / step.video.frame_rate), asked_seconds=20)
    try:
        with raw_ingest() as port:
            target = PublishTarget("rtmp", "127.0.0.1", port, "live")
            sent = rehearse_once(target, "key", stand_in.steps(), terms, tell)
    finally:
        stand_in.close()
    assert len(sent.moments) == seed + 1
    found = verdict(sent, step, (), 20)
    assert not found.held
    assert found.text.startswith("stopped after")


@pytest.mark.skipif(os.name == "nt", reason="POSIX permissions")
def test_what_is_kept_is_for_nobody_else_and_what_is_not_kept_is_told(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    out = tmp_path / "out.md"
    mask = os.umask(0o027)
    try:
        assert kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--out", out).code == 0
        history_of(home, 1)
    finally:
        os.umask(mask)
    assert {path.name: path.stat().st_mode & 0o077 for path in home.iterdir()} == {
        path.name: 0 for path in home.iterdir()
    }
    assert out.stat().st_mode & 0o777 == 0o640
    monkeypatch.setenv("EAGER_KESTREL_HOME", str(out))  # a file is no folder
    shown = kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s")
    assert shown.code == 1
    assert "video bitrate" in shown.out
    assert "latest is still the one before" in shown.err


def test_a_home_is_moved_whole(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The same questions have the same answers there; what is there already stays."""
    kept(*(at(20, kbps, day) for day, kbps in enumerate((9200, 9900, 8700), 1)))
    with History() as history:
        history.keep([a_broadcast([4000] * 30)])
    assert kestrel("guides", "new", "rill", "--from-template").code == 0
    asked: tuple[tuple[str, ...], ...] = (
        ("plan", "--for", "oxbow", "--days", "3650", "--json"),
        ("forecast", "--days", "3650", "--json"),
        ("runs", "list", "--json"),
        ("guides", "list", "--json"),
    )
    before = [kestrel(*one).answer for one in asked]
    packed = tmp_path / "home.zip"
    assert kestrel("runs", "export", packed).code == 0
    monkeypatch.setenv("EAGER_KESTREL_HOME", str(tmp_path / "other"))
    assert "4 added" in kestrel("runs", "import", packed).out
    for one, said in zip(asked, before, strict=True):
        there = kestrel(*one).answer
        for document in (there, said):
            document.pop("size_bytes", None)
            for guide in document.get("guides", ()):
                guide.pop("where")
        assert there == said, one
    again = kestrel("runs", "import", packed)
    assert "0 added, 4 were already there" in again.out
    template = tmp_path / "other" / "guides" / "rill.toml"
    template.write_text("mine")
    mine = kestrel("runs", "import", packed)
    assert mine.code == 1
    assert "rill.toml is there already and differs: it stays as it is" in mine.err
    assert template.read_text() == "mine"


@pytest.mark.parametrize("what", ["cut", "empty", "bomb", "outside", "a page"])
def test_a_packed_home_that_is_none_changes_nothing(
    kestrel: Kestrel, home: Path, tmp_path: Path, what: str
) -> None:
    kept(at(20, 9000))
    file = tmp_path / "sent" / "home.zip"
    file.parent.mkdir()
    if what == "a page":
        file.write_text("<html>")
    else:
        with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as packed:
            if what != "empty":
                empty = {"format": "eager-kestrel/runs/3", "runs": []}
                packed.writestr("runs.json", json.dumps(empty))
            if what == "bomb":
                packed.writestr("home/guides/oxbow.toml", bytes(30_000_000))
            if what == "outside":
                packed.writestr("../outside.json", "{}")
                packed.writestr("home/../../outside.json", "{}")
                packed.writestr("home/runs.sqlite3", "{}")
                packed.writestr("home/guides/deep/../../../outside.toml", "x")
    if what == "cut":
        file.write_bytes(file.read_bytes()[:-30])
    before = (home / "runs.sqlite3").read_bytes()
    said = kestrel("runs", "import", file)
    if what != "outside":
        assert said.code == 2
        assert said.error_line
    assert (home / "runs.sqlite3").read_bytes() == before
    assert [one for one in tmp_path.rglob("outside*") if one.parent != home] == []
