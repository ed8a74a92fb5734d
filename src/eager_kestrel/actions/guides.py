"""Guides: list, read, lint, write, import, compare."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

from eager_kestrel import __version__
from eager_kestrel.actions.plan import uplink_from_history, uplink_from_number
from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import FormatError, InputError, KestrelError, NotFoundError
from eager_kestrel.core.guide.diff import Change, changes
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.page_table import Answers, Understood, understand
from eager_kestrel.core.picture import Picture, Shape, frame_rate_text
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.quantities import WRITTEN
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.files.bundled import bundled_guide_text, quality_table
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.guide_text import SCHEMA_NAME, guide_schema, guide_toml, template
from eager_kestrel.files.guides import (
    guide_folders,
    guide_names,
    guide_path,
    load_guide,
    read_guide,
)
from eager_kestrel.files.tables import read_tables

__all__ = ["Answers", "Change", "Listed", "Understood", "guide_schema", "load_guide"]

UNCHECKED = "not in the table: check"


@dataclass(frozen=True, slots=True)
class Listed:
    """A guide in a line."""

    guide: Guide
    where: str
    """Its file, or ``bundled``."""
    stale_days: int | None


@dataclass(frozen=True, slots=True)
class Linted:
    """One file's outcome."""

    path: Path
    guide: Guide | None
    error: KestrelError | None
    remarks: tuple[str, ...] = ()
    """What is allowed but odd."""


def listed(folder: Path | None = None) -> tuple[list[Listed], list[KestrelError]]:
    """Every guide by name, and an error for each that cannot be read."""
    found, broken = [], []
    for name in guide_names(folder):
        try:
            guide = load_guide(name, folder)
        except KestrelError as error:
            broken.append(error)
            continue
        found.append(Listed(guide, where(name, folder), guide.stale_days(_today())))
    return found, broken


def where(name: str, folder: Path | None = None) -> str:
    """The file a guide of that name comes from.

    Raises:
        NotFoundError: there is none.
    """
    path = guide_path(name, folder)
    return "bundled" if path is None else str(path)


def lint(paths: list[Path]) -> list[Linted]:
    """Read each file as a guide; folders stand for the TOML files in them."""
    files = [
        file
        for path in paths
        for file in (sorted(path.glob("*.toml")) if path.is_dir() else [path])
    ]
    return [_lint_one(file) for file in files]


def _lint_one(path: Path) -> Linted:
    try:
        guide = read_guide(path)
    except KestrelError as error:
        return Linted(path, None, error)
    remarks = []
    if path.stem != guide.name:
        remarks.append(f'its name is "{guide.name}" but the file is called "{path.stem}"')
    days = guide.stale_days(_today())
    if days is not None:
        remarks.append(f"last checked {days} days ago: hold it against its source")
    if guide.checked > _today():
        remarks.append(f"checked on {guide.checked}, a day still to come")
    if not guide.ingest:
        remarks.append("names no ingest points")
    return Linted(path, guide, None, tuple(remarks))


def new_path(name: str, out: Path | None) -> Path:
    """Where a new guide goes: the given file or folder, else the user's own guides.

    Raises:
        InputError: the name is none, or a file is there already.
    """
    stem = name.strip().lower()
    if not stem or not all(c.isalnum() or c == "-" for c in stem) or not stem[0].isalpha():
        raise InputError(f'"{name}" is no name for a guide', "use letters, digits and -")
    if out is None:
        path = guide_folders()[0] / f"{stem}.toml"
    else:
        path = out if out.suffix == ".toml" else out / f"{stem}.toml"
    if path.exists():
        raise InputError(f"{path} is there already", "move it, or give --out another place")
    return path


def from_template(name: str, path: Path) -> Guide:
    """Write the commented template and the schema that editors complete it by.

    Raises:
        StorageError: the disk would not take it.
    """
    text = template(name.lower(), name.replace("-", " ").title(), _today().isoformat())
    return _write(path, text)


def from_answers(document: dict[str, Any], path: Path, unchecked: list[str]) -> Guide:
    """Write a guide from what somebody answered.

    Args:
        document: as the TOML would be.
        path: where to.
        unchecked: dotted keys that were skipped, to be marked in the file.

    Raises:
        FormatError: the answers contradict each other.
    """
    guide = guide_of(document)
    return _write(path, guide_toml(guide, dict.fromkeys(unchecked, "a guess: check")))


def guide_of(document: dict[str, Any]) -> Guide:
    """A guide from a document of written quantities.

    Raises:
        FormatError: it is none; says which key is wrong.
    """
    from pydantic import ValidationError

    try:
        return Guide.model_validate(document, context=WRITTEN)
    except ValidationError as error:
        raise FormatError(first_error(error)) from None


def base_document(name: str, title: str, source: str) -> dict[str, Any]:
    """A guide's document with the customary values, to be overwritten by what is known."""
    return {
        "name": name.lower(),
        "title": title,
        "source": source,
        "checked": _today(),
        "transports": ["rtmps", "rtmp"],
        "delivery": {"transcodes": "when there is capacity"},
        "video": {
            "codecs": ["h264"],
            "shapes": ["16:9"],
            "largest": "1920x1080",
            "fastest": "60",
            "ceiling": "6000 kbit/s",
            "keyframes": "2 s",
            "rate_control": ["constant"],
        },
        "audio": {
            "codecs": ["aac"],
            "least": "96 kbit/s",
            "most": "160 kbit/s",
            "sample_rates_hz": [48000, 44100],
            "channels": [2, 1],
        },
    }


