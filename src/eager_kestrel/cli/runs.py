"""``runs``: what was measured before."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions import runs as kept
from eager_kestrel.actions.what_if import hours as by_hour
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.terminal import console, warn
from eager_kestrel.core.errors import FormatError, InputError
from eager_kestrel.core.words.numbers import counted

app = options.group()

RunName = Annotated[
    str,
    typer.Argument(
        metavar="RUN",
        autocompletion=options.complete_run,
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
        autocompletion=options.complete_endpoint,
        help="Only those to this endpoint, by name or host, or to this platform.",
    ),
]


@app.command("list")
@options.grouped
def list_runs(
    last: Annotated[
        int | None, typer.Option(min=1, help="How many of the newest; default: 20.")
    ] = None,
    endpoint: EndpointOption = None,
    since: Annotated[
        str | None, typer.Option(metavar="DATE", help="Only those of this day and later.")
    ] = None,
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """List the newest runs and broadcasts, oldest first."""
    output.require()
    deliver(kept.list_runs(last, endpoint, since), output)


@app.command("show")
@options.grouped
def show(
    run: RunName = "latest",
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    output: options.DrawnFlags = options.DrawnFlags(),
) -> None:
    """Show one run, and draw it with --figure."""
    output.require()
    found = kept.find_run(run)
    whole = kept.document(found, samples=True)
    deliver(whole if samples else kept.document(found), output, drawn=whole)


@app.command("hours")
@options.grouped
def hours(
    show: Annotated[
        str | None,
        typer.Argument(
            metavar="SHOW",
            autocompletion=options.complete_show,
            help="A show: only runs on its days of the week, and what it would get.",
        ),
    ] = None,
    endpoint: options.Endpoints = None,
    platforms: options.Platforms = None,
    days: options.Days = 14,
    _guides: options.GuideFolder = None,
    output: options.DrawnFlags = options.DrawnFlags(),
) -> None:
    """Typical and floor by hour of the day, and what a platform would get."""
    output.require()
    deliver(by_hour(endpoint or (), platforms or (), days, show), output)


@app.command("compare")
@options.grouped
def compare(
    names: Annotated[
        list[str], typer.Argument(metavar="RUN RUN [RUN]...", autocompletion=options.complete_run)
    ],
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Put runs side by side, and say whether their floors can be told apart."""
    output.require()
    deliver(kept.compare_runs(names), output)


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
    if sum((bool(names), before is not None or endpoint is not None, everything)) != 1:
        raise InputError(
            "which runs to forget",
            "name them, or give --before DATE, --endpoint ENDPOINT or --all",
        )
    gone = kept.forget_runs(names or (), before=before, endpoint=endpoint, everything=everything)
    console().print(f"{gone:,} forgotten")


@app.command("export")
def export(
    file: Annotated[
        Path,
        typer.Argument(
            help=".json with samples, .csv without, or .zip: guides, plans and footage as well."
        ),
    ],
) -> None:
    """Write every kept run to a file, or all that is kept."""
    console().print(f"{kept.export_runs(file):,} written to {file}", markup=False, soft_wrap=True)


@app.command("import")
@options.grouped
def import_runs(
    file: Annotated[Path, typer.Argument(help="An export, or rows of time and upload rate.")],
    dates: Annotated[
        str | None, typer.Option(metavar="ORDER", help="How 03/11/2026 is meant: dd/mm or mm/dd.")
    ] = None,
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Import an export, or a CSV or JSON table of times and upload rates from elsewhere."""
    output.require()
    done = kept.import_runs(file, dates)
    deliver(done, output)
    for line in done.bad:
        warn(f"{file}: {line}", always=True)
    if done.bad:
        if done.added + done.known == 0:
            raise FormatError(f"none of {counted(len(done.bad), 'row')} could be read", "see above")
        raise typer.Exit(1)


@app.command("repair")
def repair() -> None:
    """Save every run of a damaged history that can still be read into a fresh one."""
    found = kept.repaired()
    screen = console()
    if found.kept_at is None:
        screen.print(f"Nothing is damaged: all {counted(found.saved, 'run')} can be read.")
        return
    rest = f"{counted(found.lost, 'row')} lost" if found.saved else "nothing in it can be read"
    screen.print(f"{counted(found.saved, 'run')} saved, {rest}.")
    screen.print(f"The damaged file is kept as {found.kept_at}", soft_wrap=True, markup=False)
