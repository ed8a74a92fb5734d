"""``plan``: settings for a platform, with reasons."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Codec,
    Figure,
    GuideFolder,
    Json,
    Motion,
    Platforms,
    Reserves,
    Share,
    Source,
    SourceRate,
    complete_show,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.errors import NoPlanError
    from eager_kestrel.core.line.uplink import Uplink
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.show.show import Show


def plan(
    show: Annotated[
        str | None,
        typer.Argument(
            metavar="[SHOW]",
            autocompletion=complete_show,
            help="A show file or a bundled show; options stand over it. Else ./show.toml.",
        ),
    ] = None,
    platforms: Platforms = None,
    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan from a number such as "12 Mbit/s", not from runs.'),
    ] = None,
    source: Source = None,
    fps: SourceRate = None,
    motion: Motion = None,
    audio: Annotated[
        str | None, typer.Option(metavar="KIND", help="voice or music; else music.")
    ] = None,
    share: Share = None,
    reserve: Reserves = None,
    viewers: Annotated[
        str | None, typer.Option(metavar="RATE", help="The slowest viewers' download.")
    ] = None,
    hours: Annotated[
        float | None,
        typer.Option(min=0.1, max=744, help="Hours you stream a month, to reckon data; else 20."),
    ] = None,
    copy_to: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Where a local copy would go: how long its disk lasts."),
    ] = None,
    around: Annotated[
        str | None, typer.Option(metavar="HH:MM", help="Plan from runs near this time of day.")
    ] = None,
    days: Annotated[
        int, typer.Option(min=1, max=3650, help="Plan from runs of this many days.")
    ] = 14,
    codec: Codec = None,
    guides: GuideFolder = None,
    why: Annotated[bool, typer.Option("--why", help="Give the reason for every figure.")] = False,
    sweep: Annotated[
        str | None,
        typer.Option(
            metavar="RANGE",
            help="See what is chosen over upload=1..40, share=50..80, motion, standing.",
        ),
    ] = None,
    figure: Figure = None,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write it: .json, .toml, .csv or .md.")
    ] = None,
    command: Annotated[
        str | None,
        typer.Option(metavar="FRAMEWORK", help="Print the command line of ffmpeg or gstreamer."),
    ] = None,
    json: Json = False,
) -> None:
    """Derive settings for your platforms from your line, and say what bound each."""
    import sys

    from eager_kestrel.actions.plan import (
        keep,
        plan_show,
        uplink_from_history,
        uplink_from_number,
    )
    from eager_kestrel.actions.shows import Wishes, asked_show
    from eager_kestrel.cli.screen import console, print_json, warn

    wishes = Wishes(
        platforms=tuple(platforms or ()), codec=codec, source=source, fps=fps, motion=motion,
        audio=audio, share=share, reserves=tuple(reserve or ()), viewers=viewers, hours=hours,
    )  # fmt: skip
    asked = asked_show(show, wishes)
    if asked.note is not None:
        warn(asked.note)
    if sweep is not None:
        from eager_kestrel.core.choice.sweep import parse_range

        if parse_range(sweep).over == "upload":
            upload = upload or "1 Mbit/s"  # a sweep of uploads needs no line of its own
    uplink = uplink_from_number(upload) if upload is not None else uplink_from_history(days, around)
    if sweep is not None:
        _sweep(sweep, asked.show, uplink, guides, figure, out, json=json)
        return
    planned = plan_show(asked.show, uplink, guides, copy_to)
    keep(planned.plan)
    _write(planned.plan, figure, out)
    for note in planned.notes:
        warn(note)
    if command is not None and planned.plan.feasible:
        from eager_kestrel.actions.export import command_for

        sys.stdout.write(command_for(planned.plan, command) + "\n")
    elif json:
        print_json(planned.plan.model_dump(mode="json"))
    else:
        from eager_kestrel.cli.plan_card import show_plan

        show_plan(console(), planned.plan, why=why)
    if planned.plan.total_kbps == 0:
        raise _no_plan(planned.plan)
    if not planned.plan.feasible:
        raise typer.Exit(1)


def _write(plan: Plan, figure: Path | None, out: Path | None) -> None:
    """Draw the budget and write the plan where asked."""
    if figure is not None:
        from eager_kestrel.report.budget_figure import save_budget_figure

        save_budget_figure(plan, figure)
    if out is not None:
        from eager_kestrel.actions.export import write_plan

        write_plan(plan, out)


def _no_plan(plan: Plan) -> NoPlanError:
    from eager_kestrel.core.errors import NoPlanError

    failed = next(d for d in plan.destinations if not d.feasible)
    return NoPlanError(
        f"no settings for {failed.title}: {failed.infeasible_because}",
        "free some upload, or choose another platform",
    )


def _sweep(
    written: str,
    show: Show,
    uplink: Uplink,
    guides: Path | None,
    figure: Path | None,
    out: Path | None,
    *,
    json: bool,
) -> None:
    """Show, draw and write a sweep."""
    from eager_kestrel.actions.whatif import swept, write_sweep
    from eager_kestrel.cli.screen import console, print_json

    found = swept(written, show, uplink, guides)
    if figure is not None:
        from eager_kestrel.report.sweep_figure import save_sweep_figure

        save_sweep_figure(found, figure)
    if out is not None:
        write_sweep(found, out)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        from eager_kestrel.cli.plan_card import show_sweep

        show_sweep(console(), found)


app = single("plan", plan)
