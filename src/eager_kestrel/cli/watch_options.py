"""What ``watch`` is told on the command line: which stream, how to stand, how to be told."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.cli.options import complete_platform


@dataclass(frozen=True, slots=True)
class StreamFlags:
    """Which stream, as said on the command line."""

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
            "--for", metavar="PLATFORM", autocompletion=complete_platform, help="Which of the plan."
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
    """Standing between program and platform, as said on the command line."""

    through: Annotated[
        bool, typer.Option("--through", help="Stand in between: the program sends to us.")
    ] = False
    port: Annotated[
        int, typer.Option(min=0, max=65535, help="With --through: where; 0 takes a free one.")
    ] = 1935
    practice: Annotated[
        str | None,
        typer.Option(
            metavar="LINE",
            help='With --through: a simulated platform behind a simulated line: "5 Mbit/s".',
        ),
    ] = None


@dataclass(frozen=True, slots=True)
class AlertFlags:
    """How to be told, as said on the command line."""

    bell: Annotated[bool, typer.Option("--bell", help="Ring when something is wrong.")] = False
    notify: Annotated[
        bool, typer.Option("--notify", help="Show a desktop notice when something is wrong.")
    ] = False
