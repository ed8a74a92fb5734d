"""What kills, full disks, other writers, clocks and versions do to what is kept.

Usage: python -m benchmarks keeping [--quick] [--only PART] [--seed 1] [--count N]

PART: kills, repairs, writers, disks, clocks or versions.

Kills: commands that write, killed at any moment; the history and the plan are read afterwards.
Repairs: of a damaged history, killed at any moment; repaired again, every run that could be read is
there. Writers: processes that import runs at once. Disks: every command that writes, on a disk that
is full (Linux, root). Clocks: a run dated by a clock that is set back afterwards (faketime, from
Debian). Versions: a history of an older and of a newer schema.
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from benchmarks import run_parts

PROGRAM = [sys.executable, "-m", "eager_kestrel"]
COUNTS = {"kills": 200, "repairs": 100, "writers": 10, "disks": 0, "clocks": 1, "versions": 2}
QUICK = COUNTS | {"kills": 2, "repairs": 1, "writers": 2}
READ_PLAN = "from eager_kestrel.files.plans import latest_plan; assert latest_plan()"
PLANS = ("--for", "oxbow", "--upload", "9 Mbit/s")
DAMAGED = 5
"""Rows of a damaged history that cannot be read."""


def environment(home: Path) -> dict[str, str]:
    """Of a program that keeps what it keeps there."""
    return os.environ | {"EAGER_KESTREL_HOME": str(home)}


def ended(command: Sequence[str], home: Path) -> subprocess.CompletedProcess[str]:
    """Run the program to its end on a home."""
    return subprocess.run(
        [*PROGRAM, *command], env=environment(home), capture_output=True, text=True, check=False
    )


def killed(command: Sequence[str], home: Path, after: float) -> None:
    """Run it, and kill it after so many seconds."""
    quiet = subprocess.DEVNULL
    begun = subprocess.Popen(
        [*PROGRAM, *command], env=environment(home), stdout=quiet, stderr=quiet
    )
    time.sleep(after)
    begun.send_signal(signal.SIGKILL)
    begun.wait()


def table(path: Path, rows: int, month: int = 10) -> Path:
    """Readings to import, each at a time of its own."""
    lines = [
        f"2026-{month:02d}-{n % 28 + 1:02d}T{n // 28 % 24:02d}:{n // 672:02d},{8 + n % 5}"
        for n in range(rows)
    ]
    path.write_text("\n".join(["time,upload_mbps", *lines]))
    return path


def ids(home: Path) -> set[str]:
    """Every run that is kept, read without the program."""
    with contextlib.closing(sqlite3.connect(home / "runs.sqlite3")) as database:
        return {name for (name,) in database.execute("SELECT id FROM runs")}


def kills(count: int, seed: int) -> bool:
    """Commands that write, killed at any moment."""
    chance, problems = random.Random(seed), list[str]()
    with tempfile.TemporaryDirectory() as name:
        folder, home = Path(name), Path(name, "home")
        commands = [
            ["plan", *PLANS],
            ["runs", "import", str(table(folder / "runs.csv", 300))],
            ["runs", "export", str(folder / "home.zip")],
            ["runs", "forget", "--before", "2026-10-03"],
            ["plan", *PLANS, "-o", str(folder / "plan.json")],
            ["need", "oxbow", "-o", str(folder / "need.json")],
            ["report", "-o", str(folder / "page.html")],
            ["check", "--for", "oxbow", "--bitrate", "6 Mbit/s"],
            ["guides", "new", "coast", "--from-template", "--out", str(folder / "coast.toml")],
        ]
        ended(["plan", *PLANS], home)
        for _ in range(count):
            command = chance.choice(commands)
            killed(command, home, chance.uniform(0.05, 1.6))
            for check in ([*PROGRAM, "runs", "list"], [sys.executable, "-c", READ_PLAN]):
                read = subprocess.run(
                    check, env=environment(home), capture_output=True, text=True, check=False
                )
                if read.returncode:
                    problems.append(f"after {command[0]}: {read.stderr.strip()[-100:]}")
    print("\n".join(problems), end="\n" * bool(problems))
    print(
        f"| kills of commands that write | {count} | history and plan read afterwards: "
        f"{count - len(problems)} of {count} |"
    )
    return not problems


def repairs(count: int, seed: int) -> bool:
    """A repair, killed at any moment, and repaired again."""
    chance, wrong = random.Random(seed), 0
    with tempfile.TemporaryDirectory() as name:
        damaged = Path(name, "damaged")
        ended(["runs", "import", str(table(Path(name, "runs.csv"), 2000))], damaged)
        whole = sorted(ids(damaged))
        lost = chance.sample(whole, DAMAGED)
        with contextlib.closing(sqlite3.connect(damaged / "runs.sqlite3")) as database, database:
            for one in lost:
                database.execute("UPDATE runs SET document = '{' WHERE id = ?", (one,))
        for number in range(count):
            home = Path(name, f"home-{number}")
            shutil.copytree(damaged, home)
            killed(["runs", "repair"], home, chance.uniform(0.2, 1.6))
            again = ended(["runs", "repair"], home)
            wrong += again.returncode != 0 or ids(home) != {*whole} - {*lost}
            shutil.rmtree(home)
    print(
        f"| kills of a repair | {count} | repaired again, every run that can be read is there: "
        f"{count - wrong} of {count} |"
    )
    return not wrong


def writers(count: int, seed: int) -> bool:
    """Processes that import at once, each runs of its own."""
    del seed
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        tables = [table(folder / f"{n}.csv", 200, n % 10 + 1) for n in range(count)]
        begun = [
            subprocess.Popen(
                [*PROGRAM, "runs", "import", str(file)],
                env=environment(folder / "home"),
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                text=True,
            )
            for file in tables
        ]
        said = [one.communicate()[1] for one in begun]
        kept = len(ids(folder / "home"))
    failed = [line for one, line in zip(begun, said, strict=True) if one.returncode]
    print("".join(failed), end="")
    wanted = 200 * min(count, 10)
    print(f"| processes that import 200 runs each at once | {count} | {kept} of {wanted} kept |")
    return kept == wanted and not failed


def disks(count: int, seed: int) -> bool:
    """Commands that write, on a disk with no room."""
    del count, seed
    if sys.platform != "linux" or os.geteuid() != 0:
        print("| a full disk | | left out: it takes Linux and root |")
        return True
    said: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        disk = Path(name, "disk")
        disk.mkdir()
        home, run = disk / "home", subprocess.run
        run(["mount", "-t", "tmpfs", "-o", "size=8m", "none", str(disk)], check=True)
        try:
            ended(["plan", *PLANS], home)
            page = disk / "page.html"
            ended(["report", "-o", str(page)], home)
            good = page.read_bytes()
            runs = table(Path(name, "runs.csv"), 1)
            with contextlib.suppress(OSError), Path(disk, "filler").open("wb") as filler:
                while True:
                    filler.write(bytes(4096))
                    filler.flush()
            commands = (
                ["plan", *PLANS],
                ["plan", *PLANS, "-o", str(disk / "plan.json")],
                ["plan", *PLANS, "--figure", str(disk / "plan.png")],
                ["report", "-o", str(page)],
                ["runs", "import", str(runs)],
                ["runs", "export", str(disk / "runs.json")],
                ["runs", "export", str(disk / "home.zip")],
                ["guides", "new", "coast", "--from-template", "--out", str(disk / "coast.toml")],
            )
            for command in commands:
                done = ended(command, home)
                lines = done.stderr.strip().splitlines()
                told = any("full" in line or "space" in line or "room" in line for line in lines)
                if not told or "Traceback" in done.stderr or done.returncode == 0:
                    said.append(f"{' '.join(command[:2])}: {done.returncode}, {lines[-1:]}")
            if page.read_bytes() != good:
                said.append("the page that stood there is another")
            left = [p.name for p in disk.rglob(".*")]
            said += [f"left behind: {left}"] if left else []
        finally:
            run(["umount", str(disk)], check=True)
    print("\n".join(said), end="\n" * bool(said))
    tried = len(commands)
    print(f"| commands on a full disk | {tried} | {tried - len(said)} say so and change nothing |")
    return not said


def clocks(count: int, seed: int) -> bool:
    """A run of a clock that was days ahead counts for nothing once it is set back."""
    del count, seed
    if shutil.which("faketime") is None:
        print("| a clock that is set back | | left out: it takes faketime |")
        return True
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        measure = ["measure", "--practice", "day", "--seconds", "4", "--connections", "1"]
        for when in (["faketime", "-f", "+9d"], []):
            subprocess.run(
                [*when, *PROGRAM, *measure],
                env=environment(home),
                capture_output=True,
                check=False,
            )
        kept = len(ids(home))
        made = ended(["plan", "--for", "oxbow", "--json"], home)
        fine = (
            kept == 2
            and made.returncode in (0, 1)
            and "1 run is dated in the future" in made.stdout
        )
    if not fine:
        print(kept, made.returncode, made.stderr[-300:])
    print(
        f"| a clock that is set back by nine days | 1 | counts for nothing, and says so: {fine} |"
    )
    return fine


def versions(count: int, seed: int) -> bool:
    """No command touches a history of another schema."""
    del count, seed
    wrong: list[str] = []
    commands = (["runs", "list"], ["runs", "repair"], ["plan", "--for", "oxbow"], ["forecast"])
    with tempfile.TemporaryDirectory() as name:
        for step in (-1, 1):
            home = Path(name, f"home{step}")
            ended(["runs", "import", str(table(Path(name, "runs.csv"), 20))], home)
            ended(["plan", *PLANS], home)
            file = home / "runs.sqlite3"
            with contextlib.closing(sqlite3.connect(file)) as database:
                (version,) = database.execute("PRAGMA user_version").fetchone()
                database.execute(f"PRAGMA user_version = {version + step}")
                database.commit()
            before = file.read_bytes()
            for command in commands:
                done = ended(command, home)
                if "version" not in done.stderr or file.read_bytes() != before:
                    wrong.append(f"{command} on {step:+d}: {done.stderr.strip()[-100:]}")
    print("\n".join(wrong), end="\n" * bool(wrong))
    tried = 2 * len(commands)
    print(f"| commands on a history of another schema | {tried} | {tried - len(wrong)} refuse it |")
    return not wrong


def main(words: list[str]) -> int:
    """Run what is asked for; 1 when something is not as promised."""
    parts = {
        "kills": kills,
        "repairs": repairs,
        "writers": writers,
        "disks": disks,
        "clocks": clocks,
        "versions": versions,
    }
    return run_parts(words, __doc__, parts, COUNTS, QUICK)
