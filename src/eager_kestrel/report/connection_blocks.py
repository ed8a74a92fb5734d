"""Runs, hours of the day, schedules and endpoints as blocks."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from eager_kestrel.core.units import DataSize
from eager_kestrel.core.words import runs as words
from eager_kestrel.core.words.numbers import counted, lasting
from eager_kestrel.report import blocks

if TYPE_CHECKING:
    from eager_kestrel.core.connection.endpoints import NamedEndpoints, Ranking, Rankings
    from eager_kestrel.core.connection.pooling import Schedule
    from eager_kestrel.core.connection.run import (
        PhaseSummary,
        Run,
        RunComparison,
        RunDocument,
        RunList,
        RunRow,
    )
    from eager_kestrel.core.connection.uplink import Hours, HourUplink, Uplink
    from eager_kestrel.core.results import ImportResult


def moment(taken_at: str) -> str:
    """``2026-11-02 20:14``."""
    return taken_at[:16].replace("T", " ")


def run_blocks(run: RunDocument) -> Iterator[blocks.Block]:
    """What a measurement found, the figures of one connection first."""
    found = run.summary
    if run.imported_kbps is not None:
        yield blocks.Note(
            f"{blocks.rate(run.imported_kbps)}, read elsewhere on {moment(run.taken_at)}"
        )
        return
    if found.one_connection is None or found.uplink is None:
        yield blocks.Note(run.failed or words.TOO_LITTLE, "bad")
        return
    one, several, idle, loaded = (
        found.one_connection,
        found.several_connections,
        found.idle,
        found.loaded,
    )
    rows: list[tuple[blocks.Cell, ...]] = [
        *_uplink_rows(found.uplink, one, _typical(run)),
        ("spread", f"{one.spread:.0%}", _windows(run, one)),
    ]
    if several is not None and run.several_connections is not None:
        name = f"{run.several_connections.connections} connections"
        rows.append(
            (name, blocks.rate(several.typical_kbps), f"floor {blocks.rate(several.floor_kbps)}")
        )
    if idle is not None:
        full = f"; {loaded.median_ms:.0f} ms while the upload is full" if loaded else ""
        said = f"jitter {idle.jitter_ms:.1f} ms{full}"
        rows.append(("round trip", f"{idle.median_ms:.0f} ms", said))
    rows.append(("data used", str(DataSize(run.data_used_bytes)), f"counted by {run.counted_by}"))
    where = f"{run.endpoint.name}, {run.endpoint.url}" if run.endpoint.name else run.endpoint.url
    cut = " (cut short)" if run.partial else ""
    yield blocks.Rows(tuple(rows), title=f"One connection to {where}, {moment(run.taken_at)}{cut}")
    for line in found.verdicts:
        yield blocks.Note(line, mark="!")
    for line in (*found.remarks, *run.notes):
        yield blocks.Note(line)


def _uplink_rows(
    uplink: Uplink, figures: PhaseSummary | Uplink, typical: str, floor: str = f"{words.FLOOR}; "
) -> list[tuple[blocks.Cell, ...]]:
    low, high = uplink.floor_low_kbps, uplink.floor_high_kbps
    between = (
        f"between {blocks.rate(low)} and {blocks.rate(high)}" if low is not None and high else ""
    )
    return [
        ("typical", blocks.Styled(blocks.rate(figures.typical_kbps), "strong"), typical),
        (
            "floor",
            blocks.Styled(blocks.rate(figures.floor_kbps), "strong"),
            (floor + between).removesuffix("; "),
        ),
    ]


def _typical(run: Run) -> str:
    """How typical was taken."""
    phase = run.one_connection
    if phase is None or phase.method == "flooding":
        return words.WINDOWS
    return words.STRETCHES if phase.max_kbps is None else words.HELD


def _windows(run: Run, figures: PhaseSummary) -> str:
    phase = run.one_connection
    if phase is not None and phase.method == "climbing":
        return words.stretches(figures.windows, figures.steady_seconds, figures.ramp_seconds)
    return words.windows(figures.windows, figures.steady_seconds, figures.ramp_seconds)


def run_list_blocks(found: RunList) -> Iterator[blocks.Block]:
    """The newest runs and broadcasts, and how much is kept."""
    if not found.all_runs:
        yield blocks.Note("No run is kept yet: eager-kestrel measure")
    elif not found.runs:
        yield blocks.Note("No run matches.")
    else:
        rows = tuple(
            (
                r.id,
                moment(r.taken_at),
                blocks.rate(r.typical_kbps),
                blocks.rate(r.floor_kbps),
                _whereto(r),
            )
            for r in found.runs
        )
        yield blocks.Table(("run", "taken", ">typical", ">floor", "to"), rows)
    if found.broadcasts:
        aired = tuple(
            (
                b.id,
                moment(b.taken_at),
                lasting(b.lasted_seconds),
                blocks.rate(b.typical_kbps),
                str(b.troubles),
                b.platform if b.kind == "measured" and b.platform else b.kind,
            )
            for b in found.broadcasts
        )
        yield blocks.Table(("broadcast", "begun", ">for", ">carried", ">troubles", "to"), aired)
    if found.all_runs or found.all_broadcasts:
        shown = len(found.runs), len(found.broadcasts)
        every = found.all_runs, found.all_broadcasts
        yield blocks.Note(words.kept_in_total(shown, every, found.size_bytes))


def _whereto(row: RunRow) -> str:
    """The host of a measured run, or what kind of run it is; and whether it was cut short."""
    to = urlsplit(row.endpoint).hostname or row.kind if row.kind == "measured" else row.kind
    if not row.partial:
        return to
    return f"{to}, {'failed' if row.typical_kbps is None else 'cut short'}"


def comparison_blocks(found: RunComparison) -> Iterator[blocks.Block]:
    """Runs in columns, and whether their floors can be told apart."""
    runs = found.runs

    def of_one(read: Callable[[PhaseSummary], str]) -> list[str]:
        return [
            "-" if r.summary.one_connection is None else read(r.summary.one_connection)
            for r in runs
        ]

    def between(uplink: Uplink | None) -> str:
        if uplink is None or uplink.floor_low_kbps is None or uplink.floor_high_kbps is None:
            return "-"
        return f"{blocks.rate(uplink.floor_low_kbps)} to {blocks.rate(uplink.floor_high_kbps)}"

    summaries = [r.summary for r in runs]
    idle = [s.idle for s in summaries]
    loaded = [s.loaded for s in summaries]
    several = [
        s.several_connections.typical_kbps if s.several_connections else None for s in summaries
    ]
    typical = [
        r.summary.one_connection.typical_kbps if r.summary.one_connection else r.imported_kbps
        for r in runs
    ]
    rows = {
        "taken": [moment(r.taken_at) for r in runs],
        "to": [r.endpoint_name or r.kind for r in runs],
        "typical": [blocks.rate(kbps) for kbps in typical],
        "floor": of_one(lambda one: blocks.rate(one.floor_kbps)),
        "floor, 95 % within": [between(s.uplink) for s in summaries],
        "spread": of_one(lambda one: f"{one.spread:.0%}"),
        "stalled": of_one(lambda one: f"{one.stalled_share:.0%}"),
        "several connections": [blocks.rate(kbps) for kbps in several],
        "idle round trip": ["-" if t is None else f"{t.median_ms:.0f} ms" for t in idle],
        "under load": ["-" if t is None else f"{t.median_ms:.0f} ms" for t in loaded],
    }
    headings = ("", *(f">{run.id}" for run in runs))
    yield blocks.Table(
        headings, tuple((blocks.Styled(name, "dim"), *cells) for name, cells in rows.items())
    )
    yield blocks.Note(found.text)


def import_blocks(found: ImportResult) -> Iterator[blocks.Block]:
    """How many were added."""
    known = f", {found.known:,} were already there" if found.known else ""
    files = f"; {counted(found.files, 'other file')}" if found.files else ""
    yield blocks.Note(f"{found.added:,} added{known}{files}")


def hours_blocks(found: Hours) -> Iterator[blocks.Block]:
    """Typical and floor by hour of the day, and what platforms would get."""
    platforms = [one.platform for one in next((h.gets for h in found.hours if h.gets), ())]
    yield from _times(
        "hour",
        [(f"{h.hour:02d}:00", h.typical_kbps, h.floor_kbps, _counts(h)) for h in found.hours],
        platforms,
        [[one.settings for one in hour.gets] for hour in found.hours],
    )
    if found.text:
        yield blocks.Note(found.text)


def _times(
    heading: str,
    times: list[tuple[str, float | None, float | None, str]],
    more: Sequence[str] = (),
    cells: Sequence[Sequence[str]] = (),
) -> Iterator[blocks.Block]:
    """A row for each time, with a bar, or with more columns in place of it."""
    highest = max((typical or 0.0 for _, typical, _, _ in times), default=0.0) or 1.0
    rows: list[tuple[blocks.Cell, ...]] = []
    for number, (name, typical, floor, said) in enumerate(times):
        bar = blocks.Bar((floor or 0.0) / highest, (typical or 0.0) / highest)
        between: Sequence[blocks.Cell] = cells[number] if more else (bar,)
        rows.append((name, blocks.rate(typical), blocks.rate(floor), *between, said))
    yield blocks.Table((heading, ">typical", ">floor", *(more or ("",)), "from"), tuple(rows))
    if not more:
        yield blocks.Note("█ up to the floor   ░ up to typical", "dim")


def _counts(hour: HourUplink) -> str:
    """``3 runs, 1 failed``."""
    many = hour.runs if hour.measured else hour.readings
    said = [counted(many, "run" if hour.measured else "reading")] if many else []
    if many and not hour.measured:
        said.append("floor assumed")
    return ", ".join([*said, *([f"{hour.failed} failed"] if hour.failed else [])])


def schedule_blocks(found: Schedule) -> Iterator[blocks.Block]:
    """By quarter of an hour, all together, and what that leads to."""
    if len(found.quarters) > 1:
        yield from _times(
            "quarter",
            [
                (
                    q.begins[11:],
                    q.typical_kbps,
                    q.floor_kbps,
                    ", ".join(
                        [
                            *([counted(q.runs, "run")] if q.runs else []),
                            *([f"{q.failed} failed"] if q.failed else []),
                        ]
                    ),
                )
                for q in found.quarters
            ],
        )
    uplink = found.uplink
    spread: tuple[blocks.Cell, ...] = ("spread", f"{uplink.spread:.0%}", "")
    yield blocks.Rows((*_uplink_rows(uplink, uplink, uplink.text, ""), spread), title="All runs")
    if found.failed:
        yield blocks.Note(
            f"{len(found.failed)} of {len(found.failed) + len(found.runs)} runs failed"
        )
    yield blocks.Note(words.safe_to_send(found.safe_kbps, found.limited_by))
    for line in found.leads_to:
        yield blocks.Note(line)


def ranking_blocks(found: Rankings) -> Iterator[blocks.Block]:
    """The ingest servers of each platform, the fastest first."""
    for one in found.rankings:
        if len(found.rankings) > 1:
            yield blocks.Heading(one.platform)
        yield _ranking(one)


def _ranking(found: Ranking) -> blocks.Table:
    rows: list[tuple[blocks.Cell, ...]] = []
    for number, point in enumerate(found.servers):
        if point.median_ms is None:
            gone = blocks.Styled(f"{point.url}: {point.failure or 'no answer'}", "bad")
            rows.append((point.name, "-", "-", "100%", "-", gone))
            continue
        rows.append(
            (
                blocks.Styled(point.name, "good" if number == 0 else ""),
                f"{point.median_ms:.0f} ms",
                f"{point.jitter_ms:.1f} ms" if point.jitter_ms is not None else "-",
                f"{point.lost_share:.0%}",
                f"{point.connect_ms:.0f} ms" if point.connect_ms is not None else "-",
                point.url,
            )
        )
    headings = ("ingest server", ">answer", ">jitter", ">lost", ">connect", "address")
    return blocks.Table(headings, tuple(rows))


def endpoints_blocks(found: NamedEndpoints) -> Iterator[blocks.Block]:
    """Named endpoints, and which was used last."""
    if not found.endpoints:
        yield blocks.Note("No endpoint has a name yet: eager-kestrel endpoints add NAME URL")
        return
    rows = tuple(
        (
            blocks.Styled(one.name, "strong"),
            one.url,
            blocks.Styled("used last" if found.last in (one.name, one.url) else "", "dim"),
        )
        for one in found.endpoints
    )
    yield blocks.Table(("endpoint", "address", ""), rows)
