"""``guides import``: a guideline page proposes, a person confirms, and a guide is written."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.guides_new import Out, understood_so
from eager_kestrel.cli.options import Json, among

if TYPE_CHECKING:
    from eager_kestrel.actions.importing import Reading


def import_page(
    page: Annotated[Path, typer.Argument(help="A guideline page: HTML, Markdown, CSV, text.")],
    name: Annotated[str, typer.Option(help="Of the platform, in lower case.")],
    title: Annotated[str | None, typer.Option(help="As people call it.")] = None,
    source: Annotated[str | None, typer.Option(help="Where the page is from.")] = None,
    shape: Annotated[
        str, typer.Option(metavar="SHAPE", help='Of resolutions given as "1080p".')
    ] = "16:9",
    set_: Annotated[
        list[str] | None,
        typer.Option("--set", metavar='"KEY=VALUE"', help="Answer one question; repeatable."),
    ] = None,
    answers: Annotated[
        Path | None,
        typer.Option("--answers", metavar="FILE", help="Questions with answers, as --json prints."),
    ] = None,
    accept: Annotated[
        str | None,
        typer.Option(
            metavar="WHICH",
            autocompletion=among("all", "none"),
            help="Ask nothing: take what carries no doubt, unverified, or none.",
        ),
    ] = None,
    json: Json = False,
    out: Out = None,
) -> None:
    """Turn a guideline page into a guide: every value is proposed, and confirmed by you."""
    from eager_kestrel.actions.guides import new_path
    from eager_kestrel.actions.importing import answers_given, read, write_import
    from eager_kestrel.core.errors import InputError

    if accept not in (None, "all", "none"):
        raise InputError(f'"{accept}" is nothing to accept', "write all or none")
    path = new_path(name, out)
    reading = read(page, shape)
    given = answers_given(reading, answers, set_ or ())
    called = title or name.replace("-", " ").title()
    about = (name, called, source or page.name, path)
    if accept == "all":
        taken = reading.accepted(given)
        understood_so(write_import(reading, taken, *about, unverified=True), path)
        raise typer.Exit(1)
    if accept == "none" or answers is not None:
        understood_so(write_import(reading, given, *about), path)
        return
    if json or not sys.stdin.isatty():
        _open(reading, given, json=json)
    from eager_kestrel.cli.interview import confirmed

    guide = confirmed(reading, given, lambda said: write_import(reading, said, *about))
    understood_so(guide, path)


def _open(reading: Reading, given: dict[str, str], *, json: bool) -> None:
    """Print the questions that are open, and end: there is nobody to ask."""
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.errors import InputError

    questions = reading.questions(given)
    if json:
        print_json(questions.model_dump(mode="json"))
        raise typer.Exit(2)
    raise InputError(
        f"{len(questions.questions)} questions are open, and this is not an interactive terminal",
        "print them with --json, write answers into them and give --answers FILE; or --accept all",
    )
