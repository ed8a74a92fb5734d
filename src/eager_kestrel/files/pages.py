"""Read guideline pages as lines under their headings, and tables: HTML, Markdown, CSV, text.

An HTML reader and a Markdown reader do the parsing. Spans of cells end with the table they are in,
so that the work is bounded by the page's own size.
"""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import FormatError, printable
from eager_kestrel.core.guide.page import Grid, Line, Page
from eager_kestrel.files.documents import read_bounded

if TYPE_CHECKING:
    from bs4 import Tag

MOST_BYTES = 20_000_000
MOST_TEXT = 600_000
"""Of a page; the rest does not count."""
MOST_ROWS, MOST_COLUMNS, MOST_CELLS = 2_000, 60, 20_000
MOST_LINES = 4_000
LABEL = re.compile(r"[^\W\d][^\d.;,:()]{0,38}")
"""A short line without figures says what the lines below it are of."""
_MARKS = re.compile(r"\s*(?:\[\^?([0-9a-z]{1,2})\]|([*†‡§]{1,2}|[¹²³⁴⁵⁶⁷⁸⁹]))(?=\s|$|[)/,:])")
_RAISED = dict(zip("¹²³⁴⁵⁶⁷⁸⁹", "123456789", strict=True))
_UNSEEN = ("script", "style", "noscript", "template", "svg", "head", "nav", "button", "form")
_INLINE = (
    r"(?i)</?(?:a|b|i|em|strong|span|code|small|u|sub|abbr|mark|label|font|kbd|var|q|cite|"
    r"time|ins|s|del)(?:\s[^<>]*)?>"
)
_BOXES = r"(?i)</?(?:div|section|article|main|aside|center|figure|details)(?:\s[^<>]*)?>"
_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")
HEADING, TABLE = "\x02", "\x03"
"""Before a line that is one, or stands for one."""


def read_page(path: Path) -> Page:
    """Every line and table of a file, by its content.

    Raises:
        FormatError: nothing to read is in it.
        StorageError: it cannot be read.
    """
    raw = read_bounded(path, MOST_BYTES, "save the table alone")
    if b"\0" in raw:
        raise FormatError("not text", "save the page as HTML, Markdown or CSV", str(path))
    try:
        page = page_of(raw.decode("utf-8-sig", errors="replace"), path.suffix.lower())
    except RecursionError:
        raise FormatError("tags nested too deep", "save the table alone", str(path)) from None
    if not page.grids and not page.lines:
        raise FormatError("no text is in it", "save it as HTML, Markdown, CSV or text", str(path))
    return page


def page_of(text: str, suffix: str = "") -> Page:
    """A page's lines and tables."""
    text = text[:MOST_TEXT]
    if re.search(r"(?i)<(?:table|tr|html|body|p|li|h[1-6]|div|dl)\b", text):
        return _html(text)
    rows = _separated(text, suffix)
    if not rows:
        from markdown_it import MarkdownIt

        return _html(MarkdownIt("commonmark", {"breaks": True}).enable("table").render(text))
    begin = next(n for n, row in enumerate(rows) if len(row) > 1)
    width = min(MOST_COLUMNS, max(len(row) for row in rows[begin:]))
    cells = [[_cell(cell) for cell in row[:width]] for row in rows[begin:]]
    lines = tuple(Line(_cell(row[0]), "") for row in rows[:begin])
    grid = _grid_of(cells, "\n".join(line.text for line in lines))
    return Page(lines, () if grid is None else (grid,))


def _separated(text: str, suffix: str) -> list[list[str]]:
    """Rows of CSV or TSV; none when it is something else."""
    lines = [line for line in text.splitlines() if line.strip()][:MOST_ROWS]
    marks = "\t" if suffix == ".tsv" else delimiter(text)
    if "|" in marks or any(re.fullmatch(r"[\s|:-]+", line) and "|" in line for line in lines):
        return []
    try:
        read = csv.reader(io.StringIO("\n".join(lines)), delimiter=marks)
        rows = [row for row in read if any(row)]
    except csv.Error:
        return []
    widths = {len(row) for row in rows}
    known = suffix in (".csv", ".tsv") or "\t" in marks or ";" in marks
    if len(rows) < 2 or max(widths) < 2 or (not known and len(widths) > 1):
        return []
    return rows


