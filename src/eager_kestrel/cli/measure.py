"""``measure``: what the line carries, now or repeatedly."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, Json, PracticeName, complete_place, single

if TYPE_CHECKING:
    from collections.abc import Iterator
    from contextlib import ExitStack

    from eager_kestrel.actions.places import Towards
    from eager_kestrel.actions.schedule import Outcome
    from eager_kestrel.core.line.run import Run


def measure(
    url: Annotated[
        str | None,
        typer.Argument(
            metavar="[URL|PLACE]",
            autocompletion=complete_place,
            help="An http(s) address that takes uploads by POST, or a place by name; left out, "
            "the last one used.",
        ),
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
    repeat: Annotated[int, typer.Option(min=1, max=1000, help="How many runs to take.")] = 1,
    every: Annotated[
        str, typer.Option(metavar="TIME", help="From one run's beginning to the next.")
    ] = "10 min",
    until: Annotated[
        str | None,
        typer.Option(metavar="HH:MM", help="Go on measuring until this time of day."),
    ] = None,
    bind: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Leave from this local address (Wi-Fi or cable)."),
    ] = None,
    ipv4: Annotated[bool, typer.Option("--ipv4", "-4", help="Only over IPv4.")] = False,
    ipv6: Annotated[bool, typer.Option("--ipv6", "-6", help="Only over IPv6.")] = False,
    estimate: Annotated[
        bool, typer.Option("--estimate", help="Count without the kernel's help, to compare.")
    ] = False,
    direct: Annotated[
        bool, typer.Option("--direct", help="Pass over the proxy the environment names.")
    ] = False,
    gently: Annotated[
        bool,
        typer.Option("--gently", help="Climb instead of flooding: half the data, no full queue."),
    ] = False,
    figure: Figure = None,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write it: .json with samples, or .csv.")
    ] = None,
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    keep: Annotated[bool, typer.Option(help="Keep the run in the history.")] = True,
    json: Json = False,
) -> None:
    """Measure what your upload carries on one connection, as a live stream feels it."""
    from contextlib import ExitStack

    from eager_kestrel.actions.measuring import Wish, limits_of
    from eager_kestrel.actions.measuring import measure as take
    from eager_kestrel.actions.places import used
    from eager_kestrel.actions.runs import write_runs
    from eager_kestrel.actions.schedule import measure_repeatedly, pause_of, schedule_of
    from eager_kestrel.cli.screen import progress
    from eager_kestrel.core.errors import InputError

    if url is not None and practice is not None:
        raise InputError("one address is needed", "give a URL, or --practice NAME")
    if sum((bind is not None, ipv4, ipv6)) > 1:
        raise InputError("--bind, --ipv4 and --ipv6 exclude each other", "give one of them")
    _require_files(figure, out)
    limits = limits_of(seconds, data_limit)
    leave_from = "0.0.0.0" if ipv4 else "::" if ipv6 else bind  # noqa: S104 - to leave from
    end, runs = schedule_of(until, repeat)
    pause = pause_of(every, runs)
    with ExitStack() as stack:
        where = _towards(url, practice, stack)
        wish = Wish(
            where.url, connections, limits, leave_from, estimate, direct, practice is not None,
            where.place, gently,
        )  # fmt: skip
        if runs > 1:
            with progress(quiet=json) as tell:
                outcomes = list(_told(measure_repeatedly(wish, runs, pause, tell, end), keep))
            code = _several(outcomes, None if end else runs, json=json, samples=samples)
            taken = [outcome.run for outcome in outcomes]
        else:
            with progress(quiet=json) as tell:
                run = take(wish, tell)
            code = _one(run, keep, figure, json=json, samples=samples)
            taken = [run]
        if taken and practice is None:
            used(where)
        if out is not None:
            write_runs(taken, out)
    raise typer.Exit(code)


def _require_files(figure: Path | None, out: Path | None) -> None:
    """Refuse names of files that cannot be written, before anything is measured."""
    from eager_kestrel.actions.runs import require_runs_file
    from eager_kestrel.report.figures import require_kind

    if figure is not None:
        require_kind(figure)
    if out is not None:
        require_runs_file(out)


def _towards(url: str | None, practice: str | None, stack: ExitStack) -> Towards:
    """Where to: a simulated line, while the stack stands, or a place."""
    from eager_kestrel.actions.places import Towards, towards
    from eager_kestrel.actions.practice import practice_line, simulated_uplink

    if practice is None:
        return towards(url)
    return Towards(stack.enter_context(simulated_uplink(practice_line(practice))).url, "")


def _kept(run: Run) -> bool:
    """Keep a run; a disk that will not take it gets a line, and the run is still shown."""
    from eager_kestrel.actions.measuring import keep
    from eager_kestrel.cli.screen import uninterrupted, warn
    from eager_kestrel.core.errors import StorageError

    try:
        with uninterrupted():
            keep(run)
    except StorageError as error:
        warn(f"the run could not be kept: {error.line()}")
        return False
    return True


def _one(run: Run, keep: bool, figure: Path | None, *, json: bool, samples: bool) -> int:
    from eager_kestrel.actions.runs import document, summary
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.screen import console, print_json

    stored = _kept(run) if keep else True
    if json:
        print_json(document(run, samples=samples))
    else:
        show_run(console(), run, summary(run))
    ended = _told_how_it_ended(run)
    if figure is not None:
        from eager_kestrel.report.run_figure import save_run_figure

        save_run_figure(run, figure)
    return ended or (0 if stored else 1)


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


def _told(outcomes: Iterator[Outcome], keep: bool) -> Iterator[Outcome]:
    """Keep and tell of each run of a schedule as it ends, so that nothing waits for the last."""
    from eager_kestrel.actions.runs import summary
    from eager_kestrel.cli.screen import rate, warn

    for outcome in outcomes:
        uplink = summary(outcome.run).uplink
        if keep:
            _kept(outcome.run)
        if outcome.error is not None:
            warn(f"run {outcome.number} failed: {outcome.error.line()}")
        elif uplink is not None:
            typical, floor = rate(uplink.typical_kbps), rate(uplink.floor_kbps)
            warn(f"run {outcome.number}: typical {typical}, floor {floor}")
        yield outcome


def _several(outcomes: list[Outcome], wanted: int | None, *, json: bool, samples: bool) -> int:
    """The runs of a schedule together; 0 when all went well, 1 when some did, 3 when none."""
    from eager_kestrel.actions.runs import document, together
    from eager_kestrel.cli.run_card import show_uplink
    from eager_kestrel.cli.screen import console, print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.errors import NetworkError, StoppedError

    runs = [outcome.run for outcome in outcomes if not outcome.run.failed]
    errors = [outcome.error.line() for outcome in outcomes if outcome.error is not None]
    if not runs:
        if errors:
            raise NetworkError(f"none of {len(errors)} runs went through", errors[-1])
        raise StoppedError("stopped before anything was learned", "nothing was kept")
    uplink = together(runs)
    if json:
        documents = [document(run, samples=samples) for run in runs]
        print_json(
            {
                "format": format_name("runs"),
                "runs": documents,
                "uplink": uplink.model_dump(mode="json"),
                "failed": errors,
            }
        )
    else:
        show_uplink(console(), uplink)
        if errors:
            console().print(f"{len(errors)} of {len(outcomes)} runs failed")
    whole = len(runs) == (wanted or len(outcomes)) and not any(run.partial for run in runs)
    return 0 if whole else 1


app = single("measure", measure)
