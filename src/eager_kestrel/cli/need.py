"""``need``: what upload would this picture take."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Codec,
    GuideFolder,
    Json,
    Motion,
    Reserves,
    Share,
    Source,
    SourceRate,
    complete_show_or_platform,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.choice.what_if import Need, Needs


def need(
    platforms: Annotated[
        list[str],
        typer.Argument(
            metavar="PLATFORM[:STANDING]|SHOW...",
            autocompletion=complete_show_or_platform,
            help="One platform or several, or a show file with its own.",
        ),
    ],
    picture: Annotated[
        str | None,
        typer.Option(metavar="WIDTHxHEIGHT", help="The picture you want; left out: a table."),
    ] = None,
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="At least this many frames a second.")
    ] = None,
    source: Source = None,
    source_fps: SourceRate = None,
    motion: Motion = None,
    share: Share = None,
    reserve: Reserves = None,
    codec: Codec = None,
    guides: GuideFolder = None,
    json: Json = False,
) -> None:
    """Say what upload a picture on a platform takes: the inverse of a plan."""
    from eager_kestrel.actions.shows import Wishes, asked_show, is_show
    from eager_kestrel.actions.what_if import need as needed
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.errors import InputError, NoPlanError
    from eager_kestrel.core.picture import Picture, parse_frame_rate

    shows = [name for name in platforms if is_show(name)]
    if len(shows) > 1:
        raise InputError(f"{len(shows)} shows are given", "give one at a time")
    wishes = Wishes(
        platforms=tuple(name for name in platforms if name not in shows), codec=codec,
        source=source, fps=source_fps, motion=motion, share=share, reserves=tuple(reserve or ()),
    )  # fmt: skip
    show = asked_show(shows[0] if shows else None, wishes).show
    wanted = [Picture.parse(picture)] if picture is not None else None
    rate = float(parse_frame_rate(fps)) if fps is not None else None
    found = needed(show, wanted, rate, guides)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        _show(found)
    if all(answer.upload_kbps is None and answer.forced is None for answer in found.needs):
        asked = " and ".join(platforms)
        raise NoPlanError(
            f"no upload makes {asked} take {picture or 'any picture'}{f' at {fps}' if fps else ''}",
            "ask for another, or see eager-kestrel guides show",
        )


def _show(found: Needs) -> None:
    from rich.table import Table

    from eager_kestrel.cli.screen import console, rate
    from eager_kestrel.core.picture import picture_at
    from eager_kestrel.core.units import Bitrate
    from eager_kestrel.core.words.plans import never_chosen

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("platform", "picture", "upload", "video", "quality"):
        number = heading in ("upload", "video", "quality")
        table.add_column(heading, justify="right" if number else "left", no_wrap=True)
    for answer in found.needs:
        where = f"{answer.platform}:{answer.standing}" if answer.standing else answer.platform
        if answer.upload_kbps is None or answer.gives is None:
            table.add_row(where, *_never(answer))
            continue
        given = answer.gives
        table.add_row(
            where,
            picture_at(given.picture, given.frame_rate),
            f"[bold]{rate(answer.upload_kbps)}[/]",
            Bitrate.from_kbps(given.bitrate_kbps).in_kbps(),
            f"{given.quality:.2f}",
        )
    console().print(table)
    for answer in found.needs:
        if len(found.needs) == 1 and answer.forced is not None and answer.better is not None:
            better = answer.better
            console().print(
                never_chosen(
                    better.picture, better.frame_rate, better.quality, answer.forced.quality
                )
            )


def _never(answer: Need) -> tuple[str, ...]:
    """What is said of a picture no plan chooses."""
    from eager_kestrel.cli.screen import rate
    from eager_kestrel.core.picture import picture_at
    from eager_kestrel.core.units import Bitrate

    forced = answer.forced
    if forced is None or answer.forced_upload_kbps is None:
        return (answer.picture, "[dim]not possible[/]", "-", "-")
    picture = f"[dim]{picture_at(forced.picture, forced.frame_rate)}, never chosen[/]"
    kbps = Bitrate.from_kbps(forced.bitrate_kbps).in_kbps()
    return (picture, rate(answer.forced_upload_kbps), kbps, f"{forced.quality:.2f}")


app = single("need", need)
