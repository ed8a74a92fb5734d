"""Finalists in a terminal, side by side."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.core.choice.compare import Comparison
from eager_kestrel.core.picture import picture_at
from eager_kestrel.core.words.numbers import kbit, looks, rate

if TYPE_CHECKING:
    from rich.console import Console


def show_comparison(screen: Console, found: Comparison) -> None:
    """A column a picture, the one a plan takes marked."""
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, padding=(0, 2, 0, 0))
    table.add_column("", style="dim")
    for one in found.finalists:
        name = picture_at(one.picture, one.frame_rate)
        style = "bold green" if one.chosen else "bold"
        table.add_column(Text(name + (" (planned)" if one.chosen else ""), style=style))
    rows = {
        "video bitrate": [kbit(one.bitrate_kbps) for one in found.finalists],
        "quality": [looks(one.quality) for one in found.finalists],
        "smoothness": [f"{one.smoothness:.0%}" for one in found.finalists],
        "bound by": [str(one.bound_by) for one in found.finalists],
        "sent in all": [kbit(one.total_kbps) for one in found.finalists],
        "upload it needs": [rate(one.upload_kbps) for one in found.finalists],
        "cannot be sent": [one.refused for one in found.finalists],
    }
    for name, cells in rows.items():
        if any(cells):
            table.add_row(name, *cells)
    screen.print(table)
