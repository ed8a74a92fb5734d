"""The command line as a whole: help, version, start-up, demo, practice, output discipline."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import urllib.request
from pathlib import Path

import pytest

from eager_kestrel.actions.second_screen import SecondScreen
from eager_kestrel.cli.main import COMMANDS
from eager_kestrel.core.connection.broadcast import Now
from tests.conftest import Kestrel, running, timed

PROGRAM = [sys.executable, "-m", "eager_kestrel"]


def test_help_groups_commands_by_step(kestrel: Kestrel) -> None:
    result = kestrel("--help")
    assert result.code == 0
    heads = [line for line in result.out.splitlines() if line.endswith(":") and line[0] != " "]
    assert heads == ["Options:", *(f"{step}:" for step in COMMANDS)]
    for name, said in (item for commands in COMMANDS.values() for item in commands.items()):
        own = kestrel(name, "--help")
        assert own.code == 0
        assert " ".join(said.split()) in " ".join(own.out.split())
        assert f"  {name}" in result.out


HEAVY = {"asyncio", "av", "httpx", "jinja2", "matplotlib", "numpy", "psutil", "sqlite3", "ssl"}
NOT_TO_PLAN = {
    *HEAVY,
    "numpy.ma",
    "rich",
    "tomlkit",
    "eager_kestrel.core.connection.broadcast",
    "eager_kestrel.core.connection.evidence",
    "eager_kestrel.core.connection.pooling",
    "eager_kestrel.core.connection.run",
    "eager_kestrel.core.connection.throughput",
    "eager_kestrel.core.footage",
    "eager_kestrel.core.forecast.replay",
    "eager_kestrel.core.results",
    "eager_kestrel.files.history",
    "eager_kestrel.report.blocks",
} - {"numpy"}
"""A plan from a typed upload needs NumPy, and nothing of what was observed, kept or drawn."""


@pytest.mark.parametrize(
    ("arguments", "heavy"),
    [
        (["--version"], {*HEAVY, "pydantic", "rich"}),
        (["--help"], {*HEAVY, "pydantic", "rich"}),
        (["schema"], {*HEAVY, "rich"}),
        (["endpoints", "list"], HEAVY),
        (["endpoints", "forget", "home"], HEAVY),
        (["plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json"], NOT_TO_PLAN),
    ],
    ids=lambda given: " ".join(given) if isinstance(given, list) else "",
)
def test_a_light_command_imports_nothing_heavy(
    home: Path, arguments: list[str], heavy: set[str]
) -> None:
    code = (
        f"import sys; from eager_kestrel.cli.main import run; run({arguments}); "
        f"sys.exit(','.join({heavy} & set(sys.modules)) or None)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_version_and_wrong_commands(kestrel: Kestrel) -> None:
    assert kestrel("--version").out.startswith("eager-kestrel 0.")
    wrong = kestrel("mesure")
    assert wrong.code == 2
    assert "measure" in wrong.error_line


@timed
def test_the_demo_tells_the_story_and_leaves_nothing_behind(
    kestrel: Kestrel, home: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    on_the_page: list[Now] = []
    monkeypatch.setattr(SecondScreen, "tell", lambda _, now: on_the_page.append(now))
    result = kestrel("demo", "--out", tmp_path / "story")
    assert result.code == 0, result.err
    assert "http://127.0.0.1:" in result.out
    assert on_the_page[-1].seconds > 8
    for words in (
        "Hollow Lane Pottery",
        "1. Measure",
        "2. Plan",
        "Wheel night on Oxbow",
        "tonight",
        "3. Rehearse",
        "4. Check",
        "arrived.flv",
    ):
        assert words in result.out
    findings = json.loads((tmp_path / "story" / "findings.json").read_text())
    rehearsal = json.loads((tmp_path / "story" / "rehearsal.json").read_text())
    assert rehearsal["verdict"]["held"], rehearsal["verdict"]
    assert [f for f in findings["findings"] if f["severity"] == "breach"] == []
    assert (tmp_path / "story" / "arrived.flv").stat().st_size > 1_000_000
    assert "<h1>Wheel night</h1>" in (tmp_path / "story" / "report.html").read_text()
    run = json.loads((tmp_path / "story" / "run.json").read_text())
    plan = json.loads((tmp_path / "story" / "plan.json").read_text())
    assert 5500 < run["summary"]["uplink"]["typical_kbps"] < 9500
    assert run["summary"]["uplink"]["floor_kbps"] < 5500
    assert plan["uplink"]["typical_kbps"] == run["summary"]["uplink"]["typical_kbps"]
    assert plan["budget"]["limited_by"] == "seen safe"
    assert plan["stutter"]["high_seconds_per_hour"] <= 7
    assert "a simulated connection holds this" in plan["tonight"]
    assert plan["total_kbps"] <= plan["budget"]["safe_kbps"]
    assert [r["name"] for r in plan["inputs"]["reserves"]] == [
        "the video call upstairs",
        "the yard camera's backup",
    ]
    assert not home.exists()


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
def test_practice_uplink_serves_until_ctrl_c() -> None:
    with running([*PROGRAM, "practice", "uplink", "8 Mbit/s", "--json"]) as serving:
        assert serving.stdout is not None
        first = serving.stdout.readline()
        rest = "".join(serving.stdout.readline() for _ in range(5))
        url = json.loads(first + rest)["url"]
        request = urllib.request.Request(url, data=b"x" * 100_000, method="POST")
        with urllib.request.urlopen(request, timeout=10) as answer:
            assert json.loads(answer.read()) == {"received_bytes": 100_000}
        serving.send_signal(signal.SIGINT)
        _, talk = serving.communicate(timeout=10)
    assert serving.returncode == 0
    assert "Traceback" not in talk


def test_practice_wants_one_line(kestrel: Kestrel) -> None:
    assert "connection" in kestrel("practice", "uplink").error_line
    assert 'write "day"' in kestrel("practice", "uplink", "dey").error_line


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent as a POSIX signal")
@pytest.mark.parametrize(("after_phase", "code"), [(True, 1), (False, 130)])
@timed
def test_ctrl_c_keeps_what_was_learned(home: Path, after_phase: bool, code: int) -> None:
    script = (
        "import sys, signal\n"
        "from eager_kestrel.actions.practice import simulated_connection, simulated_uplink\n"
        "from eager_kestrel.cli.main import run\n"
        "from eager_kestrel.core.units import Bitrate\n"
        "with simulated_uplink(simulated_connection(Bitrate.parse('8 Mbit/s'))) as up:\n"
        "    import httpx, numpy, psutil\n"
        "    import eager_kestrel.actions.measuring as measuring\n"
        "    measuring.too_busy = lambda phase: True\n"  # nothing is measured again after Ctrl-C
        f"    of = measuring.{'Upload' if after_phase else 'RoundTrips'}\n"
        "    class Stopped(of):\n"
        "        def delivered_bytes(self):\n"
        "            found = super().delivered_bytes()\n"
        "            if found > 2_500_000:\n"
        "                signal.raise_signal(signal.SIGINT)\n"
        "            return found\n"
        "        @property\n"
        "        def taken(self):\n"
        "            signal.raise_signal(signal.SIGINT)\n"
        "    setattr(measuring, of.__name__, Stopped)\n"
        "    sys.exit(run(['measure', up.url, '--json', '--seconds', '20 s']))\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "EAGER_KESTREL_HOME": str(home)},
    )
    assert done.returncode == code, done.stderr
    assert len(done.stderr.strip().splitlines()) == 1, done.stderr
    if after_phase:
        run = json.loads(done.stdout)
        assert run["partial"] is True
        assert run["one_connection"]["ended"] == "stopped"
        assert run["summary"]["uplink"]["typical_kbps"] == pytest.approx(8000, rel=0.1)
        assert (home / "runs.sqlite3").exists()
    else:
        assert done.stdout == ""


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("gu", ["guides"]),
        ("plan --for ox", ["oxbow"]),
        ("measure --practice ", ["bad-night", "day", "wet-evening"]),
        ("runs show 2026", ["20261120-201000-1f40"]),
        ("guides sh", ["show"]),
    ],
)
def test_the_shell_completes_commands_platforms_lines_and_runs(
    home: Path, words: str, offered: list[str]
) -> None:
    from tests.test_runs import at, kept

    kept(at(20, 8_000))
    line = f"eager-kestrel {words}"
    done = subprocess.run(
        PROGRAM,
        capture_output=True,
        text=True,
        check=False,
        env={
            **os.environ,
            "_EAGER_KESTREL_COMPLETE": "complete_bash",
            "COMP_WORDS": line,
            "COMP_CWORD": str(len(line.split(" ")) - 1),
        },
    )
    assert done.stdout.split() == offered, done.stderr


@pytest.mark.parametrize(
    ("library", "command"),
    [
        ("av", ("check", "clip.flv", "--for", "oxbow")),
        ("matplotlib", ("need", "oxbow", "--figure", "n.png")),
    ],
)
def test_a_missing_library_is_one_line(
    tmp_path: Path, library: str, command: tuple[str, ...]
) -> None:
    (tmp_path / "clip.flv").write_bytes(b"FLV")
    script = (
        f"import sys; sys.modules[{library!r}] = None\n"
        f"from eager_kestrel.cli.main import run; sys.exit(run({list(command)!r}))"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 1
    assert f"pip install --force-reinstall {library}" in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_completion_is_for_the_shell_that_is_named(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("HOME", str(tmp_path))
    done = kestrel("--install-completion", "zsh")
    assert done.code == 0, done.err
    assert (tmp_path / ".zfunc" / "_eager-kestrel").is_file()
    assert not (tmp_path / ".bashrc").exists()
    assert "_EAGER_KESTREL_COMPLETE" in kestrel("--show-completion", "fish").out
    assert 'no completion for "csh"' in kestrel("--install-completion", "csh").error_line


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="this system has no full device")
def test_output_that_nobody_reads_is_no_failure_and_a_full_disk_is_told(tmp_path: Path) -> None:
    """And the reason of an exit code is said with -q as well; JSON is ASCII."""
    environment = {**os.environ, "EAGER_KESTREL_HOME": str(tmp_path), "PYTHONIOENCODING": "cp1252"}
    planned = f'"{sys.executable}" -m eager_kestrel plan --for oxbow --upload "12 Mbit/s" --full'

    def shell(line: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["bash", "-c", line], capture_output=True, text=True, env=environment, check=False
        )

    closed = shell(f"{planned} | head -1; exit ${{PIPESTATUS[0]}}")
    assert closed.returncode == 0, closed.stderr
    assert [*tmp_path.rglob("*.json")]  # the plan was kept all the same
    full = shell(f"{planned} > /dev/full")
    assert full.returncode == 3
    assert "standard output cannot be written" in full.stderr
    assert "defect" not in full.stderr
    named = planned.replace("--full", "--json --source-fps 29.97")
    assert shell(named).stdout.isascii()
    digits = tmp_path / "guides" / "long.toml"
    digits.parent.mkdir()
    digits.write_text(f"format = {'9' * 4301}\n")
    listed = shell(f'"{sys.executable}" -m eager_kestrel guides list -q')
    assert listed.returncode == 1
    assert "long.toml" in listed.stderr
    assert "oxbow" in listed.stdout
