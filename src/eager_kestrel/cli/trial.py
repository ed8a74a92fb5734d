"""``trial``: how somebody's own footage compresses, and the plan that follows."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import GuideFolder, Json, Motion, Platforms, Quiet, grouped, single

if TYPE_CHECKING:
    from rich.console import Console

    from eager_kestrel.actions.trial import TrialEncodes
    from eager_kestrel.core.footage import Trial


@dataclass(frozen=True, slots=True)
class SeeFlags:
    """Ways to see it with one's own eyes."""

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


@grouped
def trial(
    clip: Annotated[
        Path, typer.Argument(help="Your own recording, best a minute of a busy scene.")
    ],
    platforms: Platforms = None,
    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Plan with "12 Mbit/s", not with your runs.'),
    ] = None,
    bitrate: Annotated[
        str | None,
        typer.Option(metavar="RATE", help="Try up to this, where no platform is named."),
    ] = None,
    motion: Motion = None,
    keep: Annotated[
        str | None, typer.Option(metavar="NAME", help="Keep what was learned: plan --footage NAME.")
    ] = None,
    see: SeeFlags = SeeFlags(),
    guides: GuideFolder = None,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Encode your own clip around a plan: which resolution looks best at which bitrate."""
    from eager_kestrel.actions.trial import plan_with, prepared, try_clip
    from eager_kestrel.cli.terminal import console, print_json, telling

    _require(see)
    asked = prepared(clip, tuple(platforms or ()), upload, bitrate, motion, keep, guides)
    with telling("cutting stretches", quiet=json) as tell:
        tried = try_clip(asked.clip, asked.wanted, tell)
    _see(tried, see)
    planned = plan_with(asked, tried.trial)
    if json:
        plan = None if planned is None else planned.model_dump(mode="json")
        print_json(tried.trial.model_dump(mode="json") | {"plan": plan})
        return
    show_trial(console(), tried.trial)
    if planned is not None:
        from eager_kestrel.cli.plan_card import show_plan

        show_plan(console(), planned)


def _require(see: SeeFlags) -> None:
    """Refuse what could not be shown, before a long trial."""
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.report.figures import require_kind

    if see.sheet is not None:
        require_kind(see.sheet)
    elif see.blind:
        raise InputError("there is nothing to look at", "give --sheet FILE")


def _see(tried: TrialEncodes, see: SeeFlags) -> None:
    """Sheets and clips; blind, the person ranks first."""
    from eager_kestrel.actions.trial import judged, sheet_of, write_clips
    from eager_kestrel.cli.terminal import console, warn
    from eager_kestrel.report.contact_sheet import CROP, save_sheet

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


def show_trial(screen: Console, found: Trial) -> None:
    """Every encode, then what it teaches."""
    from rich.table import Table

    from eager_kestrel.cli.terminal import remark
    from eager_kestrel.core.words.numbers import looks

    said = ", ".join(
        f"{s.begin_seconds:g} s (SI {s.si:.0f}, TI {s.ti:.0f})" for s in found.stretches
    )
    screen.print(f"[bold]{found.clip}[/], {found.codec} {found.preset}", highlight=False)
    screen.print(f"stretches at {said}; looks by {found.metric}", highlight=False, markup=False)
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for heading in ("encode", "took, kbit/s", "XPSNR", "SSIM", "VMAF", "looks", ""):
        text = heading in ("encode", "looks", "")
        table.add_column(heading, justify="left" if text else "right", no_wrap=True)
    for point in found.points:
        table.add_row(
            point.words,
            f"{point.kbps:,.0f}",
            f"{point.xpsnr_db:.1f}",
            f"{point.ssim:.4f}",
            "-" if point.vmaf is None else f"{point.vmaf:.1f}",
            looks(point.look),
            "best" if point.on_hull else "",
            style="bold" if point.on_hull else None,
        )
    screen.print(table)
    for line in found.lessons:
        remark(screen, line)
    if found.footage.name != "unnamed":
        remark(screen, f"kept: plan --footage {found.footage.name}")


app = single("trial", trial)
