"""``need``: the upload that a resolution takes."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.actions.shows import ShowOptions, asked_show, is_show
from eager_kestrel.actions.what_if import need as needed
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.core.errors import InputError, NoPlanError
from eager_kestrel.core.resolution import Resolution, parse_frame_rate, with_frame_rate


@options.grouped
def need(
    platforms: Annotated[
        list[str],
        typer.Argument(
            metavar="PLATFORM[:TIER]|SHOW...",
            autocompletion=options.complete_show_or_platform,
            help="One platform or several, or a show file with its own.",
        ),
    ],
    resolution: Annotated[
        str | None,
        typer.Option(metavar="WIDTHxHEIGHT", help="The resolution you want; default: a table."),
    ] = None,
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="At least this many frames per second.")
    ] = None,
    source: options.Source = None,
    source_fps: options.SourceRate = None,
    motion: options.Motion = None,
    share: options.Share = None,
    reserve: options.Reserves = None,
    codec: options.Codec = None,
    _guides: options.GuideFolder = None,
    output: options.DrawnFlags = options.DrawnFlags(),
) -> None:
    """Say what upload a resolution on a platform needs: the inverse of a plan."""
    output.require()
    shows = [name for name in platforms if is_show(name)]
    if len(shows) > 1:
        raise InputError(f"{len(shows)} shows are given", "give one at a time")
    asked = ShowOptions(
        platforms=tuple(name for name in platforms if name not in shows),
        codec=codec,
        source=source,
        source_fps=source_fps,
        motion=motion,
        share=share,
        reserves=tuple(reserve or ()),
    )
    show = asked_show(shows[0] if shows else None, asked).show
    if resolution is not None and fps is None:
        resolution, fps = with_frame_rate(resolution)
    wanted = [Resolution.parse(resolution)] if resolution is not None else None
    rate = float(parse_frame_rate(fps)) if fps is not None else None
    found = needed(show, wanted, rate)
    possible = any(answer.possible for answer in found.needs)
    deliver(found, output)
    if not possible:
        what = f"{resolution or 'any resolution'}{f' at {fps}' if fps else ''}"
        raise NoPlanError(
            f"no upload makes {' and '.join(platforms)} take {what}",
            "ask for another, or see eager-kestrel guides show",
        )


app = options.single("need", need)
