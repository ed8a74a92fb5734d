"""``nearest``: which of a platform's ingest points answers fastest."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import GuideFolder, Json, complete_platform, single

if TYPE_CHECKING:
    from eager_kestrel.core.nearness import Ranking


def nearest(
    platform: Annotated[
        str, typer.Argument(autocompletion=complete_platform, help="Whose ingest points to try.")
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
    from eager_kestrel.actions.nearest import nearest as rank
    from eager_kestrel.actions.nearest import nearest_in_practice
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.errors import NetworkError
    from eager_kestrel.core.units import parse_seconds

    if practice is not None:
        delays = [parse_seconds(part) * 1000 for part in practice.split(",")]
        found = nearest_in_practice(platform, delays, tries, guides)
    else:
        found = rank(platform, tries, guides=guides)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        _show(found)
    if all(point.answered == 0 for point in found.points):
        raise NetworkError(
            f"none of the {len(found.points)} ingest points of {found.platform} answered",
            f"check the network ({found.points[0].failure})",
        )


def _show(found: Ranking) -> None:
    from rich.table import Table
    from rich.text import Text

    from eager_kestrel.cli.screen import console

    table = Table(box=None, padding=(0, 1), header_style="dim")
    table.add_column("ingest point", no_wrap=True)
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
