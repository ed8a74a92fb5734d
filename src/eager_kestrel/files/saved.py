"""What is kept beside the history: plans, the machine measured, endpoints by name."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from pydantic import BaseModel, ValidationError

from eager_kestrel.core.connection.endpoints import NamedEndpoints
from eager_kestrel.core.document import first_error, format_name, require_format
from eager_kestrel.core.errors import FormatError, InputError, StorageError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.home import data_home, storage_error

if TYPE_CHECKING:
    from eager_kestrel.core.show.machine import MeasuredMachine


LATEST = "latest"
"""The name that stands for the latest plan."""
PLAN_FILE = "latest-plan.json"


def read_json(raw: bytes, where: str) -> Any:
    """A JSON document.

    Raises:
        FormatError: it is none; names the connection.
    """
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        line = getattr(error, "lineno", 1)
        raise FormatError("not JSON", "correct it", f"{where}:{line}") from None


def is_plan(document: object) -> bool:
    """Whether a JSON document says that it is a plan."""
    return isinstance(document, dict) and document.get("format") == format_name("plan")


def plan_of(document: object, where: str) -> Plan:
    """The plan in a JSON document.

    Raises:
        FormatError: it is none, or of a version this program does not read.
    """
    require_format(document.get("format") if isinstance(document, dict) else None, "plan", where)
    try:
        return Plan.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "plan again", where) from None


def read_plan(name: str) -> Plan:
    """A plan's file, or ``latest``.

    Raises:
        FormatError: it is no plan.
        InputError: no plan was made yet.
        StorageError: it cannot be read.
    """
    if name == LATEST:
        plan = latest_plan()
        if plan is None:
            raise InputError("no plan was made yet", "run eager-kestrel plan, or name a plan file")
        return plan
    try:
        raw = Path(name).read_bytes()
    except OSError as error:
        raise storage_error(error, name) from None
    return plan_of(read_json(raw, name), name)


def keep_latest(plan: Plan) -> None:
    """Keep a plan as the latest; a disk that does not take it is no reason to fail."""
    document = json.dumps(plan.model_dump(mode="json"), ensure_ascii=False)
    with contextlib.suppress(StorageError):
        write_text(data_home() / PLAN_FILE, document)


def latest_plan() -> Plan | None:
    """The latest plan; None when there is none that this version reads."""
    try:
        raw = (data_home() / PLAN_FILE).read_bytes()
        return plan_of(read_json(raw, PLAN_FILE), PLAN_FILE)
    except (OSError, FormatError):
        return None


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


ENDPOINTS_FILE = "endpoints.json"


def read_endpoints() -> NamedEndpoints:
    """All that are kept; none when there is no file.

    Raises:
        FormatError: the file is damaged; it is left as it is.
        StorageError: it cannot be read.
    """
    return read_kept(ENDPOINTS_FILE, "endpoints", NamedEndpoints) or NamedEndpoints()


def write_endpoints(endpoints: NamedEndpoints) -> None:
    """Keep them.

    Raises:
        StorageError: the disk would not take it; what stood there before still does.
    """
    write_kept(ENDPOINTS_FILE, endpoints)
