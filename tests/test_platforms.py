"""Systems this suite does not run on, by what their calls do (docs/platforms.md)."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path, PureWindowsPath

import pytest

from eager_kestrel.actions.demo import FilledHome
from eager_kestrel.cli.demo import commands_to_try
from eager_kestrel.files.history import History
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel, timed
from tests.test_runs import at, kept

UPLOAD = ("--upload", "9 Mbit/s")
OPEN = Path("/proc/self/fd")
TICK = 1 / 64
"""Of the clock of Windows, in seconds, where nobody asks for a finer one."""


def started(script: str, home: Path) -> subprocess.CompletedProcess[str]:
    """A script that prepares the system and starts the program."""
    return subprocess.run(
        [sys.executable, "-c", script],
        env={**os.environ, "EAGER_KESTREL_HOME": str(home)},
        capture_output=True,
        text=True,
        timeout=90,
    )


def held(path: str | Path) -> bool:
    """Whether this process has a file open."""
    wanted = os.path.realpath(path)
    for entry in OPEN.iterdir():
        try:
            if os.path.realpath(entry) == wanted:
                return True
        except OSError:  # closed meanwhile
            continue
    return False


@pytest.mark.skipif(not OPEN.is_dir(), reason="open files are told by Linux's /proc")
def test_no_open_file_is_renamed_or_removed(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As Windows refuses it: every command that writes closes a file before it moves it."""

    def strict(real: Callable[..., object]) -> Callable[..., object]:
        def call(path: Path, *given: Path, **named: object) -> object:
            for one in (path, *given):
                if held(one):
                    error = PermissionError(13, "it is open", str(one))
                    error.winerror = 32  # type: ignore[attr-defined]
                    raise error
            return real(path, *given, **named)

        return call

    for name in ("replace", "rename", "unlink"):
        monkeypatch.setattr(Path, name, strict(getattr(Path, name)))
    kept(*(at(20, kbps, day) for day, kbps in enumerate((9200, 9900, 8700), 1)))
    with History() as history:
        history.keep([a_broadcast([4000] * 30)])
    packed = str(tmp_path / "home.zip")
    for command in (
        ("plan", "--for", "oxbow", "--days", "3650", "-o", "p.json", "--figure", "p.png"),
        ("plan", "--for", "oxbow", *UPLOAD, "-o", "p.json"),
        ("check", "--for", "oxbow", "--bitrate", "9 Mbit/s", "-o", "c.html"),
        ("report", "-o", "r.html"),
        ("report", "-o", "r.html"),
        ("runs", "export", packed),
        ("runs", "import", packed),
        ("guides", "new", "rill", "--from-template"),
        ("endpoints", "add", "home", "https://up.oxbow.example/x"),
    ):
        done = kestrel(*command)
        assert done.code in (0, 1), (command, done.err)
        assert "open" not in done.err
    with closing(sqlite3.connect(home / "runs.sqlite3")) as database, database:
        database.execute("UPDATE runs SET document = '{' WHERE rowid = 1")
    assert "3 runs saved, 1 row lost" in kestrel("runs", "repair").out
    assert kestrel("runs", "forget", "--all").code == 0


def test_a_system_without_hangup_starts(tmp_path: Path) -> None:
    """Windows has no SIGHUP."""
    script = (
        "import signal, sys\n"
        "del signal.SIGHUP\n"
        "sys.argv = ['eager-kestrel', 'guides', 'list']\n"
        "from eager_kestrel.__main__ import main\n"
        "main()\n"
    )
    done = started(script, tmp_path)
    assert done.returncode == 0, done.stderr
    assert "oxbow" in done.stdout


@timed
@pytest.mark.parametrize("estimate", [(), ("--estimate",)])
def test_a_coarse_clock_measures_nearly_the_same(tmp_path: Path, estimate: tuple[str, ...]) -> None:
    """With a kernel that counts, and with one that does not."""
    asked = ["measure", "--practice", "day", "--seconds", "4", "--connections", "1", "--json"]
    script = (
        "import sys, time\n"
        "for name in ('perf_counter', 'monotonic', 'time'):\n"
        f"    setattr(time, name, lambda real=getattr(time, name): real() // {TICK} * {TICK})\n"
        f"sys.argv = ['eager-kestrel', *{[*asked, *estimate]}]\n"
        "from eager_kestrel.__main__ import main\n"
        "main()\n"
    )
    done = started(script, tmp_path)
    assert done.returncode == 0, done.stderr
    assert 11_300 < json.loads(done.stdout)["summary"]["uplink"]["typical_kbps"] < 12_700


def test_lines_to_try_are_quoted_as_the_shell_of_the_system_reads_them(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    share = PureWindowsPath(r"\\server\share\my show")
    filled = FilledHome(share, share / "arrived.flv", share / "clip.mp4", 2, 98)  # type: ignore[arg-type]
    monkeypatch.setattr("eager_kestrel.cli.demo.os.name", "nt")
    lines = commands_to_try(filled)
    assert r'check "\\server\share\my show\arrived.flv" --for oxbow' in lines
