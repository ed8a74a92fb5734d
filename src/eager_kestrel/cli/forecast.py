"""``forecast``: how much a plan would have stuttered on the connection so far."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions.forecasting import ForecastOptions, forecast as forecast_plan
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import (
    At,
    Days,
    DrawnFlags,
    Endpoints,
    GuideFolder,
    StutterLimit,
    grouped,
    single,
)


@grouped
def forecast(
    plan: Annotated[
        str,
        typer.Argument(metavar="PLAN", help="A plan's JSON file or a show."),
    ] = "latest",
    lasts: Annotated[
        str | None,
        typer.Option("--for", metavar="TIME", help='How long you stream: "2 h".'),
    ] = None,
    stutter: StutterLimit = None,
    around: At = None,
    endpoint: Endpoints = None,
    days: Days = 14,
    frames: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Send the frames of this recording, not the plan's."),
    ] = None,
    _guides: GuideFolder = None,
    output: DrawnFlags = DrawnFlags(),
) -> None:
    """Say how much a plan would have stuttered on your connection so far."""
    output.require()
    options = ForecastOptions(lasts, stutter, days, around, tuple(endpoint or ()), frames=frames)
    deliver(forecast_plan(plan, options), output)


app = single("forecast", forecast)
