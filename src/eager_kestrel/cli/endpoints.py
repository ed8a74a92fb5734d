"""``places``: addresses to measure towards, by name."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.cli.options import Json, complete_place, group

app = group()

PlaceName = Annotated[
    str, typer.Argument(metavar="NAME", autocompletion=complete_place, help="Of the place.")
]


@app.callback()
def places() -> None:
    """Addresses to measure towards, by a name of your own: list, add, forget."""


@app.command("list")
def list_places(json: Json = False) -> None:
    """List them, and say which was used last."""
    from eager_kestrel.actions.endpoints import listed
    from eager_kestrel.cli.terminal import console, print_json

    found = listed()
    if json:
        print_json(found.model_dump(mode="json"))
        return
    if not found.places:
        console().print("No place has a name yet: eager-kestrel places add NAME URL")
        return
    from rich.table import Table

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("place", "address", ""):
        table.add_column(heading, no_wrap=True)
    for place in found.places:
        last = "used last" if found.last in (place.name, place.url) else ""
        table.add_row(f"[bold]{place.name}[/]", place.url, f"[dim]{last}[/]")
    console().print(table)


@app.command("add")
def add(
    name: Annotated[str, typer.Argument(metavar="NAME", help="Small letters, digits, hyphens.")],
    url: Annotated[
        str, typer.Argument(metavar="URL", help="An http(s) address that takes uploads by POST.")
    ],
) -> None:
    """Give an address a name, so that "measure NAME" will do."""
    from eager_kestrel.actions.endpoints import add as keep
    from eager_kestrel.cli.terminal import console

    keep(name, url)
    console().print(f"{name} it is: eager-kestrel measure {name}")


@app.command("forget")
def forget(name: PlaceName) -> None:
    """Take a name away; what was measured towards it stays."""
    from eager_kestrel.actions.endpoints import forget as remove
    from eager_kestrel.cli.terminal import console

    remove(name)
    console().print(f"{name} is no place any more; runs towards it are still kept")
