"""``encoders``: what this machine encodes in time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, Json, Quiet, single

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.core.show.machine import MeasuredMachine


def encoders(
    resolution: Annotated[
        list[str] | None,
        typer.Option(
            metavar="WIDTHxHEIGHT",
            help="Which resolution; several times for several. Else the latest plan's, or 720 and "
            "1080 lines.",
        ),
    ] = None,
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="Frames a second; else the plan's, or 60.")
    ] = None,
    codec: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME", help="Only h264, hevc or av1; several times for several."),
    ] = None,
    minutes: Annotated[
        float, typer.Option(min=0, max=60, help="Go on so long, to see whether it slows down.")
    ] = 0.0,
    figure: Figure = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Measure what this machine encodes in time; plans go by it from then on."""
    from eager_kestrel.actions.encoders import EncoderOptions, measure_encoders
    from eager_kestrel.cli.terminal import console, print_json, telling

    if figure is not None:
        require_figure(figure)
    wish = EncoderOptions(tuple(resolution or ()), fps, tuple(codec or ()), minutes)
    with telling("looking for encoders", quiet=json) as tell:
        found = measure_encoders(wish, tell)
    if figure is not None:
        from eager_kestrel.report.plan_figures import save_encoders_figure

        save_encoders_figure(found, figure)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_encoders(console(), found)


def require_figure(figure: Path) -> None:
    """Refuse a name that is no resolution's before a long measurement."""
    from eager_kestrel.report.figures import require_kind

    require_kind(figure)


def show_encoders(screen: Console, found: MeasuredMachine) -> None:
    """A row a preset, then what it means."""
    from rich.table import Table
    from rich.text import Text

    from eager_kestrel.actions.encoders import meanings
    from eager_kestrel.cli.terminal import remark

    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for heading in ("encoder", "resolution", "frames a second", "of this machine", ""):
        number = heading in ("frames a second", "of this machine")
        table.add_column(heading, justify="right" if number else "left", no_wrap=True)
    for point in found.points:
        verdict = Text("holds", "green") if point.holds else Text("too slow", "red")
        at = f"{point.resolution} at {float(point.wanted):g}"
        table.add_row(point.name, at, f"{int(point.fps)}", f"{point.cores_share:.0%}", verdict)
    screen.print(f"[bold]{found.name}[/], {found.cores} cores, {found.processor}", highlight=False)
    screen.print(table)
    for line in meanings(found):
        remark(screen, line)


app = single("encoders", encoders)
