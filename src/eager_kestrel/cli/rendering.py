"""Blocks in a terminal, and where a command's result goes: screen, JSON, page, figure.

Rich is imported only when something is drawn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.cli.terminal import console, print_json
from eager_kestrel.core.units import Bitrate
from eager_kestrel.report.blocks import (
    Bar,
    Block,
    Cell,
    Figure,
    Heading,
    Note,
    Parts,
    Rows,
    State,
    Styled,
    Table,
    blocks_of,
    draw,
)

if TYPE_CHECKING:
    from pydantic import BaseModel
    from rich.console import Console, RenderableType
    from rich.table import Table as RichTable
    from rich.text import Text

    from eager_kestrel.cli.options import OutputFlags

STYLES: dict[State, str] = {
    "": "",
    "strong": "bold",
    "good": "bold green",
    "mind": "yellow",
    "bad": "bold red",
    "dim": "dim",
    "name": "cyan",
}
MARKS = {"!": "yellow", "✓": "green", "✗": "red", "↑": "green", "↓": "yellow", "→": "green"}
FILLS = "█▓▒▚▞▤▥▦"
"""One for each destination, so that a divided bar can be read without colour."""
COLOURS = ("green", "cyan", "magenta", "blue")
PART_FILLS: dict[State, tuple[str, str]] = {
    "": ("░", "white"),
    "mind": ("╱", "yellow"),
    "bad": ("×", "red"),
    "dim": ("·", "bright_black"),
}
BAR_CELLS = 14
KEPT_WHOLE, LEAST_CELLS = 14, 11
"""Signs up to which a column is never wrapped, and to which any other may shrink."""
NARROW = 64
"""Columns under which the note of a card stands behind its value."""


def show(blocks: Iterable[Block], screen: Console | None = None) -> None:
    """Print blocks; names and texts in them may hold anything."""
    out = console() if screen is None else screen
    before: Block | None = None
    for block in blocks:
        if isinstance(block, Table) and isinstance(before, Table):
            out.print()
        _show(block, out)
        before = block


def _show(block: Block, out: Console) -> None:
    from rich.text import Text

    match block:
        case Heading():
            out.print(Text(block.text, "bold"))
        case Note():
            text = Text(f"{block.mark} " if block.mark else "", MARKS.get(block.mark, "cyan"))
            text.append(block.text, STYLES[block.state] or "default")
            out.print(text, soft_wrap=block.keep)
        case Rows():
            _show_rows(block, out)
        case Table():
            _show_table(block, out)
        case Parts():
            _show_parts(block, out)
        case Figure():
            return


def _cell(cell: Cell, state: State = "") -> Text:
    from rich.text import Text

    if isinstance(cell, Bar):
        certain = min(BAR_CELLS, round(BAR_CELLS * cell.certain))
        likely = min(BAR_CELLS, round(BAR_CELLS * cell.likely))
        return Text("█" * certain, "green") + Text("░" * (likely - certain), "green")
    text, state = cell if isinstance(cell, Styled) else (cell, state)
    return Text(text, STYLES[state])


def grid(*ratios: int) -> RichTable:
    """A table without lines; a column of ratio 0 keeps to its content."""
    from rich.table import Table as RichTable

    made = RichTable.grid(padding=(0, 2))
    for ratio in ratios:
        made.add_column(ratio=ratio or None, no_wrap=not ratio, overflow="fold")
    return made


def card(rows: Rows, *, narrow: bool = False) -> RenderableType:
    """Rows in a box under their title."""
    from rich.panel import Panel
    from rich.text import Text

    wide = max((len(row) for row in rows.rows), default=2)
    notes = wide > 2 and not narrow
    table = grid(0, 1, 0) if notes and rows.notes else grid(0, 0, 1) if notes else grid(0, 1)
    if notes and rows.notes:
        table.add_row("", "", Text(rows.notes, "dim"))
    for name, value, *rest in rows.rows:
        shown, note = _cell(value), [_cell(cell) for cell in rest]
        if narrow and note and note[0].plain:
            shown.append(" (").append(note[0]).append(")")
        table.add_row(_cell(name, "dim"), shown, *(note if notes else ()))
    if not rows.title:
        return table
    return Panel(
        table,
        title=Text(rows.title),
        title_align="left",
        subtitle=Text(rows.subtitle) if rows.subtitle else None,
        subtitle_align="right",
        border_style=STYLES[rows.state].removeprefix("bold "),
        padding=(0, 1),
    )


def _show_rows(rows: Rows, out: Console) -> None:
    out.print(card(rows, narrow=out.width < NARROW))
    if not rows.title:
        out.print()


def _show_table(block: Table, out: Console) -> None:
    from rich.table import Table as RichTable

    table = RichTable(box=None, padding=(0, 2, 0, 0), header_style="dim")
    rows = [[_cell(cell) for cell in row] for row in block.rows]
    for number, heading in enumerate(block.headings):
        right = heading.startswith(">")
        longest = max((row[number].cell_len for row in rows), default=0)
        table.add_column(
            heading.removeprefix(">"),
            justify="right" if right else "left",
            no_wrap=longest <= KEPT_WHOLE,
            min_width=min(longest, LEAST_CELLS),
            overflow="fold",
        )
    for row in rows:
        table.add_row(*row)
    out.print(table)


def _show_parts(block: Parts, out: Console) -> None:
    """A bar of the parts, then a row for each; every part has at least one cell of the bar."""
    from rich.text import Text

    looks = [
        PART_FILLS.get(part.state) or (FILLS[n % len(FILLS)], COLOURS[n % len(COLOURS)])
        for n, part in enumerate(block.parts)
    ]
    drawn, table, done, before = Text(), grid(0, 0, 0, 1), 0, 0.0
    for number, (part, (fill, colour)) in enumerate(zip(block.parts, looks, strict=True)):
        before += part.kbps
        end = round(out.width * before / block.whole_kbps)
        most = out.width - (len(block.parts) - number - 1)
        width = max(1, min(end, most) - done)
        drawn.append(fill * width, colour)
        done += width
        amount = Text(Bitrate.from_kbps(part.kbps).in_kbps(), justify="right")
        table.add_row(Text(fill * 2, colour), part.name, amount, Text(part.said, "dim"))
    out.print(drawn)
    out.print(table)


def deliver(
    result: BaseModel,
    output: OutputFlags,
    *,
    writers: Mapping[str, Callable[[Path], None]] | None = None,
    drawn: BaseModel | None = None,
    **how: bool,
) -> None:
    """Draw, write and print a result as the command line asks for.

    Args:
        drawn: what a figure is of, if that takes more than is printed.
        how: for its blocks, such as ``why``.
    """
    figure: Path | None = getattr(output, "figure", None)
    if figure is not None:
        draw(drawn or result, figure)
    if output.out is not None:
        kind = output.out.suffix.lower()
        if writers and kind in writers:
            writers[kind](output.out)
        elif kind == ".json":
            from eager_kestrel.actions.export import write_document

            write_document(output.out, result.model_dump(mode="json"))
        else:
            from eager_kestrel.report.page import write_page

            title = str(result.model_dump()["format"]).split("/")[1].replace("-", " ")
            whole = dict.fromkeys(how, True)
            write_page(title.capitalize(), blocks_of(result, **whole), output.out)
    if output.json:
        print_json(result.model_dump(mode="json"))
    else:
        show(blocks_of(result, **how))
