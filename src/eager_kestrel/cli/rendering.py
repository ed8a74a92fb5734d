"""Blocks in a terminal, and where a command's result goes: screen, JSON, page, figure.

Rich is imported only when something is drawn.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Literal

from eager_kestrel.cli.terminal import console
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
)

if TYPE_CHECKING:
    from rich.console import Console, RenderableType
    from rich.table import Table as RichTable
    from rich.text import Text


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
BARS = "█░"
HANGING = 2
TITLE_MARGIN = 6
"""Signs of a box beside its title."""
NARROW = 64
"""Columns under which the note of a card stands behind its value."""


def show(blocks: Iterable[Block], screen: Console | None = None) -> None:
    """Print blocks; names and texts in them may hold anything."""
    out = console() if screen is None else screen
    before: Block | None = None
    for block in blocks:
        tables = isinstance(block, Table) and isinstance(before, Table)
        if tables or (isinstance(block, Heading) and isinstance(before, Table | Note | Parts)):
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
            out.print(card(block, out.width))
            if block.below or not block.title:
                out.print()
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


def card(rows: Rows, columns: int) -> RenderableType:
    """Rows in a box under their title, which stands above it where it is too long for it."""
    from rich.console import Group
    from rich.panel import Panel
    from rich.text import Text

    narrow = columns < NARROW
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
    above = max(len(rows.title), len(rows.subtitle)) > columns - TITLE_MARGIN
    box = Panel(
        table,
        title=None if above else Text(rows.title),
        title_align="left",
        subtitle=Text(rows.subtitle) if rows.subtitle and not above else None,
        subtitle_align="right",
        border_style=STYLES[rows.state].removeprefix("bold "),
        padding=(0, 1),
    )
    said = [Text(rows.subtitle, "dim")] if rows.subtitle else []
    below = [card(Rows(rows.below), columns)] if rows.below else []
    return Group(Text(rows.title, "bold"), box, *said, *below) if above else Group(box, *below)


def _show_table(block: Table, out: Console) -> None:
    from rich.cells import cell_len
    from rich.table import Table as RichTable

    table = RichTable(box=None, padding=(0, 2, 0, 0), header_style="dim")
    every = [[_cell(cell) for cell in row] for row in block.rows]
    used = [n for n in range(len(block.headings)) if any(row[n].plain.strip() for row in every)]
    named = [block.headings[n] for n in used]
    rows = [[row[n] for n in used] for row in every]
    widest = [max(row[n].cell_len for row in rows) for n in range(len(used))]
    words = [[cell_len(w) for row in rows for w in row[n].plain.split()] for n in range(len(used))]
    headings = [heading.removeprefix(">") for heading in named]
    least = [
        max(
            longest if longest <= KEPT_WHOLE else max(LEAST_CELLS, *sizes),
            *(cell_len(word) for word in heading.split() or [""]),
        )
        for longest, sizes, heading in zip(widest, words, headings, strict=True)
    ]
    room = out.width - 2 * len(least)
    if sum(least) > room:
        _show_stacked(named, rows, out)
        return
    lines = [max(map(len, heading.split("\n"))) for heading in headings]
    widths = _widths(least, [max(both) for both in zip(widest, lines, strict=True)], room)
    for heading, shown, width in zip(named, headings, widths, strict=True):
        justify: Literal["left", "right"] = "right" if heading.startswith(">") else "left"
        table.add_column(shown, justify=justify, width=width, overflow="fold")
    for row in rows:
        table.add_row(*row)
    out.print(table)


def _widths(least: list[int], wanted: list[int], room: int) -> list[int]:
    """The cells of each column: at least its least, the rest shared until each has what it wants.

    Rich shares them without regard to a least width, and cuts off what then does not fit.
    """
    widths, spare = list(least), room - sum(least)
    growing = sorted(range(len(least)), key=lambda n: wanted[n] - least[n])
    for done, n in enumerate(growing):
        more = max(0, min(wanted[n] - least[n], spare // (len(growing) - done)))
        widths[n] += more
        spare -= more
    return widths


def _show_stacked(headings: list[str], rows: list[list[Text]], out: Console) -> None:
    """A table that is too wide: each row a paragraph that its first cell begins."""
    from rich.text import Text

    if name := headings[0].removeprefix(">"):
        out.print(Text(name, "dim"))
    for first, *others in rows:
        said: list[Text] = []
        for heading, cell in zip(headings[1:], others, strict=False):
            name = " ".join(heading.removeprefix(">").split())
            if cell.plain.strip(BARS + " "):
                said.append(Text().append(f"{name}: " if name else "", "dim").append_text(cell))
        whole = Text("  ").join([first, Text("; ").join(said)])
        begun, *more = whole.wrap(out, out.width - HANGING, overflow="fold")
        out.print(begun)
        for line in more:
            out.print(Text(" " * HANGING).append_text(line))


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
