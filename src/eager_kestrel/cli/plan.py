"""``plan``: settings for a platform, with reasons."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Figure,
    GuideFolder,
    Json,
    Motion,
    Reserves,
    Share,
    complete_platform,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.show import Reserve, Show
    from eager_kestrel.core.uplink import Uplink


def plan(
    platform: Annotated[
        str,
        typer.Option(
            "--for",
            metavar="PLATFORM[:STANDING]",
            autocompletion=complete_platform,
            help="Where the stream goes, for example oxbow or oxbow:hearth.",
        ),
    ],
    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan from a number such as "12 Mbit/s", not from runs.'),
    ] = None,
    source: Annotated[
        str, typer.Option(metavar="WIDTHxHEIGHT", help="The picture your camera or screen gives.")
    ] = "1920x1080",
    fps: Annotated[
        str, typer.Option(metavar="RATE", help="Its frames a second, such as 60 or 29.97.")
    ] = "60",
    motion: Motion = "lively",
    share: Share = "70 %",
    reserve: Reserves = None,
    around: Annotated[
        str | None, typer.Option(metavar="HH:MM", help="Plan from runs near this time of day.")
    ] = None,
    days: Annotated[
        int, typer.Option(min=1, max=3650, help="Plan from runs of this many days.")
    ] = 14,
    codec: Annotated[
        str | None,
        typer.Option(metavar="NAME", help="h264, hevc or av1, if the guide does."),
    ] = None,
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
    """Derive settings for a platform from your line, and say what bound each of them."""
    import sys

    from eager_kestrel.actions.plan import (
        plan_show,
        uplink_from_history,
        uplink_from_number,
    )
    from eager_kestrel.cli.screen import console, print_json, warn
    from eager_kestrel.core.errors import InputError, NoPlanError

    show = show_of([platform], codec, source, fps, motion, share, reserve)
    if figure is not None and sweep is None:
        raise InputError(
            "only a sweep is drawn", "give --sweep upload=1..40, or leave --figure out"
        )
    if sweep is not None:
        from eager_kestrel.core.sweep import parse_range

        if parse_range(sweep).over == "upload":
            upload = upload or "1 Mbit/s"  # a sweep of uploads needs no line of its own
    uplink = uplink_from_number(upload) if upload is not None else uplink_from_history(days, around)
    if sweep is not None:
        _sweep(sweep, show, uplink, guides, figure, out, json=json)
        return
    planned = plan_show(show, uplink, guides)
    if out is not None:
        from eager_kestrel.actions.export import write_plan

        write_plan(planned.plan, out)
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
    if not planned.plan.feasible:
        failed = next(d for d in planned.plan.destinations if not d.feasible)
        raise NoPlanError(
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


def show_of(
    platforms: list[str],
    codec: str | None,
    source: str,
    fps: str,
    motion: str,
    share: str,
    reserves: list[str] | None,
) -> Show:
    """The show these options describe."""
    from eager_kestrel.actions.plan import destination
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.core.names import nearest_name
    from eager_kestrel.core.picture import Picture, parse_frame_rate
    from eager_kestrel.core.quality import MOTIONS
    from eager_kestrel.core.show import Show
    from eager_kestrel.core.units import parse_share

    known = next((name for name in MOTIONS if name == motion.lower()), None)
    if known is None:
        raise InputError(
            f'"{motion}" is not a kind of motion', nearest_name(motion, [*MOTIONS], "")
        )
    return Show(
        source=Picture.parse(source),
        frame_rate=parse_frame_rate(fps),
        motion=known,
        safe_share=parse_share(share),
        reserves=reserves_of(reserves),
        destinations=tuple(destination(platform, codec) for platform in platforms),
    )


def reserves_of(written: list[str] | None) -> tuple[Reserve, ...]:
    """Named reserves as written on the command line."""
    return tuple(_reserve(one) for one in written or [])


def _reserve(written: str) -> Reserve:
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.core.show import Reserve
    from eager_kestrel.core.units import Bitrate

    name, equals, rate = written.partition("=")
    if not equals or not name.strip():
        raise InputError(f'"{written}" is no reserve', 'write "video call=1.5 Mbit/s"')
    return Reserve(name=name.strip(), rate=Bitrate.parse(rate))


app = single("plan", plan)
