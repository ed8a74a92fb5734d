"""``measure``: what the line carries, now or repeatedly."""

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
    complete_place,
    complete_platform,
    grouped,
    single,
)

if TYPE_CHECKING:
    from contextlib import ExitStack

    from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions
    from eager_kestrel.actions.ingests import IngestServerChoice
    from eager_kestrel.actions.measuring import MeasureOptions
    from eager_kestrel.actions.places import Towards


@dataclass(frozen=True, slots=True)
class WhereFlags:
    """Where to measure, and which way."""

    to: Annotated[
        str | None,
        typer.Option(
            metavar="PLATFORM",
            autocompletion=complete_platform,
            help="Towards a platform's own ingest, with a test picture: PLATFORM[:STANDING].",
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
            metavar="[URL|PLACE]",
            autocompletion=complete_place,
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

    from eager_kestrel.actions.places import used
    from eager_kestrel.actions.runs import write_runs
    from eager_kestrel.actions.schedule import measure_repeatedly, pause_of, schedule_of, take
    from eager_kestrel.cli.measured import one_run, several_runs, told
    from eager_kestrel.cli.screen import progress

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
                outcomes, None if end else runs, towards.platform, where.guides, json=json,
                samples=samples,
            )  # fmt: skip
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
    """Where to: a simulated line, while the stack stands, a place, or a platform."""
    from eager_kestrel.actions.places import Towards, towards
    from eager_kestrel.actions.practice import practice_line, simulated_uplink

    if platform is not None:
        return Towards("", "", platform)
    if practice is None:
        return towards(url)
    return Towards(stack.enter_context(simulated_uplink(practice_line(practice))).url, "")


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
        towards.url, how.connections, limits, leave_from, how.estimate, where.direct, practice,
        towards.place, token_for(towards.url, asker()) if where.token else None, how.gently,
    )  # fmt: skip


def _ingest_wish(
    ingest: IngestServerChoice, towards: Towards, where: WhereFlags, how: HowFlags
) -> IngestMeasureOptions:
    from eager_kestrel.actions.ingest_measuring import IngestMeasureOptions, key_of
    from eager_kestrel.actions.measuring import limits_of, token_for
    from eager_kestrel.cli.screen import warn
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
    return IngestMeasureOptions(ingest, key, limits, towards.place)


app = single("measure", measure)
