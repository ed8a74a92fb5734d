"""The tables of a guideline page, mapped to rungs: which column is what, and what found no place.

Nothing is guessed silently: each heading and cell is understood whole, or what is left of it is
named with its row and column; a bitrate without a unit, or one of which nobody says whether it is
wished or the most, is a question.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import product
from typing import TYPE_CHECKING

from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.amounts import VIDEO_KBPS, Reading, read_amounts
from eager_kestrel.core.guide.page import (
    Answers,
    Bound,
    Cell,
    Grid,
    Role,
    TableRung,
    Taken,
    Understood,
)
from eager_kestrel.core.guide.page_columns import (
    BITRATE_ROLES,
    ROLES_BY_WORD,
    TOTAL,
    UNIT,
    Column,
    column_of,
    role_by_word,
)
from eager_kestrel.core.guide.page_lines import take_line
from eager_kestrel.core.guide.phrases import codecs_in, keyframes_in, picture_in, rates_in
from eager_kestrel.core.picture import Picture, parse_frame_rate
from eager_kestrel.core.units import Bitrate

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import Codec


def take_grid(grid: Grid, answers: Answers, done: Understood) -> None:
    """Take a table: rungs where it has pictures, ``Key: value`` lines where it has none."""
    grid = _upright(grid, answers)
    if not _has_pictures(grid, answers):
        for row in grid.rows:
            cells = [cell.text for cell in row if cell.text]
            take_line(": ".join(dict.fromkeys(cells)), "a table", answers, done)
        return
    codecs, title = codecs_in(grid.title)
    context = _Context(codecs[0] if len(codecs) == 1 else None, _standing(title))
    names = [heading.text.strip() for heading in _headings(grid)]
    columns = []
    for number, (name, heading) in enumerate(zip(names, _headings(grid), strict=True), 1):
        shown = name or f"column {number}"
        guess: Role | None = "picture" if not name and number == 1 else None
        columns.append(column_of(shown, answers.roles.get(shown) or guess, done))
        _marked(heading, f'column "{shown}"', done)
    columns = _with_pictures(columns, grid, answers, done)
    done.columns |= {column.heading: column.role for column in columns}
    for number, row in enumerate(grid.rows[grid.headings :], grid.headings + 1):
        texts = {cell.text for cell in row}
        if len(texts) == 1 and len(row) > 1:  # one cell across the table: a heading between rows
            context = _between(row[0].text, context, number, done)
        elif any(texts):
            _take_row(_Row(number, row, columns, context), answers, done)


@dataclass(frozen=True, slots=True)
class _Context:
    """What a heading over rows says of them."""

    codec: Codec | None
    standing: str | None


def _between(text: str, context: _Context, number: int, done: Understood) -> _Context:
    codecs, rest = codecs_in(text)
    standing = _standing(rest)
    if not codecs and standing is None and text:
        done.unplaced.append(f'row {number}: "{text}" is not understood')
    return _Context(codecs[0] if len(codecs) == 1 else context.codec, standing or context.standing)


_STANDING = re.compile(
    r"(?i)(?:\bfor\s+)?(?:\bour\s+)?\b([a-z][a-z-]+)\s+(?:accounts?|streamers?|creators?|channels?|"
    r"members?|tier|plan|users?|standing)\b|\bfor\s+(?:our\s+)?([a-z][a-z-]+s)\b"
)
ORDINARY = ("all", "any", "every", "everyone", "everybody", "standard", "basic", "ordinary",
            "default", "regular", "free", "normal", "new", "other")  # fmt: skip


def _standing(text: str) -> str | None:
    match = _STANDING.search(text)
    if match is None:
        return None
    name = (match[1] or match[2]).lower()
    return None if name in ("live", "video", "streams", "settings") else name


def _headings(grid: Grid) -> list[Cell]:
    """One heading a column; those of several rows joined."""
    found = []
    for index in range(len(grid.rows[0])):
        cells = [row[index] for row in grid.rows[: grid.headings]]
        words = " ".join(dict.fromkeys(cell.text for cell in cells if cell.text))
        found.append(Cell(words, tuple(mark for cell in cells for mark in cell.marks)))
    return found


def _upright(grid: Grid, answers: Answers) -> Grid:
    """A table whose first row names pictures and whose first column names the rest, turned over."""
    first, down = grid.rows[0][1:], [row[0] for row in grid.rows[1:]]
    pictures = [picture_in(cell.text, answers.shape) for cell in first]
    across = sum(p is not None and not p.left for p in pictures)
    named = sum(any(p.search(c.text.lower()) for _, p in ROLES_BY_WORD) for c in down)
    if grid.headings == 1 and across and across == len(first) and named == len(down):
        return replace(grid, rows=tuple(zip(*grid.rows, strict=True)))
    return grid


def _has_pictures(grid: Grid, answers: Answers) -> bool:
    if len(grid.rows) <= grid.headings or len(grid.rows[0]) < 2:
        return False
    body = grid.rows[grid.headings :]
    named = {role_by_word(heading.text) for heading in _headings(grid)}
    return ("picture" in named and bool(named & {*BITRATE_ROLES})) or any(
        sum(picture_in(row[i].text, answers.shape) is not None for row in body) * 2 >= len(body)
        for i in range(len(grid.rows[0]))
    )


def _with_pictures(
    columns: list[Column], grid: Grid, answers: Answers, done: Understood
) -> list[Column]:
    """The column of pictures found by what is in it, where no heading names it."""
    if any(column.role == "picture" for column in columns):
        return columns
    body = grid.rows[grid.headings :]
    for index, column in enumerate(columns):
        if any(picture_in(row[index].text, answers.shape) for row in body):
            told = f'column "{column.heading}"'
            done.unplaced[:] = [line for line in done.unplaced if not line.startswith(told)]
            return [*columns[:index], Column(column.heading, "picture"), *columns[index + 1 :]]
    return columns


@dataclass(frozen=True, slots=True)
class _Row:
    number: int
    cells: tuple[Cell, ...]
    columns: list[Column]
    context: _Context

    def of(self, *roles: Role) -> Iterator[tuple[Column, Cell]]:
        """The filled cells of some columns."""
        for column, cell in zip(self.columns, self.cells, strict=True):
            if column.role in roles and cell.text.strip(" -–—"):
                yield column, cell

    def where(self, column: Column) -> str:
        return f'row {self.number}, "{column.heading}"'


def _marked(cell: Cell, where: str, done: Understood) -> None:
    for mark in cell.marks:
        note = f' ("{done.notes[mark]}")' if mark in done.notes else ""
        done.unplaced.append(f"{where}: note {mark}{note} stands at it")


def _take_row(row: _Row, answers: Answers, done: Understood) -> None:
    pairs = zip(row.columns, row.cells, strict=True)
    row = replace(row, cells=tuple(_meant(row, column, cell, answers) for column, cell in pairs))
    for column, cell in zip(row.columns, row.cells, strict=True):
        if column.role != "left out":
            _marked(cell, row.where(column), done)
    seen = next(((c, p) for c, cell in row.of("picture")
                 if (p := picture_in(cell.text, answers.shape)) is not None), None)  # fmt: skip
    if seen is None:
        shown = " | ".join(cell.text for cell in row.cells if cell.text)
        done.unplaced.append(f'row {row.number}: no picture in "{shown}"')
        return
    column, read = seen
    if read.left:
        done.unplaced.append(f'{row.where(column)}: "{read.left}" is not understood')
    fps = _frame_rate(row, read.frame_rate, done)
    _take_asides(row, fps, answers, done)
    codecs = _codecs(row, done) or (row.context.codec,)
    standing = _of_standing(row)
    before = len(done.rungs)
    for codec in codecs:
        for rung in _rungs(row, read.picture, fps, codec, standing, answers, done):
            _keep(rung, row, done)
    if len(done.rungs) == before and not done.questions:
        done.unplaced.append(f"row {row.number}: {read.picture} has no bitrate")


def _meant(row: _Row, column: Column, cell: Cell, answers: Answers) -> Cell:
    said = answers.cells.get((row.number, column.heading))
    return cell if said is None else Cell(said)


def _frame_rate(row: _Row, with_picture: str, done: Understood) -> Fraction | None:
    """Of a row; None for any rate the guide takes."""
    for column, cell in row.of("frame_rate"):
        if re.fullmatch(r"(?i)\s*(?:any|all)\s*", cell.text):
            return None
        found, reading = rates_in(cell.text)
        _left(reading, row.where(column), done)
        if found is not None:
            if found.advised is not None:
                done.take(Taken(row.where(column), "video.advised.frame_rate", found.advised,
                                cell.text))  # fmt: skip
            return found.fastest
    try:
        return parse_frame_rate(with_picture) if with_picture else None
    except UnitError as error:
        done.unplaced.append(f"row {row.number}: {error.line()}")
        return None


def _left(reading: Reading, where: str, done: Understood) -> None:
    """What of a cell was not understood, told."""
    if reading.left:
        done.unplaced.append(f'{where}: "{" ".join(reading.left)}" is not understood')
    done.unplaced += [f"{where}: {unsure}" for unsure in reading.unsure]


def _take_asides(row: _Row, fps: Fraction | None, answers: Answers, done: Understood) -> None:
    """Keyframes and audio, which a guide has once for all rows."""
    for column, cell in row.of("keyframes"):
        rule, reading = keyframes_in(cell.text, column.heading, fps)
        _left(reading, row.where(column), done)
        if rule is not None:
            done.take(Taken(row.where(column), "video.keyframes", rule, cell.text))
    for column, cell in row.of("audio"):
        named = "" if re.search("(?i)audio", cell.text) else "audio "
        text = f"{named}{cell.text}" + (f" {column.unit}" if column.unit
                                        and not UNIT.search(cell.text) else "")  # fmt: skip
        take_line(text, row.where(column), answers, done)


def _codecs(row: _Row, done: Understood) -> tuple[Codec, ...]:
    for column, cell in row.of("codec"):
        codecs, rest = codecs_in(cell.text)
        left = re.sub(r"(?i)\b(?:only|or|and)\b|[/,()+&]", " ", rest).split()
        if left or not codecs:
            said = " ".join(left) or cell.text
            done.unplaced.append(f'{row.where(column)}: "{said}" is not understood')
        return codecs
    return ()


def _of_standing(row: _Row) -> str | None:
    for _, cell in row.of("standing"):
        return standing_name(cell.text)
    return row.context.standing


def standing_name(written: str) -> str:
    """The key of a standing: lower case, words joined with ``-``."""
    return re.sub(r"[^a-z0-9]+", "-", written.lower()).strip("-")


def _rungs(
    row: _Row, picture: Picture, fps: Fraction | None, codec: Codec | None, standing: str | None,
    answers: Answers, done: Understood,
) -> Iterator[TableRung]:  # fmt: skip
    """One rung for each rate and codec the bitrate columns speak of."""
    cells = list(row.of(*BITRATE_ROLES))
    rates = dict.fromkeys(c.frame_rate for c, _ in cells) or {None: None}
    kinds = dict.fromkeys(c.codec for c, _ in cells) or {None: None}
    for rate, kind in product(rates, kinds):
        if (rate is None and len(rates) > 1) or (kind is None and len(kinds) > 1):
            continue
        bounds: dict[Bound, Bitrate] = {}
        texts = []
        for column, cell in cells:
            if column.frame_rate in (None, rate) and column.codec in (None, kind):
                bounds |= _bounds(row, column, cell, answers, done)
                texts.append(f"{column.heading} {cell.text}")
        values = [bounds[bound] for bound in ("floor", "advised", "ceiling") if bound in bounds]
        if values != sorted(values):
            done.unplaced.append(f"row {row.number}: {picture} has bitrates out of order")
        elif values:
            yield TableRung(picture, rate or fps, kind or codec, standing, bounds.get("floor"),
                            bounds.get("advised"), bounds.get("ceiling"),
                            f"row {row.number}: {', '.join(texts)}")  # fmt: skip


def _bounds(
    row: _Row, column: Column, cell: Cell, answers: Answers, done: Understood
) -> dict[Bound, Bitrate]:
    """What one cell says of the floor, the advised value and the ceiling."""
    where = row.where(column)
    text, audio = _without_audio(cell.text)
    if audio:
        take_line(audio, where, answers, done)
    total = column.total or TOTAL.search(text) is not None
    unit = column.unit or answers.unit or ""
    reading = read_amounts(TOTAL.sub(" ", text), "bitrate", unit, VIDEO_KBPS)
    _left(reading, where, done)
    if reading.no_unit:
        done.ask("unit")
        return {}
    found: dict[Bound, Bitrate] = {}
    of_column: Bound | None = (
        column.role if column.role in ("floor", "advised", "ceiling") else None
    )
    for amount in reading.amounts:
        rates = [Bitrate.from_kbps(end) for end in amount.ends]
        bound = amount.bound or of_column
        if len(rates) == 2 and bound == "advised":
            found["advised"] = Bitrate.from_kbps(sum(amount.ends) / 2)
        elif len(rates) == 2:
            found |= {"floor": rates[0], "ceiling": rates[1]}
        elif bound is None and answers.means is None and not found:
            done.ask("means")
        else:
            found[bound or answers.means or "ceiling"] = rates[0]
    return _less_audio(found, where, done) if total else found


def _without_audio(text: str) -> tuple[str, str]:
    """``6000 kbps + 160 kbps audio``: the part about audio, apart."""
    match = re.search(r"(?i)[+,;(]?\s*(?:plus\s+)?[0-9][^+,;(]*\baudio\b\)?", text)
    if match is None or not re.search(r"[0-9]", text[: match.start()]):
        return text, ""
    return text[: match.start()] + text[match.end() :], match[0].strip("+,;() ")


def _less_audio(found: dict[Bound, Bitrate], where: str, done: Understood) -> dict[Bound, Bitrate]:
    """Totals that include audio, less what audio may take."""
    audio: Bitrate | None = done.said("audio.most") or done.said("audio.advised.bitrate")
    if audio is None:
        done.unplaced.append(f"{where}: totals include audio, and its bitrate is not on the page")
        return found
    return {b: Bitrate.from_kbps(rate.kbps - audio.kbps) for b, rate in found.items()}


def _keep(rung: TableRung, row: _Row, done: Understood) -> None:
    """Keep a rung; one that contradicts another of the same picture is told."""
    same = (rung.picture, rung.frame_rate, rung.codec, rung.standing)
    limits = (rung.floor, rung.advised, rung.ceiling)
    for index, other in enumerate(done.rungs):
        if (other.picture, other.frame_rate, other.codec, other.standing) != same:
            continue
        before = (other.floor, other.advised, other.ceiling)
        if any(
            a is not None and b is not None and a != b for a, b in zip(before, limits, strict=True)
        ):
            done.unplaced.append(f"row {row.number}: {rung.picture} contradicts {other.text}")
        else:
            merged = [a or b for a, b in zip(before, limits, strict=True)]
            done.rungs[index] = replace(
                other, floor=merged[0], advised=merged[1], ceiling=merged[2]
            )
        return
    done.rungs.append(rung)