def understood(table: Path, answers: Answers) -> Understood:
    """What a table of a guideline page says: the one of the file that gives most rows.

    Raises:
        FormatError: no table is in the file.
        InputError: an answer is none.
    """
    Shape.parse(answers.shape)
    read = [understand(rows, answers) for rows in read_tables(table)]
    return max(read, key=lambda u: (len(u.rungs), len(u.questions), -len(u.unplaced)))


def from_table(found: Understood, name: str, title: str, source: str, path: Path) -> Guide:
    """Write the guide a table leads to; what the table does not say is customary and marked.

    Raises:
        FormatError: no row could be taken, or the rows contradict each other.
    """
    if not found.rungs:
        raise FormatError("no row of the table could be taken", "see what could not be placed")
    document = base_document(name, title, source)
    video = document["video"]
    pictures = [rung.picture for rung in found.rungs]
    rates = [r for rung in found.rungs for r in (rung.ceiling, rung.advised, rung.floor) if r]
    codecs = list(dict.fromkeys(rung.codec for rung in found.rungs if rung.codec))
    video["shapes"] = list(dict.fromkeys(_usual_shape(picture) for picture in pictures))
    video["largest"] = str(Picture(max(p.width for p in pictures), max(p.height for p in pictures)))
    video["fastest"] = frame_rate_text(max(rung.frame_rate for rung in found.rungs))
    video["ceiling"] = f"{max(rates).kbps:g} kbit/s"
    video["codecs"] = codecs or video["codecs"]
    sound = [rung.audio for rung in found.rungs if rung.audio]
    if sound:
        least = min(min(sound).kbps, 96)
        document["audio"] |= {"least": f"{least:g} kbit/s", "most": str(max(sound).in_kbps())}
    seconds = {rung.keyframes_seconds for rung in found.rungs if rung.keyframes_seconds}
    if seconds:
        video["keyframes"] = f"{min(seconds):g} s"
    document["rungs"] = [
        {
            "picture": str(rung.picture),
            "frame_rate": frame_rate_text(rung.frame_rate),
            **({"codec": rung.codec} if rung.codec else {}),
            **{
                key: f"{rate.kbps:g} kbit/s"
                for key in ("floor", "advised", "ceiling")
                if (rate := getattr(rung, key)) is not None
            },
        }
        for rung in found.rungs
    ]
    guide = guide_of(document)
    silent = ["transports", "delivery.transcodes", "video.rate_control", "audio.codecs",
              "audio.least", "audio.most", "audio.sample_rates_hz", "audio.channels"]  # fmt: skip
    silent = [key for key in silent if not (sound and key == "audio.most")]
    silent += [] if seconds else ["video.keyframes"]
    silent += [] if codecs else ["video.codecs"]
    return _write(path, guide_toml(guide, dict.fromkeys(silent, UNCHECKED)))


def _usual_shape(picture: Picture) -> str:
    usual = ("16:9", "9:16", "4:3", "1:1", "3:4", "21:9")
    named = next((s for s in usual if Shape.parse(s).fits(picture)), None)
    return named or str(picture.shape)


def _write(path: Path, text: str) -> Guide:
    """Write a guide's text and, beside it, the schema its first line names; read it back."""
    write_text(path, text)
    write_text(path.parent / SCHEMA_NAME, guide_schema())
    return read_guide(path)


def compared(old: str, new: str, folder: Path | None = None) -> tuple[Guide, Guide, list[Change]]:
    """Two guides, by name or file, and every key that differs."""
    before, after = load_guide(old, folder), load_guide(new, folder)
    return before, after, list(changes(before, after))


def guide_text(name: str, folder: Path | None = None) -> str:
    """The text of a guide's file, comments and all."""
    path = guide_path(name, folder) if not name.endswith(".toml") else Path(name)
    if path is None:
        return bundled_guide_text(name)
    return path.read_text(encoding="utf-8-sig")


def plan_changes(before: Guide, after: Guide, upload: str | None) -> list[Change] | None:
    """What differs in the settings planned for two guides on one's own line.

    Args:
        before: one guide.
        after: the other.
        upload: a bare number to plan from; else the kept runs.

    Returns:
        Settings that differ; None when there is no run and no number.
    """
    try:
        uplink = uplink_from_history() if upload is None else uplink_from_number(upload)
    except NotFoundError:
        return None
    table = quality_table()
    flat = []
    for guide in (before, after):
        show = Show(
            source=Picture(1920, 1080),
            frame_rate=Fraction(60),
            motion="lively",
            destinations=(Destination(platform=guide.name),),
        )
        planned = plan(uplink, show, {guide.name: guide}, table, __version__).destinations[0]
        video, audio = planned.video, planned.audio
        part = {"feasible": str(planned.feasible)}
        part |= {f"video.{k}": str(v) for k, v in (video.model_dump() if video else {}).items()}
        part |= {f"audio.{k}": str(v) for k, v in (audio.model_dump() if audio else {}).items()}
        flat.append(part)
    keys = list(dict.fromkeys([*flat[0], *flat[1]]))
    return [
        Change(key=key, before=flat[0].get(key, ""), after=flat[1].get(key, ""))
        for key in keys
        if flat[0].get(key) != flat[1].get(key)
    ]


def _today() -> date:
    return datetime.now(UTC).date()
