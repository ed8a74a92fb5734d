"""``guides``: platform guidelines as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from eager_kestrel.cli.options import GuideFolder, Json, complete_platform, group

if TYPE_CHECKING:
    from eager_kestrel.actions.guides import Answers, Understood
    from eager_kestrel.core.guide.guide import Guide

app = group()

Name = Annotated[str, typer.Argument(metavar="PLATFORM", autocompletion=complete_platform)]
Out = Annotated[
    Path | None, typer.Option(metavar="PATH", help="A file or folder; else your own guides.")
]


@app.callback()
def guides() -> None:
    """Platform guidelines as files: list, show, write, import, check, compare."""


@app.command("list")
def list_guides(folder: GuideFolder = None, json: Json = False) -> None:
    """List every guide there is."""
    from rich.table import Table

    from eager_kestrel.actions.guides import listed
    from eager_kestrel.cli.screen import console, print_json, warn
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
        table = Table(box=None, padding=(0, 1), header_style="dim")
        for heading in ("guide", "largest", "at most", "keyframes", "codecs", "checked", "from"):
            fixed = heading in ("guide", "at most", "checked")
            table.add_column(heading, overflow="fold", no_wrap=fixed)
        for item in found:
            video = item.guide.video
            stale = " [yellow]stale[/]" if item.stale_days else ""
            table.add_row(
                f"[bold]{item.guide.name}[/]",
                f"{video.largest}, {video.rates_words()}",
                video.ceiling.in_kbps(),
                video.keyframes.words(),
                ", ".join(video.codecs),
                f"{item.guide.checked}{stale}",
                item.where,
            )
        console().print(table)
    if broken:
        raise typer.Exit(1)


@app.command("show")
def show(name: Name, folder: GuideFolder = None, json: Json = False) -> None:
    """Show one guide as its file."""
    import sys

    from eager_kestrel.actions.guides import guide_text, load_guide
    from eager_kestrel.cli.screen import print_json

    guide = load_guide(name, folder)
    if json:
        print_json(guide.model_dump(mode="json"))
    else:
        sys.stdout.write(guide_text(name, folder))


@app.command("where")
def where(name: Name, folder: GuideFolder = None) -> None:
    """Say which file a guide comes from."""
    import sys

    from eager_kestrel.actions.guides import where as find

    sys.stdout.write(find(name, folder) + "\n")


@app.command("schema")
def schema() -> None:
    """Print the JSON Schema that editors complete a guide by."""
    import sys

    from eager_kestrel.actions.guides import guide_schema

    sys.stdout.write(guide_schema())


@app.command("check")
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Guides, or folders.")],
) -> None:
    """Check guide files; each error names file, line and what to write."""
    from rich.text import Text

    from eager_kestrel.actions.guides import lint
    from eager_kestrel.cli.screen import console, remark, warn

    outcomes = lint(files)
    screen = console()
    for outcome in outcomes:
        if outcome.error is not None:
            warn(outcome.error.line())
            continue
        screen.print("[green]✓[/]", Text(str(outcome.path)), soft_wrap=True)
        for line in outcome.remarks:
            remark(screen, line)
    broken = sum(outcome.error is not None for outcome in outcomes)
    screen.print(f"{len(outcomes) - broken} good, {broken} with errors")
    if broken:
        raise typer.Exit(1)


QUESTIONS: tuple[tuple[str, str, str], ...] = (
    ("title", "What is it called", "{title}"),
    ("source", "Where do the figures come from", "its guideline page"),
    ("video.shapes", "Picture shape", "16:9"),
    ("video.largest", "Largest picture", "1920x1080"),
    ("video.fastest", "Most frames a second", "60"),
    ("video.ceiling", "Most video bitrate", "6000 kbit/s"),
    ("video.keyframes", "Keyframe every", "2 s"),
    ("video.rate_control", "Rate control: constant, variable or both", "constant"),
    ("video.codecs", "Codecs, with commas: h264, hevc, av1", "h264"),
    ("audio.most", "Most audio bitrate", "160 kbit/s"),
    ("transports", "Transports, with commas: rtmps, rtmp", "rtmps, rtmp"),
    ("delivery.transcodes", "Smaller copies for viewers: always, when there is capacity, never",
     "when there is capacity"),
)  # fmt: skip
LISTS = ("video.shapes", "video.codecs", "transports", "video.rate_control")


@app.command("new")
def new(
    name: Annotated[str, typer.Argument(help="Of the platform, in lower case.")],
    from_template: Annotated[
        bool, typer.Option("--from-template", help="Ask nothing: write a commented template.")
    ] = False,
    out: Out = None,
) -> None:
    """Write a guide: a few questions, each of which may be skipped with Enter."""
    import sys

    from eager_kestrel.actions.guides import from_answers, new_path
    from eager_kestrel.actions.guides import from_template as write_template
    from eager_kestrel.core.errors import InputError

    path = new_path(name, out)
    if from_template:
        guide = write_template(name, path)
    elif not sys.stdin.isatty():
        raise InputError("there is nobody to ask", "give --from-template, or guides import TABLE")
    else:
        document, skipped = _asked(name)
        guide = from_answers(document, path, skipped)
    _understood_so(guide, path)


def _asked(name: str) -> tuple[dict[str, Any], list[str]]:
    """Ask each question until its answer can be read; returns the document and what was skipped."""
    from eager_kestrel.actions.guides import base_document, guide_of
    from eager_kestrel.cli.screen import warn
    from eager_kestrel.core.errors import FormatError

    document = base_document(name, name.replace("-", " ").title(), "its guideline page")
    skipped = []
    for key, question, usual in QUESTIONS:
        default = usual.format(title=document["title"])
        while True:
            answer = typer.prompt(question, default=default, err=True)
            before = _put(document, key, _listed(key, answer))
            try:
                guide_of(document)
            except FormatError as error:
                _put(document, key, before)
                warn(error.line())
                continue
            break
        if answer == default and key not in ("title", "source"):
            skipped.append(key)
    return document, skipped


def _listed(key: str, answer: str) -> object:
    if key not in LISTS:
        return answer
    if answer.strip().lower() == "both":
        return ["constant", "variable"]
    return [part.strip() for part in answer.split(",") if part.strip()]


def _put(document: dict[str, Any], key: str, value: object) -> object:
    """Set a dotted key; returns what was there."""
    *path, last = key.split(".")
    for part in path:
        document = document[part]
    before: object = document.get(last)
    document[last] = value
    return before


@app.command("import")
def import_table(
    table: Annotated[Path, typer.Argument(help="A guideline page's table: CSV, Markdown, HTML.")],
    name: Annotated[str, typer.Option(help="Of the platform, in lower case.")],
    title: Annotated[str | None, typer.Option(help="As people call it.")] = None,
    source: Annotated[str | None, typer.Option(help="Where the table is from.")] = None,
    unit: Annotated[
        str | None, typer.Option(metavar="UNIT", help="Of bare bitrates: kbit/s or Mbit/s.")
    ] = None,
    means: Annotated[
        str | None,
        typer.Option(metavar="KIND", help="What a plain bitrate is: floor, advised or ceiling."),
    ] = None,
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="Of rows that do not say.")
    ] = None,
    shape: Annotated[
        str, typer.Option(metavar="SHAPE", help='Of pictures given as "1080p".')
    ] = "16:9",
    column: Annotated[
        list[str] | None,
        typer.Option(metavar='"HEADING=ROLE"', help="Correct what a column was taken for."),
    ] = None,
    out: Out = None,
) -> None:
    """Turn the table of a guideline page into a guide; asks only where the table is silent."""
    from eager_kestrel.actions.guides import from_table, new_path, understood
    from eager_kestrel.core.errors import InputError

    path = new_path(name, out)
    answers = _answers(unit, means, fps, shape, column or [])
    found = understood(table, answers)
    while found.questions:
        answers = _answered(answers, found)
        found = understood(table, answers)
    _show_mapping(found)
    if not found.rungs:
        raise InputError(f"no row of {table} could be taken", 'correct it, or give --column "H=R"')
    guide = from_table(
        found, name, title or name.replace("-", " ").title(), source or str(table.name), path
    )
    _understood_so(guide, path)


def _answers(
    unit: str | None, means: str | None, fps: str | None, shape: str, columns: list[str]
) -> Answers:
    from eager_kestrel.actions.guides import Answers
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.core.guide.page_table import BOUNDS, ROLES
    from eager_kestrel.core.names import nearest_name
    from eager_kestrel.core.picture import parse_frame_rate

    if unit is not None and unit not in ("kbit/s", "Mbit/s"):
        raise InputError(f'"{unit}" is no unit of a table', 'write "kbit/s" or "Mbit/s"')
    meant = next((bound for bound in BOUNDS if bound == means), None)
    if means is not None and meant is None:
        raise InputError(f'"{means}" is no kind of bitrate', nearest_name(means, [*BOUNDS], ""))
    if fps is not None:
        parse_frame_rate(fps)
    roles = {}
    for written in columns:
        heading, _, said = written.partition("=")
        role = next((role for role in ROLES if role == said.strip()), None)
        if role is None:
            raise InputError(f'"{said}" is no role of a column', nearest_name(said, [*ROLES], ""))
        roles[heading.strip()] = role
    return Answers(unit=unit, means=meant, frame_rate=fps, shape=shape, roles=roles)


ASKED = {
    "unit": ("--unit", "The bitrates carry no unit. Are they kbit/s or Mbit/s"),
    "means": ("--means", "Are the bitrates a floor, advised, or a ceiling"),
    "frame_rate": ("--fps", "How many frames a second have rows that do not say"),
}


def _answered(answers: Answers, found: Understood) -> Answers:
    """Ask for what the table does not say, or fail with the list when nobody is there."""
    import sys
    from dataclasses import asdict

    from eager_kestrel.core.errors import InputError

    if not sys.stdin.isatty():
        _show_mapping(found)
        options = ", ".join(ASKED[key][0] for key in found.questions)
        raise InputError("the table leaves questions open", f"give {options}")
    said = asdict(answers)
    for key in found.questions:
        said[key] = typer.prompt(ASKED[key][1], err=True)
    columns = [f"{heading}={role}" for heading, role in answers.roles.items()]
    return _answers(said["unit"], said["means"], said["frame_rate"], answers.shape, columns)


def _show_mapping(found: Understood) -> None:
    from eager_kestrel.cli.screen import console

    screen = console(stderr=True)
    screen.print("[bold]Columns[/]")
    for heading, role in found.columns.items():
        screen.print(f"  {heading} → {role}", markup=False)
    screen.print(f"{len(found.rungs)} rows taken")
    for line in found.unplaced:
        screen.print(f"! {line}", markup=False)


def _understood_so(guide: Guide, path: Path) -> None:
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


@app.command("diff")
def diff(
    old: Annotated[str, typer.Argument(help="A platform or guide file.")],
    new: Annotated[str, typer.Argument(help="Another.")],
    upload: Annotated[
        str | None, typer.Option(metavar="RATE", help="Plan both from this, not from your runs.")
    ] = None,
    folder: GuideFolder = None,
    json: Json = False,
) -> None:
    """Say what changed between two guides, and what that changes for your plan."""
    from rich.text import Text

    from eager_kestrel.actions.guides import compared, plan_changes
    from eager_kestrel.cli.screen import console, grid, print_json
    from eager_kestrel.core.document import format_name

    before, after, changed = compared(old, new, folder)
    mine = plan_changes(before, after, upload)
    if json:
        print_json(
            {
                "format": format_name("guide-diff"),
                "changes": [change.model_dump() for change in changed],
                "plan": None if mine is None else [change.model_dump() for change in mine],
            }
        )
        return
    screen = console()
    if not changed:
        screen.print("Nothing changed.")
        return
    table = grid(0, 1, 0, 1)
    for change in changed:
        before_, after_ = Text(change.before or "-"), Text(change.after or "-")
        table.add_row(Text(change.key, style="cyan"), before_, "→", after_)
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
