"""Benchmarks: each holds what the docs promise against a reference taken in the same run.

A module with a ``main(words) -> int`` is one; it returns 0 when everything is as wanted. With
``--quick`` it takes seconds and prints the same table; limits that noise can break are looser
there by :data:`SLACK`.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping

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


def run_parts(
    words: list[str],
    doc: str | None,
    parts: Mapping[str, Callable[[int, int], bool]],
    counts: Mapping[str, int],
    quick: Mapping[str, int],
) -> int:
    """Run the parts that are asked for, each a row of a table; 1 when one is not as promised.

    Args:
        parts: by name; each takes how many and a seed, and says whether it is as promised.
        counts: how many, when nobody says so.
        quick: the same with ``--quick``; 0 leaves a part out.
    """
    parser = options(doc)
    parser.add_argument("--only", choices=parts)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int)
    wish = parser.parse_args(words)
    print("| what | how many | result |\n| --- | ---: | --- |")
    usual = quick if wish.quick else counts
    asked = [wish.only] if wish.only else [name for name in parts if usual[name]]
    fine = [parts[name](wish.count or usual[name], wish.seed) for name in asked]
    return 0 if all(fine) else 1
