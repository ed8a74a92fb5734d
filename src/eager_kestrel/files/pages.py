"""Read guideline pages as tables and lines: HTML, Markdown, CSV, TSV, text."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import FormatError, printable
from eager_kestrel.core.guide.amounts import Grid, Page
from eager_kestrel.files.documents import read_bounded

if TYPE_CHECKING:
    from bs4 import Tag

MOST_BYTES = 20_000_000
MOST_ROWS = 2_000
MOST_COLUMNS = 60
MOST_TEXT = 600_000
"""Of a page, scripts and styles apart; the rest does not count."""
MOST_LINES = 4_000

_MARKS = re.compile(r"\s*(?:\[\^?([0-9a-z]{1,2})\]|([*†‡§]{1,2}|[¹²³⁴⁵⁶⁷⁸⁹]))(?=\s|$|[)/,:])")
_RAISED = dict(zip("¹²³⁴⁵⁶⁷⁸⁹", "123456789", strict=True))
_UNSEEN = ("script", "style", "noscript", "template", "svg", "head", "nav", "button", "form")
_INLINE = (
    r"(?i)</?(?:a|b|i|em|strong|span|code|small|u|sub|abbr|mark|label|font|kbd|var|q|cite|"
    r"time|ins|s|del)(?:\s[^<>]*)?>"
)
_BOXES = r"(?i)</?(?:div|section|article|main|aside|center|figure|details)(?:\s[^<>]*)?>"
HEADING = "\x02"
"""Before a line that is one."""
SHORT = 60
_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")


def read_page(path: Path) -> Page:
    """Every table and line of a file, by its content.

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
        raise FormatError("no table is in it", "save it as CSV, TSV, Markdown or HTML", str(path))
    return page


def page_of(text: str, suffix: str = "") -> Page:
    """A page's tables and lines."""
    if re.search(r"(?i)<(?:table|tr|html|body|p|li|h[1-6]|div|dl)\b", text):
        return _html(text)
    rows = _separated(text, suffix)
    return _csv(rows) if rows else _markdown(text)


def _separated(text: str, suffix: str) -> list[list[str]]:
    """Rows of CSV or TSV; none when it is something else."""
    lines = [line for line in text.splitlines() if line.strip()][:MOST_ROWS]
    marks = "\t" if suffix == ".tsv" else delimiter(text)
    if "|" in marks or any(re.fullmatch(r"[\s|:-]+", line) and "|" in line for line in lines):
        return []
    try:
        rows = [
            row for row in csv.reader(io.StringIO("\n".join(lines)), delimiter=marks) if any(row)
        ]
    except csv.Error:
        return []
    widths = {len(row) for row in rows}
    known = suffix in (".csv", ".tsv") or "\t" in marks or ";" in marks
    if not rows or max(widths, default=0) < 2 or (not known and len(widths) > 1):
        return []
    return rows


def _csv(rows: list[list[str]]) -> Page:
    begin = next(n for n, row in enumerate(rows) if len(row) > 1)
    lines, table = tuple(_cell(row[0]) for row in rows[:begin]), rows[begin:]
    width = min(MOST_COLUMNS, max(len(row) for row in table))
    grid = [tuple(_cell(row[i] if i < len(row) else "") for i in range(width)) for row in table]
    return Page((Grid(tuple(grid)),) if len(grid) > 1 else (), lines)


def _markdown(text: str) -> Page:
    from markdown_it import MarkdownIt

    part = "\n".join(text.splitlines()[:MOST_LINES])
    return _html(MarkdownIt("commonmark", {"breaks": True}).enable("table").render(part))


def _html(text: str) -> Page:
    from bs4 import BeautifulSoup

    soup = BeautifulSoup(_without_code(text)[:MOST_TEXT], "lxml")
    for tag in soup.find_all(_UNSEEN):
        tag.decompose()
    for sup in soup.find_all("sup"):
        words = sup.get_text("", strip=True)
        sup.replace_with(f" [^{words}]" if re.fullmatch(r"[0-9a-z]{1,2}", words) else words)
    for tag in soup.find_all(_HEADINGS):
        tag.insert(0, HEADING)
    soup.smooth()
    grids = [grid for table in soup.find_all("table") if (grid := _grid(table)) is not None]
    for table in soup.find_all("table"):
        table.decompose()
    return Page(tuple(grids), tuple(map(_cell, _lines(soup.get_text("\n")))))


