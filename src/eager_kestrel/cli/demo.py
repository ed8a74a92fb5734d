"""``demo``: the whole job now, on the bundled scenario, offline."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.actions.demo import demo as tell_story
from eager_kestrel.actions.demo import demo_show
from eager_kestrel.actions.export import write_document
from eager_kestrel.cli.options import Json, single
from eager_kestrel.cli.rendering import show
from eager_kestrel.cli.terminal import console, print_json, progress
from eager_kestrel.report.blocks import blocks_of
from eager_kestrel.report.stream_blocks import rehearsal_rows

if TYPE_CHECKING:
    from eager_kestrel.core.watching.review import DemoStory

INTRODUCTION = (
    "[bold]Hollow Lane Pottery[/] streams [bold]{title}[/] to Oxbow over fixed wireless "
    "on a wet evening.\nNothing here leaves this machine: connection, endpoint and platform are "
    "simulated.\n\n[bold]1. Measure[/] what one connection really delivers\n"
)


def demo(
    out: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Write its documents and recording there."),
    ] = None,
    json: Json = False,
) -> None:
    """See it all work on a simulated wet evening: measure, plan, rehearse, check."""
    screen = console()
    if not json:
        screen.print(INTRODUCTION.format(title=demo_show().title))
    with progress(quiet=json) as tell:
        story = tell_story(tell, record_to=out / "arrived.flv" if out is not None else None)
    if json:
        print_json(story.model_dump(mode="json"))
    else:
        _show(story)
    if out is not None:
        parts = {key: getattr(story, key) for key in ("run", "plan", "rehearsal", "findings")}
        for name, part in parts.items():
            write_document(out / f"{name}.json", part.model_dump(mode="json"))
        if not json:
            names = ", ".join([*(f"{name}.json" for name in parts), "arrived.flv"])
            screen.print(f"\nWritten to {out}: {names}")
    if not json:
        screen.print(
            "\nNow your own connection: [bold]eager-kestrel measure URL[/], then "
            "[bold]eager-kestrel plan --for oxbow --why[/]"
        )


def _show(story: DemoStory) -> None:
    """The four steps as they are printed on their own."""
    screen = console()
    show(blocks_of(story.run))
    screen.print("\n[bold]2. Plan[/] from what was measured, with the farmhouse's reserves\n")
    show(blocks_of(story.plan))
    screen.print("\n[bold]3. Rehearse[/] it for ten seconds on the same evening\n")
    show([rehearsal_rows(story.rehearsal)])
    screen.print("\n[bold]4. Check[/] the recording of what arrived against the guide\n")
    show(blocks_of(story.findings))


app = single("demo", demo)
