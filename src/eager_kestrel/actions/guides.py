"""Guides: list, read, check, write, compare."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime
from pathlib import Path

from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import InputError, KestrelError, NotFoundError
from eager_kestrel.core.guide.diff import changes, text_changes
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.results import Change, GuideCheck, GuideCheckRow, GuideList, GuideRow
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.files import guides
from eager_kestrel.files.documents import read_bounded, write_text
from eager_kestrel.files.footage import table_for
from eager_kestrel.files.home import bundled_guide_text, guide_folders
from eager_kestrel.files.schemas import document_schema
from eager_kestrel.files.toml import MOST_BYTES


def list_guides() -> tuple[GuideList, list[KestrelError]]:
    """List every guide by name, with an error for each that cannot be read."""
    rows, broken = [], []
    for name in guides.guide_names():
        try:
            guide = guides.load_guide(name)
        except KestrelError as error:
            broken.append(error)
            continue
        video = guide.video
        rows.append(
            GuideRow(
                name=guide.name,
                title=guide.title,
                checked=guide.checked.isoformat(),
                stale=guide.stale_days(_today()) is not None,
                where=where(name),
                resolution=str(video.max_resolution),
                frame_rates=video.rates_text(),
                max_kbps=video.max_bitrate.kbps,
                keyframes=video.keyframes.text(),
                codecs=tuple(video.codecs),
            )
        )
    return GuideList(guides=tuple(rows)), broken


def where(name: str) -> str:
    """The file a guide of that name comes from.

    Raises:
        NotFoundError: there is none.
    """
    path = guides.guide_path(name)
    return "bundled" if path is None else str(path)


def check_guides(paths: list[Path]) -> GuideCheck:
    """Read each file as a guide; folders stand for the TOML files in them.

    Raises:
        NotFoundError: one of them is not there.
    """
    gone = next((path for path in paths if not path.exists()), None)
    if gone is not None:
        raise NotFoundError(f"{gone} is not there", "name a guide file or a folder of them")
    files = [
        file
        for path in paths
        for file in (sorted(path.rglob("*.toml")) if path.is_dir() else [path])
    ]
    if not files:
        raise NotFoundError(
            f"no guide was found in {' or '.join(str(path) for path in paths)}", "name a .toml file"
        )
    return GuideCheck(files=tuple(_lint_one(file) for file in files))


def _lint_one(path: Path) -> GuideCheckRow:
    try:
        faults: Sequence[KestrelError] = guides.guide_faults(path)
        if faults:
            return GuideCheckRow(file=str(path), errors=tuple(f.line() for f in faults))
        guide = guides.read_guide(path)
    except KestrelError as error:
        return GuideCheckRow(file=str(path), errors=(error.line(),))
    remarks = []
    days = guide.stale_days(_today())
    if days is not None:
        remarks.append(f"last checked {days} days ago: compare it with its source")
    if guide.checked > _today():
        remarks.append(f"checked on {guide.checked}, in the future")
    if not guide.servers:
        remarks.append("names no ingest server")
    return GuideCheckRow(file=str(path), remarks=tuple(remarks))


def new_path(name: str, out: Path | None) -> Path:
    """Where a new guide goes: the given file or folder, else the user's own guides.

    A name as people write it, ``Hill Farm``, goes into ``hill-farm.toml``.

    Raises:
        InputError: the name is none, or a file already exists.
    """
    stem = "-".join(name.lower().split())
    if not stem or not all(c.isalnum() or c == "-" for c in stem) or not stem[0].isalpha():
        raise InputError(
            f'"{name}" is not a name for a guide', 'write letters and digits, such as "Hill Farm"'
        )
    if out is None:
        path = guide_folders()[-1] / f"{stem}.toml"
    else:
        path = out if out.suffix == ".toml" else out / f"{stem}.toml"
    if path.exists():
        raise InputError(f"{path} already exists", "move it, or give --out another place")
    return path


def from_template(name: str, path: Path) -> Guide:
    """Write the commented template and the schema that editors complete it by.

    Raises:
        StorageError: the disk would not take it.
    """
    text = guides.template(name.lower(), name.replace("-", " ").title(), _today().isoformat())
    return _write(path, text)


def write_guide(guide: Guide, path: Path, comments: dict[str, str]) -> Guide:
    """Write a guide with comments by dotted key.

    Raises:
        FormatError: it could not be read again; nothing is written.
        StorageError: the disk would not take it.
    """
    return _write(path, guides.guide_toml(guide, comments))


def _write(path: Path, text: str) -> Guide:
    """Write a guide's text and, beside it, the schema its first line names.

    It is read first: what could not be read again is never left in a folder.
    """
    guide = guides.guide_from(text.encode(), path)
    write_text(path, text)
    write_text(path.parent / guides.SCHEMA_NAME, document_schema("guide"))
    return guide


def compare_guides(old: str, new: str) -> tuple[Guide, Guide, list[Change]]:
    """Two guides, by name or file, and every key that differs."""
    before, after = guides.load_guide(old), guides.load_guide(new)
    return before, after, list(changes(before, after))


def guide_text(name: str) -> str:
    """The text of a guide's file, comments and all."""
    path = guides.guide_path(name) if not name.endswith(".toml") else Path(name)
    if path is None:
        return bundled_guide_text(name)
    return read_bounded(path, MOST_BYTES).decode("utf-8-sig", "replace")


def plan_changes(before: Guide, after: Guide, show: Show, uplink: Uplink) -> list[Change]:
    """What differs in the settings planned for two guides on one connection.

    Args:
        show: what is streamed. Where it goes to one of the two, the guide stands in for that
            destination, beside all others; else it is planned for the guide alone.
    """
    place = next((d for d in show.destinations if d.platform in (before.name, after.name)), None)
    if place is None:
        place = Destination(platform=before.name)
        show = show.model_copy(update={"destinations": (place,)})
    others = {d.platform: guides.load_guide(d.platform) for d in show.destinations if d != place}
    at, table = show.destinations.index(place), table_for(show.motion, show.footage)
    planned = [
        plan(
            uplink, show, others | {place.platform: guide}, table, look_further=False
        ).destinations[at]
        for guide in (before, after)
    ]
    return text_changes(*map(_flat, planned))


def _flat(planned: DestinationPlan) -> dict[str, str]:
    """A destination's settings by dotted key."""
    video, audio = planned.video, planned.audio
    flat = {"feasible": str(planned.feasible)}
    flat |= {f"video.{k}": str(v) for k, v in (video.model_dump() if video else {}).items()}
    flat |= {f"audio.{k}": str(v) for k, v in (audio.model_dump() if audio else {}).items()}
    return flat


def _today() -> date:
    return datetime.now(UTC).date()
