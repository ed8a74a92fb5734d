"""How long commands take to start, as multiples of ``python -c "import typer"`` in the same run.

Usage: python benchmarks/startup.py [ROUNDS]

Rounds are interleaved, so that a busy moment of the machine hits all rows alike; medians are
compared. Bytecode is cached, as it is for whoever installed the program. Wanted: --help at most
1.6, everything that plan imports at most 4, plan --upload at most 5.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time

PYTHON = sys.executable
PROGRAM = [PYTHON, "-m", "eager_kestrel"]
REFERENCE = "import typer"
ROWS: dict[str, tuple[list[str], float | None]] = {
    REFERENCE: ([PYTHON, "-c", "import typer"], None),
    "--help": ([*PROGRAM, "--help"], 1.6),
    "what plan imports": (
        [
            PYTHON,
            "-c",
            "import eager_kestrel.cli.plan, eager_kestrel.cli.plan_card, "
            "eager_kestrel.actions.planning, eager_kestrel.actions.shows",
        ],
        4.0,
    ),
    "plan --upload": ([*PROGRAM, "plan", "--for", "oxbow", "--upload", "12 Mbit/s"], 5.0),
    "plan --upload --json": (
        [*PROGRAM, "plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json"],
        5.0,
    ),
}


def main() -> int:
    """Print the table; exit 1 when a ratio is above what is wanted."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 25
    taken: dict[str, list[float]] = {name: [] for name in ROWS}
    with tempfile.TemporaryDirectory() as home:
        env = {**os.environ, "EAGER_KESTREL_HOME": home, "PYTHONPYCACHEPREFIX": home}
        env.pop("PYTHONDONTWRITEBYTECODE", None)
        for command, _wanted in ROWS.values():  # compiles what is imported
            subprocess.run(command, check=True, env=env, stdout=subprocess.DEVNULL)
        for _ in range(rounds):
            for name, (command, _wanted) in ROWS.items():
                began = time.perf_counter()
                subprocess.run(command, check=True, env=env, stdout=subprocess.DEVNULL)
                taken[name].append(time.perf_counter() - began)
    reference = statistics.median(taken[REFERENCE])
    print(f"{'command':<24}{'median':>10}{'ratio':>8}{'wanted':>9}   ({rounds} rounds)")
    missed = 0
    for name, (_, wanted) in ROWS.items():
        median = statistics.median(taken[name])
        ratio = median / reference
        limit = "" if wanted is None else f"<= {wanted:g}"
        print(f"{name:<24}{median * 1000:>7.0f} ms{ratio:>8.2f}{limit:>9}")
        missed += wanted is not None and ratio > wanted
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
