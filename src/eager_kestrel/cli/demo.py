"""``demo``: the whole job now, on the bundled scenario, offline."""

from __future__ import annotations

import os
import shlex
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions.demo import STARTS_AT, FilledHome, demo as tell_story, demo_show, fill
from eager_kestrel.actions.export import write_document
from eager_kestrel.actions.reporting import told_by_demo
from eager_kestrel.cli.options import Json, single
from eager_kestrel.cli.rendering import show
from eager_kestrel.cli.terminal import console, print_json, progress, warn
from eager_kestrel.cli.watch_view import page_at
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.watching.review import DemoStory
from eager_kestrel.core.words.broadcasts import is_over
from eager_kestrel.report.blocks import blocks_of
from eager_kestrel.report.page import write_report
from eager_kestrel.report.stream_blocks import rehearsal_rows

INTRODUCTION = (
    "[bold]Hollow Lane Pottery[/] streams [bold]{title}[/] to Oxbow over fixed wireless "
    "on a wet evening.\nNothing here leaves this machine: connection, endpoint and platform are "
    "simulated.\n\nThe stream of step 3 shows on a page, too, for a browser on this machine:\n"
    "{page}\n\n[bold]1. Measure[/] what one connection really delivers"
)


def demo(
    out: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Write its documents and recording there."),
    ] = None,
    home: Annotated[
        Path | None,
        typer.Option(metavar="DIR", help="Fill a new folder with data to try every command on."),
    ] = None,
    json: Json = False,
) -> None:
    """See it all work on a simulated wet evening: measure, plan, rehearse, check."""
    screen = console()
    if home is not None:
        if out is not None or json:
            raise InputError("--home tells no story", "leave the rest out")
        _show_home(fill(home.absolute(), lambda what: warn(f"making {what} ...")))
        return
    record_to = out / "arrived.flv" if out is not None else None
    if json:
        story = tell_story(record_to=record_to)
    else:
        with page_at(None) as page:
            screen.print(
                INTRODUCTION.format(title=demo_show().title, page=page.address), soft_wrap=True
            )
            with progress() as tell:
                story = tell_story(tell, page.tell, record_to)
            page.over(is_over([]))
    if json:
        print_json(story.model_dump(mode="json"))
    else:
        _show(story)
    if out is not None:
        parts = {key: getattr(story, key) for key in ("run", "plan", "rehearsal", "findings")}
        for name, part in parts.items():
            write_document(out / f"{name}.json", part.model_dump(mode="json"))
        write_report(told_by_demo(story), out / "report.html")
        if not json:
            names = ", ".join([*(f"{name}.json" for name in parts), "arrived.flv"])
            screen.print(f"\nWritten to {out}: {names}, and report.html, the page to keep")
    if not json:
        screen.print(
            "\nTo try every command: [bold]eager-kestrel demo --home FOLDER[/]. For your own "
            "connection: [bold]eager-kestrel start[/]"
        )


REHEARSED_ROWS = 3
"""Of a rehearsal: whether it held, what was sent, how many frames were late."""
TO_WATCH = (
    "watch --practice wet-evening --port 19350 --page",
    "rehearse --to rtmp://127.0.0.1:19350/live",
)


def commands_to_try(filled: FilledHome) -> list[str]:
    """Each works as it stands, once the home is set."""
    recording, clip = (_quoted(path) for path in (filled.recording, filled.clip))
    return [
        f"plan wheel-night --at {STARTS_AT} --why",
        "check --tonight",
        "forecast",
        "runs hours --for oxbow",
        "need oxbow",
        "review",
        f"check {recording} --for oxbow",
        f'trial {clip} --bitrate "2 Mbit/s"',
        "rehearse --practice wet-evening",
        "report",
        "explain bitrate",
    ]


def _quoted(path: Path) -> str:
    return f'"{path}"' if os.name == "nt" else shlex.quote(str(path))


def _show_home(filled: FilledHome) -> None:
    """What is there, and what to do with it."""
    screen = console()
    setting = "$env:EAGER_KESTREL_HOME =" if os.name == "nt" else "export EAGER_KESTREL_HOME="
    screen.print(
        f"{filled.folder} holds {filled.runs} runs and {filled.broadcasts} broadcasts made up for "
        "Hollow Lane Pottery, a plan, a recording, a clip, and what this machine's encoders do.\n"
        "\nTo try every command on it, first:",
        markup=False,
    )
    for line in (f"{setting}{_quoted(filled.folder)}", "", *commands_to_try(filled)):
        own = line and not line.startswith(setting)
        screen.print(f"  {'eager-kestrel ' if own else ''}{line}", markup=False, soft_wrap=True)
    screen.print(
        "\nTo watch a stream, in two terminals; the first tells the key that the second asks for, "
        "and the address of a page to open beside it:",
        markup=False,
    )
    for line in TO_WATCH:
        screen.print(f"  eager-kestrel {line}", markup=False, soft_wrap=True)


def _show(story: DemoStory) -> None:
    """The four steps, so that they fit on one screen."""
    screen = console()
    show(blocks_of(story.run))
    screen.print("\n[bold]2. Plan[/] from what was measured, with the farmhouse's reserves")
    show(blocks_of(story.plan))
    screen.print("[bold]3. Rehearse[/] it for ten seconds on the same evening")
    rehearsed = rehearsal_rows(story.rehearsal)
    show([replace(rehearsed, rows=rehearsed.rows[:REHEARSED_ROWS])])
    screen.print("\n[bold]4. Check[/] the recording of what arrived against the guide")
    show(blocks_of(story.findings.model_copy(update={"recording": None})))


app = single("demo", demo)
