"""``report``: one page to keep."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions.reporting import gather_report
from eager_kestrel.cli.options import GuideFolder, single
from eager_kestrel.cli.terminal import busy, console
from eager_kestrel.report import page


def report(
    plan: Annotated[str, typer.Argument(metavar="PLAN", help="A plan's JSON file.")] = "latest",
    out: Annotated[
        Path, typer.Option("--out", "-o", metavar="FILE", help="The page: .html or .md.")
    ] = Path("report.html"),
    one_page: Annotated[
        bool,
        typer.Option("--one-page", help="A sheet for helpers: what to type, where, what if."),
    ] = False,
    _guides: GuideFolder = None,
) -> None:
    """Write one page to keep: settings, reasons, fallbacks, the upload, every proof."""
    page.require_page(out)
    with busy("gathering what is kept"):
        page.write_report(gather_report(plan), out, one_page=one_page)
    console().print(f"wrote {out}", markup=False, soft_wrap=True)


app = single("report", report)
