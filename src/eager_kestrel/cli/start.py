"""``start``: a short conversation that writes a show file."""

from __future__ import annotations

import dataclasses
import sys
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, TypeVar

import typer

from eager_kestrel.actions import shows, shows as begin
from eager_kestrel.actions.guides import new_path
from eager_kestrel.actions.importing import read_guideline
from eager_kestrel.actions.planning import (
    known_platforms,
    known_uplink,
    plan as plan_show,
    uplink_for,
    uplink_from_number,
)
from eager_kestrel.cli import options
from eager_kestrel.cli.guides import answered, understood_so
from eager_kestrel.cli.plan import kept_plan
from eager_kestrel.cli.rendering import show as show_blocks
from eager_kestrel.cli.terminal import warn
from eager_kestrel.core.errors import InputError, KestrelError, NotFoundError
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate, parse_time_of_day
from eager_kestrel.report.blocks import blocks_of

T = TypeVar("T")
ANOTHER = "another one: its guide is made now, from its guideline page or from your answers"


@options.grouped
def start(
    yes: Annotated[
        bool, typer.Option("--yes", help="Do not ask: use the options and the defaults.")
    ] = False,
    title: Annotated[str | None, typer.Option(help="What the show is called.")] = None,
    platforms: options.Platforms = None,
    wish: options.ShowFlags = options.ShowFlags(),
    at: Annotated[
        str | None, typer.Option(metavar="HH:MM", help="The time of day it begins.")
    ] = None,
    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan it at the end from "12 Mbit/s", not from runs.'),
    ] = None,
    _guides: options.GuideFolder = None,
    out: Annotated[
        Path | None,
        typer.Option("--out", "-o", metavar="FILE", help="Else show.toml in this folder."),
    ] = None,
) -> None:
    """Answer a few questions and get a show file, and the plan it leads to."""
    if upload is not None:
        upload = options.with_unit(upload)
        uplink_from_number(upload)  # said now rather than after all the questions
    asking = not yes and sys.stdin.isatty()
    path = shows.show_path(out, replace=asking and _replaces(out))
    wishes = dataclasses.replace(wish.options(platforms), at=at)
    if not yes:
        if not sys.stdin.isatty():
            raise InputError(
                "not an interactive terminal", "pass --yes and options such as --for oxbow"
            )
        title, wishes = _asked(title, wishes)
        upload = upload if upload is not None else _upload()
    show = shows.new_show(wishes, title or "")
    if upload is not None:
        show = show.model_copy(update={"upload": Bitrate.parse(upload)})
    shows.write_show(show, path)
    warn(wrote(show, path))
    _plan(show, upload)


def wrote(show: Show, path: Path) -> str:
    """What was written: where it goes and when, said back."""
    where = " and ".join(place.platform for place in show.destinations)
    when = f" at {show.at}" if show.at else ""
    days = f" on {', '.join(show.days)}" if show.days else ""
    plan = f"plan it with: eager-kestrel plan {path}"
    return f"wrote {path}: to {where}{when}{days}; change it with any editor, {plan}"


def _replaces(out: Path | None) -> bool:
    """Whether a file that is there may go, as the person says."""
    path = shows.usual_path(out)
    return path.exists() and typer.confirm(f"{path} already exists; replace it", err=True)


def _ask(question: str, usual: str, read: Callable[[str], T]) -> T:
    """Ask until the answer can be read."""
    while True:
        answer = typer.prompt(question, default=usual, show_default=bool(usual), err=True)
        try:
            return read(str(answer))
        except KestrelError as error:
            warn(error.line())


def _listed(heading: str, rows: Mapping[Any, str]) -> None:
    typer.echo(f"\n{heading}", err=True)
    for name, said in rows.items():
        typer.echo(f"  {name:<8} {said}", err=True)


def _asked(title: str | None, given: shows.ShowOptions) -> tuple[str, shows.ShowOptions]:
    """Ask for everything no option gave."""

    def wish(key: str, question: str, usual: str) -> None:
        """Ask for one wish until a show can be made of it."""
        nonlocal given

        def read(answer: str) -> shows.ShowOptions:
            said: dict[str, Any] = {key: answer.strip() or None}
            tried = replace(given, **said)
            shape = tried.shape or "16:9"  # is asked for next
            begin.new_show(replace(tried, shape=shape, platforms=tried.platforms or any_platform))
            return tried

        if getattr(given, key) is None:
            given = _ask(question, usual, read)

    own, made_up = known_platforms()
    any_platform = (*own, *made_up)[:1]
    named = title if title is not None else _ask("What is the show called", "My show", str)
    if given.motion is None:
        _listed("How much moves in the picture?", begin.MOTION_CHOICES)
    wish("motion", "Motion", "lively")
    wish("source", "The resolution your camera or screen gives", "1920x1080")
    if begin.has_unclear_shape(given):
        wish("shape", "Its pixels are not square. Is its picture 4:3 or 16:9", "16:9")
    wish("source_fps", "Its frames a second", "60")
    wish("audio", "Is there music, or only voice", "voice")
    given = _where_and_when(given, own, made_up)
    if not given.reserves:
        uses = {str(n): f"{u.name}, {u.rate}" for n, u in enumerate(begin.RESERVES, 1)}
        _listed("Who else uses the upload meanwhile?", uses)
        reserves = _ask("Numbers, or name=rate, with commas; - for nobody", "-", _reserves)
        given = replace(given, reserves=reserves)
    if given.share is None:
        _listed("How careful are you?", begin.CARE)
    wish("share", "How much of the connection may the stream take", "70 %")
    return named, given


