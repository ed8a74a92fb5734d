"""``watch``: the stream that is going out, who is at fault when it stumbles, and what to do."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import GuideFolder, Json, Quiet, grouped, single
from eager_kestrel.cli.watch_options import AlertFlags, RelayFlags, StreamFlags

if TYPE_CHECKING:
    from eager_kestrel.actions.watching import Connection


@grouped
def watch(
    plan: Annotated[
        str, typer.Argument(metavar="[PLAN]", help="A plan's JSON file; else the latest plan.")
    ] = "latest",
    which: StreamFlags = StreamFlags(),
    between: RelayFlags = RelayFlags(),
    alerts: AlertFlags = AlertFlags(),
    within: Annotated[
        str, typer.Option(metavar="TIME", help="Stop after so long in any case.")
    ] = "12 h",
    guides: GuideFolder = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Watch the stream any program sends: is it carried, who is at fault, what to do.

    With --json: one document a second. What was seen is kept: see review and runs list.
    """
    from eager_kestrel.cli.screen import ended_by_sigterm
    from eager_kestrel.cli.watch_view import View, show_aired

    with ended_by_sigterm(), View(json=json, bell=alerts.bell, notify=alerts.notify) as view:
        if between.through or between.practice is not None:
            from eager_kestrel.cli.watch_through import watch_through

            aired = watch_through(plan, which, between, within, guides, view)
        else:
            aired = _from_outside(plan, which, within, guides, view)
    failed = [show_aired(one, quiet=json) for one in aired]
    raise typer.Exit(1 if any(failed) else 0)


def _from_outside(
    plan: str, which: StreamFlags, within: str, guides: Path | None, view: View
) -> tuple[KeptBroadcast, ...]:
    """Watch the program's own connection; nothing is aired where only a rate was seen."""
    from eager_kestrel.actions.watching import WatchOptions, sees_connections, watch_interface
    from eager_kestrel.actions.watching import watch as watch_stream
    from eager_kestrel.cli.screen import warn
    from eager_kestrel.core.errors import InputError

    if which.to is not None and len(which.to) > 1:
        raise InputError("one stream is watched from outside", "give one --to, or --through")
    wish = WatchOptions(
        plan=plan, settings=which.settings, platform=which.platform,
        to=which.to[0] if which.to else None, pid=which.pid, program=which.program, within=within,
        guides=guides,
    )  # fmt: skip
    if sees_connections():
        return (watch_stream(wish, view.tell, _chooser(view), view.found, view.waiting),)
    warn(
        "this system does not tell how other programs' connections stand: only a rate is seen; "
        "eager-kestrel watch --through sees the stream itself"
    )
    watch_interface(wish, view.tell)
    return ()


def _chooser(view: View) -> Callable[[Sequence[Connection]], Connection] | None:
    """Asks which of several is meant; None where nobody is there to ask."""
    import sys

    if not sys.stdin.isatty():
        return None

    def choose(found: Sequence[Connection]) -> Connection:
        view.pause()
        for number, one in enumerate(found, 1):
            typer.echo(f"{number}  {one.program} (process {one.pid}) to {one.to}", err=True)
        number = 0
        while not 1 <= number <= len(found):
            number = typer.prompt(f"Which one, 1 to {len(found)}", type=int, err=True)
        return found[number - 1]

    return choose


if TYPE_CHECKING:
    from eager_kestrel.actions.airing import KeptBroadcast
    from eager_kestrel.cli.watch_view import View


app = single("watch", watch)
