"""``guides``: platform guidelines as files."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Around,
    Codec,
    Days,
    GuideFolder,
    Json,
    ShowFlags,
    among,
    complete_platform,
    complete_show,
    group,
    grouped,
)

if TYPE_CHECKING:
    from rich.table import Table

    from eager_kestrel.actions.guides import Listed
    from eager_kestrel.actions.importing import Reading
    from eager_kestrel.core.guide.guide import Change, Guide


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
        raise InputError(
            "this is not an interactive terminal", "give --from-template, or guides import PAGE"
        )
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

    from eager_kestrel.cli.terminal import console, grid

    video, audio = guide.video, guide.audio
    table = grid(0, 1)
    shapes = ", ".join(map(str, video.shapes)) or "any shape"
    for name, value in (
        ("resolution", f"up to {video.largest}, {shapes}, {video.rates_words()} frames a second"),
        (
            "video",
            f"{', '.join(video.codecs)}, at most {video.ceiling.in_kbps()}, "
            f"{' or '.join(video.rate_control)}",
        ),
        ("keyframes", video.keyframes.words()),
        ("audio", f"{', '.join(audio.codecs)}, {audio.least.kbps:g} to {audio.most.kbps:g} kbit/s"),
        ("rows", str(len(guide.rungs))),
        ("viewers", f"smaller copies: {guide.delivery.transcodes}"),
    ):
        table.add_row(f"[dim]{name}[/]", value)
    screen = console()
    screen.print(Text(guide.title, style="bold"))
    screen.print(table)
    screen.print(Text(f"Written to {path}"), soft_wrap=True)


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
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.errors import InputError

    questions = reading.questions(given)
    if json:
        print_json(questions.model_dump(mode="json"))
        raise typer.Exit(2)
    raise InputError(
        f"{len(questions.questions)} questions are open, and this is not an interactive terminal",
        "print them with --json, write answers into them and give --answers FILE; or --accept all",
    )


WIDE = 100
"""Columns from which a guide takes one line."""

app = group()

Name = Annotated[str, typer.Argument(metavar="PLATFORM", autocompletion=complete_platform)]


@app.callback()
def guides() -> None:
    """Platform guidelines as files: list, show, write, import, check, compare."""


@app.command("list")
def list_guides(folder: GuideFolder = None, json: Json = False) -> None:
    """List every guide there is."""
    from eager_kestrel.actions.guides import listed
    from eager_kestrel.cli.terminal import console, print_json, warn
    from eager_kestrel.core.document import format_name

    found, broken = listed(folder)
    for error in broken:
        warn(error.line())
    if json:
        rows = [
            {
                "name": item.guide.name,
                "title": item.guide.title,
                "checked": item.guide.checked.isoformat(),
                "stale": item.stale_days is not None,
                "where": item.where,
            }
            for item in found
        ]
        print_json({"format": format_name("guide-list"), "guides": rows})
    else:
        console().print(_table(found))
    if broken:
        raise typer.Exit(1)


def _table(found: list[Listed]) -> Table:
    """Guides in a line each, or folded where the terminal is narrow."""
    from rich.table import Table

    from eager_kestrel.cli.terminal import console

    table = Table(box=None, padding=(0, 1), header_style="dim")
    headings = ["guide", "largest", "at most", "keyframes", "codecs", "checked"]
    own = any(item.where != "bundled" for item in found)
    if own or console().width >= WIDE:
        headings.append("from")
    for heading in headings:
        table.add_column(heading, no_wrap=heading != "from", overflow="fold")
    comma = ",\n" if console().width < WIDE else ", "
    for item in found:
        video = item.guide.video
        stale = " [yellow]stale[/]" if item.stale_days else ""
        table.add_row(
            f"[bold]{item.guide.name}[/]",
            f"{video.largest}{comma}{video.rates_words()}",
            video.ceiling.in_kbps(),
            video.keyframes.words().replace(", ", comma),
            comma.join(video.codecs),
            f"{item.guide.checked}{stale}",
            *([item.where] if "from" in headings else []),
        )
    return table


@app.command("show")
def show(name: Name, folder: GuideFolder = None, json: Json = False) -> None:
    """Show one guide as its file."""
    from eager_kestrel.actions import load_guide
    from eager_kestrel.actions.guides import guide_text
    from eager_kestrel.cli.terminal import print_json

    guide = load_guide(name, folder)
    if json:
        print_json(guide.model_dump(mode="json"))
    else:
        sys.stdout.write(guide_text(name, folder))


@app.command("where")
def where(name: Name, folder: GuideFolder = None) -> None:
    """Say which file a guide comes from."""
    from eager_kestrel.actions.guides import where as find

    sys.stdout.write(find(name, folder) + "\n")


@app.command("schema")
def schema() -> None:
    """Print the JSON Schema that editors complete a guide by."""
    from eager_kestrel.actions import document_schema

    sys.stdout.write(document_schema("guide"))


@app.command("check")
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Guides, or folders.")],
    json: Json = False,
) -> None:
    """Check guide files; each error names file, line and what to write."""
    from rich.text import Text

    from eager_kestrel.actions.guides import lint
    from eager_kestrel.cli.terminal import console, print_json, remark, warn
    from eager_kestrel.core.document import format_name

    outcomes = lint(files)
    broken = sum(bool(outcome.errors) for outcome in outcomes)
    if json:
        rows = [
            {
                "file": str(one.path),
                "errors": [error.line() for error in one.errors],
                "remarks": list(one.remarks),
            }
            for one in outcomes
        ]
        print_json({"format": format_name("guide-check"), "files": rows})
        raise typer.Exit(1 if broken else 0)
    screen = console()
    for outcome in outcomes:
        for error in outcome.errors:
            warn(error.line())
        if outcome.errors:
            continue
        screen.print("[green]✓[/]", Text(str(outcome.path)), soft_wrap=True)
        for line in outcome.remarks:
            remark(screen, line)
    screen.print(f"{len(outcomes) - broken} good, {broken} with errors")
    if broken:
        raise typer.Exit(1)


app.command("new")(new)
app.command("import")(import_page)


@app.command("diff")
@grouped
def diff(
    old: Annotated[str, typer.Argument(help="A platform or guide file.")],
    new: Annotated[str, typer.Argument(help="Another.")],
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Compare what is planned for this show; else ./show.toml.",
        ),
    ] = None,
    upload: Annotated[
        str | None, typer.Option(metavar="RATE", help="Plan both from this, not from your runs.")
    ] = None,
    wish: ShowFlags = ShowFlags(),
    around: Around = None,
    days: Days = 14,
    codec: Codec = None,
    folder: GuideFolder = None,
    json: Json = False,
) -> None:
    """Say what changed between two guides, and what that changes for your plan."""
    from eager_kestrel.actions.guides import compared, plan_changes
    from eager_kestrel.actions.planning import known_uplink
    from eager_kestrel.actions.shows import compared_show
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.document import format_name

    before, after, changed = compared(old, new, folder)
    asked = compared_show(show, before.name, wish.wishes(None, codec))
    uplink = known_uplink(upload, days, around)
    mine = None if uplink is None else plan_changes(before, after, asked, uplink, folder)
    if json:
        print_json(
            {
                "format": format_name("guide-diff"),
                "changes": [change.model_dump() for change in changed],
                "plan": None if mine is None else [change.model_dump() for change in mine],
            }
        )
    else:
        _show_changes(changed, mine)


def _show_changes(changed: list[Change], mine: list[Change] | None) -> None:
    """Every key that differs, then what that does to a plan."""
    from rich.text import Text

    from eager_kestrel.cli.terminal import console, grid

    screen = console()
    if not changed:
        screen.print("Nothing changed.")
        return
    table = grid(0, 1, 0, 1)
    for change in changed:
        before, after = Text(change.before or "-"), Text(change.after or "-")
        table.add_row(Text(change.key, style="cyan"), before, "→", after)
    screen.print(table)
    if mine is None:
        screen.print("\nNo run is kept, so no plan to compare: give --upload RATE.")
    elif not mine:
        screen.print("\nYour plan stays the same.")
    else:
        screen.print("\n[bold]Your plan changes[/]")
        for change in mine:
            shown = f"  {change.key}: {change.before or '-'} → {change.after or '-'}"
            screen.print(Text(shown))
