"""The latest plan, kept so that words can be explained with its numbers."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from eager_kestrel.core.errors import StorageError
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.files.documents import write_text
from eager_kestrel.files.home import data_home

NAME = "latest-plan.json"


def latest_path() -> Path:
    """Where it is kept."""
    return data_home() / NAME


def keep_latest(document: dict[str, Any]) -> None:
    """Keep a plan's document; a disk that does not take it is no reason to fail."""
    with contextlib.suppress(StorageError):
        write_text(latest_path(), json.dumps(document, ensure_ascii=False))


def latest_plan() -> Plan | None:
    """The latest plan; None when there is none that this version reads."""
    try:
        return Plan.model_validate_json(latest_path().read_bytes())
    except (OSError, ValidationError):
        return None
