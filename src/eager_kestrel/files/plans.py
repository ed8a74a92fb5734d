"""Plans and settings on disk."""

from __future__ import annotations

import json
from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.core.document import first_error, format_name, require_format
from eager_kestrel.core.errors import FormatError, InputError, StorageError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.files.documents import MOST_DOCUMENT_BYTES, read_bounded, read_json, write_text
from eager_kestrel.files.home import data_home
from eager_kestrel.files.toml import read_model

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
    return plan_of(read_json(read_bounded(Path(name), MOST_DOCUMENT_BYTES), name), name)


def keep_latest(plan: Plan) -> None:
    """Keep a plan as the latest.

    Raises:
        StorageError: the disk does not take it; the latest is still the one before.
    """
    document = json.dumps(plan.model_dump(mode="json"), ensure_ascii=False)
    write_text(data_home() / PLAN_FILE, document, private=True)


def latest_plan() -> Plan | None:
    """The latest plan; None when there is none that this version reads."""
    try:
        raw = read_bounded(data_home() / PLAN_FILE, MOST_DOCUMENT_BYTES)
        return plan_of(read_json(raw, PLAN_FILE), PLAN_FILE)
    except (StorageError, FormatError):
        return None


def read_settings(path: Path, platform: str | None = None) -> Settings:
    """Settings from TOML or JSON, or those of a plan.

    Args:
        platform: which destination of a plan; the first when it has none of that name.

    Raises:
        FormatError: it is neither settings nor a plan; names line or key.
        StorageError: it cannot be read.
    """
    where, raw = str(path), read_bounded(path, MOST_DOCUMENT_BYTES)
    if not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return read_model(raw, Settings, "settings", where)
    document = read_json(raw, where)
    if is_plan(document):
        plan = plan_of(document, where)
        fitting = [d for d in plan.destinations if platform in (d.name, d.platform)]
        exact = [d for d in fitting if d.name == platform]
        chosen = next(iter([*exact, *fitting, *plan.destinations]))
        if not chosen.feasible:
            raise FormatError(f"the plan has no settings for {chosen.title}", "plan again", where)
        return chosen.settings
    try:
        return Settings.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it", where) from None


def plan_in(path: Path) -> Plan | None:
    """The plan in a file; None when it holds something else.

    Raises:
        FormatError: it says that it is a plan, and is none.
        StorageError: it cannot be read.
    """
    raw = read_bounded(path, MOST_DOCUMENT_BYTES)
    if not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return None
    document = read_json(raw, str(path))
    return plan_of(document, str(path)) if is_plan(document) else None
