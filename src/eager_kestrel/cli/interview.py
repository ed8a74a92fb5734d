"""The dialogue that makes a guide: the page is quoted beside each question, and you confirm.

``guides import``, ``guides new`` and ``start`` ask the same questions here.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import typer

from eager_kestrel.cli.rendering import show
from eager_kestrel.cli.terminal import console, warn
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.guide.questions import SKIP
from eager_kestrel.report.blocks import Styled, Table

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from eager_kestrel.actions.importing import Reading
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.tables import PageTable

HOW = (
    "What the page says is quoted. Type a value; Enter or a dash (-) skips: then the guide has "
    "what is customary, marked as unverified."
)
QUOTES, MORE = 3, "?"
CELLS = 6
"""Examples of a column."""


def confirmed(
    reading: Reading, given: Mapping[str, str], write: Callable[[Mapping[str, str]], Guide]
) -> Guide:
    """Ask what the page leaves open, have all of it confirmed in one list, and write the guide."""
    answers = reading.accepted(given)
    keys = reading.open_keys(answers)
    if keys:
        _say(HOW, "dim")
    for number, key in enumerate(keys, 1):
        _ask(reading, key, answers, f"{number} of {len(keys)}  ")
        if reading.table(key) is not None and answers.get("bitrates", SKIP) == SKIP:
            answers["bitrates"] = reading.proposal("bitrates", answers) or SKIP
    while (changed := _change(reading, answers)) is not None:
        answers.pop(changed, None)
        _ask(reading, changed, answers)
    return write(answers)


def _say(text: str, style: str = "") -> None:
    console(stderr=True).print(text, markup=False, highlight=False, style=style)


def _change(reading: Reading, answers: Mapping[str, str]) -> str | None:
    """Show every answer with its words; return the key of one to change, or None for none."""
    silent = []
    _say("\nWhat the guide will say", "bold")
    for number, key in enumerate(reading.keys, 1):
        asks, answer = reading.asks(key), answers.get(key, SKIP)
        if answer == SKIP:
            silent.append(f"{number} {asks.partition(':')[0].lower()}")
        else:
            answer = answer.replace("; ", "\n    ") if key == "bitrates" else answer
            _say(f"{number:>2}  {asks.partition(':')[0]}: {answer}")
            _say(f"    {reading.source(key, answers)}", "dim")
    if silent:
        _say(f"Customary, and unverified: {', '.join(silent)}", "yellow")
    while True:
        text = "Enter writes the guide; a number changes that answer"
        said = typer.prompt(text, default="", err=True, show_default=False).strip()
        if not said:
            return None
        if said.isdecimal() and 0 < int(said) <= len(reading.keys):
            return reading.keys[int(said) - 1]
        warn(f'"{said}" is not one of these numbers; write 1 to {len(reading.keys)}')


def _ask(reading: Reading, key: str, answers: dict[str, str], before: str = "") -> None:
    """Ask one question until its answer can be read and contradicts nothing; Enter skips it."""
    _say(f"\n{before}{reading.asks(key)}", "bold")
    quotes, table = reading.quotes(key, answers), reading.table(key)
    if table is not None:
        _show_table(table)
    _show_quotes(quotes[:QUOTES], len(quotes) - QUOTES)
    while True:
        answer = typer.prompt(f"   like {reading.like(key)}", default=SKIP, err=True).strip()
        if answer == MORE and len(quotes) > QUOTES:
            _show_quotes(quotes[QUOTES:], 0)
            continue
        if answer == SKIP:
            answers[key] = SKIP
            return
        try:
            reading.check(key, answer)
        except InputError as error:
            warn(error.line())
            continue
        answer = answer if table is None else table.read_as(answer).reading
        clash = reading.conflict({**answers, key: answer}, key)
        if clash is None:
            answers[key] = answer
            return
        why, other = clash
        warn(f"that contradicts another answer: {why}")
        if other:
            told = f"{reading.asks(other)}: {answers[other]} ({reading.source(other, answers)})"
            warn(f"{told}; change this, or that one at the end")


def _show_quotes(quotes: tuple[str, ...], more: int) -> None:
    for quote in quotes:
        _say(f'   "{quote}"', "cyan")
    if more > 0:
        _say(f"   {more} more: {MORE}", "dim")


def _show_table(table: PageTable) -> None:
    """How each column is read, with examples."""
    rows = []
    for number, (heading, column) in enumerate(zip(table.headings, table.columns, strict=True), 1):
        cells = dict.fromkeys(row[number - 1] for row in table.rows if row[number - 1])
        known = Styled(str(column), "strong") if column.sure else Styled(f"{column}?", "bad")
        rows.append((str(number), heading, known, Styled(", ".join([*cells][:CELLS]), "dim")))
    show([Table(("", "column", "read as", "holds"), tuple(rows))], console(stderr=True))
    _say("   3=maximum kbit/s reads column 3 so; - leaves the table out", "dim")
