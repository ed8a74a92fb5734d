"""What differs between two guides, key by key."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from eager_kestrel.core.results import Change

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide

ROW_NAMES = ("resolution", "frame_rate", "codec", "transport", "name")
"""What a row is for; it stands in the row's own key."""


def changes(old: Guide, new: Guide) -> tuple[Change, ...]:
    """Every key that differs, in the order of the model; rows by what they are for."""
    return tuple(text_changes(_flat(old), _flat(new)))


def text_changes(before: dict[str, str], after: dict[str, str]) -> list[Change]:
    """Every key that differs, those of the first in order, then those only the second has."""
    return [
        Change(key=key, before=before.get(key, ""), after=after.get(key, ""))
        for key in dict.fromkeys([*before, *after])
        if before.get(key, "") != after.get(key, "")
    ]


def _flat(guide: Guide) -> dict[str, str]:
    flat: dict[str, str] = {}
    _flatten(guide.model_dump(mode="json"), "", flat)
    return flat


def _flatten(value: Any, path: str, flat: dict[str, str]) -> None:
    if isinstance(value, dict):
        for key, part in value.items():
            _flatten(part, f"{path}.{key}".lstrip("."), flat)
    elif isinstance(value, list) and value and isinstance(value[0], dict):
        for number, part in enumerate(value):
            said = {k: v for k, v in part.items() if k not in ROW_NAMES}
            _flatten(said, f"{path}[{_row_name(part, number)}]", flat)
    elif isinstance(value, list):
        flat[path] = ", ".join(map(str, value))
    elif value is not None:
        flat[path] = str(value)


def _row_name(row: dict[str, Any], number: int) -> str:
    if "resolution" in row:
        extras = [str(row[k]) for k in ("codec", "transport") if row.get(k)]
        return " ".join([str(row["resolution"]), "at", str(row["frame_rate"]), *extras])
    return str(row.get("name", number))
