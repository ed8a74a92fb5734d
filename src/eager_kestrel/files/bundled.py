"""What ships with the program: guides, traces, the quality table."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

DATA = Path(__file__).parent.parent / "data"


def bundled_guide_text(name: str) -> str:
    """The text of a bundled guide."""
    return (DATA / "guides" / f"{name}.toml").read_text(encoding="utf-8")


def bundled_toml(*path: str) -> dict[str, Any]:
    """A bundled TOML file."""
    return tomllib.loads(DATA.joinpath(*path).read_text(encoding="utf-8"))


def bundled_names(folder: str, suffix: str) -> list[str]:
    """Names of the bundled files of one kind, sorted."""
    return sorted(
        entry.name.removesuffix(suffix)
        for entry in (DATA / folder).iterdir()
        if entry.name.endswith(suffix)
    )
