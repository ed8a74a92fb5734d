"""``watch``: watch the stream on the air, name the cause of trouble, say what to do."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, ClassVar

import typer

from eager_kestrel.actions.broadcasts import KeptBroadcast
from eager_kestrel.actions.relay import RelayOptions, RelayReport, watch_through as stand_between
from eager_kestrel.actions.watching import (
    Connection,
    WatchOptions,
    sees_connections,
    watch as watch_stream,
    watch_interface,
)
from eager_kestrel.cli import options
from eager_kestrel.cli.terminal import serve, warn
from eager_kestrel.cli.watch_view import View, second_screen, show_ended
from eager_kestrel.core.errors import InputError


@dataclass(frozen=True, slots=True)
class StreamFlags:
    """Which stream."""

    HEADING: ClassVar = "Which stream"

    to: Annotated[
        list[str] | None,
        typer.Option(
            metavar="WHERE",
            help="HOST[:PORT] it goes to; with --through a platform of the plan, an address "
            "without key, or PLATFORM=ADDRESS (repeat for several).",
        ),
    ] = None
    platform: Annotated[
        str | None,
        typer.Option(
            "--for",
            metavar="PLATFORM",
            autocompletion=options.complete_platform,
            help="Which of the plan.",
        ),
    ] = None
    pid: Annotated[int | None, typer.Option(metavar="N", help="The sending process.")] = None
    program: Annotated[
        str | None, typer.Option(metavar="NAME", help="The sending program's name, or part of it.")
    ] = None
    settings: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Judge by these settings in place of the plan."),
    ] = None


@dataclass(frozen=True, slots=True)
class RelayFlags:
    """Standing between program and platform."""

    HEADING: ClassVar = "In between"

    through: Annotated[
        bool, typer.Option("--through", help="Stand in between: the program sends to this command.")
    ] = False
    port: Annotated[
        int, typer.Option(min=0, max=65535, help="With --through: where; 0 takes a free one.")
    ] = 1935
    practice: Annotated[
        str | None,
        typer.Option(
            metavar="CONNECTION",
            help='With --through: a simulated platform behind a simulated connection: "5 Mbit/s".',
        ),
    ] = None


@dataclass(frozen=True, slots=True)
class AlertFlags:
    """How to be told."""

    HEADING: ClassVar = "Alerts"

    bell: Annotated[bool, typer.Option("--bell", help="Ring when something is wrong.")] = False
    notify: Annotated[
        bool, typer.Option("--notify", help="Show a desktop notice when something is wrong.")
    ] = False
    page: Annotated[
        bool, typer.Option("--page", help="Serve a page that shows it, for a second screen.")
    ] = False
    page_at: Annotated[
        str | None,
        typer.Option(
            metavar="ADDRESS",
            help="The same at an address of this machine; 0.0.0.0: for the household, a phone say.",
        ),
    ] = None


@options.grouped
def watch(
    plan: Annotated[str, typer.Argument(metavar="PLAN", help="A plan's JSON file.")] = "latest",
    which: StreamFlags = StreamFlags(),
    between: RelayFlags = RelayFlags(),
    alerts: AlertFlags = AlertFlags(),
    max_time: Annotated[
        str, typer.Option(metavar="TIME", help="Stop after this long in any case.")
    ] = "12 h",
    _guides: options.GuideFolder = None,
    json: Annotated[
        bool, typer.Option("--json", "-j", help="Print one JSON document a second.")
    ] = False,
    _: options.Quiet = False,
) -> None:
    """Watch the stream a program sends: does it arrive, what is at fault, what to do.

    What was seen is kept: see review and runs list.
    """
    serve()
    with contextlib.ExitStack() as stack:
        view = View(json=json, bell=alerts.bell, notify=alerts.notify)
        if alerts.page or alerts.page_at is not None:
            view.page = stack.enter_context(second_screen(alerts.page_at))
        stack.enter_context(view)
        if between.through or between.practice is not None:
            aired = watch_through(plan, which, between, max_time, view)
        else:
            aired = _from_outside(plan, which, max_time, view)
        view.over(aired)
    failed = [show_ended(one, quiet=json) for one in aired]
    raise typer.Exit(1 if any(failed) else 0)


def _from_outside(
    plan: str, which: StreamFlags, max_time: str, view: View
) -> tuple[KeptBroadcast, ...]:
    """Watch the program's own connection; nothing is aired where only a rate was seen."""
    if which.to is not None and len(which.to) > 1:
        raise InputError(
            "only one stream can be watched from outside", "give one --to, or --through"
        )
    wish = WatchOptions(
        plan=plan,
        settings=which.settings,
        platform=which.platform,
        to=which.to[0] if which.to else None,
        pid=which.pid,
        program=which.program,
        max_time=max_time,
    )
    if sees_connections():
        return (watch_stream(wish, view.tell, _chooser(view), view.found, view.waiting),)
    warn(
        "this system does not show other programs' connections, only a rate; "
        "eager-kestrel watch --through sees the stream itself"
    )
    watch_interface(wish, view.tell)
    return ()


def _chooser(view: View) -> Callable[[Sequence[Connection]], Connection] | None:
    """Asks which of several is meant; None where nobody is there to ask."""
    if not sys.stdin.isatty():
        return None

    def choose(found: Sequence[Connection]) -> Connection:
        view.pause()
        for number, one in enumerate(found, 1):
            typer.echo(f"{number}  {one.program} (process {one.pid}) to {one.to}", err=True)
        number = 0
        while not 1 <= number <= len(found):
            number = typer.prompt(f"Which one, 1 to {len(found)}", type=int, err=True)
        return found[number - 1]

    return choose


app = options.single("watch", watch, secure=True)


def watch_through(
    plan: str, which: StreamFlags, between: RelayFlags, max_time: str, view: View
) -> tuple[KeptBroadcast, ...]:
    """Stand in between until the stream ends."""
    if which.pid is not None or which.program is not None:
        raise InputError(
            "with --through the program sends to this command", "leave --pid and --program out"
        )
    wish = RelayOptions(
        plan=plan,
        settings=which.settings,
        platform=which.platform,
        to=tuple(which.to or ()),
        port=between.port,
        practice=between.practice,
        max_time=max_time,
    )

    def ready(told: RelayReport) -> None:
        sys.stderr.write(
            f"Send to {told.address} with the stream key: {told.shown_key}\n"
            f"It is passed on to {', '.join(told.targets)}\n"
        )
        sys.stderr.flush()
        view.titled(f"passing through to {', '.join(told.targets)}")

    return stand_between(wish, view.tell, options.asker(), ready, warn)
