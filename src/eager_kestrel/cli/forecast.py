"""``forecast``: how likely a plan has late frames on the line as it was measured."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Around,
    Days,
    Figure,
    FromPlaces,
    GuideFolder,
    Json,
    Quiet,
    single,
)

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.forecast.odds import Odds


def forecast(
    plan: Annotated[
        str,
        typer.Argument(
            metavar="[PLAN]", help="A plan's JSON file or a show; else the latest plan."
        ),
    ] = "latest",
    lasts: Annotated[
        str | None,
        typer.Option("--for", metavar="TIME", help='How long you send: "2 h"; else the show\'s.'),
    ] = None,
    goal: Annotated[
        str | None,
        typer.Option(metavar="CHANCE", help='What to come under: "1 in 50"; else 1 in 20.'),
    ] = None,
    around: Around = None,
    from_: FromPlaces = None,
    days: Days = 14,
    frames: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Send the frames of this recording, not the plan's."),
    ] = None,
    guides: GuideFolder = None,
    figure: Figure = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Say how likely a plan has late frames, from what your line did before."""
    from eager_kestrel.actions.forecasting import Wish
    from eager_kestrel.actions.forecasting import forecast as forecast_plan
    from eager_kestrel.cli.screen import busy, console, print_json

    if figure is not None:
        from eager_kestrel.report.figures import require_kind

        require_kind(figure)
    wish = Wish(lasts, goal, days, around, tuple(from_ or ()), frames, guides)
    with busy("simulating hours of your line", quiet=json):
        found = forecast_plan(plan, wish)
    if figure is not None:
        from eager_kestrel.report.forecast_figure import save_forecast_figure

        save_forecast_figure(found, figure)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_forecast(console(), found)


def show_forecast(screen: Console, found: Forecast) -> None:
    """The verdict on top, then how bad, which step, which hour, and what is not known."""
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.cli.screen import grid, remark
    from eager_kestrel.core.words import forecasts as words

    card = grid(0, 1)
    late, waits, dips = found.late_frames_an_hour, found.worst_wait_seconds, found.dip_seconds
    rows = [
        ("sent", words.sent(found.said, found.total_kbps, found.needs_kbps, found.reserved_kbps)),
        ("chance", words.chance_of(found.odds.chance, found.odds.low, found.odds.high,
                                   found.odds.seconds)),
        ("late frames", words.late_frames(late.mean, late.low, late.high)),
        ("worst wait", words.usually(waits.typical, waits.at_worst)),
        ("a dip lasts", "-" if dips is None else words.usually(dips.typical, dips.at_worst)),
        ("viewers see", found.viewers),
    ]  # fmt: skip
    for name, value in rows:
        card.add_row(Text(name, style="dim"), Text(value, style="bold"))
    colour = "green" if found.odds.chance < found.goal else "yellow"
    screen.print(Text(found.verdict, style="bold"))
    screen.print(Panel(card, title=f"Forecast, {found.simulated_hours:g} hours simulated",
                       title_align="left", border_style=colour, padding=(0, 1)))  # fmt: skip
    screen.print(_steps(found))
    if found.by_hour:
        screen.print(_by_hour(found))
    for line in found.unknown:
        remark(screen, line)


def _steps(found: Forecast) -> Table:
    """The plan and its steps down, the first under the goal marked."""
    from eager_kestrel.core.words.forecasts import one_in

    table = _table("settings", "sent", "late frames", "nine times in ten", one_in(found.goal))
    first = next((step for step in found.steps if step.meets), None)
    for step in found.steps:
        mark = "first" if step is first else "under" if step.meets else "over"
        table.add_row(step.settings, f"{step.total_kbps:,.0f}", *_odds(step.odds), mark,
                      style="bold" if step is first else None)  # fmt: skip
    return table


def _by_hour(found: Forecast) -> Table:
    """The plan's own settings at other hours of the day."""
    table = _table("hour", "runs", "late frames", "nine times in ten")
    for at in found.by_hour:
        table.add_row(f"{at.hour:02d}:00", str(at.odds.runs), *_odds(at.odds))
    return table


def _table(*headings: str) -> Table:
    from rich.table import Table

    table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim")
    for heading in headings:
        number = heading in ("sent", "runs")
        table.add_column(heading, justify="right" if number else "left", no_wrap=True)
    return table


def _odds(odds: Odds) -> tuple[str, str]:
    from eager_kestrel.core.words.forecasts import one_in, within

    return one_in(odds.chance), within(odds.low, odds.high)


app = single("forecast", forecast)
