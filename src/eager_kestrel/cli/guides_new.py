"""``guides new`` and ``guides import``: from answers or a guideline page to a guide."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

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
    understood_so(guide, path)


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
