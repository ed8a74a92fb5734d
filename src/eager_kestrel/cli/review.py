"""``review``: after a show, on one page."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Figure, GuideFolder, Json, complete_show, single

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.core.watching.review import Review


def review(
    broadcast: Annotated[
        str,
        typer.Argument(
            metavar="[BROADCAST]", help='Its id, the beginning of one, or "latest" (runs list).'
        ),
    ] = "latest",
    plan: Annotated[
        str, typer.Option(metavar="PLAN", help="The plan it was sent by; else the latest.")
    ] = "latest",
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Plan this show again, with the broadcast counted.",
        ),
    ] = None,
    figure: Figure = None,
    guides: GuideFolder = None,
    json: Json = False,
) -> None:
    """After a show: what went wrong, when and why, and what to plan next."""
    from eager_kestrel.actions.broadcasts import review as look_back
    from eager_kestrel.cli.terminal import console, print_json

    if figure is not None:
        from eager_kestrel.report.figures import require_kind

        require_kind(figure)
    found = look_back(broadcast, plan, show, guides)
    if figure is not None:
        from eager_kestrel.report.broadcast_figures import save_broadcast_figure

        save_broadcast_figure(found.broadcast, figure)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_review(console(), found)


def show_review(screen: Console, found: Review) -> None:
    """What to do next on top, then the broadcast and each trouble."""
    from rich.text import Text

    from eager_kestrel.cli.watch_view import show_broadcast
    from eager_kestrel.core.words import broadcasts as words
    from eager_kestrel.core.words.runs import stutters_said

    for number, line in enumerate(found.next_time):
        screen.print(Text(line, style="bold" if number == 0 else ""))
    show_broadcast(
        screen, found.broadcast, {one.trouble.at_seconds: one.at for one in found.incidents}
    )
    said = words.carried_share(found.carried_share, found.worst_queue_seconds)
    seen = stutters_said([s.lasted_seconds for s in found.stutters])
    screen.print(Text(f"{seen[0].upper()}{seen[1:]}. {said}", style="dim"))
    for do in dict.fromkeys(one.do for one in found.incidents):
        causes = {words.CAUSES[one.trouble.cause] for one in found.incidents if one.do == do}
        screen.print(Text(f"{', '.join(sorted(causes))}: {do}", style="dim"))


app = single("review", review)
