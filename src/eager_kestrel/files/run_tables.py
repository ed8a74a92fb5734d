"""Runs in and out of files: JSON with samples, and tables of times and upload rates.

A table comes as CSV or as JSON rows. Its rate column says the unit in its name (``upload_mbps``,
``upload (Mbit/s)``) or in each cell (``12 Mbit/s``); a bare number in a bare column is refused,
with its line. Good rows are taken even when others are bad.
"""

from __future__ import annotations

import contextlib
import csv
import hashlib
import io
import re
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

from pydantic import ValidationError
from pydantic_core import from_json, to_json

from eager_kestrel.core.connection.broadcast import Broadcast
from eager_kestrel.core.connection.run import Endpoint, Export, Run
from eager_kestrel.core.connection.summarising import phase_summary
from eager_kestrel.core.document import format_name, require_format
from eager_kestrel.core.errors import (
    FormatError,
    KestrelError,
    UnitError,
    may_hide,
    printable,
    printable_in,
)
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.documents import csv_text, file_bytes
from eager_kestrel.files.history import AHEAD_SECONDS, K, Row, broadcast_row, run_row
from eager_kestrel.files.home import storage_error
from eager_kestrel.files.pages import delimiter

MOST_BYTES = 200_000_000
TIME_COLUMNS = ("time", "taken_at", "timestamp", "datetime", "date", "when")
RATE_COLUMN = re.compile(
    r"(?:upload|up|upstream|rate)(?:[ _-]*(?:rate|speed))?[ _(\[-]*(.*?)[)\]]*", re.IGNORECASE
)
DECIMAL_COMMA = re.compile(r"^(\s*[0-9]+),([0-9]+)(?=\D|$)")
WRITTEN_DATE = re.compile(
    r"([0-9]{1,2})([./])([0-9]{1,2})[./]([0-9]{4})((?:[ ,T]+[0-9]{1,2}:[0-9]{2}(?::[0-9]{2})?)?)"
)
CSV_COLUMNS = (
    "time",
    "upload_kbps",
    "floor_kbps",
    "several_kbps",
    "endpoint",
    "partial",
    "id",
    "kind",
)


@dataclass
class Read:
    """What a file gave."""

    runs: list[Row] = field(default_factory=list)
    """As they are kept; their text may hold more than this version knows of."""
    broadcasts: list[Row] = field(default_factory=list)
    bad: list[str] = field(default_factory=list)
    """One line for each row that could not be taken."""


def runs_json(runs: Sequence[Run], broadcasts: Sequence[Broadcast] = ()) -> str:
    """Runs with their samples, and broadcasts."""
    return Export(runs=tuple(runs), broadcasts=tuple(broadcasts)).model_dump_json(indent=1) + "\n"


BEGIN = f'{{"format": "{format_name("runs")}", "runs": ['
BETWEEN = '], "broadcasts": ['
END = "]}"


def kept_json(runs: Iterable[str], broadcasts: Iterable[str]) -> Iterator[str]:
    """The same of documents as they are kept, in pieces, each on a line of its own."""
    yield BEGIN
    yield from _lines(runs)
    yield f"\n{BETWEEN}"
    yield from _lines(broadcasts)
    yield f"\n{END}\n"


def _lines(texts: Iterable[str]) -> Iterator[str]:
    between = "\n"
    for text in texts:
        yield between + text
        between = ",\n"


def runs_csv(runs: list[Run]) -> str:
    """A line a run, without samples."""
    rows: list[list[object]] = [list(CSV_COLUMNS)]
    for run in runs:
        one, several = phase_summary(run.one_connection), phase_summary(run.several_connections)
        rate = one.typical_kbps if one else run.imported_kbps
        rows.append(
            [
                run.taken_at,
                "" if rate is None else rate,
                one.floor_kbps if one else "",
                several.typical_kbps if several else "",
                run.endpoint.url,
                "yes" if run.partial else "",
                run.id,
                run.kind,
            ]
        )
    return csv_text(rows)


DateOrder = Literal["dd/mm", "mm/dd"]
"""Which of two numbers with a slash between is the day."""