def _upload() -> str | None:
    """The upload, where no run says it."""
    if known_uplink(None) is not None:
        return None

    def read(answer: str) -> str | None:
        if answer.strip() == "-":
            return None
        answer = options.with_unit(answer)
        uplink_from_number(answer)
        return answer

    return _ask("Your upload, if you know it, such as 12 Mbit/s; - to measure it later", "-", read)


def _where_and_when(
    given: shows.ShowOptions, own: list[str], made_up: list[str]
) -> shows.ShowOptions:
    """Ask where it goes and when it begins."""
    if not given.platforms:
        choices = [*own, ANOTHER]
        _listed("Where does it go?", {str(n): name for n, name in enumerate(choices, 1)})
        typer.echo(f"  made up, to try: {', '.join(made_up)}", err=True)
        given = _ask(
            "Numbers or names, with commas; NAME:TIER for a tier",
            "1",
            lambda answer: _going(given, answer, own),
        )
    if given.at is None:
        given = _ask(
            "When does it begin, such as 20:00; - for any time",
            "-",
            lambda answer: _begins(given, answer),
        )
    if not given.days:
        given = _ask(
            "On which days, such as Thu, Sat; - for any",
            "-",
            lambda answer: _on_days(given, answer),
        )
    return given


def _begins(given: shows.ShowOptions, answer: str) -> shows.ShowOptions:
    """The time it begins, said back as it was understood."""
    if answer.strip() == "-":
        return given
    at = f"{parse_time_of_day(answer):%H:%M}"
    typer.echo(f"It begins at {at}.", err=True)
    return replace(given, at=at)


def _on_days(given: shows.ShowOptions, answer: str) -> shows.ShowOptions:
    if answer.strip() == "-":
        return given
    parts = [part.strip() for part in answer.split(",") if part.strip()]
    return replace(given, days=tuple(shows.weekday(part) for part in parts))


def _going(given: shows.ShowOptions, answer: str, own: list[str]) -> shows.ShowOptions:
    """Platforms by number or name; one that has no guide gets one first."""
    choices, names = {str(n): name for n, name in enumerate([*own, ANOTHER], 1)}, []
    for part in filter(None, (piece.strip() for piece in answer.split(","))):
        name = choices.get(part, part)
        if name == ANOTHER:
            name = _ask("What is it called, such as Hill Farm", "", _called)
        platform, _, tier = name.partition(":")
        if shows.is_unknown(platform):
            made = _made(platform, asked=name != part)
            if made is None:
                break
            name = f"{made}:{tier}" if tier else made
        names.append(name)
    tried = replace(given, platforms=tuple(names))
    shows.new_show(tried)
    return tried


def _called(name: str) -> str:
    """The name of a platform there is no guide of yet."""
    new_path(name, None)
    return name.strip()


def _made(platform: str, *, asked: bool) -> str | None:
    """Offer to make a guide that is missing, unless it was asked for; its name, if it was made."""
    if not asked and not typer.confirm(f"There is no guide for {platform}; make one now", err=True):
        return None
    path = new_path(platform, None)
    page = _ask("A saved guideline page to read it from; - to answer questions instead", "-", _page)
    understood_so(answered(platform, path, page), path)
    return path.stem


def _page(answer: str) -> Path | None:
    """A page that can be read, or nothing."""
    if answer.strip() == "-":
        return None
    read_guideline(Path(answer.strip()))
    return Path(answer.strip())


def _reserves(answer: str) -> tuple[str, ...]:
    return () if answer.strip() == "-" else shows.reserves_from(answer)


def _plan(show: Show, upload: str | None) -> None:
    """The plan it leads to; without any run, what to do to get one."""
    try:
        if upload is not None:
            uplink = uplink_from_number(upload)
        else:
            uplink, said = uplink_for(show)
            if said is not None:
                warn(said)
    except NotFoundError as error:
        warn(f"no plan yet: {error.line()}")
        return
    here, note = shows.on_this_machine(show)
    if note is not None:
        warn(note)
    plan = plan_show(here, uplink).plan
    if plan.total_kbps > 0:
        kept_plan(plan)
    show_blocks(blocks_of(plan))


app = options.single("start", start)
