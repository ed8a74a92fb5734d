"""Small documents kept beside the history, each whole or not at all."""

from __future__ import annotations

from typing import TypeVar

from pydantic import BaseModel, ValidationError

from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.home import data_home, storage_error
from eager_kestrel.files.plans import read_json

M = TypeVar("M", bound=BaseModel)


def read_kept(name: str, kind: str, model: type[M]) -> M | None:
    """A document of the program's own folder; None when there is none.

    Args:
        name: of the file.
        kind: as its ``format`` says.
        model: to read it as.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    path = data_home() / name
    try:
        raw = path.read_bytes()
    except FileNotFoundError:
        return None
    except OSError as error:
        raise storage_error(error, str(path)) from None
    document = read_json(raw, str(path))
    require_format(document.get("format") if isinstance(document, dict) else None, kind, str(path))
    try:
        return model.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it, or move it away", str(path)) from None


def write_kept(name: str, document: BaseModel) -> None:
    """Keep it.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_text(data_home() / name, document.model_dump_json(indent=2) + "\n")