def read_runs(path: Path, version: str, dates: DateOrder | None = None) -> Read:
    """Runs from a file by its content: our JSON, JSON rows, or a table.

    Raises:
        FormatError: it is none of these, or has no usable columns.
        StorageError: it cannot be read.
    """
    size = file_bytes(path)
    try:
        with path.open("rb") as file:
            if file.readline(len(BEGIN) + 2).strip() == BEGIN.encode():
                return _by_line(file)
        if size > MOST_BYTES:
            raise FormatError("more than 200 MB is no table", "give a smaller one", str(path))
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise storage_error(error, str(path)) from None
    except UnicodeDecodeError:
        raise FormatError("not UTF-8 text", "save it as UTF-8", str(path)) from None
    if text.lstrip()[:1] in ("{", "["):
        return _from_json(text, str(path), version, dates)
    return _from_csv(text, str(path), version, dates)


def _from_json(text: str, where: str, version: str, dates: DateOrder | None) -> Read:
    try:
        document = printable_in(from_json(text))
    except ValueError as error:
        line = re.search(r"line (\d+)", str(error))
        at = f"{where}:{line[1] if line else 1}"
        raise FormatError("not JSON", "correct it", at) from None
    if isinstance(document, dict) and document.get("format") == format_name("run"):
        document = {"format": format_name("runs"), "runs": [document]}
    if isinstance(document, dict) and document.get("format") == format_name("broadcast"):
        document = {"format": format_name("runs"), "runs": [], "broadcasts": [document]}
    if isinstance(document, dict):
        require_format(document.get("format"), "runs", where)
        return _own(document, where)
    read = Read()
    for number, row in enumerate(document, 1):
        if isinstance(row, dict):
            cells = {str(k): str(v) for k, v in row.items()}
            _take_row(read, cells, f"row {number}", version, dates)
        else:
            read.bad.append(f"row {number}: not an object with a time and an upload rate")
    return read


def _by_line(lines: Iterable[bytes]) -> Read:
    """What :func:`kept_json` wrote, a line at a time: a long history is never in memory at once."""
    read = Read()
    aired = ended = False
    for number, line in enumerate(lines, 2):
        kept = line.strip().removesuffix(b",")
        if may_hide(kept):
            with contextlib.suppress(ValueError):
                kept = to_json(printable_in(from_json(kept)))
        if kept in (END.encode(), BETWEEN.encode()):
            aired, ended = True, kept == END.encode()
            continue
        try:
            if aired:
                broadcast = _past(Broadcast.model_validate_json(kept))
                read.broadcasts.append(broadcast_row(broadcast, kept.decode()))
            else:
                run = _past(Run.model_validate_json(kept))
                read.runs.append(run_row(run, kept.decode()))
        except (ValidationError, FormatError) as error:
            read.bad.append(f"line {number}: {_not_taken(error)}")
    if not ended:
        read.bad.append("the file ends before the export does: the rest is missing")
    return read


def _own(document: dict[str, Any], where: str) -> Read:
    read = Read()
    rows = document.get("runs")
    if not isinstance(rows, list):
        raise FormatError("no runs in it", "export again", where)
    for number, row in enumerate(rows, 1):
        try:
            kept = {key: value for key, value in row.items() if key != "summary"}
            run = _past(Run.model_validate(kept))
            read.runs.append(run_row(run, to_json(kept).decode()))
        except (ValidationError, FormatError, AttributeError, TypeError) as error:
            read.bad.append(f"run {number}: {_not_taken(error)}")
    aired = document.get("broadcasts", [])
    for number, row in enumerate(aired if isinstance(aired, list) else [aired], 1):
        try:
            broadcast = _past(Broadcast.model_validate(row))
            read.broadcasts.append(broadcast_row(broadcast, to_json(row).decode()))
        except (ValidationError, FormatError) as error:
            read.bad.append(f"broadcast {number}: {_not_taken(error)}")
    return read


def _past(one: K) -> K:
    """A run or broadcast, if it was taken by now.

    Raises:
        FormatError: it is of the future, as a clock says that was never set.
    """
    _require_past(one.taken.astimezone())
    return one


def _require_past(moment: datetime) -> None:
    if moment.timestamp() > time.time() + AHEAD_SECONDS:
        raise FormatError(f"{moment:%Y-%m-%d %H:%M} is in the future", "correct the date")


def _not_taken(error: Exception) -> str:
    """Why an exported run or broadcast is not taken."""
    if isinstance(error, FormatError):
        return error.line()
    found = error.errors()[0]["loc"] if isinstance(error, ValidationError) else ()
    return f"{'.'.join(map(str, found)) or 'it'} is not as exported"


