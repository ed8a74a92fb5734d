"""A soak of damaged recordings: how many are read, how many refused, and the most memory it took.

Usage: python -m benchmarks damaged [--quick] [--count 10000] [--seed 1]

Each is a file of three seconds with bytes flipped, cut, inserted or blanked. Anything but a
description or a line of our own is printed with the number that makes it again.
"""

from __future__ import annotations

import random
import resource
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.damage import KINDS, damaged, seeds

from benchmarks import options
from eager_kestrel.core.checks.findings import check_recording
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.files.guides import load_guide
from eager_kestrel.media.recording import read_recording

MOST_ADDRESS_SPACE = 3_000_000_000


def main(words: list[str]) -> int:
    """Count; 1 when something was neither read nor refused."""
    parser = options(__doc__)
    parser.add_argument("--count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    wish = parser.parse_args(words)
    resource.setrlimit(resource.RLIMIT_AS, (MOST_ADDRESS_SPACE, MOST_ADDRESS_SPACE))
    guides = [load_guide("oxbow"), load_guide("gatepost")]
    counts: Counter[str] = Counter()
    slowest = 0.0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        whole = seeds(folder)
        for number in range(wish.count or (60 if wish.quick else 10_000)):
            chance = random.Random(f"{wish.seed}/{number}")
            kind = chance.choice(KINDS)
            path = folder / f"damaged.{kind}"
            path.write_bytes(damaged(bytearray(whole[kind]), chance))
            began = time.perf_counter()
            try:
                seen = read_recording(path, deep=chance.random() < 0.2)
                check_recording(seen, guides, 5000.0).model_dump_json()
                counts["read"] += 1
            except KestrelError:
                counts["refused"] += 1
            except Exception as error:  # noqa: BLE001 - what is looked for
                counts[f"{type(error).__name__}: {str(error)[:80]}, variant {number}"] += 1
            slowest = max(slowest, time.perf_counter() - began)
    for what, count in counts.most_common():
        print(count, what)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"most memory {peak:.0f} MB, slowest {slowest:.2f} s")
    return int(bool(set(counts) - {"read", "refused"}))
