"""TOML with comments, in an order people write it in."""

from __future__ import annotations

from typing import Any

import tomlkit
from tomlkit.items import AoT, InlineTable, Item, Table

INLINE = ("keyframes", "profiles", "max_level")
"""Tables so small that they stand in one line."""


def fill(table: Any, values: dict[str, Any], comments: dict[str, str], path: str = "") -> None:
    """Plain values first, then tables, then arrays of tables, as TOML wants them.

    Args:
        comments: by dotted key (``bitrates.0.resolution``), for plain values and small tables.
    """

    def kind(item: tuple[str, Any]) -> int:
        key, value = item
        if isinstance(value, dict) and key not in INLINE:
            return 1
        return 2 if _is_rows(value) else 0

    for key, value in sorted(values.items(), key=kind):
        here = f"{path}.{key}".lstrip(".")
        item = _item(key, value, here, comments)
        if here in comments and kind((key, value)) == 0:
            item.comment(comments[here])
        table.append(key, item)


def _is_rows(value: object) -> bool:
    return isinstance(value, list | tuple) and bool(value) and isinstance(value[0], dict)


def _item(key: str, value: Any, here: str, comments: dict[str, str]) -> Item:
    if isinstance(value, dict):
        nested: Table | InlineTable = (
            tomlkit.inline_table() if key in INLINE else tomlkit.table(is_super_table=False)
        )
        if key in INLINE:
            nested.update(value)
        else:
            fill(nested, value, comments, here)
        return nested
    if _is_rows(value):
        rows: AoT = tomlkit.aot()
        for number, row in enumerate(value):
            part = tomlkit.table()
            fill(part, row, comments, f"{here}.{number}")
            rows.append(part)
        return rows
    item: Item = tomlkit.item(list(value) if isinstance(value, tuple) else value)
    return item
