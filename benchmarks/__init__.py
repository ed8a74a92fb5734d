"""Benchmarks: each holds what the docs promise against a reference taken in the same run.

A module with a ``main(words) -> int`` is one; it returns 0 when everything is as wanted. With
``--quick`` it takes seconds and prints the same table; limits that noise can break are looser
there by :data:`SLACK`.
"""

from __future__ import annotations

import argparse

SLACK = 1.5
"""A quick run compares few rounds on a machine that does something else, too."""


def options(doc: str | None) -> argparse.ArgumentParser:
    """A parser that knows ``--quick`` and says what the benchmark measures."""
    text = doc or ""
    parser = argparse.ArgumentParser(
        description=text.partition("\n")[0], formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--quick", action="store_true", help="a few seconds, looser limits")
    return parser


def left_out(why: str) -> int:
    """Say that a part cannot run here; that is no failure."""
    print(f"LEFT OUT: {why}")
    return 0
