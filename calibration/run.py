"""Measure, fit, draw: ``python calibration/run.py``. At most 20 minutes on two cores; resumable."""

from __future__ import annotations

import argparse
from pathlib import Path

import measure

HERE = Path(__file__).parent


def main() -> None:
    """Run what is asked for."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--cache", type=Path, default=HERE / "cache")
    parser.add_argument("--codecs", default="h264,hevc,av1")
    parser.add_argument("--points", type=Path, default=HERE / "points.csv")
    asked = parser.parse_args()
    asked.cache.mkdir(exist_ok=True, parents=True)
    todo = list(measure.wanted(tuple(measure.START), tuple(asked.codecs.split(","))))
    measure.measure_all(todo, asked.points, asked.cache)


if __name__ == "__main__":
    main()
