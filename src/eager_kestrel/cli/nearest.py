"""``nearest``: which of a platform's ingest points answers fastest."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import GuideFolder, Json, complete_show_or_platform, single

if TYPE_CHECKING:
    from eager_kestrel.core.connection.endpoints import Ranking


def nearest(
    platform: Annotated[
        str,
        typer.Argument(
            metavar="PLATFORM|SHOW",
            autocompletion=complete_show_or_platform,
            help="Whose ingest points to try; a show's platforms one after another.",
        ),
    ],
    tries: Annotated[int, typer.Option(min=1, max=50, help="Of each ingest point.")] = 5,
    practice: Annotated[
        str | None,
        typer.Option(
            metavar="DELAYS", help='Try stand-ins on this machine instead: "18 ms, 41 ms, 73 ms".'
        ),
    ] = None,
    guides: GuideFolder = None,
    json: Json = False,
) -> None:
    """Rank a platform's ingest points by how fast they answer from here."""
    from eager_kestrel.actions.ingests import nearest as rank
    from eager_kestrel.actions.ingests import nearest_in_practice
    from eager_kestrel.actions.shows import platforms_of
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.errors import NetworkError
    from eager_kestrel.core.units import parse_seconds

    names = platforms_of(platform)
    delays = [parse_seconds(part) * 1000 for part in practice.split(",")] if practice else []
    found = [
        nearest_in_practice(name, delays, tries, guides)
        if practice is not None
        else rank(name, tries, guides=guides)
        for name in names
    ]
    if json:
        documents = [one.model_dump(mode="json") for one in found]
        several = {"format": format_name("rankings"), "rankings": documents}
        print_json(documents[0] if len(documents) == 1 else several)
    else:
        for one in found:
            _show(one, named=len(found) > 1)
    for one in found:
        if all(point.answered == 0 for point in one.points):
            raise NetworkError(
                f"none of the {len(one.points)} ingest points of {one.platform} answered",
                f"check the network ({one.points[0].failure})",
            )


def _show(found: Ranking, *, named: bool) -> None:
    from rich.table import Table
    from rich.text import Text

    from eager_kestrel.cli.terminal import console

    table = Table(box=None, padding=(0, 1), header_style="dim")
    table.add_column(f"{found.platform} point" if named else "ingest point", no_wrap=True)
    for heading in ("answer", "jitter", "lost", "connect"):
        table.add_column(heading, justify="right", no_wrap=True)
    table.add_column("address", overflow="fold")
    for number, point in enumerate(found.points):
        if point.median_ms is None:
            gone = Text(f"{point.url}\n").append(point.failure or "no answer", style="red")
            table.add_row(Text(point.name), "-", "-", "100%", "-", gone)
            continue
        table.add_row(
            Text(point.name, style="bold green" if number == 0 else ""),
            f"{point.median_ms:.0f} ms",
            f"{point.jitter_ms:.1f} ms" if point.jitter_ms is not None else "-",
            f"{point.lost_share:.0%}",
            f"{point.connect_ms:.0f} ms" if point.connect_ms is not None else "-",
            Text(point.url),
        )
    console().print(table)


app = single("nearest", nearest)
