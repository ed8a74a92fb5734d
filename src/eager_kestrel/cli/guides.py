"""``guides``: platform guidelines as files."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.guides_import import import_page
from eager_kestrel.cli.guides_new import new
from eager_kestrel.cli.options import (
    Around,
    Codec,
    Days,
    GuideFolder,
    Json,
    ShowFlags,
    complete_platform,
    complete_show,
    group,
    grouped,
)

if TYPE_CHECKING:
    from rich.table import Table

    from eager_kestrel.actions.guides import Listed
    from eager_kestrel.core.guide.diff import Change

WIDE = 100
"""Columns from which a guide takes one line."""

app = group()

Name = Annotated[str, typer.Argument(metavar="PLATFORM", autocompletion=complete_platform)]


@app.callback()
def guides() -> None:
    """Platform guidelines as files: list, show, write, import, check, compare."""


@app.command("list")
def list_guides(folder: GuideFolder = None, json: Json = False) -> None:
    """List every guide there is."""
    from eager_kestrel.actions.guides import listed
    from eager_kestrel.cli.screen import console, print_json, warn
    from eager_kestrel.core.document import format_name

    found, broken = listed(folder)
    for error in broken:
        warn(error.line())
    if json:
        rows = [
            {
                "name": item.guide.name,
                "title": item.guide.title,
                "checked": item.guide.checked.isoformat(),
                "stale": item.stale_days is not None,
                "where": item.where,
            }
            for item in found
        ]
        print_json({"format": format_name("guide-list"), "guides": rows})
    else:
        console().print(_table(found))
    if broken:
        raise typer.Exit(1)


def _table(found: list[Listed]) -> Table:
    """Guides in a line each, or folded where the terminal is narrow."""
    from rich.table import Table

    from eager_kestrel.cli.screen import console

    table = Table(box=None, padding=(0, 1), header_style="dim")
    headings = ["guide", "largest", "at most", "keyframes", "codecs", "checked"]
    own = any(item.where != "bundled" for item in found)
    if own or console().width >= WIDE:
        headings.append("from")
    for heading in headings:
        table.add_column(heading, no_wrap=heading != "from", overflow="fold")
    comma = ",\n" if console().width < WIDE else ", "
    for item in found:
        video = item.guide.video
        stale = " [yellow]stale[/]" if item.stale_days else ""
        table.add_row(
            f"[bold]{item.guide.name}[/]",
            f"{video.largest}{comma}{video.rates_words()}",
            video.ceiling.in_kbps(),
            video.keyframes.words().replace(", ", comma),
            comma.join(video.codecs),
            f"{item.guide.checked}{stale}",
            *([item.where] if "from" in headings else []),
        )
    return table


@app.command("show")
def show(name: Name, folder: GuideFolder = None, json: Json = False) -> None:
    """Show one guide as its file."""
    from eager_kestrel.actions import load_guide
    from eager_kestrel.actions.guides import guide_text
    from eager_kestrel.cli.screen import print_json

    guide = load_guide(name, folder)
    if json:
        print_json(guide.model_dump(mode="json"))
    else:
        sys.stdout.write(guide_text(name, folder))


@app.command("where")
def where(name: Name, folder: GuideFolder = None) -> None:
    """Say which file a guide comes from."""
    from eager_kestrel.actions.guides import where as find

    sys.stdout.write(find(name, folder) + "\n")


@app.command("schema")
def schema() -> None:
    """Print the JSON Schema that editors complete a guide by."""
    from eager_kestrel.actions import document_schema

    sys.stdout.write(document_schema("guide"))


@app.command("check")
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Guides, or folders.")],
    json: Json = False,
) -> None:
    """Check guide files; each error names file, line and what to write."""
    from rich.text import Text

    from eager_kestrel.actions.guides import lint
    from eager_kestrel.cli.screen import console, print_json, remark, warn
    from eager_kestrel.core.document import format_name

    outcomes = lint(files)
    broken = sum(bool(outcome.errors) for outcome in outcomes)
    if json:
        rows = [{"file": str(one.path), "errors": [error.line() for error in one.errors],
                 "remarks": list(one.remarks)} for one in outcomes]  # fmt: skip
        print_json({"format": format_name("guide-check"), "files": rows})
        raise typer.Exit(1 if broken else 0)
    screen = console()
    for outcome in outcomes:
        for error in outcome.errors:
            warn(error.line())
        if outcome.errors:
            continue
        screen.print("[green]✓[/]", Text(str(outcome.path)), soft_wrap=True)
        for line in outcome.remarks:
            remark(screen, line)
    screen.print(f"{len(outcomes) - broken} good, {broken} with errors")
    if broken:
        raise typer.Exit(1)


app.command("new")(new)
app.command("import")(import_page)


@app.command("diff")
@grouped
def diff(
    old: Annotated[str, typer.Argument(help="A platform or guide file.")],
    new: Annotated[str, typer.Argument(help="Another.")],
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Compare what is planned for this show; else ./show.toml.",
        ),
    ] = None,
    upload: Annotated[
        str | None, typer.Option(metavar="RATE", help="Plan both from this, not from your runs.")
    ] = None,
    wish: ShowFlags = ShowFlags(),
    around: Around = None,
    days: Days = 14,
    codec: Codec = None,
    folder: GuideFolder = None,
    json: Json = False,
) -> None:
    """Say what changed between two guides, and what that changes for your plan."""
    from eager_kestrel.actions.guides import compared, plan_changes
    from eager_kestrel.actions.planning import known_uplink
    from eager_kestrel.actions.shows import compared_show
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.document import format_name

    before, after, changed = compared(old, new, folder)
    asked = compared_show(show, before.name, wish.wishes(None, codec))
    uplink = known_uplink(upload, days, around)
    mine = None if uplink is None else plan_changes(before, after, asked, uplink, folder)
    if json:
        print_json(
            {
                "format": format_name("guide-diff"),
                "changes": [change.model_dump() for change in changed],
                "plan": None if mine is None else [change.model_dump() for change in mine],
            }
        )
    else:
        _show_changes(changed, mine)


def _show_changes(changed: list[Change], mine: list[Change] | None) -> None:
    """Every key that differs, then what that does to a plan."""
    from rich.text import Text

    from eager_kestrel.cli.screen import console, grid

    screen = console()
    if not changed:
        screen.print("Nothing changed.")
        return
    table = grid(0, 1, 0, 1)
    for change in changed:
        before, after = Text(change.before or "-"), Text(change.after or "-")
        table.add_row(Text(change.key, style="cyan"), before, "→", after)
    screen.print(table)
    if mine is None:
        screen.print("\nNo run is kept, so no plan to compare: give --upload RATE.")
    elif not mine:
        screen.print("\nYour plan stays the same.")
    else:
        screen.print("\n[bold]Your plan changes[/]")
        for change in mine:
            shown = f"  {change.key}: {change.before or '-'} → {change.after or '-'}"
            screen.print(Text(shown))