def _html(text: str) -> Page:
    from bs4 import BeautifulSoup

    text = re.sub(r"\s+", " ", text)  # in HTML a line's end is a space
    text = re.sub(r"(?is)<(script|style|svg)\b.*?</\1\s*>", " ", text)
    soup = BeautifulSoup(re.sub(_BOXES, "\n", re.sub(_INLINE, "", text)), "lxml")
    for tag in soup.find_all(_UNSEEN):
        tag.decompose()
    for sup in soup.find_all("sup"):
        words = sup.get_text("", strip=True)
        sup.replace_with(f" [^{words}]" if re.fullmatch(r"[0-9a-z]{1,2}", words) else words)
    for tag in soup.find_all((*_HEADINGS, "dt")):
        tag.insert(0, HEADING if tag.name != "dt" else "")
        tag.append(":" if tag.name == "dt" else "")
    soup.smooth()
    tables = [table for table in soup.find_all("table") if table.find("table") is None]
    rows = [_rows(table) for table in tables]
    for number, table in enumerate(tables):
        caption = table.find("caption")
        said = "" if caption is None else f"\n{HEADING}{caption.get_text(' ', strip=True)}"
        table.replace_with(f"{said}\n{TABLE}{number}\n")
    return _in_order(soup.get_text("\n"), rows)


def _in_order(text: str, tables: list[list[list[str]]]) -> Page:
    """Lines and tables, each with the heading and the label above it."""
    lines: list[Line] = []
    grids: list[Grid] = []
    heading = label = ""
    waiting = ""
    for part in (" ".join(piece.split()) for piece in text.splitlines()[: 3 * MOST_LINES]):
        if part.startswith(HEADING):
            heading, label = _cell(part.removeprefix(HEADING)), ""
        elif part.startswith(TABLE):
            title = " / ".join(filter(None, (heading, label)))
            grid = _grid_of(tables[int(part.removeprefix(TABLE))], title)
            grids += [] if grid is None else [grid]
        elif part and len(lines) < MOST_LINES:
            line = _cell(f"{waiting} {part}")
            waiting = part if part.endswith(":") and len(part) < 60 else ""
            if waiting or LABEL.fullmatch(line):
                label = line.rstrip(":")
            if not waiting:
                lines.append(Line(line, " / ".join(filter(None, (heading, label)))))
    return Page(tuple(lines), tuple(grids))


def _grid_of(rows: list[list[str]], title: str) -> Grid | None:
    """A table whose rows are equally long; None if it has fewer than two rows."""
    rows = [row for row in rows if any(row)]
    if len(rows) < 2:
        return None
    width = max(len(row) for row in rows)
    return Grid(tuple(tuple(row + [""] * (width - len(row))) for row in rows), title)


def _rows(table: Tag) -> list[list[str]]:
    """Cells with their spans written out, as far as the table's own rows and columns go."""
    tags = table.find_all("tr")[:MOST_ROWS]
    columns = min(MOST_COLUMNS, max((len(tag.find_all(["th", "td"])) for tag in tags), default=0))
    above: dict[int, tuple[int, str]] = {}
    rows: list[list[str]] = []
    for number, tag in enumerate(tags):
        row: list[str] = []
        cells = tag.find_all(["th", "td"])
        while cells or len(row) in above:
            left, text = above.pop(len(row), (0, ""))
            spans, wide = left, 1
            if not left:
                cell = cells.pop(0)
                text = _cell(cell.get_text("; ", strip=True))
                spans = min(_span(cell, "rowspan"), len(tags) - number)
                wide = min(_span(cell, "colspan"), max(1, columns - len(row)))
            for _ in range(wide):
                if spans > 1:
                    above[len(row)] = (spans - 1, text)
                row.append(text)
            if len(row) >= MOST_COLUMNS:
                break
        rows.append(row)
        if sum(map(len, rows)) > MOST_CELLS:
            break
    return rows


def _span(tag: Tag, name: str) -> int:
    written = str(tag.get(name, "1")).strip()[:6]
    return int(written) if written.isdecimal() and written.isascii() and int(written) > 0 else 1


def _cell(text: str) -> str:
    """A cell or line, the marks of its footnotes written as ``[^1]``."""

    def mark(match: re.Match[str]) -> str:
        said = match[1] or match[2]
        return f" [^{_RAISED.get(said, said)}]"

    return " ".join(_MARKS.sub(mark, printable(text)).split())


def delimiter(text: str) -> str:
    """The separator that stands most often in the first line that has any."""
    marks = ",;\t|"
    for line in text.splitlines()[:20]:
        found = max(marks, key=line.count)
        if found in line:
            return found
    return ","
