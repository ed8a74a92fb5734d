"""Footage from other engines and programs, drawn on a virtual screen of 1920x1080.

Drawing is slow without a graphics card, so a program is given a clock that is slowed many times,
and its screen is taken as many times less often: 60 pictures for every second of its own time. One
engine writes its frames itself, from a demo that its data carries. Keys are pressed at times of
our clock, so a scene that is got again is another of its kind.

Nothing else should be running. Needs the Debian packages ``extremetuxracer``, ``supertux``,
``minetest``, ``nexuiz``, ``openttd``, ``openttd-opengfx``, ``dsda-doom``, ``freedoom``, ``xterm``,
``faketime``, ``xdotool`` and ``xvfb``.
"""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import struct
import subprocess
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import imageio_ffmpeg

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
SLOWED_CLOCK = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1"
SIZE = "1920x1080"
LEVELS = "/usr/share/games/supertux2/levels/world1"
DEMOS = {"cellar": b"DEMO2", "yard": b"DEMO1"}
WAD = Path("/usr/share/games/doom/freedoom2.wad")
LOSSLESS = "-c:v libx264 -preset ultrafast -qp 0"


@dataclass(frozen=True, slots=True)
class Program:
    """What is started, and when its screen is taken."""

    command: str
    """``{home}`` is a folder of its own."""
    slowed: float
    """How many times slower its clock runs."""
    begins: float
    """Seconds of our clock until its screen is taken."""
    keys: tuple[tuple[float, str], ...] = ()
    """At seconds of our clock, what the keyboard does."""
    files: dict[str, str] = field(default_factory=dict)


def _returns(*moments: float) -> tuple[tuple[float, str], ...]:
    return tuple((at, "key Return") for at in moments)


def _jumping(first: float, count: int) -> tuple[tuple[float, str], ...]:
    """To the right, with a jump every second or so of a clock twenty times slower."""
    presses = ((first + 6 + 18 * n, first + 15 + 18 * n) for n in range(count))
    jumps = (key for down, up in presses for key in ((down, "keydown space"), (up, "keyup space")))
    return ((first, "keydown Right"), *jumps)


TYPING = """\
import glob, sys, time
lines = [line.rstrip() for path in sorted(glob.glob("/usr/lib/python3*/*.py"))[:40]
         for line in open(path, errors="replace")][200:]
step, by_sign = float(sys.argv[1]), sys.argv[2] == "signs"
for number, line in enumerate(lines):
    for old, shade in (("def ", 35), ("return", 33), ("import", 36), ("class ", 32)):
        line = line.replace(old, f"\\033[{shade}m{old}\\033[0m")
    print(f"\\033[90m{number:5d}\\033[0m ", end="", flush=True)
    if by_sign and number > 50:
        for sign in line:
            print(sign, end="", flush=True)
            time.sleep(step)
    print(line if not by_sign or number <= 50 else "", flush=True)
    if not by_sign:
        time.sleep(step)
"""
TERMINAL = (
    'xterm -fa "DejaVu Sans Mono" -fs 13 -geometry 240x60+0+0 -b 0 -bg "#1d1f21" '
    '-fg "#c5c8c6" -e python3 {home}/typing.py '
)
WANDERING = (
    (70.0, "search --onlyvisible --name . windowfocus"),
    (75.0, "mousemove_relative -- 500 0"),
    (78.0, "mousemove_relative -- 300 0"),
    (80.0, "keydown w"),
)
BLOCKS = {
    "minetest.conf": """\
screen_w = 1920
screen_h = 1080
enable_sound = false
continuous_forward = true
viewing_range = 100
creative_mode = true
enable_damage = false
time_speed = 0
world_start_time = 9000
mg_name = v6
fixed_map_seed = 7
autojump = true
""",
    "world/world.mt": """\
gameid = minetest
backend = sqlite3
player_backend = sqlite3
auth_backend = sqlite3
""",
}

PROGRAMS = {
    "ski": Program(
        "/usr/games/etr", 45, 280, (*_returns(10, 14, 18, 22, 26, 40), (60, "keydown Up"))
    ),
    "platform": Program(
        f"/usr/games/supertux2 -f -g {SIZE} --renderer sdl {LEVELS}/crystal_mine.stl",
        20,
        146,
        (*_returns(8, 30, 60), *_jumping(84, 12)),
    ),
    "blocks": Program(
        "/usr/games/minetest --go --name player --world {home}/world "
        "--gameid minetest --config {home}/minetest.conf",
        12,
        104,
        WANDERING,
        BLOCKS,
    ),
    "arena": Program(
        "/usr/games/darkplaces -nexuiz -basedir /usr/share/games/nexuiz -nosound -window "
        "+vid_fullscreen 0 +vid_width 1920 +vid_height 1080 +sv_public -1 +cl_curl_enabled 0 "
        "+skill 4 +bot_number 5 +map silvercity",
        40,
        380,
        ((300, "mousemove 960 540"), (310, "click 1")),
    ),
    "trains": Program(f"/usr/games/openttd -r {SIZE} -s null -m null -v sdl", 4, 60),
    "scroll": Program(TERMINAL + "0.12 lines", 1, 4, (), {"typing.py": TYPING}),
    "terminal": Program(TERMINAL + "0.09 signs", 1, 4, (), {"typing.py": TYPING}),
}


