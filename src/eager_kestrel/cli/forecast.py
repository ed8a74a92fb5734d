"""``forecast``: how much a plan would have stuttered on the connection as it was observed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import (
    Around,
    Days,
    Figure,
    FromEndpoints,
    GuideFolder,
    Json,
    Quiet,
    StutterLimit,
    single,
)

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.stutter import StutterSeen


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
    stutter: StutterLimit = None,
    around: Around = None,
    from_: FromEndpoints = None,
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
    """Say how much a plan would have stuttered on your connection so far."""
    from eager_kestrel.actions.forecasting import ForecastOptions
    from eager_kestrel.actions.forecasting import forecast as forecast_plan
    from eager_kestrel.cli.terminal import console, print_json

    if figure is not None:
        from eager_kestrel.report.figures import require_kind

        require_kind(figure)
    wish = ForecastOptions(lasts, stutter, days, around, tuple(from_ or ()), frames, guides)
    found = forecast_plan(plan, wish)
    if figure is not None:
        from eager_kestrel.report.connection_figures import save_forecast_figure

        save_forecast_figure(found, figure)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_forecast(console(), found)


def show_forecast(screen: Console, found: Forecast) -> None:
    """The verdict on top, then the rate, each fallback, each hour, and what is not known."""
    from rich.panel import Panel
    from rich.text import Text

    from eager_kestrel.cli.terminal import grid
    from eager_kestrel.core.words import runs as words
    from eager_kestrel.core.words.numbers import some_seconds

    seen, card = found.stutter, grid(0, 1)
    rows = [
        ("sent", words.sent(found.said, found.total_kbps, found.reserved_kbps)),
        ("observed", found.evidence),
    ]
    if seen is not None:
        rows += [
            ("stutter", words.hourly(seen)),
            ("in the show", words.in_the_show(seen, found.lasts_seconds)),
            ("worst queue", f"{seen.worst_queue_seconds:.1f} s of stream"),
        ]
    if found.most_kbps is not None:
        accepted = some_seconds(found.limit_seconds_per_hour)
        rows.append(
            (
                "highest rate",
                f"{found.most_kbps:,.0f} kbit/s would have kept within {accepted} an hour",
            )
        )
    for name, value in rows:
        card.add_row(Text(name, style="dim"), Text(value, style="bold"))
    good = seen is not None and seen.within(found.limit_seconds_per_hour)
    screen.print(Text(found.verdict, style="bold"))
    title = "Forecast, of a simulated connection" if found.practice else "Forecast"
    screen.print(
        Panel(
            card,
            title=title,
            title_align="left",
            border_style="green" if good else "yellow",
            padding=(0, 1),
        )
    )
    screen.print(_steps(found))
    if found.by_hour:
        screen.print(_by_hour(found))
    for line in found.unknown:
        screen.print(Text(line, style="dim"))


def _steps(found: Forecast) -> Table:
    """The plan and its fallbacks, the first within the limit marked."""
    from eager_kestrel.core.words.numbers import some_seconds

    limit = f"{some_seconds(found.limit_seconds_per_hour)}/h"
    table = _table("settings", "kbit/s", "stutter an hour", "between", limit)
    first = next((step for step in found.steps if step.within), None)
    for step in found.steps:
        mark = "first" if step is first else "yes" if step.within else "no"
        table.add_row(
            step.settings,
            f"{step.total_kbps:,.0f}",
            *_rates(step.stutter),
            mark,
            style="bold" if step is first else None,
        )
    return table


def _by_hour(found: Forecast) -> Table:
    """The plan's own settings at other hours of the day, and the highest rate there."""
    from eager_kestrel.core.words.numbers import observed

    table = _table("hour", "observed", "stutter an hour", "between", "highest kbit/s")
    for at in found.by_hour:
        most = at.most_kbps if at.reading_kbps is None else at.reading_kbps
        seen = "readings" if at.reading_kbps is not None else observed(at.observed_seconds)
        table.add_row(
            f"{at.hour:02d}:00",
            seen,
            *_rates(at.stutter),
            "-" if most is None else f"{most:,.0f}",
        )
    return table


def _table(*headings: str) -> Table:
    from rich.table import Table

    table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim")
    for heading in headings:
        number = heading in ("kbit/s", "highest kbit/s", "observed", "stutter an hour")
        table.add_column(heading, justify="right" if number else "left", no_wrap=True)
    return table


def _rates(seen: StutterSeen | None) -> tuple[str, str]:
    from eager_kestrel.core.words.numbers import some_seconds

    if seen is None:
        return "not known", ""
    if seen.high_seconds_per_hour < 0.05:
        return "none", ""
    low, high = seen.low_seconds_per_hour, seen.high_seconds_per_hour
    return some_seconds(seen.seconds_per_hour), f"{some_seconds(low)} to {some_seconds(high)}"


app = single("forecast", forecast)
