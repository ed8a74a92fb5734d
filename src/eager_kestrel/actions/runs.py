"""The history of runs: list, find, forget, export, import, by hour of day."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from eager_kestrel import __version__
from eager_kestrel.core.errors import InputError, NotFoundError
from eager_kestrel.core.line.airing import Airing
from eager_kestrel.core.line.pooling import uplink_of
from eager_kestrel.core.line.run import Run
from eager_kestrel.core.line.summarising import run_document, summary_of
from eager_kestrel.core.line.summary import RunRow, RunSummary
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.names import nearest_name
from eager_kestrel.files.airings import AiringHistory
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.history import History
from eager_kestrel.files.repair import Repaired, repair
from eager_kestrel.files.run_tables import DateOrder, read_runs, runs_csv, runs_json


@dataclass(frozen=True, slots=True)
class Imported:
    """What an import did."""

    added: int
    known: int
    """Rows that were already there."""
    bad: tuple[str, ...]
    """One line for each row that could not be taken."""


def listed() -> list[RunRow]:
    """Every kept run in a line, oldest first."""
    with History() as history:
        return history.rows()


def repaired() -> Repaired:
    """Save what can be read of a damaged history; see :func:`eager_kestrel.files.repair.repair`."""
    return repair()


def find(name: str) -> Run:
    """A run by id, the beginning of one, or ``latest``.

    Raises:
        NotFoundError: none or several match.
    """
    with History() as history:
        return history.find(name)


def summary(run: Run) -> RunSummary:
    """A run in figures, with what a careful person would remark on."""
    return summary_of(run)


def document(run: Run, *, samples: bool) -> dict[str, Any]:
    """A run as JSON with its figures; with or without the samples they rest on."""
    return run_document(run, samples=samples)


def together(runs: list[Run]) -> Uplink:
    """The uplink that runs speak for together.

    Raises:
        FormatError: none of them has enough steady samples on one connection.
    """
    return uplink_of(runs)


def forget(names: list[str], *, everything: bool = False) -> int:
    """Remove runs and airings by id, or all of them; returns how many.

    Raises:
        NotFoundError: a name matches none or several; then nothing is removed.
    """
    with AiringHistory() as history:
        if everything:
            aired = history.forget_airings([row.id for row in history.airing_rows()])
            return aired + history.forget([row.id for row in history.rows()])
        airings = [row.id for row in history.airing_rows()]
        chosen = [(name, name in airings) for name in names]
        runs = [history.find(name).id for name, aired in chosen if not aired]
        gone = history.forget_airings([name for name, aired in chosen if aired])
        return gone + history.forget(runs)


KINDS = (".json", ".csv")
DATE_ORDERS: tuple[DateOrder, ...] = ("dd/mm", "mm/dd")


def require_runs_file(path: Path) -> None:
    """Refuse a file name whose extension is not one of runs, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(f'"{path.name}" is neither JSON nor CSV', "name it .json or .csv")


def write_runs(runs: list[Run], path: Path, airings: Sequence[Airing] = ()) -> None:
    """Write runs to a ``.json`` file with samples, and airings, or a ``.csv`` of runs without.

    Raises:
        InputError: another kind of file.
        StorageError: the disk would not take it.
    """
    require_runs_file(path)
    table = path.suffix.lower() == ".csv"
    write_text(path, runs_csv(runs) if table else runs_json(runs, airings))


def export(path: Path) -> int:
    """Write every kept run and airing to a file, as :func:`write_runs` does; returns how many."""
    require_runs_file(path)
    with AiringHistory() as history:
        runs, airings = history.all(), history.airings()
    write_runs(runs, path, airings)
    return len(runs) + (len(airings) if path.suffix.lower() == ".json" else 0)


def import_file(path: Path, dates: str | None = None) -> Imported:
    """Take runs from an export, or readings from a table of times and upload rates.

    Args:
        path: the file.
        dates: how dates with slashes are meant: ``dd/mm`` or ``mm/dd``.

    Raises:
        InputError: ``dates`` is neither.
        FormatError: nothing in the file can be taken for what it is.
        StorageError: the file cannot be read or the history not written.
    """
    order = next((known for known in DATE_ORDERS if known == dates), None)
    if dates is not None and order is None:
        raise InputError(f'"{dates}" is no order of a date', "write dd/mm or mm/dd")
    read = read_runs(path, __version__, order)
    with AiringHistory() as history:
        added = history.add(read.runs)
        known = {row.id for row in history.airing_rows()}
        fresh = [one for one in read.airings if one.id not in known]
        added += history.keep(fresh) if fresh else 0
    return Imported(added, len(read.runs) + len(read.airings) - added, tuple(read.bad))


def compared(names: Sequence[str]) -> list[tuple[Run, RunSummary]]:
    """Runs to be put side by side, in the order they are named.

    Raises:
        NotFoundError: a name matches none or several.
        InputError: there are fewer than two.
    """
    if len(names) < 2:
        raise InputError("one run compares with nothing", "name two or three")
    with History() as history:
        runs = [history.find(name) for name in names]
    return [(run, summary_of(run)) for run in runs]


def runs_towards(runs: list[Run], places: Sequence[str]) -> list[Run]:
    """The runs towards places.

    Raises:
        NotFoundError: none went towards one of them; suggests one.
    """
    known = sorted({run.place for run in runs if run.place})
    for place in places:
        if place not in known:
            raise NotFoundError(f"no run went towards {place}", nearest_name(place, known, ""))
    return [run for run in runs if run.place in places]
