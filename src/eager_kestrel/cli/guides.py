"""``guides``: platform guidelines as files."""

from __future__ import annotations

import sys
from pathlib import Path
from textwrap import shorten
from typing import Annotated

import typer

from eager_kestrel import document_schema, load_guide
from eager_kestrel.actions import importing
from eager_kestrel.actions.guides import (
    check_guides,
    compare_guides,
    from_template,
    guide_text,
    list_guides,
    new_path,
    plan_changes,
    where as find,
)
from eager_kestrel.actions.planning import known_uplink
from eager_kestrel.actions.shows import compared_show, shows_on
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.interview import confirmed
from eager_kestrel.cli.rendering import show as show_blocks
from eager_kestrel.cli.terminal import print_json, warn
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.results import GuideDiff
from eager_kestrel.report.blocks import Note, blocks_of

Out = Annotated[
    Path | None, typer.Option(metavar="PATH", help="A file or folder; else your own guides.")
]


def new(
    name: Annotated[str, typer.Argument(help="Of the platform, in lower case.")],
    template: Annotated[
        bool, typer.Option("--from-template", help="Do not ask: write a commented template.")
    ] = False,
    out: Out = None,
) -> None:
    """Write a guide: a few questions, each of which may be skipped."""
    path = new_path(name, out)
    if template:
        guide = from_template(name, path)
    elif not sys.stdin.isatty():
        raise InputError(
            "this is not an interactive terminal", "give --from-template, or guides import PAGE"
        )
    else:
        guide = answered(name, path)
    understood_so(guide, path)


def answered(name: str, path: Path, page: Path | None = None) -> Guide:
    """Ask for a guide, perhaps with the proposals of a page, and write it."""
    reading = importing.NOTHING if page is None else importing.read_guideline(page)
    title = name if name != name.lower() else name.replace("-", " ").title()
    source = "its guideline page"
    if page is None:
        title = typer.prompt("What is it called", default=title, err=True)
        source = typer.prompt("Where do the figures come from", default=source, err=True)
    about = importing.NewGuide(path.stem, title, source, path)
    return confirmed(reading, {}, lambda said: importing.write_imported_guide(reading, said, about))


def understood_so(guide: Guide, path: Path) -> None:
    """What a guide says, in a few lines, after it was written and read back."""
    show_blocks([*blocks_of(guide), Note(f"Written to {path}", keep=True)])


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
            autocompletion=options.among("all", "none"),
            help="Do not ask: take all that the page surely says, as unverified; or none.",
        ),
    ] = None,
    json: options.Json = False,
    out: Out = None,
) -> None:
    """Turn a guideline page into a guide: it is quoted beside each question, and you confirm."""
    if accept not in (None, "all", "none"):
        raise InputError(f'"{accept}" is nothing to accept', "write --accept all or --accept none")
    path = new_path(name, out)
    reading = importing.read_guideline(page, shape)
    given = importing.answers_given(reading, answers, set_ or ())
    called = title or name.replace("-", " ").title()
    about = importing.NewGuide(path.stem, called, source or page.name, path)
    if accept == "all":
        taken = reading.accepted(given)
        for key in reading.open_keys(taken):
            quote = shorten(reading.quotes(key, taken)[0], 80)
            warn(f'left out: {key}, "{quote}"; add it with --set', always=True)
        understood_so(importing.write_imported_guide(reading, taken, about, unverified=True), path)
        raise typer.Exit(1)
    if accept == "none" or answers is not None:
        understood_so(importing.write_imported_guide(reading, given, about), path)
        return
    if json or not sys.stdin.isatty():
        _open(reading, given, json=json)
    guide = confirmed(
        reading, given, lambda said: importing.write_imported_guide(reading, said, about)
    )
    understood_so(guide, path)


def _open(reading: importing.Reading, given: dict[str, str], *, json: bool) -> None:
    """Print the questions that are open, and end: not an interactive terminal."""
    questions = reading.questions(given)
    if json:
        print_json(questions.model_dump(mode="json"))
        raise typer.Exit(2)
    raise InputError(
        f"{len(questions.questions)} questions are open, and this is not an interactive terminal",
        "print them with --json, write answers into them and give --answers FILE; or --accept all",
    )


app = options.group()

Name = Annotated[str, typer.Argument(metavar="PLATFORM", autocompletion=options.complete_platform)]


@app.callback()
def guides() -> None:
    """Platform guidelines as files: list, show, write, import, check, compare."""


@app.command("list")
@options.grouped
def listed(
    _guides: options.GuideFolder = None, output: options.OutputFlags = options.OutputFlags()
) -> None:
    """List every guide there is."""
    output.require()
    found, broken = list_guides()
    for error in broken:
        warn(error.line(), always=True)
    deliver(found, output)
    if broken:
        raise typer.Exit(1)


@app.command("show")
def show(name: Name, _guides: options.GuideFolder = None, json: options.Json = False) -> None:
    """Show one guide as its file."""
    guide = load_guide(name)
    if json:
        print_json(guide.model_dump(mode="json"))
    else:
        sys.stdout.write(guide_text(name))


@app.command("where")
def where(name: Name, _guides: options.GuideFolder = None) -> None:
    """Say which file a guide comes from."""
    sys.stdout.write(find(name) + "\n")


@app.command("schema")
def schema() -> None:
    """Print the JSON Schema that editors complete a guide by."""
    sys.stdout.write(document_schema("guide"))


@app.command("check")
@options.grouped
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Guides, or folders.")],
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Check guide files; each error names file, line and what to write."""
    output.require()
    found = check_guides(files)
    if not output.json:
        for one in found.files:
            for error in one.errors:
                warn(error, always=True)
    deliver(found, output)
    if any(one.errors for one in found.files):
        raise typer.Exit(1)


app.command("new")(new)
app.command("import")(import_page)


@app.command("diff")
@options.grouped
def diff(
    old: Annotated[str, typer.Argument(help="A platform or guide file.")],
    new: Annotated[str, typer.Argument(help="Another.")],
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=options.complete_show,
            help="Compare what is planned for this show; default: ./show.toml.",
        ),
    ] = None,
    upload: Annotated[
        str | None, typer.Option(metavar="RATE", help="Plan both from this, not from your runs.")
    ] = None,
    around: options.At = None,
    days: options.Days = 14,
    _guides: options.GuideFolder = None,
    wish: options.ShowFlags = options.ShowFlags(),
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Say what changed between two guides, and what that changes for your plan."""
    output.require()
    before, after, changed = compare_guides(old, new)
    asked = compared_show(show, before.name, wish.options(None))
    uplink = known_uplink(upload, days, around)
    mine = None if uplink is None else plan_changes(before, after, asked, uplink)
    plan = None if mine is None else tuple(mine)
    touched = shows_on((before.name, after.name)) if changed else ()
    deliver(GuideDiff(changes=tuple(changed), plan=plan, shows=touched), output)
