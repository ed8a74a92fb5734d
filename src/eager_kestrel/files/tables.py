"""Tables somebody saved or pasted, as rows of text: CSV, TSV, Markdown, HTML."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from eager_kestrel.core.errors import FormatError
from eager_kestrel.files.home import storage_error

MOST_BYTES = 20_000_000
MOST_ROWS = 2_000
MOST_HTML = 600_000
"""From the first table to the end of the last; the rest of a saved page does not count."""
MOST_LINES = 4_000

Rows = list[list[str]]


def read_tables(path: Path) -> list[Rows]:
    """Every table in a file, by its content, the headings of each first.

    Raises:
        FormatError: no table is in it.
        StorageError: it cannot be read.
    """
    try:
        raw = path.read_bytes()[: MOST_BYTES + 1]
    except OSError as error:
        raise storage_error(error, str(path)) from None
    if len(raw) > MOST_BYTES:
        raise FormatError("more than 20 MB is no table", "save the table alone", str(path))
    if b"\0" in raw:
        raise FormatError("not text", "save the table as CSV, Markdown or HTML", str(path))
    text = raw.decode("utf-8-sig", errors="replace")
    tables = [table[:MOST_ROWS] for table in _tables(text) if len(table) > 1]
    if not tables:
        raise FormatError("no table is in it", "save it as CSV, TSV, Markdown or HTML", str(path))
    return tables


def _tables(text: str) -> list[Rows]:
    head = text.lower()
    if "<table" in head or "<tr" in head:
        return _html(text)
    if any(set(line.strip()) <= set("|-: ") and "-" in line and "|" in line
           for line in text.splitlines()[:2000]):  # fmt: skip
        return _markdown(text)
    return [_csv(text)]


def _html(text: str) -> list[Rows]:
    from bs4 import BeautifulSoup

    begin = max(0, min(text.lower().find(mark) % (len(text) + 1) for mark in ("<table", "<tr")))
    end = text.lower().rfind("</table>")
    part = text[begin : end + len("</table>") if end > begin else None]
    soup = BeautifulSoup(part[:MOST_HTML], "html.parser")
    found = []
    for table in soup.find_all("table"):
        rows = [
            [cell.get_text(" ", strip=True) for cell in row.find_all(["th", "td"])]
            for row in table.find_all("tr")
        ]
        found.append([row for row in rows if row])
    return found


def _markdown(text: str) -> list[Rows]:
    from markdown_it import MarkdownIt

    found: list[Rows] = []
    lines = text.splitlines()
    first = next((n for n, line in enumerate(lines) if "|" in line), 0)
    part = "\n".join(lines[first : first + MOST_LINES])
    for token in MarkdownIt("commonmark").enable("table").parse(part):
        if token.type == "table_open":
            found.append([])
        elif token.type == "tr_open" and found:
            found[-1].append([])
        elif token.type == "inline" and found and found[-1]:
            words = [child.content for child in token.children or [] if child.content]
            found[-1][-1].append(" ".join(words))
        elif token.type == "table_close":
            found.append([])
    return found


def delimiter(text: str) -> str:
    """The separator that stands most often in the first line that has any."""
    marks = ",;\t|"
    for line in text.splitlines()[:20]:
        found = max(marks, key=line.count)
        if found in line:
            return found
    return ","


def _csv(text: str) -> Rows:
    try:
        rows = csv.reader(io.StringIO(text), delimiter=delimiter(text))
        kept = [row for row in rows if any(row)]
    except csv.Error:
        return []
    return kept if kept and len(kept[0]) > 1 else []
