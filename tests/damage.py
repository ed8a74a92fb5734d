"""Small recordings, and ways to damage them: for the tests and for the soak."""

from __future__ import annotations

import random
import shlex
import subprocess
from pathlib import Path

import imageio_ffmpeg

KINDS = ("flv", "mp4", "mkv", "ts")


def seeds(folder: Path) -> dict[str, bytes]:
    """One whole recording in each container."""
    found = {}
    for kind in KINDS:
        path = folder / f"seed.{kind}"
        subprocess.run(
            [
                imageio_ffmpeg.get_ffmpeg_exe(),
                *shlex.split("-v error -f lavfi -i testsrc2=size=160x90:rate=25 -f lavfi -i"),
                *shlex.split("sine=frequency=330:sample_rate=48000 -t 3 -c:v libx264 -preset"),
                *shlex.split("ultrafast -pix_fmt yuv420p -threads 1 -g 25 -bf 1 -b:v 150k -c:a"),
                *shlex.split("aac -b:a 32k"),
                str(path),
            ],
            check=True,
        )
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
