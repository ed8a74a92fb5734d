"""What-if: sweeps of one input, and the upload that pictures take."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from eager_kestrel.core.choice.need import Needs, need
from eager_kestrel.core.choice.sweep import Sweep, parse_range, sweep
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.show.show import Show
from eager_kestrel.files.bundled import quality_table
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.guides import load_guide

COLUMNS = ("at", "safe_kbps", "width", "height", "fps", "bitrate_kbps", "quality")


def swept(written: str, show: Show, uplink: Uplink, guides: Path | None = None) -> Sweep:
    """Sweep one input of a plan for the show's destination.

    Args:
        written: ``upload=1..40``, ``share=50..80``, ``motion`` or ``standing``.
        show: everything else.
        uplink: for everything but a sweep of uploads.
        guides: a folder whose guides come first.

    Raises:
        InputError: it cannot be swept.
        NotFoundError: the platform or standing is not known.
    """
    destination = show.destinations[0]
    guide = load_guide(destination.platform, guides)
    return sweep(parse_range(written), show, destination, guide, quality_table(), uplink)


def sweep_csv(found: Sweep) -> str:
    """A sweep as CSV, a line a point; empty cells where nothing is allowed."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(COLUMNS)
    for point in found.points:
        option = point.chosen.model_dump() if point.chosen else {}
        table.writerow([point.at, point.safe_kbps, *(option.get(c, "") for c in COLUMNS[2:])])
    return out.getvalue()


def write_sweep(found: Sweep, path: Path) -> None:
    """Write a sweep as ``.csv`` or ``.json``.

    Raises:
        InputError: another kind of file.
        StorageError: the disk would not take it.
    """
    kind = path.suffix.lower()
    if kind not in (".csv", ".json"):
        raise InputError(f'"{path.name}" is neither CSV nor JSON', "name it .csv or .json")
    write_text(path, sweep_csv(found) if kind == ".csv" else found.model_dump_json(indent=2) + "\n")


def needed(
    show: Show,
    pictures: list[Picture] | None = None,
    frame_rate_at_least: float | None = None,
    guides: Path | None = None,
) -> Needs:
    """What upload pictures take on each destination of a show.

    Raises:
        NotFoundError: a platform or standing is not known.
    """
    table = quality_table()
    found = [
        answer
        for d in show.destinations
        for answer in need(
            show, d, load_guide(d.platform, guides), table, pictures, frame_rate_at_least
        )
    ]
    return Needs(needs=tuple(found))
