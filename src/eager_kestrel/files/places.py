"""Named places on disk: one small file beside the history."""

from __future__ import annotations

from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.line.places import Places
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.home import data_home, storage_error
from eager_kestrel.files.plans import read_json

FILE_NAME = "places.json"


def _path() -> Path:
    return data_home() / FILE_NAME


def read_places() -> Places:
    """All that are kept; none when there is no file.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    path = _path()
    try:
        raw = path.read_bytes()
    except FileNotFoundError:
        return Places()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    document = read_json(raw, str(path))
    require_format(
        document.get("format") if isinstance(document, dict) else None, "places", str(path)
    )
    try:
        return Places.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it, or move it away", str(path)) from None


def write_places(places: Places) -> None:
    """Keep them.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_text(_path(), places.model_dump_json(indent=2) + "\n")
