"""``plan``: settings for a platform, with reasons."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Annotated, ClassVar

import typer

from eager_kestrel.actions.planning import (
    keep_plan,
    plan as plan_show,
    uplink_for,
    uplink_from_number,
)
from eager_kestrel.actions.shows import asked_show
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.terminal import telling, warn
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import NoPlanError, StorageError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.show.show import Show

WRITTEN = (".json", ".toml", ".csv")
"""What a plan is written as, beside pages."""


@dataclass(frozen=True, slots=True)
class UploadFlags:
    """Which upload to plan with."""

    HEADING: ClassVar = "The upload"

    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan with a number such as "12 Mbit/s", not with runs.'),
    ] = None
    around: options.At = None
    endpoint: options.Endpoints = None
    days: options.Days = 14

    def uplink(self, show: Show) -> Uplink:
        """The upload to plan with, and a word on standard error if hours call for one."""
        if self.upload is not None:
            return uplink_from_number(options.with_unit(self.upload))
        uplink, said = uplink_for(show, self.days, self.around, self.endpoint or ())
        if said is not None:
            warn(said)
        return uplink


@dataclass(frozen=True, slots=True)
class WhatIfFlags:
    """Questions beside the plan itself."""

    HEADING: ClassVar = "What if"

    sweep: Annotated[
        str | None,
        typer.Option(
            metavar="RANGE",
            help="See what is chosen over upload=1..40, share=50..80, motion or tier.",
        ),
    ] = None
    compare: Annotated[
        str | None,
        typer.Option(metavar="SETTINGS", help='Side by side: "1280x720@60, 1920x1080@30".'),
    ] = None


@options.grouped
def plan(
    show: Annotated[
        str | None,
        typer.Argument(
            metavar="SHOW",
            autocompletion=options.complete_show,
            help="A show file or a bundled show; options override it. Default: ./show.toml.",
        ),
    ] = None,
    platforms: options.Platforms = None,
    why: Annotated[bool, typer.Option("--why", help="Add the reasons and the budget.")] = False,
    full: Annotated[
        bool, typer.Option("--full", help="Add every setting, and the reasons.")
    ] = False,
    command: Annotated[
        str | None,
        typer.Option(
            metavar="FRAMEWORK",
            autocompletion=options.among("ffmpeg", "gstreamer"),
            help="Print the command line of ffmpeg or gstreamer.",
        ),
    ] = None,
    _guides: options.GuideFolder = None,
    upload: UploadFlags = UploadFlags(),
    wish: options.ShowFlags = options.ShowFlags(),
    copy_to: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Where a local copy would go: how long its disk lasts."),
    ] = None,
    what_if: WhatIfFlags = WhatIfFlags(),
    output: options.DrawnFlags = options.DrawnFlags(),
) -> None:
    """Derive settings for your platforms from your upload, and say what limited each."""
    output.require(*WRITTEN)
    asked = asked_show(show, wish.options(platforms))
    if asked.note is not None:
        warn(asked.note)
    if what_if.sweep is not None:
        from eager_kestrel.actions.what_if import needs_uplink, sweep, write_sweep

        uplink = upload.uplink(asked.show) if needs_uplink(what_if.sweep) else None
        swept = sweep(what_if.sweep, asked.show, uplink)
        deliver(swept, output, writers={".csv": partial(write_sweep, swept)})
        return
    uplink = upload.uplink(asked.show)
    meant = _looked_at(asked.show, uplink, quiet=output.quiet)
    if what_if.compare is not None:
        from eager_kestrel.actions.what_if import compare_settings

        deliver(compare_settings(what_if.compare, meant, uplink), output)
        return
    planned = plan_show(meant, uplink, copy_to)
    made = planned.plan
    kept = made.total_kbps == 0 or kept_plan(made)
    for note in planned.notes:
        warn(note)
    if command is not None and made.total_kbps > 0 and not output.json:
        from eager_kestrel.actions.export import command_for

        sys.stdout.write(command_for(made, command) + "\n")
    else:

        def write(path: Path) -> None:
            from eager_kestrel.actions.export import write_plan

            write_plan(made, path)

        deliver(made, output, writers=dict.fromkeys(WRITTEN, write), why=why, full=full)
    if made.total_kbps == 0:
        raise _no_plan(made)
    if not (made.feasible and made.holds and kept):
        raise typer.Exit(1)


def _looked_at(show: Show, uplink: Uplink, *, quiet: bool) -> Show:
    """The show by what its clip teaches, where its footage is one."""
    if show.footage is None:
        return show
    from eager_kestrel.actions.trial import by_own_footage

    with telling(f"looking at {show.footage}", quiet=quiet, each=True) as tell:
        return by_own_footage(show, uplink, tell)


def kept_plan(plan: Plan) -> bool:
    """Keep it as the latest; a disk that will not take it gets a line, and the plan is shown."""
    try:
        keep_plan(plan)
    except StorageError as error:
        warn(
            f"the plan could not be kept, and latest is still the one before: {error.line()}",
            always=True,
        )
        return False
    return True


def _no_plan(plan: Plan) -> NoPlanError:
    failed = next(d for d in plan.destinations if not d.feasible)
    return NoPlanError(
        f"no settings for {failed.title}: {failed.infeasible_because}", failed.instead
    )


app = options.single("plan", plan)
