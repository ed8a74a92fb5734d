"""``explain``: a word or a sum of the trade, with your own numbers."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.cli.options import Json, complete_term, single


def explain(
    term: Annotated[
        list[str] | None,
        typer.Argument(autocompletion=complete_term, help="The word; left out: every word."),
    ] = None,
    json: Json = False,
) -> None:
    """Explain a word or a sum of the trade, with the numbers of your latest plan."""
    from rich.text import Text

    from eager_kestrel.actions.reporting import explain as look_up
    from eager_kestrel.actions.reporting import glossary
    from eager_kestrel.cli.terminal import console, print_json
    from eager_kestrel.core.document import format_name

    if not term:
        names = sorted(glossary().terms)
        if json:
            print_json({"format": format_name("terms"), "terms": names})
        else:
            console().print(Text(", ".join(names)))
        return
    found = look_up(" ".join(term))
    if json:
        print_json(found.model_dump(mode="json"))
        return
    screen = console()
    screen.print(Text(found.term, style="bold"))
    screen.print(Text(found.says))
    for number, cause in enumerate(found.causes, 1):
        screen.print(Text(f"{number}. ", style="cyan").append(cause.because, style="default"))
        if cause.sum is not None:
            screen.print(Text("   → ", style="green").append(cause.sum, style="bold"))
        screen.print(Text(f"   {cause.tell}", style="dim"), soft_wrap=True)
    if found.sum is not None:
        screen.print(Text("→ ", style="green").append(found.sum, style="bold"))
    if found.source is not None:
        screen.print(Text(f"  from {found.source}", style="dim"))


app = single("explain", explain)
