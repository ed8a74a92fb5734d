"""The live view of a stream, its lines in a pipe, and the card at the end."""

from __future__ import annotations

import json as json_of
import sys
from collections import deque
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Self

from eager_kestrel.cli.rendering import grid, show
from eager_kestrel.cli.terminal import console, warn
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.core.words.runs import bars
from eager_kestrel.report.stream_blocks import broadcast_blocks

if TYPE_CHECKING:
    from rich.live import Live
    from rich.panel import Panel

    from eager_kestrel.actions.broadcasts import KeptBroadcast
    from eager_kestrel.actions.second_screen import SecondScreen
    from eager_kestrel.actions.watching import Connection
    from eager_kestrel.core.connection.broadcast import Now

SHOWN_SECONDS = 1.0
"""Between two drawings, and two documents."""
BARS = 30
FIRST_SECONDS = 2.0
"""Before a pipe is told that nothing is the matter."""
GONE_SECONDS = 6.0
"""Of no connection, before a line says so."""
MOST_BREACHES = 3
SHORT = ("sent", "queued", "arrived", "late frames")
"""What is shown of each of several."""
COLOURS = {"fine": "green", "warned": "yellow", "late": "red", "stopped": "yellow"}
AGAIN_SECONDS = 20.0
"""Before a sound or a notice is given again."""


@dataclass(slots=True)
class _StreamView:
    """What is remembered of one destination."""

    sent: deque[float] = field(default_factory=lambda: deque(maxlen=BARS))
    waited: deque[float] = field(default_factory=lambda: deque(maxlen=BARS))
    now: Now | None = None
    shown_at: float = -1e9
    said: str | None = None
    breaches: list[str] = field(default_factory=list)
    """That were told."""
    since: float = 0.0

    def saw(self, now: Now) -> None:
        """How it stands now."""
        self.now = now
        self.sent.append(now.sent_kbps)
        self.waited.append(now.queued_seconds)


