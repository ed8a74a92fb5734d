"""``need``: what upload would this resolution take."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Codec,
    Figure,
    GuideFolder,
    Json,
    Motion,
    Reserves,
    Share,
    Source,
    SourceRate,
    complete_show_or_platform,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.choice.candidates_table import Option
    from eager_kestrel.core.choice.what_if import Need, Needs

FEW = 2
"""Answers up to which each is said in words as well."""


def need(
    platforms: Annotated[
        list[str],
        typer.Argument(
            metavar="PLATFORM[:TIER]|SHOW...",
            autocompletion=complete_show_or_platform,
            help="One platform or several, or a show file with its own.",
        ),
    ],
    resolution: Annotated[
        str | None,
        typer.Option(metavar="WIDTHxHEIGHT", help="The resolution you want; left out: a table."),
    ] = None,
    fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="At least this many frames a second.")
    ] = None,
    source: Source = None,
    source_fps: SourceRate = None,
    motion: Motion = None,
    share: Share = None,
    reserve: Reserves = None,
    codec: Codec = None,
    guides: GuideFolder = None,
    figure: Figure = None,
    json: Json = False,
) -> None:
    """Say what upload a resolution on a platform takes: the inverse of a plan."""
    from eager_kestrel.actions.shows import ShowOptions, asked_show, is_show
    from eager_kestrel.actions.what_if import need as needed
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.errors import InputError, NoPlanError
    from eager_kestrel.core.resolution import Resolution, parse_frame_rate
    from eager_kestrel.report.figures import require_kind

    shows = [name for name in platforms if is_show(name)]
    if len(shows) > 1:
        raise InputError(f"{len(shows)} shows are given", "give one at a time")
    wishes = ShowOptions(
        platforms=tuple(name for name in platforms if name not in shows),
        codec=codec,
        source=source,
        fps=source_fps,
        motion=motion,
        share=share,
        reserves=tuple(reserve or ()),
    )
    show = asked_show(shows[0] if shows else None, wishes).show
    wanted = [Resolution.parse(resolution)] if resolution is not None else None
    rate = float(parse_frame_rate(fps)) if fps is not None else None
    if figure is not None:
        require_kind(figure)
    found = needed(show, wanted, rate, guides)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        _show(found)
    if not any(answer.possible for answer in found.needs):
        asked = " and ".join(platforms)
        raise NoPlanError(
            f"no upload makes {asked} take {resolution or 'any resolution'}{f' at {fps}' if fps else ''}",
            "ask for another, or see eager-kestrel guides show",
        )
    if figure is not None:
        from eager_kestrel.report.plan_figures import save_need_figure

        save_need_figure(found, figure)


def _show(found: Needs) -> None:
    from rich.table import Table

    from eager_kestrel.cli.terminal import console

    screen = console()
    where = [_where(answer) for answer in found.needs]
    for place in dict.fromkeys(where):
        table = Table(box=None, padding=(0, 1), header_style="dim")
        for heading in (
            "resolution",
            "among the\nbest, Mbit/s",
            "video,\nkbit/s",
            "good\nfrom",
            "no gain\nbeyond",
            "better then",
        ):
            number = heading.startswith(("good", "no gain"))
            table.add_column(heading, justify="right" if number else "left", no_wrap=True)
        for answer in found.needs:
            if _where(answer) == place:
                table.add_row(*_row(answer))
        if place != where[0] or place != where[-1]:
            screen.print(f"[bold]{place}[/]")
        screen.print(table)
    for answer in found.needs:
        if len(found.needs) <= FEW and answer.possible:
            screen.print(_said(answer))


def _where(answer: Need) -> str:
    return f"{answer.platform}:{answer.tier}" if answer.tier else answer.platform


def _row(answer: Need) -> tuple[str, ...]:
    """One resolution in the table."""
    from eager_kestrel.core.resolution import resolution_at
    from eager_kestrel.core.words.numbers import mbit
    from eager_kestrel.core.words.plans import span, video_span

    name = f"{answer.resolution} at {answer.fps:g}"
    if not answer.possible or answer.full_kbps is None:
        return (f"[dim]{name}[/]", "[dim]not taken[/]", "", "", "", "")
    good = "never" if answer.good_kbps is None else mbit(answer.good_kbps)
    full = mbit(answer.full_kbps)
    better = answer.then or answer.better
    then = (
        "" if better is None else f"[dim]{resolution_at(better.resolution, better.frame_rate)}[/]"
    )
    if answer.from_kbps is None:
        return (f"[dim]{name}", "[dim]never", "", f"[dim]{good}", f"[dim]{full}", then)
    last = answer.until_gives or answer.full_gives
    video = (
        ""
        if answer.from_gives is None or last is None
        else video_span(answer.from_gives.bitrate_kbps, last.bitrate_kbps)
    )
    best = f"[bold]{span(answer.from_kbps, answer.until_kbps)}[/]"
    return (name, best, video, good, full, then)


def _said(answer: Need) -> str:
    """One resolution in words."""
    from eager_kestrel.core.words.plans import SettingsAt, in_words

    def seen(upload: float | None, option: Option | None) -> SettingsAt | None:
        if upload is None or option is None:
            return None
        return SettingsAt(upload, option.words, option.bitrate_kbps, option.quality)

    begin = seen(answer.from_kbps, answer.from_gives)
    end = seen(answer.until_kbps, answer.then)
    full = seen(answer.full_kbps, answer.full_gives)
    assert full is not None
    better = seen(answer.full_kbps, answer.better)
    name = f"{answer.resolution} at {answer.fps:g}"
    return in_words(name, begin, end, answer.good_kbps, full, better)


app = single("need", need)
