"""Plans on disk: a file somebody names, and the latest one, kept to explain words with."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.core.document import first_error, format_name, require_format
from eager_kestrel.core.errors import FormatError, InputError, StorageError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.files.documents import read_json, write_text
from eager_kestrel.files.home import data_home, storage_error

LATEST = "latest"
"""The name that stands for the latest plan."""


PLAN_FILE = "latest-plan.json"


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