def _from_csv(text: str, where: str, version: str, dates: DateOrder | None) -> Read:
    text = printable(text, lines=True)
    between = delimiter(text)
    rows = csv.DictReader(io.StringIO(text), delimiter=between)
    names = [name for name in (rows.fieldnames or []) if name]
    if _time_column(names) is None or _rate_column(names) is None:
        raise FormatError(
            f"no columns of a time and an upload rate among {', '.join(names) or 'none'}",
            'name them "time" and "upload_mbps"',
            f"{where}:1",
        )
    read = Read()
    try:
        for row in rows:
            if surplus := row.get(None):
                cut = between.join(surplus)
                read.bad.append(f'line {rows.line_num}: "{between}{cut}" is one cell too many')
                continue
            cells = {str(k): str(v or "") for k, v in row.items() if k is not None}
            if between == ";":  # where a semicolon parts cells, a comma parts decimals
                cells = {key: DECIMAL_COMMA.sub(r"\1.\2", cell) for key, cell in cells.items()}
            if any(cells.values()):
                _take_row(read, cells, f"line {rows.line_num}", version, dates)
    except csv.Error as error:
        read.bad.append(f"line {rows.line_num}: {error}")
    return read


def _time_column(names: list[str]) -> str | None:
    return next((n for n in names if n.strip().lower() in TIME_COLUMNS), None)


def _rate_column(names: list[str]) -> tuple[str, str] | None:
    """The rate column and the unit in its name, which may be empty."""
    for name in names:
        match = RATE_COLUMN.fullmatch(name.strip())
        if match:
            return name, match[1].replace("_per_", "/").strip()
    return None


def _take_row(
    read: Read, row: dict[str, str], where: str, version: str, dates: DateOrder | None
) -> None:
    try:
        run = _reading(row, version, dates)
        read.runs.append(run_row(run, run.model_dump_json()))
    except KestrelError as error:
        read.bad.append(f"{where}: {error.line()}")


def _reading(row: dict[str, str], version: str, dates: DateOrder | None) -> Run:
    time_column, rate_column = _time_column(list(row)), _rate_column(list(row))
    if time_column is None or rate_column is None:
        raise FormatError("no time and upload rate", 'write "time" and "upload"')
    if row.get("kind", "").strip() == "practice":
        raise FormatError("a practice run, not your connection", "leave it out, or export as .json")
    taken = _moment(row[time_column], dates)
    name, unit = rate_column
    cell = row[name].strip()
    bare = re.fullmatch(r"[0-9.]+", cell)
    try:
        rate = Bitrate.parse(f"{cell} {unit}" if bare else cell)
    except UnitError as error:
        hint = ', or name the column "upload_mbps"' if bare and not unit else ""
        raise UnitError(error.what, f"{error.instead}{hint}") from None
    taken_at = taken.isoformat(timespec="seconds")
    digest = hashlib.sha256(f"{taken_at} {rate.bits_per_second}".encode()).hexdigest()[:4]
    return Run(
        id=f"{taken:%Y%m%d-%H%M%S}-i{digest}",
        taken_at=taken_at,
        version=version,
        endpoint=Endpoint(url="", found_by="imported"),
        counted_by="read elsewhere",
        imported_kbps=rate.kbps,
    )


def _iso(text: str, dates: DateOrder | None) -> str:
    """``20.11.2026 20:15`` and, once it is said which is the day, ``20/11/2026`` as ISO 8601.

    Raises:
        FormatError: a date with slashes is ambiguous.
    """
    match = WRITTEN_DATE.fullmatch(text.strip())
    if match is None:
        return text.strip()
    first, between, second, year, rest = match.groups()
    if between == "/" and dates is None:
        raise FormatError(f'"{text.strip()}" is ambiguous', "give --dates dd/mm or --dates mm/dd")
    day, month = (second, first) if between == "/" and dates == "mm/dd" else (first, second)
    return f"{year}-{int(month):02d}-{int(day):02d}{'T' + rest.strip(' ,T') if rest else ''}"


def _moment(text: str, dates: DateOrder | None) -> datetime:
    try:
        moment = datetime.fromisoformat(_iso(text, dates))
    except ValueError:
        raise FormatError(f'"{text}" is not a time', "write one such as 2026-11-02 20:15") from None
    if moment.tzinfo is None:
        there = moment.astimezone()
        if there.astimezone(UTC).astimezone().replace(tzinfo=None) != moment:
            raise FormatError(f'"{text}" does not exist: the clocks went forward', "correct it")
        moment = there
    _require_past(moment)
    return moment
