"""Tables of a guideline page: which column holds what, as its heading says.

A column of bitrates is sure when its heading says which limit it is and a unit stands in the
heading or in each cell; a table when all its columns are, and nothing at it makes it conditional.
Whatever is not sure is asked, column by column.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace

from eager_kestrel.core.errors import InputError, nearest_name
from eager_kestrel.core.guide import quotes
from eager_kestrel.core.guide.page import (
    Bound,
    Grid,
    Line,
    Page,
    Quantity,
    bounds_in,
    dimension_of,
    quantities,
    unit_in,
)
from eager_kestrel.core.resolution import AspectRatio, with_frame_rate

ROLES: dict[str, Bound | None] = {
    "resolution": None,
    "frame rate": None,
    "minimum": "min",
    "recommended": "recommended",
    "maximum": "max",
    "codec": None,
    "tier": None,
    "ignore": None,
}
UNITS = ("kbit/s", "Mbit/s", "kB/s", "MB/s")
MOST_ROWS = 400
"""More rows are no table of a guideline page."""
_ORDINARY = re.compile(r"(?i)every(?:body|one)|all|standard|ordinary|free|basic|default|normal")
_AUDIO = re.compile(r"(?i)\baudio\b|\bsound\b|\bsampl|\baac\b")
_NONE = re.compile(r"[-–—/.]?|(?i:n/?a|none)")
_MARK = re.compile(r"\s*\[\^[0-9a-z*†‡§]{1,2}\]")


@dataclass(frozen=True, slots=True)
class Column:
    """What a column holds."""

    role: str
    unit: str = ""
    """Of numbers that stand alone."""
    codec: str = ""
    fps: str = ""
    tier: str = ""
    sure: bool = True

    def __str__(self) -> str:
        """The reading, as :func:`column_of` reads it back."""
        rate, tier = f"{self.fps} fps" if self.fps else "", f"tier {self.tier}" if self.tier else ""
        return " ".join(part for part in (self.role, self.unit, self.codec, rate, tier) if part)


def column_of(text: str) -> Column:
    """Read a reading such as ``maximum kbit/s``, ``recommended Mbit/s hevc 60 fps``.

    Raises:
        InputError: it is none; says which there are.
    """
    plain = " ".join(text.strip().split())
    role = next((role for role in ROLES if plain.lower().startswith(role)), None)
    if role is None:
        known = f"write one of {', '.join(ROLES)}"
        raise InputError(
            f'"{plain}" is not a reading of a column', nearest_name(plain, [*ROLES], known)
        )
    column, rest = Column(role), plain[len(role) :]
    if match := re.search(r"\btier ([\w-]+)", rest):
        column, rest = replace(column, tier=match[1].lower()), rest.replace(match[0], " ")
    if match := re.search(r"\b([0-9.]+) fps\b", rest):
        column, rest = replace(column, fps=match[1]), rest.replace(match[0], " ")
    for word in rest.split():
        if word in UNITS:
            column = replace(column, unit=word)
        elif word.lower() in [name for name, _ in quotes.CODECS]:
            column = replace(column, codec=word.lower())
        else:
            raise InputError(
                f'"{word}" in "{plain}" is not understood',
                f"write a unit ({', '.join(UNITS)}), a codec, a frame rate or a tier",
            )
    return column


@dataclass(frozen=True, slots=True)
class PageTable:
    """A table with a row for each resolution, and how its columns are read."""

    title: str
    headings: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    columns: tuple[Column, ...]
    clear: bool
    """Whether nothing at it makes it conditional."""

    @property
    def reading(self) -> str:
        """The readings of its columns, with bars between."""
        return " | ".join(map(str, self.columns))

    @property
    def words(self) -> str:
        """Its heading and its column headings."""
        return f"{self.title}: {' | '.join(self.headings)}".removeprefix(": ")

    def read_as(self, text: str) -> PageTable:
        """The same table, read otherwise; ``3=maximum kbit/s`` changes one column.

        Raises:
            InputError: a reading is none, or there are too few or too many.
        """
        number, equals, one = text.partition("=")
        parts = text.split("|")
        if equals and number.strip().isdecimal() and 0 < int(number) <= len(self.columns):
            parts = [str(column) for column in self.columns]
            parts[int(number) - 1] = one
        if len(parts) != len(self.columns):
            raise InputError(
                f"the table has {len(self.columns)} columns, not {len(parts)}",
                f'write "{self.reading}"',
            )
        return replace(self, columns=tuple(map(column_of, parts)))

    def answers(self, shape: AspectRatio) -> tuple[list[str], list[str]]:
        """Its rows as answers to the question of rows, and those that cannot be read."""
        read, unread = [], []
        for row in self.rows:
            found = list(_answers_of(row, self.columns, shape))
            read += found
            unread += [" | ".join(row)] if not found and any(row) else []
        return read, unread

    def sure(self, shape: AspectRatio) -> bool:
        """Whether nothing of its rows has to be guessed."""
        if not self.clear or not all(column.sure for column in self.columns):
            return False
        read, unread = self.answers(shape)
        return bool(read) and not unread and all(" at " in answer.split(":")[0] for answer in read)


def tables_in(page: Page, shape: AspectRatio) -> tuple[list[PageTable], tuple[Line, ...]]:
    """Tables of resolutions, and what else tables say as lines like ``Heading: cell``."""
    tables: list[PageTable] = []
    lines: list[Line] = []
    for grid in page.grids:
        turned = Grid(tuple(zip(*grid.rows, strict=True)), grid.title)
        table = _table(grid, shape) or _table(turned, shape)
        if table is None or len(table.rows) > MOST_ROWS:
            lines += _as_lines(grid)
            continue
        tables.append(table)
        for n, column in enumerate(table.columns):
            if column.role in ("ignore", "codec"):
                cells = dict.fromkeys(row[n] for row in table.rows if row[n])
                lines += [Line(f"{table.headings[n]}: {cell}", table.title) for cell in cells]
    return tables, tuple(dict.fromkeys(lines))


def _as_lines(grid: Grid) -> Iterator[Line]:
    """``Keyframe interval: Minimum 1 s, Maximum 4 s`` of a row under such headings."""
    heads, *rows = grid.rows
    limits = [bool(bounds_in(cell)) and not re.search("[0-9]", cell) for cell in heads]
    for row in rows if any(limits[1:]) else grid.rows:
        said = [
            f"{heads[n]} {cell}" if n and limits[n] and cell else cell for n, cell in enumerate(row)
        ]
        first, *rest = dict.fromkeys(cell for cell in said if cell) or [""]
        if first:
            text = f"{first.rstrip(':')}: {', '.join(rest)}" if rest else first
            yield Line(text, grid.title)


def _table(grid: Grid, shape: AspectRatio) -> PageTable | None:
    """Return a table as its headings say, or None if no column holds resolutions."""
    plain = [tuple(_MARK.sub("", cell).strip() for cell in row) for row in grid.rows]
    count = 1
    while count < len(plain) - 1 and not any(_holds_value(cell, shape) for cell in plain[count]):
        count += 1
    body = [row for row in plain[count:] if len(set(row)) > 1 or len(row) == 1]
    heads = [
        " ".join(dict.fromkeys(filter(None, cells))) for cells in zip(*plain[:count], strict=True)
    ]
    hits = [
        sum(len(quotes.sizes_in(row[n], shape)) == 1 for row in body) for n in range(len(heads))
    ]
    if len(heads) < 2 or not body or max(hits) * 2 < len(body):
        return None
    at = hits.index(max(hits))
    if bounds_in(heads[at]):  # one limit a row, and not a row for each resolution
        return None
    columns = tuple(
        Column("resolution", sure=hits[n] == len(body))
        if n == at
        else _column(heads[n], [row[n] for row in body], grid.title)
        for n in range(len(heads))
    )
    noted = any(_MARK.search(cell) for row in grid.rows for cell in row)
    sections = len(body) < len(plain) - count
    clear = quotes.is_clear(grid.title) and not noted and not sections
    return PageTable(grid.title, tuple(heads), tuple(body), columns, clear)


def _holds_value(cell: str, shape: AspectRatio) -> bool:
    return bool(quotes.sizes_in(cell, shape)) or bool(re.fullmatch(r"[0-9].*", cell))


def _column(heading: str, cells: list[str], title: str) -> Column:
    """What a column holds, by its heading; sure where its cells and nothing else bear that out."""
    unit = unit_in(heading)
    of_bitrates = dimension_of(unit)[0] in ("bitrate", "bytes") or any(
        q.dimension in ("bitrate", "bytes") for cell in cells for q in quantities(cell)
    )
    if (
        re.search(r"(?i)\bfps\b|frame ?-?rate|\bframes (?:per|a) second", heading)
        and not of_bitrates
    ):
        plain = [re.sub(r"(?i)\s*fps$", "", cell) for cell in cells]
        return Column(
            "frame rate", sure=all(re.fullmatch(r"[0-9]{2,3}(?:\.[0-9]+)?", c) for c in plain)
        )
    if re.search(r"(?i)\bcodec\b|\bencoder\b", heading) and not of_bitrates:
        return Column("codec", sure=all(len(quotes.named(quotes.CODECS, c)) == 1 for c in cells))
    if re.search(r"(?i)\baccount|\btier\b|\bstatus\b|\bmembership\b", heading) and not of_bitrates:
        return Column("tier", sure=False)
    if not of_bitrates and not re.search(r"(?i)\bbit ?-?rate", heading):
        return Column("ignore")
    if _AUDIO.search(f"{heading} {title}") or re.search(
        r"(?i)\bupload|\binternet|\bconnection", heading
    ):
        return Column("ignore")
    bounds = bounds_in(heading)
    role = next((r for r, bound in ROLES.items() if bound and {bound} == bounds), "ignore")
    known = unit if dimension_of(unit)[0] == "bitrate" else ""
    amounts = [_amount(cell, known) for cell in cells if not _NONE.fullmatch(cell)]
    codecs, fps = quotes.named(quotes.CODECS, f"{title} {heading}"), quotes.fps_in(heading)
    sure = role != "ignore" and bool(amounts) and all(amounts) and len(codecs) < 2 and len(fps) < 2
    sure = (
        sure and quotes.is_clear(heading) and not re.search(r"(?i)total|incl|with audio", heading)
    )
    written = {1.0: "kbit/s", 1e3: "Mbit/s"}.get(dimension_of(known)[1], "") if known else ""
    codec, rate = codecs[0] if len(codecs) == 1 else "", fps[0] if len(fps) == 1 else ""
    return Column(role, written, codec, rate, sure=sure)


def _amount(cell: str, unit: str) -> Quantity | None:
    """Return the one bitrate a cell holds, or None if it holds anything else."""
    found = quantities(quotes.without_codecs(cell), unit)
    if len(found) != 1 or found[0].dimension != "bitrate" or found[0].high is not None:
        return None
    return None if found[0].doubtful or bounds_in(cell) or not quotes.is_clear(cell) else found[0]


def _answers_of(
    row: tuple[str, ...], columns: tuple[Column, ...], shape: AspectRatio
) -> Iterator[str]:
    """A row of a table as rows of a guide: one for each codec, frame rate and tier it names."""
    cells = {column.role: cell for column, cell in zip(columns, row, strict=True)}
    sizes = quotes.sizes_in(cells.get("resolution", ""), shape)
    if len(sizes) != 1:
        return
    beside = with_frame_rate(cells["resolution"])[1] or next(
        iter(quotes.fps_in(cells["resolution"])), ""
    )
    rate = re.sub(r"(?i)\s*fps$", "", cells.get("frame rate", "")) or beside
    codec = quotes.named(quotes.CODECS, cells.get("codec", ""))
    tier = re.sub(r"[^a-z0-9]+", "-", cells.get("tier", "").lower()).strip("-")
    tier = "" if _ORDINARY.match(tier) else tier
    limits: dict[tuple[str, str], list[tuple[str | None, Quantity]]] = {}
    for column, cell in zip(columns, row, strict=True):
        bound = ROLES[column.role]
        if bound is None or _NONE.fullmatch(cell):
            continue
        own = column.codec or (codec[0] if len(codec) == 1 else "")
        whose = column.tier or tier
        more = (f" in {own}" if own else "") + (f" for {whose}" if whose else "")
        for amount in quantities(quotes.without_codecs(cell), column.unit):
            if amount.dimension in ("bitrate", "bytes"):
                limits.setdefault((column.fps or rate, more), []).append((bound, amount))
    for (fps, more), named in limits.items():
        known = re.fullmatch(r"[0-9]{1,3}(?:[./][0-9]+)?", fps) is not None
        yield quotes.row_text(sizes[0], fps if known else "", named, more)
