"""What-if: sweeps of one input, and the upload that pictures take."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from eager_kestrel.core.choice.need import need as needed
from eager_kestrel.core.choice.sweep import parse_range
from eager_kestrel.core.choice.sweep import sweep as swept
from eager_kestrel.core.choice.what_if import Need, Needs, Sweep
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.picture import Picture
from eager_kestrel.core.show.show import Show
from eager_kestrel.files.bundled import quality_table
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.guides import guide_for

COLUMNS = ("at", "safe_kbps", "width", "height", "fps", "bitrate_kbps", "quality")


def needs_uplink(written: str) -> bool:
    """Whether a sweep rests on a line; a sweep of uploads brings its own.

    Raises:
        InputError: it cannot be swept.
    """
    return parse_range(written).over != "upload"


def sweep(written: str, show: Show, uplink: Uplink | None, guides: Path | None = None) -> Sweep:
    """Sweep one input of a plan for the show's destination.

    Args:
        written: ``upload=1..40``, ``share=50..80``, ``motion`` or ``standing``.
        show: everything else.
        uplink: for everything but a sweep of uploads, which takes none.
        guides: a folder whose guides come first.

    Raises:
        InputError: it cannot be swept.
        NotFoundError: the platform or standing is not known.
    """
    place = show.destinations[0]
    guide = guide_for(place, guides)
    return swept(parse_range(written), show, guide, place.codec, quality_table(), uplink)


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


def need(
    show: Show,
    pictures: list[Picture] | None = None,
    frame_rate_at_least: float | None = None,
    guides: Path | None = None,
) -> Needs:
    """What upload pictures take on each destination of a show.

    Args:
        show: everything else; each of its destinations is asked by itself.
        pictures: which; all there are when none are named.
        frame_rate_at_least: frames a second; any when none is given.
        guides: a folder whose guides come first.

    Raises:
        NotFoundError: a platform or standing is not known.
    """
    table = quality_table()
    found: list[Need] = []
    for place in show.destinations:
        guide = guide_for(place, guides)
        found += needed(show, guide, place.codec, table, pictures, frame_rate_at_least)
    return Needs(needs=tuple(found))