class View:
    """Shows how a broadcast stands, within its ``with`` block."""

    def __init__(self, *, json: bool, bell: bool = False, notify: bool = False) -> None:
        """Begin.

        Args:
            json: one document a second on standard output, and nothing else.
        """
        self._json, self._bell, self._notify = json, bell, notify
        self._screen = console(stderr=True)
        self._live: Live | None = None
        self._streams: dict[str, _StreamView] = {}
        self._title = ""
        self._alerted_at = -1e9
        self._waits = False
        self.page: SecondScreen | None = None
        """Told the same, where somebody asked for one."""

    def __enter__(self) -> Self:
        """Nothing is drawn before there is something to see."""
        return self

    def __exit__(self, *_: object) -> None:
        self.pause()

    def pause(self) -> None:
        """Leave the terminal as it is."""
        if self._live is not None:
            self._live.stop()
            self._live = None

    def found(self, connection: Connection) -> None:
        """Which stream is watched."""
        self.titled(f"{connection.program} (process {connection.pid}) to {connection.to}")

    def titled(self, title: str) -> None:
        """Which stream is watched, in words."""
        self._title = title
        if not self._json and not self._screen.is_terminal:
            self._screen.print(f"watching {title}", markup=False)

    def waiting(self) -> None:
        """There is no stream yet."""
        if not self._waits and not self._json:
            self._waits = True
            self._screen.print(f"{words.WAITING}; waiting for a stream", markup=False)

    def tell(self, now: Now) -> None:
        """How it stands."""
        self._alert(now)
        if self.page is not None:
            self.page.tell(now)
        stream = self._streams.setdefault(now.server, _StreamView())
        if not self._json and not self._screen.is_terminal:
            self._line(now, stream)
            return
        if now.seconds - stream.shown_at < SHOWN_SECONDS - 0.05:
            return
        stream.shown_at = now.seconds
        if self._json:
            said = json_of.dumps(now.model_dump(mode="json"))
            sys.stdout.write(said + "\n")
            sys.stdout.flush()
            return
        stream.saw(now)
        self._draw()

    def over(self, aired: Sequence[KeptBroadcast]) -> None:
        """Every stream has ended."""
        if self.page is not None:
            self.page.over(words.is_over([kept.broadcast.ended for kept in aired]))

    def _line(self, now: Now, stream: _StreamView) -> None:
        """In a pipe: a line whenever something else is the matter."""
        for line in now.breaches:
            if line not in stream.breaches:
                stream.breaches.append(line)
                self._screen.print(
                    f"{words.clock(now.seconds)}  {line}", markup=False, soft_wrap=True
                )
        key = str(now.verdict.cause or "")
        if now.verdict.late and key:
            key += " late"
        if now.state == "stopped":
            key += " stopped"
        if key == stream.said or (stream.said is None and now.seconds < FIRST_SECONDS and not key):
            stream.since = now.seconds
            return
        if now.verdict.cause == "connection" and now.seconds - stream.since < GONE_SECONDS:
            return  # a program that ends says so in a moment
        stream.said = key
        of = f"{now.server}  " if len(self._streams) > 1 else ""
        at = words.clock(now.seconds)
        self._screen.print(f"{at}  {of}{now.verdict.text}", markup=False, soft_wrap=True)

    def _draw(self) -> None:
        from rich.console import Group
        from rich.live import Live

        several = len(self._streams) > 1
        drawn = Group(
            *(
                self._panel(stream.now, stream, short=several)
                for stream in self._streams.values()
                if stream.now is not None
            )
        )
        if self._live is None:
            self._live = Live(drawn, console=self._screen, auto_refresh=False, transient=True)
            self._live.start()
        self._live.update(drawn, refresh=True)

    def _panel(self, now: Now, stream: _StreamView, *, short: bool) -> Panel:
        from rich.panel import Panel
        from rich.text import Text

        verdict = now.verdict
        colour = COLOURS[now.state]
        card = grid(0, 1)
        for name, value in self._rows(now, stream, short=short):
            card.add_row(Text(name, style="dim"), value)
        whole = grid(1)
        whole.add_row(Text(verdict.text, style=f"bold {colour}"))
        whole.add_row(card)
        for line in now.breaches[:MOST_BREACHES]:
            whole.add_row(Text(f"! {line}", style="yellow"))
        said = now.server if short or not self._title else self._title
        title = Text(f"{words.clock(now.seconds)}  {said}")
        return Panel(whole, title=title, title_align="left", border_style=colour, padding=(0, 1))

    def _rows(self, now: Now, stream: _StreamView, *, short: bool) -> list[tuple[str, str]]:
        longest = max(LATE_SECONDS, *stream.waited)
        waits = [wait / longest * 0.999 for wait in stream.waited]
        rows = [
            ("sent", words.sent_of(now.sent_kbps, now.planned_kbps)),
            ("", bars(list(stream.sent), BARS)),
            ("queued", f"{now.queued_seconds:.2f} s"),
            ("", bars([*waits, 1.0], BARS + 1)[:-1]),
            ("arrived", f"{now.carried_kbps:,.0f} kbit/s"),
            ("round trips", words.round_trips(now.round_trip_ms, now.min_round_trip_ms)),
        ]
        if now.frames is not None:
            late = words.late_of(now.late_frames, now.frames, now.lost_frames)
            rows.append(("late frames", late))
        if now.fps is not None:
            rows.append(("frame rate", f"{now.fps:.4g} fps"))
        if now.cores is not None:
            again = words.sent_again(now.resent_bytes, now.sent_kbps * 125 * now.seconds)
            rows += [("resent", again), ("program", words.takes(now.cores, now.memory_mb))]
        return [row for row in rows if row[0] in SHORT] if short else rows

    def _alert(self, now: Now) -> None:
        """A sound or a notice, when asked for, and not again and again."""
        if now.verdict.cause is None or not (self._bell or self._notify):
            return
        if now.seconds - self._alerted_at < AGAIN_SECONDS:
            return
        self._alerted_at = now.seconds
        if self._bell:
            sys.stderr.write("\a")
            sys.stderr.flush()
        if self._notify:
            _notice(now.verdict.text)


@contextmanager
def second_screen(at: str | None) -> Iterator[SecondScreen]:
    """The page at an address of this machine, None for itself only; told, and for a camera."""
    import segno

    with page_at(at) as page:
        warn(f"the page for a second screen, for whoever has its address: {page.address}")
        if sys.stderr.isatty() and at is not None:
            segno.make(page.address, micro=False).terminal(out=sys.stderr, compact=True)
        yield page


def page_at(at: str | None) -> SecondScreen:
    """The page at an address of this machine, None for itself only."""
    from eager_kestrel.actions.second_screen import SecondScreen
    from eager_kestrel.report.page import watch_page

    return SecondScreen(*watch_page(words.WAITING), at)


def _notice(text: str) -> None:
    """A desktop notice by whatever this system has for it; said once where it has nothing."""
    import shutil
    import subprocess

    if found := shutil.which("notify-send"):
        command = [found, "Eager Kestrel", text]
    elif found := shutil.which("osascript"):
        plain = text.replace("\\", "").replace('"', "'")
        command = [found, "-e", f'display notification "{plain}" with title "Eager Kestrel"']
    else:
        if not _notice_missing:
            _notice_missing.append(True)
            warn("this system shows no notices (no notify-send): use --bell")
        return
    subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # noqa: S603


_notice_missing: list[bool] = []


def show_ended(kept: KeptBroadcast, *, quiet: bool = False) -> bool:
    """The card of a broadcast that is over; whether something was late or broke a rule."""
    broadcast = kept.broadcast
    if not quiet:
        show(broadcast_blocks(broadcast))
        said = words.kept(broadcast.id, on_disk=kept.kept)
        console().print(said, style="dim", markup=False)
    return any(trouble.late for trouble in broadcast.troubles) or bool(broadcast.breaches)
