"""``plan``: settings for a platform, with reasons."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Around,
    Codec,
    Days,
    Figure,
    FromEndpoints,
    GuideFolder,
    Json,
    Platforms,
    Quiet,
    ShowFlags,
    complete_show,
    grouped,
    single,
    with_unit,
)

if TYPE_CHECKING:
    from eager_kestrel.core.connection.uplink import Uplink
    from eager_kestrel.core.errors import NoPlanError
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.show.show import Show


@grouped
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
    wish: ShowFlags = ShowFlags(),
    hours: Annotated[
        float | None,
        typer.Option(min=0.1, max=744, help="Hours you stream a month, to reckon data; else 20."),
    ] = None,
    copy_to: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Where a local copy would go: how long its disk lasts."),
    ] = None,
    around: Around = None,
    from_: FromEndpoints = None,
    days: Days = 14,
    codec: Codec = None,
    guides: GuideFolder = None,
    why: Annotated[bool, typer.Option("--why", help="Give the reason for every figure.")] = False,
    sweep: Annotated[
        str | None,
        typer.Option(
            metavar="RANGE",
            help="See what is chosen over upload=1..40, share=50..80, motion, tier.",
        ),
    ] = None,
    compare: Annotated[
        str | None,
        typer.Option(metavar="RESOLUTIONS", help='Side by side: "1280x720@60, 1920x1080@30".'),
    ] = None,
    figure: Figure = None,
    out: Annotated[
        Path | None,
        typer.Option("--out", "-o", metavar="FILE", help="Write it: .json, .toml, .csv or .md."),
    ] = None,
    command: Annotated[
        str | None,
        typer.Option(metavar="FRAMEWORK", help="Print the command line of ffmpeg or gstreamer."),
    ] = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Derive settings for your platforms from your connection, and say what bound each."""
    from eager_kestrel.actions.planning import keep
    from eager_kestrel.actions.planning import plan as plan_show
    from eager_kestrel.actions.shows import asked_show
    from eager_kestrel.cli.terminal import warn

    asked = asked_show(show, wish.wishes(platforms, codec, hours))
    if asked.note is not None:
        warn(asked.note)
    if sweep is not None:
        from eager_kestrel.actions.what_if import needs_uplink

        swept = _line(asked.show, upload, days, around, from_) if needs_uplink(sweep) else None
        _sweep(sweep, asked.show, swept, guides, figure, out, json=json)
        return
    uplink = _line(asked.show, upload, days, around, from_)
    if compare is not None:
        _compare(compare, asked.show, uplink, guides, json=json)
        return
    planned = plan_show(asked.show, uplink, guides, copy_to)
    _write(planned.plan, figure, out)
    if planned.plan.total_kbps > 0:
        keep(planned.plan)
    for note in planned.notes:
        warn(note)
    _show(planned.plan, command, json=json, why=why)
    if planned.plan.total_kbps == 0:
        raise _no_plan(planned.plan)
    if not planned.plan.feasible:
        raise typer.Exit(1)


def _line(
    show: Show, upload: str | None, days: int, around: str | None, places: list[str] | None
) -> Uplink:
    """The uplink to plan with, and a word where hours call for one."""
    from eager_kestrel.actions.planning import uplink_for, uplink_from_number
    from eager_kestrel.cli.terminal import warn

    if upload is not None:
        return uplink_from_number(with_unit(upload))
    uplink, said = uplink_for(show, days, around, places or ())
    if said is not None:
        warn(said)
    return uplink


def _show(plan: Plan, command: str | None, *, json: bool, why: bool) -> None:
    """Print the plan as asked: as a command line, as JSON, or as a card."""
    from eager_kestrel.cli.terminal import console, print_json

    if json:
        print_json(plan.model_dump(mode="json"))
    elif command is not None and plan.total_kbps > 0:
        from eager_kestrel.actions.export import command_for

        sys.stdout.write(command_for(plan, command) + "\n")
    else:
        from eager_kestrel.cli.plan_card import show_plan

        show_plan(console(), plan, why=why)


def _write(plan: Plan, figure: Path | None, out: Path | None) -> None:
    """Draw the budget and write the plan where asked."""
    if figure is not None:
        from eager_kestrel.report.plan_figures import save_budget_figure

        save_budget_figure(plan, figure)
    if out is not None:
        from eager_kestrel.actions.export import write_plan

        write_plan(plan, out)


def _no_plan(plan: Plan) -> NoPlanError:
    from eager_kestrel.core.errors import NoPlanError

    failed = next(d for d in plan.destinations if not d.feasible)
    slow = failed.limited_by.get("bitrate") == "viewers"
    return NoPlanError(
        f"no settings for {failed.title}: {failed.infeasible_because}",
        "raise --viewers, or choose another platform"
        if slow
        else "free some upload, or choose another platform",
    )


def _compare(written: str, show: Show, uplink: Uplink, guides: Path | None, *, json: bool) -> None:
    """Show finalists side by side."""
    from eager_kestrel.actions.what_if import compare
    from eager_kestrel.cli.terminal import console, print_json

    found = compare(written, show, uplink, guides)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        from eager_kestrel.cli.plan_card import show_comparison

        show_comparison(console(), found)


def _sweep(
    written: str,
    show: Show,
    uplink: Uplink | None,
    guides: Path | None,
    figure: Path | None,
    out: Path | None,
    *,
    json: bool,
) -> None:
    """Show, draw and write a sweep."""
    from eager_kestrel.actions.what_if import sweep, write_sweep
    from eager_kestrel.cli.terminal import console, print_json

    found = sweep(written, show, uplink, guides)
    if figure is not None:
        from eager_kestrel.report.plan_figures import save_sweep_figure

        save_sweep_figure(found, figure)
    if out is not None:
        write_sweep(found, out)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        from eager_kestrel.cli.plan_card import show_sweep

        show_sweep(console(), found)


app = single("plan", plan)
