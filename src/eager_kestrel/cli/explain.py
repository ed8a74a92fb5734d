"""``explain``: a word or a sum of the trade, with your own numbers."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.actions.reporting import explain as look_up, terms
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import OutputFlags, complete_term, grouped, single


@grouped
def explain(
    term: Annotated[
        list[str] | None,
        typer.Argument(autocompletion=complete_term, help="The word; default: list every word."),
    ] = None,
    output: OutputFlags = OutputFlags(),
) -> None:
    """Explain a word or a sum of the trade, with the numbers of your latest plan."""
    output.require()
    deliver(look_up(" ".join(term)) if term else terms(), output)


app = single("explain", explain)
