"""``measure``: what the connection carries, now or repeatedly."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Figure,
    GuideFolder,
    Json,
    PracticeName,
    Quiet,
    asker,
    complete_endpoint,
    complete_platform,
    grouped,
    single,
)

if TYPE_CHECKING:
    from collections.abc import Iterator
    from contextlib import ExitStack

    from eager_kestrel.actions.endpoints import Towards
    from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions
    from eager_kestrel.actions.ingests import IngestServerChoice
    from eager_kestrel.actions.measuring import MeasureOptions
    from eager_kestrel.actions.schedule import Evening, ScheduleOutcome
    from eager_kestrel.core.connection.run import Run


@dataclass(frozen=True, slots=True)
class WhereFlags:
    """Where to measure, and which way."""

    to: Annotated[
        str | None,
        typer.Option(
            metavar="PLATFORM",
            autocompletion=complete_platform,
            help="Towards a platform's own ingest, with a test picture: PLATFORM[:TIER].",
        ),
    ] = None
    point: Annotated[
        str | None,
        typer.Option(metavar="NAME", help="Which of its ingest points; else the first to answer."),
    ] = None
    most: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="Towards an ingest: never above it, nor its ceiling."),
    ] = None
    bind: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Leave from this local address (Wi-Fi or cable)."),
    ] = None
    ipv4: Annotated[bool, typer.Option("--ipv4", "-4", help="Only over IPv4.")] = False
    ipv6: Annotated[bool, typer.Option("--ipv6", "-6", help="Only over IPv6.")] = False
    direct: Annotated[
        bool, typer.Option("--direct", help="Pass over the proxy the environment names.")
    ] = False
    token: Annotated[
        bool, typer.Option("--token", help="Send the far end its token, from where keys are kept.")
    ] = False
    guides: GuideFolder = None


@dataclass(frozen=True, slots=True)
class HowFlags:
    """How to measure, and how often."""

    gently: Annotated[
        bool,
        typer.Option("--gently", help="Climb instead of flooding: half the data, no full queue."),
    ] = False
    connections: Annotated[
        int, typer.Option(min=1, max=64, help="Connections in the second load phase; 1 skips it.")
    ] = 4
    seconds: Annotated[
        str | None,
        typer.Option(metavar="TIME", help="The most a load phase may take; else 10 s."),
    ] = None
    data_limit: Annotated[
        str | None, typer.Option(metavar="SIZE", help='The most to send in all, such as "50 MB".')
    ] = None
    repeat: Annotated[int, typer.Option(min=1, max=1000, help="How many runs to take.")] = 1
    every: Annotated[
        str, typer.Option(metavar="TIME", help="From one run's beginning to the next.")
    ] = "10 min"
    until: Annotated[
        str | None,
        typer.Option(metavar="HH:MM", help="Go on measuring until this time of day."),
    ] = None
    estimate: Annotated[
        bool, typer.Option("--estimate", help="Count without the kernel's help, to compare.")
    ] = False


@grouped
def measure(
    url: Annotated[
        str | None,
        typer.Argument(
            metavar="[URL|NAME]",
            autocompletion=complete_endpoint,
            help="An http(s) address that takes uploads by POST, an ingest (rtmps://HOST/APP), or "
            "a place by name; left out, the last one used.",
        ),
    ] = None,
    practice: PracticeName = None,
    where: WhereFlags = WhereFlags(),
    how: HowFlags = HowFlags(),
    figure: Figure = None,
    out: Annotated[
        Path | None,
        typer.Option("--out", "-o", metavar="FILE", help="Write it: .json with samples, or .csv."),
    ] = None,
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    keep: Annotated[bool, typer.Option(help="Keep the run in the history.")] = True,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Measure what your upload carries on one connection, as a live stream feels it."""
    from contextlib import ExitStack

    from eager_kestrel.actions.endpoints import used
    from eager_kestrel.actions.runs import write_runs
    from eager_kestrel.actions.schedule import measure_repeatedly, pause_of, schedule_of, take
    from eager_kestrel.cli.terminal import progress

    _require_sense(url, practice, where, how)
    _require_files(figure, out)
    end, runs = schedule_of(how.until, how.repeat)
    pause = pause_of(how.every, runs)
    with ExitStack() as stack:
        towards = _towards(url, practice, where.to, stack)
        wish = _wish(towards, where, how, practice=practice is not None)
        if runs > 1:
            with progress(quiet=json) as tell:
                outcomes = list(told(measure_repeatedly(wish, runs, pause, tell, end), keep))
            code = several_runs(
                outcomes,
                None if end else runs,
                towards.platform,
                where.guides,
                json=json,
                samples=samples,
            )
            taken = [outcome.run for outcome in outcomes]
        else:
            with progress(quiet=json) as tell:
                run = take(wish, tell)
            code = one_run(run, keep, figure, json=json, samples=samples)
            taken = [run]
        if taken and practice is None:
            used(towards._replace(url=wish.url))
        if out is not None:
            write_runs(taken, out)
    raise typer.Exit(code)


