"""``endpoints``: addresses to measure towards, under names of your own."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.actions import endpoints as kept
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import OutputFlags, complete_endpoint, group, grouped
from eager_kestrel.cli.terminal import console

app = group()

EndpointName = Annotated[
    str, typer.Argument(metavar="NAME", autocompletion=complete_endpoint, help="Its name.")
]


@app.callback()
def endpoints() -> None:
    """Named endpoints to measure towards: list, add, forget."""


@app.command("list")
@grouped
def list_endpoints(output: OutputFlags = OutputFlags()) -> None:
    """List them, and say which was used last."""
    output.require()
    deliver(kept.list_endpoints(), output)


@app.command("add")
def add(
    name: Annotated[
        str, typer.Argument(metavar="NAME", help="Lower-case letters, digits and hyphens.")
    ],
    url: Annotated[
        str, typer.Argument(metavar="URL", help="An http(s) address that takes uploads by POST.")
    ],
) -> None:
    """Give an address a name, so that "measure NAME" will do."""
    kept.name_endpoint(name, url)
    console().print(f"{name} added: eager-kestrel measure {name}", markup=False)


@app.command("forget")
def forget(name: EndpointName) -> None:
    """Remove a name; runs to it are still kept."""
    kept.forget(name)
    console().print(f"{name} removed; its runs are still kept", markup=False)
