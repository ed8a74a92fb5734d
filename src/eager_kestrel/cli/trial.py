"""``trial``: how your own footage compresses, and the plan that follows."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, ClassVar

import typer

from eager_kestrel.actions.encode_trial import TrialEncodes, try_clip
from eager_kestrel.actions.trial import (
    TrialRequest,
    judged,
    prepare_trial,
    report_of,
    sheet_of,
    write_clips,
)
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.terminal import console, telling, warn
from eager_kestrel.core.errors import InputError

EVERY_SECONDS = 3.0
"""Between two words on a clip that is looked through."""


@dataclass(frozen=True, slots=True)
class SeeFlags:
    """Ways to see it with your own eyes."""

    HEADING: ClassVar = "See it"

    sheet: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="The same crop of each finalist, side by side at 1:1."),
    ] = None
    clips: Annotated[
        Path | None, typer.Option(metavar="DIR", help="Write the finalists, to play them.")
    ] = None
    blind: Annotated[
        bool,
        typer.Option("--blind", help="Rank the sheet by eye before you are told which is which."),
    ] = False

    def require(self) -> None:
        """Refuse what could not be shown, before a long trial."""
        from eager_kestrel.report.figures import require_kind

        if self.sheet is not None:
            require_kind(self.sheet)
        elif self.blind:
            raise InputError("there is no sheet to rank", "give --sheet FILE")


@options.grouped
def trial(
    clip: Annotated[
        Path, typer.Argument(help="Your own recording, best a minute of a busy scene.")
    ],
    platforms: options.Platforms = None,
    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan with "12 Mbit/s", not with your runs.'),
    ] = None,
    bitrate: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="Try up to this, if no platform is named."),
    ] = None,
    motion: options.Motion = None,
    save_as: Annotated[
        str | None, typer.Option(metavar="NAME", help="Keep what was learned: plan --footage NAME.")
    ] = None,
    minutes: Annotated[
        float, typer.Option(metavar="N", min=0.01, help="How long it may take.")
    ] = 3.0,
    resolutions: Annotated[
        list[str] | None,
        typer.Option(
            "--resolution", metavar="WIDTHxHEIGHT", help="Try this resolution too; repeatable."
        ),
    ] = None,
    _guides: options.GuideFolder = None,
    see: SeeFlags = SeeFlags(),
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Encode your own clip around a plan: the best resolution at each bitrate."""
    began = time.perf_counter()
    see.require()
    output.require()
    with telling("looking through the clip", quiet=output.quiet, each=True) as tell:
        named, sizes = tuple(platforms or ()), tuple(resolutions or ())
        wish = TrialRequest(named, upload, bitrate, motion, save_as, sizes)
        asked = prepare_trial(clip, wish, _now_and_then(tell))
        left = minutes - (time.perf_counter() - began) / 60
        tried = try_clip(asked.clip, replace(asked.wanted, minutes=left), tell)
    _see(tried, see)
    deliver(report_of(asked, tried.trial), output)


def _now_and_then(tell: Callable[[str], None]) -> Callable[[float], None]:
    """Tells how far a clip was looked through, every few seconds."""
    told = time.perf_counter()

    def looked(seconds: float) -> None:
        nonlocal told
        if time.perf_counter() - told > EVERY_SECONDS:
            told = time.perf_counter()
            tell(f"looking through the clip: {seconds:.0f} s so far")

    return looked


def _see(tried: TrialEncodes, see: SeeFlags) -> None:
    """Sheets and clips; blind, the person ranks first."""
    from eager_kestrel.report.figures import CROP, save_sheet

    if see.clips is not None:
        for path in write_clips(tried, see.clips):
            warn(f"wrote {path}")
    if see.sheet is None:
        return
    sheet = sheet_of(tried, CROP, blind=see.blind)
    save_sheet(sheet.crops, see.sheet, sheet.title)
    warn(f"wrote {see.sheet}")
    if not see.blind:
        return
    letters = " ".join(sorted(sheet.letters))
    answer = typer.prompt(f"Best first, of {letters}", err=True)
    for line in judged(tried.trial, sheet.letters, str(answer)):
        console(stderr=True).print(line, markup=False)
    told = sheet_of(tried, CROP)
    save_sheet(told.crops, see.sheet, told.title)


app = options.single("trial", trial)
