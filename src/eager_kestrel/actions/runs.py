"""The history of runs: list, find, forget, export, import, by hour of day."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from eager_kestrel.core.connection.broadcast import Broadcast
from eager_kestrel.core.connection.evidence import RunEvidence
from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.core.connection.run import Run, RunComparison, RunDocument, RunList
from eager_kestrel.core.connection.summarising import run_document, run_uplink
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import InputError, NotFoundError, nearest_name
from eager_kestrel.core.results import ImportResult
from eager_kestrel.core.words import runs as words
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.history import BROADCASTS, RUNS, History, HistoryFilter
from eager_kestrel.files.moving import HISTORY, pack, take_files, unpacked
from eager_kestrel.files.repair import Repaired, repair
from eager_kestrel.files.run_tables import DateOrder, kept_json, read_runs, runs_csv, runs_json
from eager_kestrel.version import __version__

LISTED, COMPLETED = 20, 50
"""Runs that are listed, or offered to complete an id, when nobody says how many."""


def list_runs(
    last: int | None = None, endpoint: str | None = None, since: str | None = None
) -> RunList:
    """List what is kept, the newest so many runs and broadcasts.

    Args:
        last: how many of each, at most; else 20.
        endpoint: only what went to this endpoint or platform.
        since: only what began on this day or later: ``2026-11-02``.

    Raises:
        InputError: ``since`` is no day.
    """
    which = HistoryFilter(
        since=_day(since) if since else 0.0, endpoint=endpoint, last=last or LISTED
    )
    with History() as history:
        all_runs, all_broadcasts = history.counts()
        return RunList(
            runs=tuple(history.rows(which)),
            broadcasts=tuple(history.broadcast_rows(which)),
            all_runs=all_runs,
            all_broadcasts=all_broadcasts,
            size_bytes=history.size_bytes(),
        )


def _day(text: str) -> float:
    """The moment a day begins here, in seconds since 1970."""
    try:
        return datetime.fromisoformat(text).astimezone().timestamp()
    except (ValueError, OverflowError, OSError):
        raise InputError(f'"{text}" is not a day', "write one such as 2026-11-02") from None


def newest_ids(count: int = COMPLETED) -> list[str]:
    """Ids of the newest runs, newest first."""
    with History() as history:
        return history.ids(RUNS, HistoryFilter(last=count))[::-1]


def repaired() -> Repaired:
    """Save what can be read of a damaged history; see :func:`eager_kestrel.files.repair.repair`."""
    return repair()


def find_run(name: str) -> Run:
    """A run by id, the beginning of one, or ``latest``.

    Raises:
        NotFoundError: none or several match.
    """
    with History() as history:
        return history.find(name)


def document(run: Run, *, samples: bool = False) -> RunDocument:
    """A run with its figures and remarks; with or without the samples they rest on."""
    return run_document(run, samples=samples)


def uplink_of_run(run: Run) -> Uplink | None:
    """The uplink a run alone leads to; None if it measured too little."""
    return run_uplink(run)


def together(runs: list[Run]) -> Uplink:
    """The uplink that runs speak for together.

    Raises:
        FormatError: none of them has enough steady samples on one connection.
    """
    return uplink_of(runs)


def forget_runs(
    names: Sequence[str] = (),
    *,
    before: str | None = None,
    endpoint: str | None = None,
    everything: bool = False,
) -> int:
    """Remove runs and broadcasts, and give their space back to the disk; returns how many.

    Args:
        before: those that began before this day, as ``2026-11-02``.
        endpoint: of these only those to this endpoint or platform; alone, all of those.

    Raises:
        NotFoundError: a name matches none or several; then nothing is removed.
        InputError: ``before`` is no day.
    """
    by_rule = everything or before is not None or endpoint is not None
    which = HistoryFilter(before=_day(before) if before else None, endpoint=endpoint)
    with History() as history:
        if by_rule:
            runs, broadcasts = history.ids(RUNS, which), history.ids(BROADCASTS, which)
        else:
            known = set(history.ids(BROADCASTS))
            broadcasts = [name for name in names if name in known]
            runs = [history.find(name).id for name in names if name not in known]
        gone = history.forget_broadcasts(broadcasts) + history.forget(runs)
        history.compact()
        return gone


KINDS = (".json", ".csv")
DATE_ORDERS: tuple[DateOrder, ...] = ("dd/mm", "mm/dd")


def require_runs_file(path: Path, kinds: str = ".json or .csv") -> None:
    """Refuse a file name whose extension is not one of runs, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(f'"{path.name}" has no known kind', f"name it {kinds}")


