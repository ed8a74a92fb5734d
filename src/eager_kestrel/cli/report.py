"""``report``: one page to keep."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.cli.options import GuideFolder, single


def report(
    plan: Annotated[
        str, typer.Argument(metavar="[PLAN]", help="A plan's JSON file; else the latest plan.")
    ] = "latest",
    out: Annotated[
        Path, typer.Option("--out", "-o", metavar="FILE", help="The page: .html or .md.")
    ] = Path("report.html"),
    guides: GuideFolder = None,
) -> None:
    """Write one page to keep: settings, why, steps down, the connection, and every proof there is."""
    from eager_kestrel.actions.reporting import gathered
    from eager_kestrel.cli.terminal import busy, console
    from eager_kestrel.report.page import require_page, write_page

    require_page(out)
    with busy("gathering what is kept"):
        write_page(gathered(plan, guides), out)
    console().print(f"wrote {out}", markup=False, soft_wrap=True)


app = single("report", report)
