"""Options that several commands share, so that they read the same everywhere."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, TypeAlias

import typer


def single(name: str, command: Callable[..., None]) -> typer.Typer:
    """A module's only command, built when it is called for."""
    app = typer.Typer(rich_markup_mode=None, add_completion=False)
    app.command(name)(command)
    return app


def group() -> typer.Typer:
    """A module's family of commands; its callback gives the help."""
    return typer.Typer(no_args_is_help=True, rich_markup_mode=None, add_completion=False)


def complete_run(incomplete: str) -> list[str]:
    """Run ids for shell completion."""
    from eager_kestrel.actions.runs import listed

    return [name for row in listed() if (name := row.id).startswith(incomplete)]


def complete_platform(incomplete: str) -> list[str]:
    """Platform names for shell completion."""
    from eager_kestrel.actions.plan import known_platforms

    return [name for name in known_platforms() if name.startswith(incomplete)]


def complete_show(incomplete: str) -> list[str]:
    """Bundled shows and TOML files of this folder for shell completion."""
    from eager_kestrel.actions.shows import known_shows

    return [name for name in known_shows() if name.startswith(incomplete)]


def complete_show_or_platform(incomplete: str) -> list[str]:
    """Either, for commands that take both."""
    return [*complete_show(incomplete), *complete_platform(incomplete)]


def complete_term(incomplete: str) -> list[str]:
    """Words that are explained, for shell completion."""
    from eager_kestrel.actions.explain import glossary

    return [name for name in glossary().terms if name.startswith(incomplete)]


def complete_practice(incomplete: str) -> list[str]:
    """Practice lines for shell completion."""
    from eager_kestrel.actions.practice import practice_names

    return [name for name in practice_names() if name.startswith(incomplete)]


Json: TypeAlias = Annotated[
    bool, typer.Option("--json", help="Print one JSON document on standard output.")
]
PracticeName: TypeAlias = Annotated[
    str | None,
    typer.Option(
        "--practice",
        metavar="NAME",
        autocompletion=complete_practice,
        help="Use a bundled simulated line on this machine: day, wet-evening or bad-night.",
    ),
]
GuideFolder: TypeAlias = Annotated[
    Path | None,
    typer.Option("--guides", metavar="DIR", help="A folder whose guides come first."),
]
Figure: TypeAlias = Annotated[
    Path | None, typer.Option(metavar="FILE", help="Draw it into a .png, .svg or .pdf file.")
]
Platforms: TypeAlias = Annotated[
    list[str] | None,
    typer.Option(
        "--for",
        metavar="PLATFORM[:STANDING]",
        autocompletion=complete_platform,
        help="Where the stream goes, for example oxbow or oxbow:hearth; several times for several.",
    ),
]
Codec: TypeAlias = Annotated[
    str | None, typer.Option(metavar="NAME", help="h264, hevc or av1, if the guide takes it.")
]
Source: TypeAlias = Annotated[
    str | None,
    typer.Option(
        metavar="WIDTHxHEIGHT", help="The picture your camera or screen gives; else 1920x1080."
    ),
]
SourceRate: TypeAlias = Annotated[
    str | None, typer.Option(metavar="RATE", help="Its frames a second, such as 29.97; else 60.")
]
Motion: TypeAlias = Annotated[
    str | None, typer.Option(metavar="KIND", help="still, calm, lively or hectic; else lively.")
]
Share: TypeAlias = Annotated[
    str | None,
    typer.Option(metavar="PERCENT", help="The share of the line a stream may take; else 70 %."),
]
Reserves: TypeAlias = Annotated[
    list[str] | None,
    typer.Option(metavar='"NAME=RATE"', help='Keep upload back, "video call=1.5 Mbit/s".'),
]
