"""What every document shares: frozen, strict about unknown keys, named by its ``format``."""

from __future__ import annotations

import re

from pydantic import BaseModel, ConfigDict, ValidationError

from eager_kestrel.core.errors import FormatError


class Frozen(BaseModel):
    """An immutable value; an unknown key is an error, not a surprise later."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


def first_error(error: ValidationError) -> str:
    """What pydantic found first, as ``key: what`` in one line; unknown keys before all else."""
    first = min(error.errors(), key=lambda found: found["type"] != "extra_forbidden")
    key = ".".join(str(part) for part in first["loc"])
    what = str(first["msg"]).removeprefix("Value error, ")
    return f"{key}: {what}" if key else what


def format_name(kind: str) -> str:
    """``eager-kestrel/<kind>/1``."""
    return f"eager-kestrel/{kind}/1"


def require_format(found: object, kind: str, where: str) -> None:
    """Refuse a document of another kind or major version.

    Raises:
        FormatError: says what it is instead and what to do.
    """
    wanted = format_name(kind)
    if found == wanted:
        return
    match = re.fullmatch(r"eager-kestrel/([a-z-]+)/([0-9]+)", str(found))
    if match is None:
        raise FormatError(f"no format line for a {kind}", f'write format = "{wanted}"', where)
    if match[1] != kind:
        raise FormatError(f"this is a {match[1]}, not a {kind}", f"give a {kind} file", where)
    raise FormatError(
        f"{kind} version {match[2]} is newer than this program reads (1)", "update it", where
    )
