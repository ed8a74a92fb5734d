"""Footage that a real engine draws: an open first-person game from Debian, played by its bots.

A match is recorded as the game's own demo (what happened, not how it looked), then played back
frame by frame at 60 a second in 1920x1080: the engine steps its clock by a frame however long the
drawing takes, so a machine without a graphics card draws the same. Bots play differently each time,
so a scene that is got again is another scene of the same kind.

A match runs in real time, so nothing else should be running. Needs the Debian packages
``openarena``, ``xvfb`` and ``libgl1-mesa-dri``.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

ENGINE = "/usr/games/openarena"
COMMON = """
    +set com_hunkmegs 1024 +set cl_renderer opengl1 +set r_fullscreen 0 +set s_initsound 0
    +set com_introplayed 1 +set con_notifytime -1
"""
MATCH = """
    +set r_mode 0 +set com_maxfps 60 +set bot_enable 1 +set sv_pure 0 +set g_gametype 0
    +set fraglimit 0 +set timelimit 0 +set sv_maxclients 10 +set g_doWarmup 0 +set g_spSkill 3
"""
DRAWING = """
    +set r_mode -1 +set r_customwidth 1920 +set r_customheight 1080 +set com_maxfps 0
    +set cl_aviFrameRate 60 +set cl_aviMotionJpeg 0 +set cg_draw2D 0
"""
MATCH_SECONDS, DRAWING_SECONDS = 240, 900


@dataclass(frozen=True, slots=True)
class Match:
    """Where, with how many, and what the camera does."""

    place: str
    bots: int
    camera: str = ""
    """Commands of the game, a line each."""


MATCHES = {
    "hall": Match("oa_minia", 4),
    "look": Match("oa_dm2", 2, "cl_yawspeed 6\n+right"),
    "turn": Match("oa_dm6", 2, "cl_yawspeed 25\n+right"),
    "chase": Match("aggressor", 5, "follownext"),
    "fight": Match("oa_shine", 5, "follownext"),
}


def played(name: str, cache: Path, frames: int) -> Path:
    """A scene as an uncompressed clip of so many frames at least.

    Raises:
        RuntimeError: the game is not installed, or did not draw.
    """
    if not (shutil.which(ENGINE) and shutil.which("xvfb-run")):
        raise RuntimeError(f"{name} needs: apt-get install openarena xvfb libgl1-mesa-dri")
    home = cache / "game"
    folder = home / ".openarena" / "baseoa"
    match = MATCHES[name]
    if not (folder / "demos" / f"{name}.dm_71").exists():
        folder.mkdir(exist_ok=True, parents=True)
        script = f"{match.camera}\nwait 30\nrecord {name}\nwait 900\nstoprecord\nquit\n"
        (folder / "match.cfg").write_text(script)
        _run(
            home,
            MATCH_SECONDS,
            f"{MATCH} +set bot_minplayers {match.bots} +devmap {match.place} "
            "+wait 200 +team spectator +wait 500 +exec match.cfg",
        )
    # one wait is half a frame here
    _run(
        home,
        DRAWING_SECONDS,
        f"{DRAWING} +demo {name} +wait 20 +video {name} +wait {2 * frames + 20} +stopvideo +quit",
    )
    clip = folder / "videos" / f"{name}.avi"
    if not clip.exists():
        raise RuntimeError(f"the game drew nothing of {name}")
    return clip


def _run(home: Path, seconds: int, words: str) -> None:
    home.mkdir(exist_ok=True, parents=True)
    command = [
        "timeout",
        str(seconds),
        "xvfb-run",
        "-a",
        "-s",
        "-screen 0 1920x1080x24",
        ENGINE,
        *COMMON.split(),
        *words.split(),
    ]
    environment = {
        **os.environ,
        "HOME": str(home),
        "LIBGL_ALWAYS_SOFTWARE": "1",
        "SDL_AUDIODRIVER": "dummy",
    }
    subprocess.run(command, env=environment, capture_output=True, check=False)
