"""``review``: after a show, on one page."""

from __future__ import annotations

from typing import Annotated

import typer

from eager_kestrel.actions.broadcasts import review as look_back
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import DrawnFlags, GuideFolder, complete_show, grouped, single


@grouped
def review(
    broadcast: Annotated[
        str,
        typer.Argument(
            metavar="BROADCAST", help='Its id, the beginning of one, or "latest" (runs list).'
        ),
    ] = "latest",
    plan: Annotated[str, typer.Option(metavar="PLAN", help="The plan it was sent by.")] = "latest",
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Plan this show again, with the broadcast counted.",
        ),
    ] = None,
    _guides: GuideFolder = None,
    output: DrawnFlags = DrawnFlags(),
) -> None:
    """After a show: what went wrong, when and why, and what to plan next."""
    output.require()
    deliver(look_back(broadcast, plan, show), output)


app = single("review", review)
