"""A soak of damaged recordings: how many are read, how many refused, and the most memory it took.

Usage: python benchmarks/damaged.py [--count 2000] [--seed 1]

Each is a file of three seconds with bytes flipped, cut, inserted or blanked. Anything but a
description or a line of our own is printed and kept beside the seeds.
"""

from __future__ import annotations

import argparse
import random
import resource
import subprocess
import tempfile
import time
from collections import Counter
from pathlib import Path

import imageio_ffmpeg

from eager_kestrel.core.checks.recording_rules import check_recording
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.files.guides import load_guide
from eager_kestrel.media.recording import read_recording

KINDS = ("flv", "mp4", "mkv", "ts")
MOST_ADDRESS_SPACE = 3_000_000_000


def seeds(folder: Path) -> dict[str, bytes]:
    """One whole recording in each container."""
    found = {}
    for kind in KINDS:
        path = folder / f"seed.{kind}"
        subprocess.run(
            [imageio_ffmpeg.get_ffmpeg_exe(), "-v", "error", "-f", "lavfi", "-i",
             "testsrc2=size=160x90:rate=25", "-f", "lavfi", "-i",
             "sine=frequency=330:sample_rate=48000", "-t", "3", "-c:v", "libx264", "-preset",
             "ultrafast", "-pix_fmt", "yuv420p", "-threads", "1", "-g", "25", "-bf", "1",
             "-b:v", "150k", "-c:a", "aac", "-b:a", "32k", str(path)], check=True,
        )  # fmt: skip
        found[kind] = path.read_bytes()
    return found


def damaged(data: bytearray, chance: random.Random) -> bytes:
    """A file with one to fifty places hit in one way."""
    way = chance.choice(["flip", "head", "cut", "insert", "blank"])
    for _ in range(chance.choice([1, 1, 3, 10, 50])):
        at = chance.randrange(min(len(data), 2000) if way == "head" else len(data))
        if way in ("flip", "head"):
            data[at] = chance.randrange(256)
        elif way == "cut":
            del data[at : at + chance.choice([1, 4, 100, 5000])]
        elif way == "insert":
            data[at:at] = chance.randbytes(chance.choice([1, 4, 100]))
        else:
            data[at : at + 8] = bytes(8)
        if len(data) < 10:
            break
    return bytes(data)


def main() -> None:
    """Count, and say what was neither read nor refused."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    wish = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (MOST_ADDRESS_SPACE, MOST_ADDRESS_SPACE))
    guides = [load_guide("oxbow"), load_guide("gatepost")]
    counts: Counter[str] = Counter()
    slowest = 0.0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        whole = seeds(folder)
        for number in range(wish.count):
            chance = random.Random(f"{wish.seed}/{number}")
            kind = chance.choice(KINDS)
            path = folder / f"damaged.{kind}"
            path.write_bytes(damaged(bytearray(whole[kind]), chance))
            began = time.monotonic()
            try:
                seen = read_recording(path, deep=chance.random() < 0.2)
                check_recording(seen, guides, 5000.0).model_dump_json()
                counts["read"] += 1
            except KestrelError:
                counts["refused"] += 1
            except Exception as error:  # noqa: BLE001 - what is looked for
                counts[f"{type(error).__name__}: {str(error)[:80]}, variant {number}"] += 1
            slowest = max(slowest, time.monotonic() - began)
    for what, count in counts.most_common():
        print(count, what)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"most memory {peak:.0f} MB, slowest {slowest:.2f} s")


if __name__ == "__main__":
    main()
