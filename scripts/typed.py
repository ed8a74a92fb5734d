"""Run a command that asks, in a terminal of its own, and type lines into it.

Usage: python scripts/typed.py "LINE|LINE|..." COMMAND...

For pictures of dialogues: a line is typed when the command has been silent for a moment; after the
last one what is on the screen stays there.
"""

from __future__ import annotations

import fcntl
import os
import pty
import select
import shlex
import signal
import sys
import termios
from pathlib import Path

SILENT_SECONDS = 1.0


def main() -> None:
    """Run it, and end it when the connections are typed."""
    lines, command = sys.argv[1].split("|"), sys.argv[2:]
    size = fcntl.ioctl(sys.stdout.fileno(), termios.TIOCGWINSZ, b"\0" * 8)
    child, terminal = pty.fork()
    if child == 0:
        os.execvp(command[0], command)
    fcntl.ioctl(terminal, termios.TIOCSWINSZ, size)
    shown = [Path(command[0]).name, *command[1:]]
    os.write(1, f"\033[2J\033[H\033[1;32m$\033[0m {shlex.join(shown)}\r\n".encode())
    while True:
        ready, _, _ = select.select([terminal], [], [], SILENT_SECONDS)
        try:
            if ready:
                os.write(1, os.read(terminal, 4096))
            elif lines:
                os.write(terminal, (lines.pop(0) + "\n").encode())
            else:
                break
        except OSError:  # it ended
            break
    os.kill(child, signal.SIGKILL)
    signal.pause()


if __name__ == "__main__":
    main()
