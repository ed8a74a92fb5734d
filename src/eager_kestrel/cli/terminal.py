"""The terminal: results on standard output, talk and progress on standard error.

Rich is imported only when something is drawn. Colour follows ``NO_COLOR`` and is off in a pipe.
"""

from __future__ import annotations

import codecs
import gc
import json
import os
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, TextIO, cast

from eager_kestrel.core.errors import OutputError, interruptible
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.runs import bars

if TYPE_CHECKING:
    from rich.console import Console
    from rich.status import Status

    from eager_kestrel.core.connection.progress import Event, PartialResult, Tell, WaitingFor


WIDEST = 108


_quiet: list[bool] = []
"""Not empty where talk is not wanted."""


def serve() -> None:
    """Collect garbage as usual: what serves strangers for hours must not grow with each of them."""
    gc.set_threshold(700, 10, 10)


def be_quiet(quiet: bool) -> None:
    """Whether talk beside results and errors is left out from now on."""
    _quiet[:] = [True] if quiet else []


def console(*, stderr: bool = False) -> Console:
    """A console on standard output or error, no wider than reads well."""
    from rich.console import Console

    plain = bool(os.environ.get("NO_COLOR"))
    made = Console(
        stderr=stderr,
        highlight=False,
        emoji=False,
        color_system=None if plain else "auto",
        quiet=stderr and bool(_quiet),
    )
    if made.width > WIDEST:
        made.width = WIDEST
    return made


def print_json(document: dict[str, Any]) -> None:
    """Exactly one JSON document on standard output, in ASCII: any console carries it."""
    sys.stdout.write(json.dumps(document, indent=2) + "\n")


def warn(line: str, *, always: bool = False) -> None:
    """A line of talk on standard error; the reason of an exit code is said always."""
    if always or not _quiet:
        sys.stderr.write(f"eager-kestrel: {line}\n")


def rate(kbps: float) -> str:
    """A rate for people."""
    return str(Bitrate.from_kbps(kbps))


def _learned_text(event: PartialResult) -> str:
    if event.phase == "idle":
        return f"{event.round_trip_ms:.0f} ms a round trip" if event.round_trip_ms else "no answer"
    parts = [f"{event.seconds:4.1f} s", f"now {rate(event.now_kbps)}"]
    if event.typical_kbps is not None and event.floor_kbps is not None:
        parts += [f"typical {rate(event.typical_kbps)}", f"floor {rate(event.floor_kbps)}"]
    if event.round_trip_ms is not None:
        parts.append(f"{event.round_trip_ms:.0f} ms")
    return "  ".join(parts)


def _waiting_text(event: WaitingFor) -> str:
    of = "" if event.of is None else f" of {event.of}"
    return f"run {event.number}{of} in {event.seconds:.0f} s"


@contextmanager
def progress(*, quiet: bool = False) -> Iterator[Tell]:
    """A teller that shows what is being learned, live on a terminal, a line a phase elsewhere."""
    if quiet:
        yield lambda _: None
        return
    screen = console(stderr=True)
    last: dict[str, PartialResult] = {}
    if screen.is_terminal:
        with screen.status("connecting", spinner="dots") as status:
            yield _lively(screen, status, last)
    else:
        yield _plainly(screen, last)
    for name, learned in last.items():
        _finished(screen, name, learned)
    if screen.is_terminal:
        screen.print()


def _finished(screen: Console, name: str, learned: PartialResult) -> None:
    """The last word of a phase."""
    text = _learned_text(learned)
    screen.print(
        f"[green]✓[/] {name:<20} [dim]{text}[/]" if screen.is_terminal else f"{name}: {text}"
    )


def _plainly(screen: Console, last: dict[str, PartialResult]) -> Tell:
    """A line for whatever is over."""
    from eager_kestrel.core.connection.progress import Remark, WaitingFor

    waiting_for = 0

    def told(event: Event) -> None:
        nonlocal waiting_for
        _finish_before(event, last, screen)
        if isinstance(event, Remark):
            screen.print(event.text, markup=False)
        elif isinstance(event, WaitingFor) and event.number != waiting_for:
            waiting_for = event.number
            screen.print(_waiting_text(event), markup=False)

    return told


def _lively(screen: Console, status: Status, last: dict[str, PartialResult]) -> Tell:
    """A line that changes, and one for what is over."""
    from eager_kestrel.core.connection.progress import PartialResult, PhaseBegun, WaitingFor

    def told(event: Event) -> None:
        _finish_before(event, last, screen)
        if isinstance(event, PhaseBegun):
            status.update(f"{event.phase} …")
        elif isinstance(event, PartialResult):
            status.update(f"{event.phase:<20} {_learned_text(event)}")
        elif isinstance(event, WaitingFor):
            status.update(f"[green]{bars(event.so_far_kbps)}[/]  {_waiting_text(event)}")
        else:
            screen.print(event.text, markup=False)

    return told