def _require_sense(url: str | None, practice: str | None, where: WhereFlags, how: HowFlags) -> None:
    """Refuse options that exclude each other."""
    from eager_kestrel.core.errors import InputError

    if sum(given is not None for given in (url, practice, where.to)) > 1:
        raise InputError("one place is needed", "give a URL, --to PLATFORM, or --practice NAME")
    if sum((where.bind is not None, where.ipv4, where.ipv6)) > 1:
        raise InputError("--bind, --ipv4 and --ipv6 exclude each other", "give one of them")
    if how.gently and how.estimate:
        raise InputError("--gently goes by what the kernel counts", "leave out --estimate")


def _require_files(figure: Path | None, out: Path | None) -> None:
    """Refuse names of files that cannot be written, before anything is measured."""
    from eager_kestrel.actions.runs import require_runs_file
    from eager_kestrel.report.figures import require_kind

    if figure is not None:
        require_kind(figure)
    if out is not None:
        require_runs_file(out)


def _towards(
    url: str | None, practice: str | None, platform: str | None, stack: ExitStack
) -> Towards:
    """Where to: a simulated connection, while the stack stands, a place, or a platform."""
    from eager_kestrel.actions.endpoints import Towards, towards
    from eager_kestrel.actions.practice import simulated_connection, simulated_uplink

    if platform is not None:
        return Towards("", "", platform)
    if practice is None:
        return towards(url)
    return Towards(stack.enter_context(simulated_uplink(simulated_connection(practice))).url, "")


def _wish(
    towards: Towards, where: WhereFlags, how: HowFlags, *, practice: bool
) -> MeasureOptions | IngestMeasureOptions:
    """Everything that is asked for; the key of an ingest is asked for here."""
    from eager_kestrel.actions.ingests import ingest_at, ingest_of, is_ingest
    from eager_kestrel.actions.measuring import MeasureOptions, limits_of, token_for
    from eager_kestrel.core.errors import InputError

    if towards.platform:
        ingest = ingest_of(towards.platform, where.point, where.most, where.guides)
        return _ingest_wish(ingest, towards, where, how)
    if is_ingest(towards.url):
        ingest = ingest_at(towards.url, where.most, where.guides)
        return _ingest_wish(ingest, towards, where, how)
    if where.most is not None or where.point is not None:
        raise InputError("--most and --point go with an ingest", "give --to PLATFORM")
    limits = limits_of(how.seconds, how.data_limit, climbing=how.gently)
    leave_from = "0.0.0.0" if where.ipv4 else "::" if where.ipv6 else where.bind  # noqa: S104
    return MeasureOptions(
        towards.url,
        how.connections,
        limits,
        leave_from,
        how.estimate,
        where.direct,
        practice,
        towards.name,
        token_for(towards.url, asker()) if where.token else None,
        how.gently,
    )


def _ingest_wish(
    ingest: IngestServerChoice, towards: Towards, where: WhereFlags, how: HowFlags
) -> IngestMeasureOptions:
    from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions, key_of
    from eager_kestrel.actions.measuring import limits_of, token_for
    from eager_kestrel.cli.terminal import warn
    from eager_kestrel.core.errors import InputError

    if where.bind is not None or where.ipv4 or where.ipv6 or where.direct or how.estimate:
        raise InputError(
            "--bind, --ipv4, --ipv6, --direct and --estimate go with an http address",
            "leave them out towards an ingest",
        )
    limits = limits_of(how.seconds, how.data_limit, climbing=True)
    for line in ingest.said:
        warn(line)
    key = token_for(ingest.target.url, asker()) if where.token else key_of(ingest, asker())
    return IngestMeasureOptions(ingest, key, limits, towards.name)


