"""What the documents say is so: every command line runs, every table says what made it."""

from __future__ import annotations

import io
import re
import shlex
import shutil
from contextlib import redirect_stdout
from pathlib import Path

import pytest
from benchmarks.__main__ import names as benchmarks

from eager_kestrel.cli.main import COMMANDS, run
from tests.conftest import Kestrel

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]
ASKS, NETWORK = ("start", "guides new", "guides import"), ("measure", "watch", "far-end", "receive")
WAITS = (*ASKS, *NETWORK, "rehearse", "practice", "demo", "encoders", "trial", "runs export")
"""Commands that ask, need a network or take their time; each has tests of its own. Of these a
documented line is held against the command's options."""
OTHER_PROGRAMS = (".venv", "pip", "gst", "ffmpeg", "--network host")
STANDS_FOR = {
    "SHOW": "wheel-night",
    "PLATFORM": "oxbow",
    "PLATFORM[:TIER]": "oxbow:hearth",
    "SETTINGS": "settings.toml",
    "FILE...": "guide.toml",
    "NAME": "oxbow",
    "KIND": "plan",
    "CLIP": "clip.mp4",
}


@pytest.fixture(scope="module")
def demo_home(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The home that ``demo --home`` fills, and what it printed."""
    folder = tmp_path_factory.mktemp("demo") / "a home"
    said = io.StringIO()
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(said):
        patch.setattr("eager_kestrel.actions.encoders.POINT_SECONDS", 0.2)
        patch.setattr("eager_kestrel.actions.demo.AIRED_MINUTES", 2.0)
        assert run(["demo", "--home", str(folder)]) == 0
        printed = said.getvalue()
        patch.setenv("EAGER_KESTREL_HOME", str(folder))  # looked at once, for all copies of it
        assert run(["plan", "wheel-night", "--footage", str(folder / "clip.mp4")]) == 0
    return folder, printed


@pytest.fixture
def at_home(
    demo_home: tuple[Path, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> tuple[Path, str]:
    """A copy of it, in a folder with the files that documents speak of."""
    folder = tmp_path / "a home"
    shutil.copytree(demo_home[0], folder)
    monkeypatch.setenv("EAGER_KESTREL_HOME", str(folder))
    monkeypatch.chdir(tmp_path)
    shutil.copy(folder / "clip.mp4", "clip.mp4")
    shutil.copy(folder / "clip.mp4", "recording.mp4")
    data = ROOT / "src" / "eager_kestrel" / "data"
    shutil.copy(data / "shows" / "wheel-night.toml", "show.toml")
    shutil.copy(data / "guides" / "oxbow.toml", "guide.toml")
    with redirect_stdout(io.StringIO()):
        run(["plan", "wheel-night", "--at", "20:00", "--out", "settings.toml"])
    return folder, demo_home[1]


def test_the_demo_fills_a_home_on_which_every_command_works(
    kestrel: Kestrel, at_home: tuple[Path, str], demo_home: tuple[Path, str]
) -> None:
    """What it prints is what is run; nothing that is there is touched."""
    again = kestrel("demo", "--home", at_home[0])
    assert again.code == 2
    assert "is not empty" in again.error_line
    printed = re.findall("eager-kestrel (.+)", at_home[1])
    assert len(printed) >= 10
    for line in printed:
        words = shlex.split(line.replace(str(demo_home[0]), str(at_home[0])))
        if words[0] in ("watch", "rehearse", "trial"):  # each has tests of its own
            continue
        done = kestrel(*words)
        assert done.code == 0, (line, done.err)
        assert done.out
    assert kestrel("runs", "list", "--json").document["runs"]
    assert not kestrel("report", "--out", "again.md").err


def documented() -> list[tuple[str, str]]:
    """Every command line of the documents, with the page it is on."""
    found: dict[str, str] = {}
    for page in PAGES:
        text = page.read_text(encoding="utf-8")
        lines = re.findall(r"`eager-kestrel ([^`]+)`", text)
        for block in re.findall(r"```sh\n(.*?)```", text, re.DOTALL):
            lines += re.findall(r"^eager-kestrel (.+)$", block, re.MULTILINE)
        begins = r"(?:(?:[-*/,0-9]+ +){5}|ExecStart=\S+/)"  # of cron and of systemd
        lines += re.findall(rf"^{begins}eager-kestrel (.+?)(?: > \S+)?$", text, re.MULTILINE)
        found |= {re.sub(r"\s+#.*$", "", line): page.name for line in lines}
    return sorted((page, line) for line, page in found.items())


def test_every_documented_command_line_runs(
    kestrel: Kestrel, at_home: tuple[Path, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    assert len(documented()) > 20
    for page, line in documented():
        words = [STANDS_FOR.get(word, word) for word in shlex.split(line)]
        command = next((w for w in WAITS if words[: len(w.split())] == w.split()), None)
        if command is None:
            done = kestrel(*words)
            assert done.code in (0, 1), (page, line, done.err)
            assert done.out, (page, line)
            continue
        group = words[:2] if command == "practice" else command.split()
        known = kestrel(*group, "--help")
        assert known.code == 0, (page, line)
        for flag in (word for word in words if word.startswith("--")):
            assert re.search(rf"(?<![\w-]){flag}(?![\w-])", known.out), (page, line)


def test_every_documented_option_is_there(kestrel: Kestrel) -> None:
    """In running text, too: whatever looks like an option is one of some command."""
    names = [name for commands in COMMANDS.values() for name in commands]
    pages = [kestrel("--help").out, *(kestrel(name, "--help").out for name in names)]
    for group in ("runs", "guides", "endpoints", "practice"):
        listed = re.findall(r"^  ([a-z-]+)  ", kestrel(group, "--help").out, re.MULTILINE)
        pages += [kestrel(group, name, "--help").out for name in listed]
    for folder in ("benchmarks", "calibration"):
        pages += [path.read_text(encoding="utf-8") for path in (ROOT / folder).glob("*.py")]
    known = set(re.findall(r"--[a-z][a-z0-9-]+", " ".join(pages)))
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md"), ROOT / "CHANGELOG.md"):
        text = re.sub(r"```.*?```", "", page.read_text(encoding="utf-8"), flags=re.DOTALL)
        for quoted in re.findall(r"`([^`\n]+)`", text):
            if quoted.startswith(OTHER_PROGRAMS):
                continue
            for option in re.findall(r"(?<![\w-])--[a-z][a-z0-9-]+", quoted):
                assert option in known, f"{page.name}: {quoted}"


def test_every_table_of_figures_says_what_made_it() -> None:
    for page in (ROOT / "docs").rglob("*.md"):
        lines = page.read_text(encoding="utf-8").splitlines()
        for number, line in enumerate(lines):
            if re.fullmatch(r"[|: -]*---:[|: -]*", line) is None:
                continue
            above = next((x for x in reversed(lines[: number - 1]) if x), "")
            where = f"{page.name}:{number + 1}"
            made = re.search(r"Made by `(.+)`, (\d{4}-\d\d-\d\d)", above)
            held = re.search(r"Held to the program by `(tests/\w+\.py)`", above)
            assert made or held, where
            if held:
                assert (ROOT / held[1]).exists(), where
            elif made:
                python, *words = made[1].split()
                assert python == "python"
                if words[:2] == ["-m", "benchmarks"]:
                    assert words[2] in benchmarks(), where
                else:
                    assert (ROOT / words[0]).exists(), where


@pytest.mark.parametrize("name", benchmarks())
def test_every_benchmark_says_how_it_is_called(name: str) -> None:
    text = (ROOT / "benchmarks" / f"{name}.py").read_text(encoding="utf-8")
    assert f"python -m benchmarks {name} [--quick]" in text
