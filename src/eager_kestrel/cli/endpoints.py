"""``endpoints``: addresses to measure towards, under names of your own."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.cli.options import Json, complete_endpoint, group

app = group()

EndpointName = Annotated[
    str,
    typer.Argument(metavar="NAME", autocompletion=complete_endpoint, help="The endpoint's name."),
]


@app.callback()
def endpoints() -> None:
    """Named endpoints to measure towards: list, add, forget."""


@app.command("list")
def list_endpoints(json: Json = False) -> None:
    """List them, and say which was used last."""
    from eager_kestrel.actions.endpoints import listed
    from eager_kestrel.cli.terminal import console, print_json

    found = listed()
    if json:
        print_json(found.model_dump(mode="json"))
        return
    if not found.endpoints:
        console().print("No endpoint has a name yet: eager-kestrel endpoints add NAME URL")
        return
    from rich.table import Table

    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("endpoint", "address", ""):
        table.add_column(heading, no_wrap=True)
    for one in found.endpoints:
        last = "used last" if found.last in (one.name, one.url) else ""
        table.add_row(f"[bold]{one.name}[/]", one.url, f"[dim]{last}[/]")
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
    console().print(f"{name} added: eager-kestrel measure {name}")


@app.command("forget")
def forget(name: EndpointName) -> None:
    """Take a name away; what was measured towards it stays."""
    from eager_kestrel.actions.endpoints import forget as remove
    from eager_kestrel.cli.terminal import console

    remove(name)
    console().print(f"{name} removed; its runs are still kept")
