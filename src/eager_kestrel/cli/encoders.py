"""``encoders``: what this machine encodes in time."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.actions.encoders import EncoderOptions, measure_encoders
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import DrawnFlags, grouped, single
from eager_kestrel.cli.terminal import telling


@grouped
def encoders(
    resolution: Annotated[
        list[str] | None,
        typer.Option(
            metavar="WIDTHxHEIGHT",
            help="Which resolution; repeat for several. Default: the latest plan's, or 720p and "
            "1080p.",
        ),
    ] = None,
    fps: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="Frames per second; default: the plan's, or 60."),
    ] = None,
    codec: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME", help="Only h264, hevc or av1; repeat for several."),
    ] = None,
    preset: Annotated[
        str | None,
        typer.Option(
            metavar="NAME", help="Only this preset: does it keep up? The figures are not kept."
        ),
    ] = None,
    minutes: Annotated[
        float, typer.Option(min=0, max=60, help="Encode this long, to see whether it slows down.")
    ] = 0.0,
    output: DrawnFlags = DrawnFlags(),
) -> None:
    """Measure what this machine encodes in time; later plans use it."""
    output.require()
    options = EncoderOptions(tuple(resolution or ()), fps, tuple(codec or ()), preset, minutes)
    with telling("looking for encoders", quiet=output.quiet, each=True) as tell:
        found = measure_encoders(options, tell)
    deliver(found, output)


app = single("encoders", encoders)
