"""``demo``: the whole job now, on the bundled scenario, offline."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Json, single

if TYPE_CHECKING:
    from eager_kestrel.actions.demo import Story


def demo(
    out: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Write its documents and recording there."),
    ] = None,
    json: Json = False,
) -> None:
    """See it all work on a simulated wet evening: measure, plan, rehearse, check."""
    from eager_kestrel.actions.demo import demo as tell_story
    from eager_kestrel.actions.demo import demo_show
    from eager_kestrel.cli.terminal import console, print_json, progress

    screen = console()
    if not json:
        _introduce(demo_show().title)
    with progress(quiet=json) as tell:
        story = tell_story(tell, record_to=out / "arrived.flv" if out is not None else None)
    documents = _documents(story)
    if json:
        print_json(documents)
    else:
        _show(story)
    if out is not None:
        from eager_kestrel.actions.export import write_document

        for name, document in documents.items():
            write_document(out / f"{name}.json", document)
        if not json:
            names = ", ".join([*(f"{name}.json" for name in documents), "arrived.flv"])
            screen.print(f"\nWritten to {out}: {names}")
    if not json:
        screen.print(
            "\nNow your own connection: [bold]eager-kestrel measure URL[/], then "
            "[bold]eager-kestrel plan --for oxbow --why[/]"
        )


def _introduce(title: str) -> None:
    from eager_kestrel.cli.terminal import console

    console().print(
        f"[bold]Hollow Lane Pottery[/] streams [bold]{title}[/] to Oxbow over fixed wireless "
        "on a wet evening.\nNothing here leaves this machine: line, endpoint and platform are "
        "stand-ins.\n\n[bold]1. Measure[/] what one connection really delivers\n"
    )


def _show(story: Story) -> None:
    """The four steps as they are printed on their own."""
    from eager_kestrel.actions.runs import summary
    from eager_kestrel.cli.check import show_findings
    from eager_kestrel.cli.plan_card import show_plan
    from eager_kestrel.cli.recording_card import show_recording
    from eager_kestrel.cli.rehearse import show_rehearsal
    from eager_kestrel.cli.run_card import show_run
    from eager_kestrel.cli.terminal import console

    screen = console()
    show_run(screen, story.run, summary(story.run))
    screen.print("\n[bold]2. Plan[/] from what was measured, with the farmhouse's reserves\n")
    show_plan(screen, story.planned.plan)
    screen.print("\n[bold]3. Rehearse[/] it for ten seconds on the same evening\n")
    show_rehearsal(screen, story.rehearsal)
    screen.print("\n[bold]4. Check[/] the recording of what arrived against the guide\n")
    assert story.arrived.recording is not None
    show_recording(screen, story.arrived.recording)
    show_findings(story.arrived, everything=False)


def _documents(story: Story) -> dict[str, dict[str, object]]:
    from eager_kestrel.actions.runs import document

    return {
        "run": document(story.run, samples=True),
        "plan": story.planned.plan.model_dump(mode="json"),
        "rehearsal": story.rehearsal.model_dump(mode="json"),
        "findings": story.arrived.model_dump(mode="json", exclude_none=True),
    }


app = single("demo", demo)
