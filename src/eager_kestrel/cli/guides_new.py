"""``guides new`` and ``guides import``: from answers or a guideline page to a guide."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

Out = Annotated[
    Path | None, typer.Option(metavar="PATH", help="A file or folder; else your own guides.")
]


def new(
    name: Annotated[str, typer.Argument(help="Of the platform, in lower case.")],
    from_template: Annotated[
        bool, typer.Option("--from-template", help="Ask nothing: write a commented template.")
    ] = False,
    out: Out = None,
) -> None:
    """Write a guide: a few questions, each of which may be skipped."""
    from eager_kestrel.actions.guides import from_template as write_template
    from eager_kestrel.actions.guides import new_path
    from eager_kestrel.core.errors import InputError

    path = new_path(name, out)
    if from_template:
        guide = write_template(name, path)
    elif not sys.stdin.isatty():
        raise InputError("this is not an interactive terminal",
                         "give --from-template, or guides import PAGE")  # fmt: skip
    else:
        guide = answered(name, path)
    understood_so(guide, path)


def answered(name: str, path: Path, page: Path | None = None) -> Guide:
    """Ask for a guide, perhaps with the proposals of a page, and write it."""
    from eager_kestrel.actions.importing import NOTHING, read, write_import
    from eager_kestrel.cli.interview import confirmed

    reading = NOTHING if page is None else read(page)
    title = name.replace("-", " ").title()
    source = "its guideline page"
    if page is None:
        title = typer.prompt("What is it called", default=title, err=True)
        source = typer.prompt("Where do the figures come from", default=source, err=True)
    about = (name, title, source, path)
    return confirmed(reading, {}, lambda said: write_import(reading, said, *about))


def understood_so(guide: Guide, path: Path) -> None:
    """What a guide says, in a few lines, after it was written and read back."""
    from rich.text import Text

    from eager_kestrel.cli.screen import console, grid

    video, audio = guide.video, guide.audio
    table = grid(0, 1)
    shapes = ", ".join(map(str, video.shapes)) or "any shape"
    for name, value in (
        ("picture", f"up to {video.largest}, {shapes}, {video.rates_words()} frames a second"),
        ("video", f"{', '.join(video.codecs)}, at most {video.ceiling.in_kbps()}, "
                  f"{' or '.join(video.rate_control)}"),
        ("keyframes", video.keyframes.words()),
        ("audio", f"{', '.join(audio.codecs)}, {audio.least.kbps:g} to {audio.most.kbps:g} kbit/s"),
        ("rows", str(len(guide.rungs))),
        ("viewers", f"smaller copies: {guide.delivery.transcodes}"),
    ):  # fmt: skip
        table.add_row(f"[dim]{name}[/]", value)
    screen = console()
    screen.print(Text(guide.title, style="bold"))
    screen.print(table)
    screen.print(Text(f"Written to {path}"), soft_wrap=True)
