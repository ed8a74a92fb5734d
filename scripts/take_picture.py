"""Run a command in a terminal window of about 1280x800 and save a PNG of it.

Usage: python scripts/take_picture.py OUT.png [--points 11] [--cwd DIR] [--shown LINE] -- COMMAND...

Starts a virtual screen (Xvfb) and a terminal (xterm) of its own, waits for the command to end,
takes the picture (ImageMagick's import) and ends both. CONTRIBUTING says what it needs.
With --after SECONDS the picture is taken while the command is still running. --shown is what stands
behind the prompt, if that is not the command.
"""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick", "fc-list": "fontconfig"}
FONT = "DejaVu Sans Mono"
MOST_SECONDS = 120
BORDER = 8
FIT = (
    r"stty -echo; printf '\033[16t'; IFS=';' read -rs -d t _ high wide; "
    r"printf '\033[8;%d;%dt' $(({height} / high)) $(({width} / wide)); sleep 0.3; stty echo; "
)
"""Ask how large a character is, then be as many lines and columns as the screen holds."""


def main() -> int:
    """Take one picture."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("out", type=Path)
    parser.add_argument("--size", default="1280x800")
    parser.add_argument("--points", default="11")
    parser.add_argument("--cwd", type=Path, help="run the command in this folder")
    parser.add_argument("--after", type=float, help="seconds; take it while the command runs")
    parser.add_argument("--shown", help="behind the prompt; nothing: no prompt")
    parser.add_argument("command", nargs="+")
    wish = parser.parse_args()
    missing = [package for program, package in NEEDED.items() if not shutil.which(program)]
    if missing:
        print(f"install {', '.join(missing)} first", file=sys.stderr)
        return 2
    wish.out.parent.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        return picture(wish, Path(folder))


def picture(wish: argparse.Namespace, folder: Path) -> int:
    """Screen, terminal, command, picture."""
    width, height = wish.size.split("x")
    reading, writing = os.pipe()
    screen = subprocess.Popen(
        [
            "Xvfb",
            "-displayfd",
            str(writing),
            "-screen",
            "0",
            f"{width}x{height}x24",
            "-nolisten",
            "tcp",
        ],
        pass_fds=[writing],
        stderr=subprocess.DEVNULL,
    )
    os.close(writing)
    terminal = None
    try:
        with os.fdopen(reading) as number:
            display = f":{number.readline().strip()}"
        env = {**os.environ, "DISPLAY": display, "TERM": "xterm-256color", "LC_ALL": "C.UTF-8"}
        env |= {
            "COLORTERM": "truecolor",
            "PATH": f"{Path(sys.executable).parent.absolute()}:{env['PATH']}",
        }
        done = folder / "done"
        line = shlex.join(wish.command)
        shown = line if wish.shown is None else wish.shown
        prompt = f"printf '\\033[1;32m$\\033[0m %s\\n' {shlex.quote(shown)}; " if shown else ""
        fit = FIT.format(width=int(width) - 2 * BORDER, height=int(height) - 2 * BORDER)
        script = f"{fit}{prompt}{line}; touch {done}; sleep {MOST_SECONDS}"
        terminal = subprocess.Popen(
            [
                "xterm",
                "-fa",
                FONT,
                "-fs",
                wish.points,
                "-geometry",
                "80x24+0+0",
                "-b",
                str(BORDER),
                "-bg",
                "#14181d",
                "-fg",
                "#d8dee6",
                "+sb",
                "-xrm",
                "XTerm*cursorColor: #14181d",
                "-xrm",
                "XTerm*allowWindowOps: true",
                "-e",
                "bash",
                "-c",
                script,
            ],
            env=env,
            stderr=subprocess.DEVNULL,
            cwd=wish.cwd,
        )
        began = time.perf_counter()
        wait = wish.after or MOST_SECONDS
        while not done.exists() and time.perf_counter() - began < wait:
            time.sleep(0.1)
        time.sleep(0.6)
        subprocess.run(["import", "-window", "root", str(wish.out)], env=env, check=True)
    finally:
        for process in (terminal, screen):
            if process is not None:
                process.terminate()
                process.wait(10)
    print(wish.out)
    return 0


if __name__ == "__main__":
    sys.exit(main())