@contextlib.contextmanager
def screen() -> Iterator[str]:
    """A virtual screen; its name."""
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{SIZE}x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    try:
        yield ":" + os.read(read, 10).decode().strip()
    finally:
        server.kill()
        server.wait()


def taken(name: str, home: Path, frames: int, to: Path) -> None:
    """Start a program, press its keys, and take so many frames of its screen, lossless.

    Raises:
        RuntimeError: the screen could not be taken.
    """
    program = PROGRAMS[name]
    for file, text in program.files.items():
        (home / file).parent.mkdir(exist_ok=True, parents=True)
        (home / file).write_text(text)
    home.mkdir(exist_ok=True, parents=True)
    with screen() as display:
        ours = {
            **os.environ,
            "DISPLAY": display,
            "HOME": str(home),
            "SDL_AUDIODRIVER": "dummy",
            "ALSOFT_DRIVERS": "null",
            "LIBGL_ALWAYS_SOFTWARE": "1",
        }
        its = ours
        if program.slowed != 1:
            its = {**ours, "LD_PRELOAD": SLOWED_CLOCK, "FAKETIME": f"+0 x{1 / program.slowed:.6f}"}
        started = time.monotonic()
        running = subprocess.Popen(
            shlex.split(program.command.format(home=home)),
            env=its,
            cwd=home,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )

        def press() -> None:
            for at, what in program.keys:
                time.sleep(max(0.0, started + at - time.monotonic()))
                subprocess.run(
                    ["xdotool", *what.split()], env=ours, check=False, capture_output=True
                )

        threading.Thread(target=press, daemon=True).start()
        try:
            time.sleep(program.begins)
            command = [
                FFMPEG,
                "-v",
                "error",
                "-y",
                "-f",
                "x11grab",
                "-draw_mouse",
                "0",
                "-framerate",
                f"{60 / program.slowed:.6f}",
                "-video_size",
                SIZE,
                "-i",
                display,
                "-frames:v",
                str(frames),
                *LOSSLESS.split(),
                "-threads",
                "1",
                str(to),
            ]
            if subprocess.run(command, check=False).returncode:
                raise RuntimeError(f"the screen of {name} could not be taken")
        finally:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(running.pid, signal.SIGKILL)
            running.wait()


def demo(name: str, home: Path, frames: int, to: Path) -> None:
    """A shooter of large pixels, from a demo that its free data carries.

    Raises:
        RuntimeError: the engine drew nothing.
    """
    data = WAD.read_bytes()
    count, at = struct.unpack("<ii", data[4:12])
    lumps = (struct.unpack("<ii8s", data[at + 16 * n : at + 16 * (n + 1)]) for n in range(count))
    begin, size = next((b, s) for b, s, label in lumps if label.rstrip(b"\0") == DEMOS[name])
    settings = home / ".dsda-doom"
    settings.mkdir(exist_ok=True, parents=True)
    (home / "demo.lmp").write_bytes(data[begin : begin + size])
    encode = (
        f"{FFMPEG} -v error -f rawvideo -pix_fmt rgb24 -r %r -s %wx%h -i - "
        f"-frames:v {frames} {LOSSLESS} -y {to}"
    )
    (settings / "dsda-doom.cfg").write_text(
        f'screen_resolution "{SIZE}"\nvideomode "Software"\nrender_aspect 1\ncap_fps 60\n'
        f'cap_soundcommand "cat"\ncap_videocommand "{encode}"\ncap_muxcommand "true"\n'
    )
    with screen() as display:
        command = [
            "timeout",
            "300",
            "/usr/games/dsda-doom",
            "-iwad",
            str(WAD),
            "-geometry",
            SIZE,
            "-nosound",
            "-timedemo",
            "demo.lmp",
            "-viddump",
            "unused",
        ]
        subprocess.run(
            command,
            env={**os.environ, "DISPLAY": display, "HOME": str(home)},
            cwd=home,
            capture_output=True,
            check=False,
        )
    if not to.exists():
        raise RuntimeError("the engine drew nothing")