def _without_code(text: str) -> str:
    """Without scripts, and without tags that only dress or box what is in them."""
    text = re.sub(r"\s+", " ", text)  # in HTML a line's end is a space
    text = re.sub(r"(?is)<(script|style|svg)\b.*?</\1\s*>", " ", text)
    return re.sub(_BOXES, "\n", re.sub(_INLINE, "", text))


def _lines(text: str) -> list[str]:
    """Lines of text; a heading alone says nothing, over a few words it says what they are of."""
    found = [line for line in (" ".join(part.split()) for part in text.splitlines()) if line]
    joined: list[str] = []
    heading = ""
    for line in found[:MOST_LINES]:
        if line.startswith(HEADING):
            heading = line.removeprefix(HEADING).strip().rstrip(":")
        elif joined and joined[-1].endswith(":") and len(joined[-1]) < SHORT:
            joined[-1] = f"{joined[-1]} {line}"  # a term and what is said of it
        else:
            joined.append(f"{heading}: {line}" if heading and len(line) < SHORT else line)
            heading = ""
    return joined


def _grid(table: Tag) -> Grid | None:
    """A table with spans written out; None where it has one row, or holds other tables."""
    if table.find("table") is not None:
        return None
    rows: list[list[str]] = []
    pending: dict[tuple[int, int], str] = {}
    headings = 0
    for number, row in enumerate(table.find_all("tr")[:MOST_ROWS]):
        cells = row.find_all(["th", "td"])
        heads = row.find_parent("thead") is not None or all(c.name == "th" for c in cells)
        if cells and heads and headings == number:
            headings = number + 1
        rows.append(_spread(cells, number, pending))
    rows = [row for row in rows if row]
    if len(rows) < 2:
        return None
    width = max(len(row) for row in rows)
    whole = [tuple(row + [""] * (width - len(row))) for row in rows]
    return Grid(tuple(whole), min(max(1, headings), len(rows) - 1), _title(table))


def _spread(cells: list[Tag], number: int, pending: dict[tuple[int, int], str]) -> list[str]:
    """A row with cells that reach into it from above and across."""
    found: list[str] = []
    waiting = list(cells)
    while (waiting or (number, len(found)) in pending) and len(found) < MOST_COLUMNS:
        above = pending.pop((number, len(found)), None)
        if above is not None:
            found.append(above)
            continue
        tag = waiting.pop(0)
        cell = _cell(tag.get_text("; ", strip=True))
        for _ in range(_span(tag, "colspan")):
            for below in range(1, _span(tag, "rowspan")):
                pending[number + below, len(found)] = cell
            found.append(cell)
    return found


def _span(tag: Tag, name: str) -> int:
    written = str(tag.get(name, "1")).strip()
    return min(int(written), MOST_COLUMNS) if written.isdigit() and int(written) > 0 else 1


def _title(table: Tag) -> str:
    caption = table.find("caption")
    heading = table.find_previous(_HEADINGS)
    tags = [tag for tag in (heading, caption) if tag is not None]
    return " ".join(printable(tag.get_text(" ", strip=True).removeprefix(HEADING)) for tag in tags)


def _cell(text: str) -> str:
    """A cell, the marks of its footnotes written as ``[^1]``."""
    return " ".join(_marked(printable(text)).split())


def _marked(text: str) -> str:
    def mark(match: re.Match[str]) -> str:
        said = match[1] or match[2]
        return f" [^{_RAISED.get(said, said)}]"

    return _MARKS.sub(mark, text)


def delimiter(text: str) -> str:
    """The separator that stands most often in the first line that has any."""
    marks = ",;\t|"
    for line in text.splitlines()[:20]:
        found = max(marks, key=line.count)
        if found in line:
            return found
    return ","
