"""``schema``: what a document of any kind may hold."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from eager_kestrel import document_kinds, document_schema
from eager_kestrel.cli.options import single


def complete_kind(incomplete: str) -> list[str]:
    """Kinds of documents for shell completion."""
    return [kind for kind in document_kinds() if kind.startswith(incomplete)]


def schema(
    kind: Annotated[
        str | None,
        typer.Argument(
            metavar="KIND",
            autocompletion=complete_kind,
            help="As in its format line, such as plan; default: list every kind.",
        ),
    ] = None,
) -> None:
    """Print the JSON Schema of a kind of document, such as a plan."""
    sys.stdout.write("\n".join(document_kinds()) + "\n" if kind is None else document_schema(kind))


app = single("schema", schema)
