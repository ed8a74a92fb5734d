"""``measure``: what the line carries, now."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Json, PracticeName

if TYPE_CHECKING:
    from eager_kestrel.core.run import Run


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("measure", rich_help_panel="Measure")(measure)


def measure(
    url: Annotated[
        str | None,
        typer.Argument(metavar="[URL]", help="An http(s) address that takes uploads by POST."),
    ] = None,
    practice: PracticeName = None,
    connections: Annotated[
        int, typer.Option(min=1, max=64, help="Connections in the second load phase; 1 skips it.")
    ] = 4,
    seconds: Annotated[
        str, typer.Option(metavar="TIME", help="The most one load phase may take.")
    ] = "10 s",
    data_limit: Annotated[
        str | None, typer.Option(metavar="SIZE", help='The most to send in all, such as "50 MB".')
    ] = None,
    bind: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Leave from this local address (Wi-Fi or cable)."),
    ] = None,
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    keep: Annotated[bool, typer.Option(help="Keep the run in the history.")] = True,
    json: Json = False,
) -> None:
    """Measure what your upload carries on one connection, as a live stream would feel it."""
    from contextlib import ExitStack

    from eager_kestrel.actions.measure import Wish
    from eager_kestrel.actions.measure import keep as keep_run
    from eager_kestrel.actions.measure import measure as take
    from eager_kestrel.actions.practice import practice_line, simulated_uplink
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.screen import console, print_json, progress, warn
    from eager_kestrel.core.enough import Limits
    from eager_kestrel.core.errors import InputError, StorageError, UnitError
    from eager_kestrel.core.summary import run_document
    from eager_kestrel.core.units import DataSize, parse_seconds

    if (url is None) == (practice is None):
        raise InputError("one address is needed", "give a URL, or --practice NAME")
    at_most = parse_seconds(seconds)
    if not 2 <= at_most <= 600:
        raise UnitError(f"{at_most:g} s is not a time to measure for", "write 2 s to 600 s")
    limits = Limits(at_most, DataSize.parse(data_limit).bytes if data_limit else None)
    with ExitStack() as stack:
        if practice is not None:
            url = stack.enter_context(simulated_uplink(practice_line(practice))).url
        wish = Wish(url or "", connections, limits, bind, practice=practice is not None)
        with progress(quiet=json) as tell:
            run = take(wish, tell)
    code = 0
    if keep:
        try:
            keep_run(run)
        except StorageError as error:
            warn(f"the run could not be kept: {error.line()}")
            code = 1
    if json:
        print_json(run_document(run, samples=samples))
    else:
        show_run(console(), run)
    raise typer.Exit(_told_how_it_ended(run) or code)


def _told_how_it_ended(run: Run) -> int:
    """Say on standard error what cut a run short; returns the exit code that goes with it."""
    from eager_kestrel.cli.screen import warn

    for phase in (run.one_connection, run.several_connections):
        if phase is not None and phase.ended == "failed":
            warn(f"{phase.ended_why}; what was learned before is marked partial")
            return 3
    if run.partial:
        warn("stopped; what was learned so far is marked partial")
        return 1
    return 0
