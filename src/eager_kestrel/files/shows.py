"""Shows on disk: a user's own files, and the four of the bundled scenario by name."""

from __future__ import annotations

from pathlib import Path

from eager_kestrel.core.errors import NotFoundError
from eager_kestrel.core.names import nearest_name
from eager_kestrel.core.show.show import Show
from eager_kestrel.files.bundled import bundled_names, bundled_show
from eager_kestrel.files.home import storage_error
from eager_kestrel.files.toml import read_model

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
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    return read_model(raw, Show, "show", str(path))