def write_runs(runs: list[Run], path: Path, broadcasts: Sequence[Broadcast] = ()) -> None:
    """Write runs to a ``.json`` file with samples, and broadcasts, or a ``.csv`` of runs without.

    Raises:
        InputError: another kind of file.
        StorageError: the disk would not take it.
    """
    require_runs_file(path)
    table = path.suffix.lower() == ".csv"
    write_text(path, runs_csv(runs) if table else runs_json(runs, broadcasts))


def export_runs(path: Path) -> int:
    """Write everything that is kept to a file.

    ``.json`` has the history whole, ``.csv`` runs without samples, ``.zip`` the history with
    guides, plans and footage.

    Returns:
        How many runs, broadcasts and other files.

    Raises:
        InputError: another kind of file.
        StorageError: the disk would not take it.
    """
    packed = path.suffix.lower() == ".zip"
    if not packed:
        require_runs_file(path, ".json, .csv or .zip")
    with History() as history:
        if path.suffix.lower() == ".csv":
            runs = history.runs()
            write_text(path, runs_csv(runs))
            return len(runs)
        pieces = kept_json(history.texts(RUNS), history.texts(BROADCASTS))
        if packed:
            return pack(pieces, path) + sum(history.counts())
        write_text(path, pieces)
        return sum(history.counts())


def import_runs(path: Path, dates: str | None = None) -> ImportResult:
    """Take what an export holds, or readings from a table of times and upload rates.

    What is there already stays as it is.

    Args:
        dates: how dates with slashes are meant: ``dd/mm`` or ``mm/dd``.

    Raises:
        InputError: ``dates`` is neither.
        FormatError: nothing in the file can be taken for what it is.
        StorageError: the file cannot be read or the history not written.
    """
    order = next((known for known in DATE_ORDERS if known == dates), None)
    if dates is not None and order is None:
        raise InputError(f'"{dates}" is not a date order', "write dd/mm or mm/dd")
    if path.suffix.lower() == ".zip":
        with unpacked(path) as folder:
            found = _added(folder / HISTORY, order)
            copied, differ = take_files(folder)
        return found.model_copy(update={"files": copied, "bad": (*found.bad, *differ)})
    return _added(path, order)


def _added(path: Path, order: DateOrder | None) -> ImportResult:
    read = read_runs(path, __version__, order)
    with History() as history:
        added = history.add_rows(read.runs)
        known = set(history.ids(BROADCASTS))
        fresh = [one for one in read.broadcasts if one[0] not in known]
        added += history.keep_rows(fresh) if fresh else 0
    known_rows = len(read.runs) + len(read.broadcasts) - added
    return ImportResult(added=added, known=known_rows, bad=tuple(read.bad))


def compare_runs(names: Sequence[str]) -> RunComparison:
    """Put runs side by side, in the order they are named.

    Raises:
        NotFoundError: a name matches none or several.
        InputError: there are fewer than two.
    """
    if len(names) < 2:
        raise InputError("one run cannot be compared", "name two or three")
    with History() as history:
        runs = tuple(document(history.find(name)) for name in names)
    uplinks = [run.summary.uplink for run in runs]
    floors = [(None, None) if u is None else (u.floor_low_kbps, u.floor_high_kbps) for u in uplinks]
    return RunComparison(runs=runs, text=words.apart(floors))


def runs_towards(runs: list[RunEvidence], endpoints: Sequence[str]) -> list[RunEvidence]:
    """The runs towards endpoints.

    Raises:
        NotFoundError: none went towards one of them; suggests one.
    """
    known = sorted({run.endpoint_name for run in runs if run.endpoint_name})
    for name in endpoints:
        if name not in known:
            raise NotFoundError(f"no run went to {name}", nearest_name(name, known, ""))
    return [run for run in runs if run.endpoint_name in endpoints]