app = single("measure", measure)


def _kept(run: Run) -> bool:
    """Keep a run; a disk that will not take it gets a line, and the run is still shown."""
    from eager_kestrel.actions.measuring import keep
    from eager_kestrel.cli.terminal import uninterrupted, warn
    from eager_kestrel.core.errors import StorageError

    try:
        with uninterrupted():
            keep(run)
    except StorageError as error:
        warn(f"the run could not be kept: {error.line()}")
        return False
    return True


def one_run(run: Run, keep: bool, figure: Path | None, *, json: bool, samples: bool) -> int:
    """Keep and show a run; returns the exit code."""
    from eager_kestrel.actions.runs import document, summary
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.terminal import console, print_json

    stored = _kept(run) if keep else True
    if json:
        print_json(document(run, samples=samples))
    else:
        show_run(console(), run, summary(run))
    ended = _told_how_it_ended(run)
    if figure is not None:
        from eager_kestrel.report.connection_figures import save_run_figure

        save_run_figure(run, figure)
    return ended or (0 if stored else 1)


def _told_how_it_ended(run: Run) -> int:
    """Say on standard error what cut a run short; returns the exit code that goes with it."""
    from eager_kestrel.cli.terminal import warn

    for phase in (run.one_connection, run.several_connections):
        if phase is not None and phase.ended == "failed":
            warn(f"{phase.ended_why}; what was learned before is marked partial")
            return 3
    if run.partial:
        warn("stopped; what was learned so far is marked partial")
        return 1
    return 0


def told(outcomes: Iterator[ScheduleOutcome], keep: bool) -> Iterator[ScheduleOutcome]:
    """Keep and tell of each run of a schedule as it ends, so that nothing waits for the last."""
    from eager_kestrel.actions.runs import summary
    from eager_kestrel.cli.terminal import rate, warn

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


def several_runs(
    outcomes: list[ScheduleOutcome],
    wanted: int | None,
    platform: str,
    guides: Path | None,
    *,
    json: bool,
    samples: bool,
) -> int:
    """The runs of a schedule together; 0 when all went well, 1 when some did, 3 when none."""
    from eager_kestrel.actions.runs import document
    from eager_kestrel.actions.schedule import learned
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.errors import NetworkError, StoppedError

    runs = [outcome.run for outcome in outcomes if not outcome.run.failed]
    errors = [outcome.error.line() for outcome in outcomes if outcome.error is not None]
    if not runs:
        if errors:
            raise NetworkError(f"none of {len(errors)} runs went through", errors[-1])
        raise StoppedError("stopped before anything was learned", "nothing was kept")
    evening = learned([outcome.run for outcome in outcomes], platform, guides)
    if json:
        print_json(
            {
                "format": format_name("runs"),
                "runs": [document(run, samples=samples) for run in runs],
                "uplink": evening.uplink.model_dump(mode="json"),
                "failed": errors,
                "quarters": [quarter.model_dump(mode="json") for quarter in evening.quarters],
                "safe_kbps": evening.budget.safe_kbps,
                "leads_to": list(evening.leads_to),
            }
        )
    else:
        _show_evening(evening, len(errors), len(outcomes))
    whole = len(runs) == (wanted or len(outcomes)) and not any(run.partial for run in runs)
    return 0 if whole else 1


def _show_evening(evening: Evening, failed: int, count: int) -> None:
    """By quarter of an hour, all together, and what that leads to."""
    from eager_kestrel.cli.run_card import show_quarters, show_uplink
    from eager_kestrel.cli.terminal import console
    from eager_kestrel.core.words import runs as words

    screen = console()
    if len(evening.quarters) > 1:
        show_quarters(screen, evening.quarters)
    show_uplink(screen, evening.uplink)
    if failed:
        screen.print(f"{failed} of {count} runs failed")
    bound = evening.budget
    screen.print(words.safe_to_send(bound.safe_kbps, bound.limited_by), markup=False)
    for line in evening.leads_to:
        screen.print(line, markup=False)
