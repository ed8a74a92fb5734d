"""``measure``: what the upload carries, now or repeatedly."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, Annotated, ClassVar

import typer

from eager_kestrel.actions import ingest_measuring, schedule
from eager_kestrel.actions.endpoints import Towards, goes_to_ingest, towards, used
from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions, key_of
from eager_kestrel.actions.measuring import MeasureOptions, keep_run, limits_of, token_for
from eager_kestrel.actions.practice import simulated_connection, simulated_uplink
from eager_kestrel.actions.runs import document, uplink_of_run, write_runs
from eager_kestrel.actions.shows import platforms_of
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import (
    DrawnFlags,
    GuideFolder,
    PracticeName,
    asker,
    complete_endpoint,
    complete_show_or_platform,
    grouped,
    single,
)
from eager_kestrel.cli.terminal import progress, rate, uninterrupted, warn
from eager_kestrel.core.connection.endpoints import Rankings
from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.errors import InputError, NetworkError, StorageError
from eager_kestrel.core.units import parse_seconds

if TYPE_CHECKING:
    from collections.abc import Iterator

TABLE = ".csv"


@dataclass(frozen=True, slots=True)
class WhereFlags:
    """Where to measure, and which way."""

    HEADING: ClassVar = "Where"

    to: Annotated[
        str | None,
        typer.Option(
            metavar="PLATFORM",
            autocompletion=complete_show_or_platform,
            help="To a platform's own ingest server, with a test image: PLATFORM[:TIER].",
        ),
    ] = None
    server: Annotated[
        str | None,
        typer.Option(
            metavar="NAME", help="Which of its ingest servers; default: the fastest to answer."
        ),
    ] = None
    max_rate: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="To an ingest server: never send more than this."),
    ] = None
    bind: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="Use this local address (Wi-Fi or cable)."),
    ] = None
    ipv4: Annotated[bool, typer.Option("--ipv4", "-4", help="Only over IPv4.")] = False
    ipv6: Annotated[bool, typer.Option("--ipv6", "-6", help="Only over IPv6.")] = False
    direct: Annotated[
        bool, typer.Option("--direct", help="Ignore the proxy the environment names.")
    ] = False
    token: Annotated[
        bool, typer.Option("--token", help="Send the endpoint its token, from where keys are kept.")
    ] = False
    rank: Annotated[
        bool,
        typer.Option(
            "--rank", help="Only rank the ingest servers of --to by how fast they answer."
        ),
    ] = False
    tries: Annotated[int, typer.Option(min=1, max=50, help="Of each server, with --rank.")] = 5


@dataclass(frozen=True, slots=True)
class HowFlags:
    """How to measure, and how often."""

    HEADING: ClassVar = "How"

    gently: Annotated[
        bool,
        typer.Option("--gently", help="Climb instead of flooding: half the data, no full queue."),
    ] = False
    connections: Annotated[
        int, typer.Option(min=1, max=64, help="Connections in the second load phase; 1 skips it.")
    ] = 4
    seconds: Annotated[
        str | None,
        typer.Option(
            metavar="TIME",
            help="How long to load one connection; default: until enough is known, at most "
            "10 s, and 30 s the first time.",
        ),
    ] = None
    data_limit: Annotated[
        str | None, typer.Option(metavar="SIZE", help='The most to send in total, such as "50 MB".')
    ] = None
    repeat: Annotated[int, typer.Option(min=1, max=1000, help="How many runs to take.")] = 1
    every: Annotated[
        str, typer.Option(metavar="TIME", help="From the start of one run to the next.")
    ] = "10 min"
    until: Annotated[
        str | None,
        typer.Option(metavar="HH:MM", help="Keep measuring until this time of day."),
    ] = None
    estimate: Annotated[
        bool, typer.Option("--estimate", help="Count without the help of the kernel, to compare.")
    ] = False


@grouped
def measure(
    url: Annotated[
        str | None,
        typer.Argument(
            metavar="URL|NAME",
            autocompletion=complete_endpoint,
            help="An http(s) address that takes uploads by POST, an ingest server "
            "(rtmps://HOST/APP), or a named endpoint; default: the last one used.",
        ),
    ] = None,
    practice: PracticeName = None,
    samples: Annotated[bool, typer.Option("--samples", help="With --json: all samples.")] = False,
    keep: Annotated[bool, typer.Option(help="Keep the run in the history.")] = True,
    _guides: GuideFolder = None,
    where: WhereFlags = WhereFlags(),
    how: HowFlags = HowFlags(),
    output: DrawnFlags = DrawnFlags(),
) -> None:
    """Measure what your upload carries on one connection, as a live stream uses it."""
    output.require(TABLE)
    if where.rank:
        _rank(where, practice, output)
        return
    _require_sense(url, practice, where, how)
    if where.to is not None and "://" in where.to:  # an address is one wherever it is written
        url, where = where.to, replace(where, to=None)
    end, runs = schedule.schedule_of(how.until, how.repeat)
    pause = schedule.pause_of(how.every, runs)
    with ExitStack() as stack:
        endpoint = _towards(url, practice, where.to, stack)
        options = _options(endpoint, where, how, practice=practice is not None)
        with progress(quiet=output.json) as tell:
            if end is not None:
                warn(schedule.announced(end, datetime.now().astimezone(), pause))
            if runs > 1:
                outcomes = list(
                    told(schedule.measure_repeatedly(options, runs, pause, tell, end), keep)
                )
            else:
                run = schedule.take(options, tell)
        if runs > 1:
            taken = [outcome.run for outcome in outcomes]
            found = schedule.learned(outcomes, endpoint.platform, samples=samples)
            wanted = len(outcomes) if end else runs
            whole = len(found.runs) == wanted and not any(one.partial for one in found.runs)
            code = 0 if whole else 1
            deliver(found, output, writers={".json": partial(write_runs, taken), **_csv(taken)})
        else:
            stored = _kept(run) if keep else True
            writers = {".json": partial(write_runs, [run]), **_csv([run])}
            sampled = document(run, samples=True)
            shown = sampled if samples else document(run)
            deliver(shown, output, writers=writers, drawn=sampled)
            code = _told_how_it_ended(run) or (0 if stored else 1)
        if practice is None:
            used(endpoint._replace(url=options.url))
    raise typer.Exit(code)


def _csv(runs: list[Run]) -> dict[str, partial[None]]:
    return {TABLE: partial(write_runs, runs)}


def _rank(where: WhereFlags, practice: str | None, output: DrawnFlags) -> None:
    """Rank ingest servers, and measure nothing."""
    if where.to is None:
        raise InputError("no platform given to rank", "pass --to PLATFORM, or --to SHOW")
    delays = [parse_seconds(part) * 1000 for part in practice.split(",")] if practice else None
    names = platforms_of(where.to)
    found = [
        ingest_measuring.nearest(name, where.tries)
        if delays is None
        else ingest_measuring.nearest_in_practice(name, delays, where.tries)
        for name in names
    ]
    deliver(Rankings(rankings=tuple(found)), output)
    for one in found:
        if all(point.answered == 0 for point in one.servers):
            raise NetworkError(
                f"none of the {len(one.servers)} ingest servers of {one.platform} answered",
                f"check the network ({one.servers[0].failure})",
            )


def _require_sense(url: str | None, practice: str | None, where: WhereFlags, how: HowFlags) -> None:
    """Refuse options that exclude each other."""
    if sum(given is not None for given in (url, practice, where.to)) > 1:
        raise InputError(
            "more than one endpoint given", "pass a URL, --to PLATFORM, or --practice CONNECTION"
        )
    if sum((where.bind is not None, where.ipv4, where.ipv6)) > 1:
        raise InputError("--bind, --ipv4 and --ipv6 exclude each other", "give one of them")
    if how.gently and how.estimate:
        raise InputError("--gently goes by what the kernel counts", "leave out --estimate")


def _towards(
    url: str | None, practice: str | None, platform: str | None, stack: ExitStack
) -> Towards:
    """The endpoint: a simulated connection, for as long as the stack lives, or a real one."""
    if platform is not None:
        return Towards("", "", platform)
    if practice is None:
        return towards(url)
    return Towards(stack.enter_context(simulated_uplink(simulated_connection(practice))).url, "")


def _options(
    endpoint: Towards, where: WhereFlags, how: HowFlags, *, practice: bool
) -> MeasureOptions | IngestMeasureOptions:
    """Everything that is asked for; the key of an ingest is asked for here."""
    if endpoint.platform:
        ingest = ingest_measuring.ingest_of(endpoint.platform, where.server, where.max_rate)
        return _ingest_options(ingest, endpoint, where, how)
    if goes_to_ingest(endpoint):
        ingest = ingest_measuring.ingest_at(endpoint.url, where.max_rate)
        return _ingest_options(ingest, endpoint, where, how)
    if where.max_rate is not None or where.server is not None:
        raise InputError("--max-rate and --server go with an ingest", "give --to PLATFORM")
    limits = limits_of(how.seconds, how.data_limit, climbing=how.gently)
    leave_from = "0.0.0.0" if where.ipv4 else "::" if where.ipv6 else where.bind  # noqa: S104
    return MeasureOptions(
        endpoint.url,
        how.connections,
        limits,
        leave_from,
        how.estimate,
        where.direct,
        practice,
        endpoint.name,
        token_for(endpoint.url, asker()) if where.token else None,
        None if how.seconds is None else limits.seconds,
        how.gently,
    )


def _ingest_options(
    ingest: ingest_measuring.IngestServerChoice, endpoint: Towards, where: WhereFlags, how: HowFlags
) -> IngestMeasureOptions:

    if where.bind is not None or where.ipv4 or where.ipv6 or where.direct or how.estimate:
        raise InputError(
            "--bind, --ipv4, --ipv6, --direct and --estimate go with an http address",
            "leave them out towards an ingest",
        )
    limits = limits_of(how.seconds, how.data_limit, climbing=True)
    for line in ingest.said:
        warn(line)
    key = token_for(ingest.target.url, asker()) if where.token else key_of(ingest, asker())
    return IngestMeasureOptions(ingest, key, limits, endpoint.name)


def _kept(run: Run) -> bool:
    """Keep a run; a disk that will not take it gets a line, and the run is still shown."""
    try:
        with uninterrupted():
            keep_run(run)
    except StorageError as error:
        warn(f"the run could not be kept: {error.line()}", always=True)
        return False
    return True


def _told_how_it_ended(run: Run) -> int:
    """Say on standard error what cut a run short; returns the exit code that goes with it."""
    for phase in (run.one_connection, run.sustained, run.several_connections):
        if phase is not None and phase.ended == "failed":
            warn(f"{phase.ended_text}; what was learned before is marked partial", always=True)
            return 3
    if run.partial:
        warn("stopped; what was learned so far is marked partial", always=True)
        return 1
    return 0


def told(
    outcomes: Iterator[schedule.ScheduleOutcome], keep: bool
) -> Iterator[schedule.ScheduleOutcome]:
    """Keep and tell of each run of a schedule as it ends, so that nothing waits for the last."""
    for outcome in outcomes:
        uplink = uplink_of_run(outcome.run)
        if keep:
            _kept(outcome.run)
        if outcome.error is not None:
            warn(f"run {outcome.number} failed: {outcome.error.line()}", always=True)
        elif uplink is not None:
            typical, floor = rate(uplink.typical_kbps), rate(uplink.floor_kbps)
            warn(f"run {outcome.number}: typical {typical}, floor {floor}")
        yield outcome


app = single("measure", measure, secure=True)
