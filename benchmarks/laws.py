"""Whether the laws that tests state hold for examples nobody has seen.

Usage: python -m benchmarks laws [--quick] [--examples 200] [--only NAME]

The tests try the same 8 examples of each law every time. Here Hypothesis looks for new ones, in all
files of tests or in one; quick, three times as many of the same in the files that only compute.
Wanted: none fails. One that does is printed with the line that plays it again.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from benchmarks import options

ROOT = Path(__file__).parent.parent
QUICK = ("gently", "history", "plan", "quality", "reading", "throughput", "units", "wire")


def main(words: list[str]) -> int:
    """Try them; 1 when one does not hold."""
    parser = options(__doc__)
    parser.add_argument("--examples", type=int, default=200)
    parser.add_argument("--only", help="of tests/test_NAME.py")
    asked = parser.parse_args(words)
    names = [asked.only] if asked.only else QUICK if asked.quick else ()
    profile = {"KESTREL_PROFILE": "thorough"}
    if not asked.quick:
        profile = {"KESTREL_PROFILE": "soak", "KESTREL_EXAMPLES": str(asked.examples)}
    files = [f"tests/test_{name}.py" for name in names]
    command = [sys.executable, "-m", "pytest", "-q", "-n", "2", "-m", "hypothesis", *files]
    done = subprocess.run(command, cwd=ROOT, env=os.environ | profile, check=False)
    return int(done.returncode != 0)
