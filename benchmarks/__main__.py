"""``python -m benchmarks`` lists every benchmark; ``python -m benchmarks NAME [--quick]`` runs one.

``python -m benchmarks --all --quick`` runs all of them, as CI does, and ends with a table of how
long each took and whether it was as wanted. What was not is tried once more when nothing else of
them is left to run: a machine that others use, too, misses now and then; a fault stays.
"""

from __future__ import annotations

import ast
import importlib
import subprocess
import sys
import time
from pathlib import Path


def names() -> dict[str, str]:
    """Each benchmark with the first line of its docstring."""
    found = {}
    for path in sorted(Path(__file__).parent.glob("[!_]*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        if any(isinstance(node, ast.FunctionDef) and node.name == "main" for node in tree.body):
            found[path.stem] = (ast.get_docstring(tree) or "").partition("\n")[0]
    return found


def run_all(words: list[str]) -> int:
    """Run them all; 1 when one of them was not as wanted twice."""
    rows = [run_one(name, words) for name in names()]
    rows += [run_one(name, words) for name, _, code in rows if code]
    print("\n| benchmark | seconds | |\n| --- | ---: | --- |")
    for name, seconds, code in rows:
        print(f"| {name} | {seconds:.0f} | {'as wanted' if code == 0 else f'MISSED ({code})'} |")
    last = {name: code for name, _, code in rows}
    return int(any(last.values()))


def run_one(name: str, words: list[str]) -> tuple[str, float, int]:
    """Run it in a process of its own: its name, seconds and exit code."""
    print(f"\n== {name}", flush=True)
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-m", "benchmarks", name, *words], check=False)
    return name, time.perf_counter() - began, done.returncode


def main(words: list[str]) -> int:
    """List, run one, or run all."""
    if not words or words[0] in ("-h", "--help"):
        width = max(map(len, names()))
        for name, what in names().items():
            print(f"{name:<{width}}  {what}")
        print("\npython -m benchmarks NAME [--quick] runs one; NAME --help lists its options")
        return 0
    if words[0] == "--all":
        return run_all(words[1:])
    if words[0] not in names():
        print(f"no benchmark {words[0]}; choose from {', '.join(names())}", file=sys.stderr)
        return 2
    return int(importlib.import_module(f"benchmarks.{words[0]}").main(words[1:]))


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
