"""What is kept beside the history, a JSON document a file."""

from __future__ import annotations

from typing import TYPE_CHECKING, TypeVar

from pydantic import BaseModel, ValidationError

from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError, MissingError
from eager_kestrel.files.documents import MOST_DOCUMENT_BYTES, read_bounded, read_json, write_text
from eager_kestrel.files.home import data_home

if TYPE_CHECKING:
    from eager_kestrel.core.show.machine import MeasuredMachine


M = TypeVar("M", bound=BaseModel)


def read_kept(name: str, kind: str, model: type[M]) -> M | None:
    """A document of the program's own folder; None when there is none.

    Args:
        kind: as its ``format`` says.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    path = data_home() / name
    try:
        raw = read_bounded(path, MOST_DOCUMENT_BYTES)
    except MissingError:
        return None
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
    write_text(data_home() / name, document.model_dump_json(indent=2) + "\n", private=True)


MACHINE_FILE = "machine.json"


def is_measured() -> bool:
    """Whether there is a file of figures."""
    return (data_home() / MACHINE_FILE).exists()


def read_machine() -> MeasuredMachine | None:
    """What was measured last; None when nothing was.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    from eager_kestrel.core.show.machine import MeasuredMachine

    return read_kept(MACHINE_FILE, "machine", MeasuredMachine)


def write_machine(measured: MeasuredMachine) -> None:
    """Keep it.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_kept(MACHINE_FILE, measured)
