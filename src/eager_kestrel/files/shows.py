"""Shows on disk: a user's own files, and the four of the bundled scenario by name."""

from __future__ import annotations

from pathlib import Path

from eager_kestrel.core.errors import FormatError, NotFoundError, nearest_name
from eager_kestrel.core.show.show import Show
from eager_kestrel.files.documents import read_bounded
from eager_kestrel.files.home import DATA, bundled_names
from eager_kestrel.files.toml import MOST_BYTES, read_model

USUAL = "show.toml"
"""Taken from the folder one is in when nothing else is said."""


def show_names() -> list[str]:
    """The bundled shows, sorted."""
    return bundled_names("shows", ".toml")


def load_show(name: str) -> Show:
    """A show from a file, or a bundled one by name.

    Raises:
        NotFoundError: there is none; suggests one.
        FormatError: the file is broken; names the line.
        StorageError: it cannot be read.
    """
    path = Path(name)
    if path.is_file() and path.suffix.lower() == ".json":
        raise FormatError("a show is a TOML file", "write NAME.toml; start makes one", name)
    if path.is_file() or path.suffix == ".toml" or len(path.parts) > 1:
        return read_show(path)
    if name not in show_names():
        raise NotFoundError(
            f'no show "{name}"', f"{nearest_name(name, show_names(), '')}, or name a .toml file"
        )
    return bundled_show(name)


def read_show(path: Path) -> Show:
    """The show of a file.

    Raises:
        FormatError: the file is broken; names the line.
        StorageError: it cannot be read.
    """
    return read_model(read_bounded(path, MOST_BYTES), Show, "show", str(path))


COMMENTS = {
    "source": "what your camera or screen gives",
    "shape": "of the picture, since the source's pixels are not square",
    "source_fps": "frames a second of the source",
    "motion": "still, calm, lively or hectic",
    "prefer": "smooth or sharp, where upload does not hold both",
    "audio": "voice or music",
    "safe_share": "of the connection; the rest is for its ups and downs",
    "stutter": "seconds of stutter an hour that are accepted",
    "lasts": "one show",
    "cap": "of data a month",
    "resolution": "to be sent, whatever looks better",
    "fps": "to be sent, whatever looks better",
    "fit": "crop or pad, where a platform wants another shape",
    "interlaced": "the source comes in fields; source_fps counts them",
    "smallest_text": "how high the smallest letters are that must stay legible",
    "days": "it begins on; runs of these days count",
    "at": "it begins; runs near it count",
    "upload": "as you gave it; what is measured takes its place",
    "footage": "a clip of your own, or as trial --save-as named it",
    "viewers": "the slowest download among your viewers",
    "hours_a_month": "you stream, to reckon data",
    "reserves.rate": "kept back from the stream",
    "destinations.weight": "how much its quality counts beside the others'",
    "destinations.min_quality": "0 to 1; below it the destination is rather left out",
    "destinations.encode": "own, shared or either",
    "machine.share": "of the encoders' speed that may be used",
}
ALWAYS = {"format", "safe_share", "audio", "hours_a_month"}
"""Written even where they are as usual, since people want to turn them."""


def show_toml(show: Show) -> str:
    """A show as commented TOML; reading it back gives the same show."""
    said = show.model_dump(exclude_defaults=True, exclude_none=True)
    said |= show.model_dump(include=ALWAYS)
    import tomlkit

    from eager_kestrel.files.toml_writing import fill

    document = tomlkit.document()
    fill(document, {key: said[key] for key in Show.model_fields if key in said}, COMMENTS)
    title = show.title or "A show"
    return f"# {title}. Plan it with: eager-kestrel plan FILE\n" + tomlkit.dumps(document)


def bundled_show(name: str) -> Show:
    """A show of the scenario."""
    where = f"bundled show {name}"
    return read_model((DATA / "shows" / f"{name}.toml").read_bytes(), Show, "show", where)