@contextmanager
def reading(*, quiet: bool = False) -> Iterator[Callable[[float], None]]:
    """A teller of seconds read so far; says nothing in a pipe."""
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield lambda _: None
        return
    with screen.status("reading", spinner="dots") as status:
        yield lambda seconds: status.update(f"reading … {seconds:,.0f} s")


@contextmanager
def busy(what: str, *, quiet: bool = False) -> Iterator[None]:
    """Says what is being done meanwhile; nothing in a pipe."""
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield
        return
    with screen.status(what, spinner="dots"):
        yield


@contextmanager
def telling(
    first: str, *, quiet: bool = False, each: bool = False
) -> Iterator[Callable[[str], None]]:
    """A teller of one line that changes.

    Args:
        each: whether in a pipe each is a line of its own; else it says nothing there.
    """
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield warn if each and not quiet else lambda _: None
        return
    with screen.status(first, spinner="dots") as status:
        yield status.update


def _finish_before(event: Event, last: dict[str, PartialResult], screen: Console) -> None:
    """Print the last word of a phase once the next begins; remember what is learned meanwhile."""
    from eager_kestrel.core.connection.progress import PartialResult, PhaseBegun, WaitingFor

    if isinstance(event, PhaseBegun | WaitingFor):
        for name, learned in last.items():
            _finished(screen, name, learned)
        last.clear()
    elif isinstance(event, PartialResult):
        last[event.phase] = event


@contextmanager
def uninterrupted() -> Iterator[None]:
    """Ctrl-C waits until the block is done, since what is being saved would be lost."""
    import signal

    if threading.current_thread() is not threading.main_thread():
        yield
        return
    asked: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, _: asked.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


PLAIN = {
    "→": "->",
    "↑": "^",
    "↓": "v",
    "█": "#",
    "░": ".",
    "·": ".",
    "✓": "ok",
    "─": "-",
    "│": "|",
    "╭": "+",
    "╮": "+",
    "╰": "+",
    "╯": "+",
    "…": "...",
    "−": "-",
    "–": "-",
    "’": "'",
    "×": "x",
    "≤": "<=",
    "≥": ">=",
    "±": "+-",
    "▁": "_",
    "▂": "_",
    "▃": "-",
    "▄": "-",
    "▅": "=",
    "▆": "=",
    "▇": "#",
}
HANDLER = "eager_kestrel.plain"


def _ascii_sign(error: UnicodeError) -> tuple[str | bytes, int]:
    """What is written for signs an encoding lacks."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    lacking = error.object[error.start : error.end]
    return "".join(PLAIN.get(sign, "?") for sign in lacking), error.end


class Output:
    """Standard output, on which a reader that went away is no failure: the rest goes nowhere.

    Standard error is talk: that it cannot be written is no failure either, whatever the reason.
    """

    def __init__(self, stream: TextIO, *, talk: bool = False) -> None:
        self._stream, self._talk = stream, talk

    def write(self, text: str) -> int:
        """Write a text."""
        self._do(self._stream.write, text)
        return len(text)

    def flush(self) -> None:
        """Write what waits."""
        self._do(self._stream.flush)

    def _do(self, what: Callable[..., object], *arguments: str) -> None:
        try:
            what(*arguments)
        except BrokenPipeError:
            self._nowhere()
        except OSError as error:
            self._nowhere()
            if self._talk:
                return
            raise OutputError(
                f"standard output cannot be written ({error.strerror})", "send it elsewhere"
            ) from None

    def _nowhere(self) -> None:
        os.dup2(os.open(os.devnull, os.O_WRONLY), self._stream.fileno())

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def fall_back() -> None:
    """Let standard output and error write plain signs where they must, rather than fail."""
    codecs.register_error(HANDLER, _ascii_sign)
    for stream in (sys.stdout, sys.stderr):
        reconfigure = getattr(stream, "reconfigure", None)
        encoding = (getattr(stream, "encoding", None) or "utf-8").lower()
        if reconfigure is not None and not encoding.startswith("utf"):
            reconfigure(errors=HANDLER)
    sys.stdout = cast("TextIO", Output(sys.stdout))
    sys.stderr = cast("TextIO", Output(sys.stderr, talk=True))


def until_ctrl_c(farewell: str, tick: Callable[[], None] = lambda: None) -> None:
    """Wait until Ctrl-C, with a tick twice a second, and say that it is over."""
    with interruptible():
        while True:
            time.sleep(0.5)
            tick()
    warn(farewell)
