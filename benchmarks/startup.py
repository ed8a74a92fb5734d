"""What start-up costs: processor time of a command against importing its libraries alone.

Usage: python -m benchmarks startup [--quick] [--rounds 25]

``--help`` is compared with ``import typer``, wanted at most 1.25 times; a plan from a typed upload
with ``import typer, pydantic, numpy``, wanted at most 1.6 times. Rounds are interleaved, so that a
busy moment of the machine hits all rows alike; medians are compared. Bytecode is cached, as it is
for whoever installed the program.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile

from benchmarks import SLACK, options

PROGRAM = [sys.executable, "-m", "eager_kestrel"]
TYPER, LIBRARIES = "import typer", "import typer, pydantic, numpy"
ROWS: dict[str, tuple[list[str], str, float]] = {
    "--help": ([*PROGRAM, "--help"], TYPER, 1.25),
    "plan --json": (
        [*PROGRAM, "plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json"],
        LIBRARIES,
        1.6,
    ),
}


def cost(command: list[str], env: dict[str, str]) -> float:
    """Seconds of processor time of a process."""
    running = subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(running.pid, 0)
    running.returncode = os.waitstatus_to_exitcode(status)
    if running.returncode:
        raise SystemExit(f"{command[-1]} ended with {running.returncode}")
    return usage.ru_utime + usage.ru_stime


def main(words: list[str]) -> int:
    """Print the table; 1 when a ratio is above what is wanted."""
    parser = options(__doc__)
    parser.add_argument("--rounds", type=int)
    asked = parser.parse_args(words)
    rounds = asked.rounds or (5 if asked.quick else 25)
    commands = {name: command for name, (command, _, _) in ROWS.items()}
    commands |= {name: [sys.executable, "-c", name] for name in (TYPER, LIBRARIES)}
    taken: dict[str, list[float]] = {name: [] for name in commands}
    with tempfile.TemporaryDirectory() as home:
        env = {**os.environ, "EAGER_KESTREL_HOME": home, "PYTHONPYCACHEPREFIX": home}
        env.pop("PYTHONDONTWRITEBYTECODE", None)
        for command in commands.values():  # compiles what is imported
            cost(command, env)
        for _ in range(rounds):
            for name, command in commands.items():
                taken[name].append(cost(command, env))
    medians = {name: statistics.median(seconds) for name, seconds in taken.items()}
    print(f"| command | ms | reference | ms | ratio | wanted |   ({rounds} rounds)")
    print("| --- | ---: | --- | ---: | ---: | ---: |")
    missed = 0
    for name, (_, reference, wanted) in ROWS.items():
        ratio = medians[name] / medians[reference]
        print(
            f"| `{name}` | {medians[name] * 1000:.0f} | `{reference}` | "
            f"{medians[reference] * 1000:.0f} | {ratio:.2f} | {wanted} |"
        )
        missed += ratio > wanted * (SLACK if asked.quick else 1)
    return 1 if missed else 0
