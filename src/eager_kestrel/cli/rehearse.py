"""``rehearse``: send a stand-in stream as planned and see whether it holds."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions import rehearsing
from eager_kestrel.actions.export import write_plan
from eager_kestrel.actions.rehearsing import (
    parts_at,
    rehearse_together,
    rehearse_together_in_practice,
)
from eager_kestrel.actions.reporting import keep_rehearsals
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import DrawnFlags, GuideFolder, asker, grouped, single
from eager_kestrel.cli.terminal import telling, warn
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.checks.rehearsal import Rehearsals
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.words import runs as words


@contextmanager
def live(*, quiet: bool) -> Iterator[Callable[[StreamSample], None]]:
    """Show how it goes; says nothing in a pipe."""
    with telling("connecting", quiet=quiet) as tell:

        def told(moment: StreamSample) -> None:
            sent = moment.carried_bytes * 8e-3 / max(moment.seconds, 0.1)
            tell(words.going(moment.seconds, sent, moment.waits, moment.behind))

        yield told


@grouped
def rehearse(
    plan: Annotated[
        str,
        typer.Argument(metavar="PLAN", help="A plan's JSON file, or settings."),
    ] = "latest",
    to: Annotated[
        list[str] | None,
        typer.Option(
            metavar="URL",
            help="The ingest server: rtmp://HOST/APP, without key; for several, repeat "
            "PLATFORM=rtmp://HOST/APP.",
        ),
    ] = None,
    practice: Annotated[
        str | None,
        typer.Option(
            metavar="CONNECTION",
            help='A simulated platform behind a simulated connection: "5 Mbit/s" or wet-evening.',
        ),
    ] = None,
    platform: Annotated[
        str | None, typer.Option("--for", metavar="PLATFORM", help="Which destination of the plan.")
    ] = None,
    seconds: Annotated[str, typer.Option(metavar="TIME", help="How long it has to hold.")] = "30 s",
    settle: Annotated[
        bool, typer.Option("--settle", help="Search for the highest bitrate that holds.")
    ] = False,
    unsent: Annotated[
        str, typer.Option(metavar="SIZE", help="Size of the system's send buffer.")
    ] = "64 KiB",
    _guides: GuideFolder = None,
    keep: Annotated[
        Path | None,
        typer.Option("--plan-out", metavar="FILE", help="Write the plan that held: .json, .toml."),
    ] = None,
    output: DrawnFlags = DrawnFlags(),
) -> None:
    """Send a stand-in stream exactly as planned and see whether it holds.

    All destinations of a plan are sent at once, unless --for names one.
    """
    output.require()
    if (not to) == (practice is None):
        raise InputError("no ingest server given", "pass --to URL or --practice CONNECTION")
    read = rehearsing.plan_or_settings(plan, platform)
    options = rehearsing.rehearse_options(seconds, unsent, settle=settle)
    several = (
        platform is None and sum(destination.feasible for destination in read.destinations) > 1
    )
    with live(quiet=output.json) as tell:
        if several:
            _require_all(read, to or [], options, output)
            found = _all(read, to or [], practice, options, tell)
        else:
            found = _one(read, platform, to or [], practice, options, tell)
    keep_rehearsals(found.rehearsals if found.together else [found.best])
    if keep is not None and found.settled is not None:
        write_plan(found.settled, keep)
        warn(f"wrote the plan that held to {keep}")
    deliver(found, output)
    raise typer.Exit(0 if found.held else 1)


def _one(
    plan: Plan,
    platform: str | None,
    to: list[str],
    practice: str | None,
    options: rehearsing.RehearseOptions,
    tell: Callable[[StreamSample], None],
) -> Rehearsals:
    """Rehearse one destination."""
    chosen = rehearsing.destination_of(plan, platform)
    if practice is not None:
        return rehearsing.rehearse_in_practice(plan, chosen, options, practice, tell)
    if len(to) > 1:
        raise InputError("one destination has one ingest server", "give --to once")
    name, equals, address = to[0].partition("=")
    url = address if equals and name == chosen.platform else to[0]
    return rehearsing.rehearse_at(plan, chosen, url, options, asker(), tell)


def _all(
    plan: Plan,
    to: list[str],
    practice: str | None,
    options: rehearsing.RehearseOptions,
    tell: Callable[[StreamSample], None],
) -> Rehearsals:
    """Rehearse every destination at once."""
    if practice is not None:
        return rehearse_together_in_practice(plan, options, practice, tell)
    return rehearse_together(plan, parts_at(plan, to, asker()), options, tell)


def _require_all(
    plan: Plan, to: list[str], options: rehearsing.RehearseOptions, output: DrawnFlags
) -> None:
    """Refuse what would leave destinations out."""
    names = [destination.platform for destination in plan.destinations if destination.feasible]
    one, several = f"choose one with --for {names[0]}", " and ".join(names)
    if options.settle:
        raise InputError(f"--settle is for one destination, and the plan has {several}", one)
    if output.figure is not None:
        raise InputError(f"a figure shows one destination, and the plan has {several}", one)
    if to and not any("=" in address for address in to):
        raise InputError(
            f"one address, and the plan has {several}",
            f"{one}, or give --to {names[0]}=rtmp://HOST/APP for each",
        )


app = single("rehearse", rehearse, secure=True)
