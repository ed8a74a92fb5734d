"""``guides import``: a guideline page becomes a guide, with what was read from where."""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.guides_new import Out, understood_so
from eager_kestrel.cli.options import grouped

if TYPE_CHECKING:
    from eager_kestrel.core.guide.page import Answers, Understood


@dataclass(frozen=True, slots=True)
class AnswerFlags:
    """What the page does not say, as said on the command line."""

    unit: Annotated[
        str | None, typer.Option(metavar="UNIT", help="Of bare bitrates: kbit/s or Mbit/s.")
    ] = None
    means: Annotated[
        str | None,
        typer.Option(metavar="KIND", help="What a plain bitrate is: floor, advised or ceiling."),
    ] = None
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="The fastest, where nothing says it.")
    ] = None
    shape: Annotated[str, typer.Option(metavar="SHAPE", help='Of pictures given as "1080p".')] = (
        "16:9"
    )
    ordinary: Annotated[
        str | None, typer.Option(metavar="NAME", help="Of several standings, everybody's.")
    ] = None
    column: Annotated[
        list[str] | None,
        typer.Option(metavar='"HEADING=ROLE"', help="Correct what a column was taken for."),
    ] = None
    cell: Annotated[
        list[str] | None,
        typer.Option(metavar='"ROW:HEADING=TEXT"', help="Say what a cell means."),
    ] = None
    leave_rest: Annotated[
        bool, typer.Option("--leave-rest", help="Go on without what is not understood.")
    ] = False

    def answers(self) -> Answers:
        """As values."""
        from eager_kestrel.actions.guides import answers_of

        return answers_of(
            self.unit, self.means, self.fps, self.shape, self.ordinary, self.column or (),
            self.cell or (), leave_rest=self.leave_rest,
        )  # fmt: skip


@grouped
def import_page(
    page: Annotated[Path, typer.Argument(help="A guideline page: HTML, Markdown, CSV, text.")],
    name: Annotated[str, typer.Option(help="Of the platform, in lower case.")],
    title: Annotated[str | None, typer.Option(help="As people call it.")] = None,
    source: Annotated[str | None, typer.Option(help="Where the page is from.")] = None,
    flags: AnswerFlags = AnswerFlags(),
    out: Out = None,
) -> None:
    """Turn a guideline page into a guide; what is not understood whole is asked about."""
    from eager_kestrel.actions.guides import from_page, new_path, understood
    from eager_kestrel.core.errors import InputError

    path = new_path(name, out)
    answers = flags.answers()
    found = understood(page, answers)
    while found.questions:
        flags = _answered(flags, found)
        answers = flags.answers()
        found = understood(page, answers)
    _show(found)
    if not found.rungs:
        raise InputError(f"no row of {page} could be taken", 'correct it, or give --column "H=R"')
    called = title or name.replace("-", " ").title()
    guide = from_page(found, answers, name, called, source or page.name, path)
    understood_so(guide, path)


ASKED = {
    "unit": ("--unit", "unit", "The bitrates carry no unit. Are they kbit/s or Mbit/s"),
    "means": ("--means", "means", "Are the bitrates a floor, advised, or a ceiling"),
    "frame_rate": ("--fps", "fps", "How many frames a second does it take at the most"),
    "ordinary": ("--ordinary", "ordinary", "Which of the standings has every account"),
}


def _answered(flags: AnswerFlags, found: Understood) -> AnswerFlags:
    """Ask for what the page does not say, or fail with the list when nobody is there."""
    from eager_kestrel.core.errors import InputError

    if not sys.stdin.isatty():
        _show(found)
        options = ", ".join(ASKED[key][0] for key in found.questions)
        raise InputError("the page leaves questions open", f"give {options}")
    for key in found.questions:
        _, flag, question = ASKED[key]
        said: dict[str, str] = {flag: typer.prompt(question, err=True)}
        flags = replace(flags, **said)  # type: ignore[arg-type]
    return flags


def _show(found: Understood) -> None:
    """What was taken from where, and what was not understood."""
    from rich.table import Table
    from rich.text import Text

    from eager_kestrel.cli.screen import console
    from eager_kestrel.core.words.pages import taken_value

    screen = console(stderr=True)
    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("on the page", "key", "value", "sure"):
        table.add_column(heading, overflow="fold")
    for heading, role in found.columns.items():
        table.add_row(Text(f'column "{heading}"'), Text(role, style="cyan"), "", "yes")
    for rung in found.rungs:
        said = taken_value((rung.floor, rung.advised, rung.ceiling))
        table.add_row(Text(rung.text), Text("rungs", style="cyan"),
                      Text(f"{rung.picture}, {said}"), "yes")  # fmt: skip
    for taken in found.taken:
        key = Text(taken.key or "left out", style="cyan")
        value = Text(taken_value(taken.value))
        table.add_row(Text(f"{taken.where}: {taken.text}"), key, value, "yes")
    screen.print(table)
    for line in found.unplaced:
        screen.print(f"! asked: {line}", markup=False, soft_wrap=True)
    screen.print(f"{len(found.rungs)} rows taken")
