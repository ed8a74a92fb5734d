"""``guides new`` and ``guides import``: from answers or a guideline page to a guide."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.page import Answers, Understood

Out = Annotated[
    Path | None, typer.Option(metavar="PATH", help="A file or folder; else your own guides.")
]

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


def new(
    name: Annotated[str, typer.Argument(help="Of the platform, in lower case.")],
    from_template: Annotated[
        bool, typer.Option("--from-template", help="Ask nothing: write a commented template.")
    ] = False,
    out: Out = None,
) -> None:
    """Write a guide: a few questions, each of which may be skipped with Enter."""
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
    from eager_kestrel.actions.guides import base_document, require_guide
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
                require_guide(document)
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
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.core.guide.page import BOUNDS, ROLES, Answers
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
