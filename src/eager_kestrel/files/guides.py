"""Guides on disk: the bundled ones, and the user's own, which replace bundled ones by name."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from eager_kestrel.core.errors import FormatError, KestrelError, NotFoundError, nearest_name
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.files.documents import read_bounded
from eager_kestrel.files.home import DATA, bundled_names, guide_folders
from eager_kestrel.files.toml import MOST_BYTES, faults_of, read_model

if TYPE_CHECKING:
    from eager_kestrel.core.show.show import Destination


def guide_names() -> list[str]:
    """Every platform there is a guide for, sorted."""
    names = set(bundled_names("guides", ".toml"))
    for folder in guide_folders():
        if folder.is_dir():
            names |= {path.stem for path in folder.glob("*.toml")}
    return sorted(names)


def own_guide_names() -> list[str]:
    """Platforms of the user's own guides, sorted; the bundled ones are made up."""
    return [name for name in guide_names() if guide_path(name) is not None]


def load_guide(name: str) -> Guide:
    """The guide of a platform.

    Raises:
        NotFoundError: there is none of that name; suggests one.
        FormatError: the file is broken; names the line.
        StorageError: it cannot be read.
    """
    if name.endswith(".toml") or "/" in name:
        return read_guide(Path(name))
    path = guide_path(name)
    if path is not None:
        return _named(read_guide(path), name, path)
    raw = (DATA / "guides" / f"{name}.toml").read_bytes()
    return read_model(raw, Guide, "guide", f"bundled guide {name}")


def guide_named(written: str) -> str | None:
    """Return the name of a guide, in upper or lower case, or None if there is no such guide."""
    names = guide_names()
    plain = written.strip().lower()
    if written in names or plain in names:
        return written if written in names else plain
    return next((g.name for g in whole_guides() if g.title.lower() == plain), None)


def whole_guides() -> Iterator[Guide]:
    """Every guide that can be read; one that cannot is told in a line, and stops nothing."""
    for name in guide_names():
        try:
            yield load_guide(name)
        except KestrelError as error:
            import logging

            logging.getLogger(__name__).warning("passed over a broken guide: %s", error.line())


def guide_at(host: str | None) -> Guide | None:
    """The guide that names a host among its ingest servers; None where none does."""
    for guide in whole_guides():
        if any(urlsplit(point.url).hostname == host for point in guide.servers):
            return guide
    return None


def guide_for(place: Destination) -> Guide:
    """The guide of a destination, under its tier; raises as :func:`load_guide` does."""
    return load_guide(place.platform).under(place.tier)


def guide_path(name: str) -> Path | None:
    """The user's file a guide of that name comes from; None when it is a bundled one.

    Raises:
        NotFoundError: there is none of that name; suggests one.
    """
    for folder in guide_folders():
        path = folder / f"{name}.toml"
        if path.is_file():
            return path
    if name in bundled_names("guides", ".toml"):
        return None
    advice = nearest_name(name, guide_names(), "write one")
    if not advice.startswith("write"):
        advice += "; or bring its guideline page: eager-kestrel guides import PAGE --name NAME"
    raise NotFoundError(f'no guide for "{name}"', advice)


def read_guide(path: Path) -> Guide:
    """A guide from a file."""
    return guide_from(read_bounded(path, MOST_BYTES, "check the file"), path)


def guide_from(raw: bytes, path: Path) -> Guide:
    """A guide from a file's bytes.

    Raises:
        FormatError: they are none; names the line.
    """
    return read_model(raw, Guide, "guide", str(path))


def guide_faults(path: Path) -> list[FormatError]:
    """Everything that is wrong with a guide's file.

    Raises:
        StorageError: it cannot be read.
    """
    raw = read_bounded(path, MOST_BYTES, "check the file")
    found = faults_of(raw, Guide, "guide", str(path))
    if not found:
        guide = read_model(raw, Guide, "guide", str(path))
        try:
            _named(guide, path.stem, path)
        except FormatError as error:
            return [error]
    return found


def _named(guide: Guide, name: str, path: Path) -> Guide:
    if guide.name != name:
        raise FormatError(
            f'its name is "{guide.name}" but the file is called "{name}"',
            "make them the same",
            str(path),
        )
    return guide


SCHEMA_NAME = "guide.schema.json"
SCHEMA_LINE = f"#:schema ./{SCHEMA_NAME}"
"""Editors that know TOML schemas read this line."""

COMMENTS = {
    "checked": "the day you held this against the source",
    "transports": "in the order the platform prefers",
    "video.shapes": "aspect ratios it takes",
    "video.resolutions": "only these sizes",
    "video.max_resolution": "no side longer than here",
    "video.max_frame_rate": "any customary frame rate up to this",
    "video.max_bitrate": "the most video may be sent at",
    "video.keyframes": "exactly this, or { max = ..., recommended = ... }",
    "video.rate_control": "constant, variable or both",
    "video.max_b_frames": "the most in a row",
    "audio.min_bitrate": "kept even on poor connections",
    "private.key_suffix": "behind the key, nobody sees the stream",
    "unverified": "guesses; take a key out once you have looked it up",
    "delivery.transcodes": "always, when there is capacity, or never",
}


def guide_toml(
    guide: Guide, comments: dict[str, str] | None = None, unread: Sequence[str] = ()
) -> str:
    """A guide as commented TOML; reading it back gives the same guide."""
    said = COMMENTS | (comments or {})
    dumped = guide.model_dump(exclude_defaults=True, exclude_none=True)
    import tomlkit

    from eager_kestrel.files.toml_writing import fill

    document = tomlkit.document()
    document.add(tomlkit.comment(SCHEMA_LINE.removeprefix("#").lstrip()))
    text_head = f"# Ingest guidelines of {guide.title}.\n"
    text_head += "".join(f"# Not understood, look it up: {line}\n" for line in unread)
    fill(document, {"format": guide.format, **dumped}, said)
    body = tomlkit.dumps(document)
    return SCHEMA_LINE + "\n" + text_head + body.split("\n", 1)[1]


def template(name: str, title: str, today: str) -> str:
    """The bundled template, filled in far enough to pass its own check."""
    text = (DATA / "templates" / "guide.toml").read_text(encoding="utf-8")
    return text.replace("@NAME@", name).replace("@TITLE@", title).replace("@TODAY@", today)
