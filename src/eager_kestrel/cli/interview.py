"""The dialogue that makes a guide: each value is proposed with its words, and you confirm it.

``guides import``, ``guides new`` and ``start`` ask the same questions here.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from eager_kestrel.cli.terminal import console, warn
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.amounts import Proposal
from eager_kestrel.core.guide.questions import SKIP

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from rich.console import Console

    from eager_kestrel.actions.importing import Reading
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.tables import PageTable

HOW = (
    "Enter takes the first proposal, a number another one; or type a value. "
    "A dash (-) skips: the guide then has what is customary, marked as unverified."
)
MOST_ROWS_SHOWN = 6


def ask_all(reading: Reading, given: Mapping[str, str]) -> dict[str, str]:
    """Ask every open question until its answer can be read."""
    screen = console(stderr=True)
    screen.print(HOW, style="dim")
    answers = dict(given)
    for number, key in enumerate(reading.keys, 1):
        if key in answers:
            continue
        screen.print(
            f"\n{number} of {len(reading.keys)}  {reading.asks(key)}",
            markup=False,
            highlight=False,
            style="bold",
        )
        said = _ask(reading, key, reading.offered(key, answers), screen)
        if said is not None:
            answers[key] = said
    return answers


def confirmed(
    reading: Reading, given: Mapping[str, str], write: Callable[[Mapping[str, str]], Guide]
) -> Guide:
    """Ask, write, and ask again for what contradicts itself, until a guide is written."""
    answers = ask_all(reading, given)
    while True:
        try:
            return write(answers)
        except InputError as error:
            answers = _ask_again(reading, answers, error.line())


def _ask_again(reading: Reading, answers: dict[str, str], because: str) -> dict[str, str]:
    """Ask anew for what an error speaks of, Enter keeping what was said; all else stands."""
    warn(because)
    screen = console(stderr=True)
    named = [key for key in answers if key.split(".")[-1].split("_")[0] in because]
    for key in named or [key for key in ("bitrates", "video.max_bitrate") if key in answers]:
        screen.print(f"\n{reading.asks(key)}", markup=False, highlight=False, style="bold")
        said = _ask(reading, key, reading.offered(key, answers), screen, answers[key])
        answers = {k: v for k, v in answers.items() if k != key}
        answers |= {} if said is None else {key: said}
    return answers


def _ask(
    reading: Reading,
    key: str,
    offered: tuple[Proposal, ...],
    screen: Console,
    before: str | None = None,
) -> str | None:
    """Return one answer, or None if the person skips the question."""
    table = reading.table(key)
    if table is not None:
        _show_table(table, screen)
    else:
        _show_proposals(offered, screen)
    numbered = _numbered(offered)
    usual = SKIP
    if table is not None:
        usual = table.reading
    elif offered and not offered[0].doubt:
        usual = "1" if numbered else offered[0].value
    usual = usual if before is None else before
    while True:
        answer = str(
            typer.prompt(
                f"   like {reading.like(key)}" if not offered else "  ", default=usual, err=True
            )
        ).strip()
        if answer == SKIP:
            return None
        if numbered and answer.isdigit() and 1 <= int(answer) <= len(offered):
            answer = offered[int(answer) - 1].value
        try:
            if table is not None:
                answer = _changed(table, answer)
            reading.check(key, answer)
        except InputError as error:
            warn(error.line())
            continue
        return answer


def _changed(table: PageTable, answer: str) -> str:
    """``3=maximum kbit/s`` changes one column of a table's reading."""
    number, equals, reading = answer.partition("=")
    if not equals or not number.strip().isdigit():
        return answer
    columns = [str(column) for column in table.columns]
    if not 1 <= int(number) <= len(columns):
        return answer
    columns[int(number) - 1] = reading.strip()
    return " | ".join(columns)


def _numbered(offered: tuple[Proposal, ...]) -> bool:
    """Whether a number means a proposal, and not a value such as 2 B-frames."""
    return not any(one.value.isdigit() for one in offered)


def _show_proposals(offered: tuple[Proposal, ...], screen: Console) -> None:
    from rich.text import Text

    for number, one in enumerate(offered, 1):
        mark = number if _numbered(offered) else " "
        line = Text(f"  {mark}  ").append(one.value.replace("; ", "\n     "), style="cyan")
        if one.doubt:
            line.append(f"  ({one.doubt})", style="yellow")
        screen.print(line, soft_wrap=False)
        words = f'"{one.text}"' if one.quoted else one.text
        screen.print(Text(f"     from {words}", style="dim"))


def _show_table(table: PageTable, screen: Console) -> None:
    """How each column is read, with examples."""
    from rich.table import Table as Shown
    from rich.text import Text

    shown = Shown(box=None, padding=(0, 1), header_style="dim")
    for heading in ("", "column", "read as", "holds"):
        shown.add_column(heading, overflow="fold")
    for number, (heading, column) in enumerate(zip(table.headings, table.columns, strict=True), 1):
        cells = dict.fromkeys(row[number - 1] for row in table.rows if row[number - 1])
        shown.add_row(
            str(number),
            Text(heading),
            Text(str(column), style="cyan"),
            Text(", ".join([*cells][:MOST_ROWS_SHOWN]), style="dim"),
        )
    screen.print(shown)
    for note in table.notes:
        screen.print(Text(f"   {note}", style="yellow"))
    screen.print("   Enter takes it so; 3=maximum kbit/s reads a column otherwise", style="dim")
