"""Settings on disk: TOML or JSON that somebody wrote, or those in a plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import ValidationError

from eager_kestrel.core.checks.settings import Settings, settings_of
from eager_kestrel.core.document import first_error
from eager_kestrel.core.errors import FormatError
from eager_kestrel.files.documents import read_json
from eager_kestrel.files.home import storage_error
from eager_kestrel.files.plans import is_plan, plan_of
from eager_kestrel.files.toml import read_model

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import Plan


def read_settings(path: Path, platform: str | None = None) -> Settings:
    """Settings from TOML or JSON, or those of a plan.

    Args:
        platform: which destination of a plan; the first when it has none of that name.

    Raises:
        FormatError: it is neither settings nor a plan; names line or key.
        StorageError: it cannot be read.
    """
    where = str(path)
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise storage_error(error, where) from None
    if not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return read_model(raw, Settings, "settings", where)
    document = read_json(raw, where)
    if is_plan(document):
        return _of_plan(plan_of(document, where), platform, where)
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
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise storage_error(error, str(path)) from None
    if not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return None
    document = read_json(raw, str(path))
    return plan_of(document, str(path)) if is_plan(document) else None


def _of_plan(plan: Plan, platform: str | None, where: str) -> Settings:
    fitting = [d for d in plan.destinations if platform in (d.name, d.platform)]
    exact = [d for d in fitting if d.name == platform]
    chosen = next(iter([*exact, *fitting, *plan.destinations]))
    if not chosen.feasible:
        raise FormatError(f"the plan has no settings for {chosen.title}", "plan again", where)
    return settings_of(chosen)
