"""``runs``: what was measured before."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Days,
    Figure,
    FromEndpoints,
    GuideFolder,
    Json,
    Platforms,
    complete_endpoint,
    complete_run,
    group,
)

if TYPE_CHECKING:
    from rich.table import Table

    from eager_kestrel.core.connection.broadcast import BroadcastRow
    from eager_kestrel.core.connection.run import RunRow

app = group()

RunName = Annotated[
    str,
    typer.Argument(
        metavar="RUN",
        autocompletion=complete_run,
        help='Its id, the beginning of one, or "latest".',
    ),
]


@app.callback()
def runs() -> None:
    """What you measured before: list, show, compare, by hour, import, export, forget, repair."""


EndpointOption = Annotated[
    str | None,
    typer.Option(
        metavar="ENDPOINT",
        autocompletion=complete_endpoint,
        help="Only those to this endpoint, by name or host, or to this platform.",
    ),
]


@app.command("list")
def list_runs(
    last: Annotated[int | None, typer.Option(min=1, help="The newest so many; else 20.")] = None,
    endpoint: EndpointOption = None,
    since: Annotated[
        str | None, typer.Option(metavar="DATE", help="Only those of this day and later.")
    ] = None,
    json: Json = False,
) -> None:
    """List the newest runs and broadcasts, oldest of them first."""
    from dataclasses import asdict

    from eager_kestrel.actions.runs import listed
    from eager_kestrel.cli.terminal import console, print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.words.runs import kept_in_total

    found = listed(last, endpoint, since)
    if json:
        print_json(
            {
                "format": format_name("run-list"),
                "runs": [asdict(row) for row in found.runs],
                "broadcasts": [row.model_dump(mode="json") for row in found.broadcasts],
                "all_runs": found.all_runs,
                "all_broadcasts": found.all_broadcasts,
                "size_bytes": found.size_bytes,
            }
        )
        return
    screen = console()
    if not found.all_runs:
        screen.print("No run is kept yet: eager-kestrel measure URL")
    elif not found.runs:
        screen.print("None of the runs is of that kind.")
    else:
        screen.print(_table(found.runs))
    if found.broadcasts:
        screen.print(_broadcasts(found.broadcasts))
    shown = len(found.runs), len(found.broadcasts)
    if found.all_runs or found.all_broadcasts:
        every = found.all_runs, found.all_broadcasts
        screen.print(kept_in_total(shown, every, found.size_bytes), markup=False)


def _broadcasts(rows: Sequence[BroadcastRow]) -> Table:
    """Shows that were watched."""
    from rich.table import Table

    from eager_kestrel.cli.terminal import rate
    from eager_kestrel.core.words.numbers import lasting

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("broadcast", "aired", "for", "carried", "troubles", "to"):
        number = heading in ("for", "carried", "troubles")
        table.add_column(heading, justify="right" if number else "left", no_wrap=True)
    for row in rows:
        table.add_row(
            row.id,
            row.taken_at[:16].replace("T", " "),
            lasting(row.lasted_seconds),
            rate(row.typical_kbps),
            str(row.troubles),
            row.platform if row.kind == "measured" and row.platform else row.kind,
        )
    return table


def _table(rows: Sequence[RunRow]) -> Table:
    from rich.table import Table

    from eager_kestrel.cli.terminal import rate

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("run", "taken", "typical", "floor", "to"):
        number = heading in ("typical", "floor")
        table.add_column(
            heading, justify="right" if number else "left", no_wrap=heading != "to", overflow="fold"
        )
    for row in rows:
        table.add_row(
            row.id,
            row.taken_at[:16].replace("T", " "),
            "-" if row.typical_kbps is None else rate(row.typical_kbps),
            "-" if row.floor_kbps is None else rate(row.floor_kbps),
            f"{_whereto(row)}{_cut(row)}",
        )
    return table


def _cut(row: RunRow) -> str:
    """Whether it was cut short, or learned nothing at all."""
    if not row.partial:
        return ""
    return ", failed" if row.typical_kbps is None else ", cut short"


def _whereto(row: RunRow) -> str:
    """The host of a measured run, otherwise what kind of run it is."""
    from urllib.parse import urlsplit

    return urlsplit(row.endpoint).hostname or row.kind if row.kind == "measured" else row.kind


@app.command("show")
def show(
    run: RunName = "latest",
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    figure: Figure = None,
    json: Json = False,
) -> None:
    """Show one run, and draw it with --figure."""
    from eager_kestrel.actions.runs import document, find, summary
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.terminal import console, print_json

    found = find(run)
    if figure is not None:
        from eager_kestrel.report.connection_figures import save_run_figure

        save_run_figure(found, figure)
    if json:
        print_json(document(found, samples=samples))
    else:
        show_run(console(), found, summary(found))


@app.command("hours")
def hours(
    from_: FromEndpoints = None,
    platforms: Platforms = None,
    guides: GuideFolder = None,
    days: Days = 14,
    figure: Figure = None,
    json: Json = False,
) -> None:
    """Typical and floor by hour of day, and what a platform would get, as a table and a figure."""
    from eager_kestrel.actions.what_if import hours as by_hour
    from eager_kestrel.cli.run_card import show_hours
    from eager_kestrel.cli.terminal import console, print_json

    found = by_hour(from_ or (), platforms or (), guides, days)
    if figure is not None:
        from eager_kestrel.report.connection_figures import save_hours_figure

        save_hours_figure(found, figure)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_hours(console(), found)


@app.command("compare")
def compare(
    names: Annotated[
        list[str], typer.Argument(metavar="RUN RUN [RUN]...", autocompletion=complete_run)
    ],
    json: Json = False,
) -> None:
    """Put runs side by side, and say whether their floors can be told apart."""
    from eager_kestrel.actions.runs import compared, document
    from eager_kestrel.cli.run_card import show_compared
    from eager_kestrel.cli.terminal import console, print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.words.runs import apart

    found = compared(names)
    uplinks = [summary.uplink for _, summary in found]
    said = apart(
        [(None, None) if u is None else (u.floor_low_kbps, u.floor_high_kbps) for u in uplinks]
    )
    if json:
        runs = [document(run, samples=False) for run, _ in found]
        print_json({"format": format_name("run-comparison"), "runs": runs, "said": said})
    else:
        show_compared(console(), found)
        console().print(said, markup=False)


@app.command("forget")
def forget(
    names: Annotated[list[str] | None, typer.Argument(metavar="RUN...")] = None,
    before: Annotated[
        str | None, typer.Option(metavar="DATE", help="Those that began before this day.")
    ] = None,
    endpoint: EndpointOption = None,
    everything: Annotated[bool, typer.Option("--all", help="Forget all of them.")] = False,
) -> None:
    """Forget runs and broadcasts: by id, older than a day, to one endpoint, or all of them."""
    from eager_kestrel.actions.runs import forget as forget_runs
    from eager_kestrel.cli.terminal import console
    from eager_kestrel.core.errors import InputError

    if sum((bool(names), before is not None or endpoint is not None, everything)) != 1:
        raise InputError(
            "which runs to forget", "name them, or give --before DATE, --endpoint ENDPOINT or --all"
        )
    gone = forget_runs(names or (), before=before, endpoint=endpoint, everything=everything)
    console().print(f"{gone} forgotten")


@app.command("export")
def export(
    file: Annotated[Path, typer.Argument(help=".json with samples, or .csv without.")],
) -> None:
    """Write every kept run to a file."""
    from eager_kestrel.actions.runs import export as export_runs
    from eager_kestrel.cli.terminal import console

    console().print(f"{export_runs(file)} written to {file}")


@app.command("import")
def import_runs(
    file: Annotated[Path, typer.Argument(help="An export, or rows of time and upload rate.")],
    dates: Annotated[
        str | None, typer.Option(metavar="ORDER", help="How 03/11/2026 is meant: dd/mm or mm/dd.")
    ] = None,
    json: Json = False,
) -> None:
    """Take in an export, or a CSV or JSON table of times and upload rates from elsewhere."""
    from eager_kestrel.actions.runs import import_file
    from eager_kestrel.cli.terminal import console, print_json, warn
    from eager_kestrel.core.errors import FormatError

    done = import_file(file, dates)
    if json:
        print_json({"added": done.added, "known": done.known, "bad": list(done.bad)})
    else:
        known = f", {done.known} were already there" if done.known else ""
        console().print(f"{done.added} added{known}")
    for line in done.bad:
        warn(f"{file}: {line}")
    if done.bad:
        if done.added + done.known == 0:
            raise FormatError(f"none of {len(done.bad)} rows could be taken", "see above")
        raise typer.Exit(1)


@app.command("repair")
def repair() -> None:
    """Save every run of a damaged history that can still be read into a fresh one."""
    from eager_kestrel.actions.runs import repaired
    from eager_kestrel.cli.terminal import console

    found = repaired()
    screen = console()
    if found.kept_at is None:
        screen.print(f"Nothing is damaged: all {found.saved} runs can be read.")
        return
    rest = f"{found.lost} rows lost" if found.saved else "nothing in it can be read"
    screen.print(f"{found.saved} runs saved, {rest}.")
    screen.print(f"The damaged file is kept as {found.kept_at}", soft_wrap=True, markup=False)
