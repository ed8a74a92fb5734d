"""Writing documents to files; of a plan, the extension says how."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import tomlkit

from eager_kestrel.core.checks.settings import settings_of
from eager_kestrel.core.errors import InputError, NoPlanError
from eager_kestrel.core.plan.exports import (
    command_line,
    ffmpeg_arguments,
    gstreamer_arguments,
    plan_csv,
    plan_markdown,
)
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.files.documents import write_text

COMMANDS: dict[str, tuple[str, Callable[[DestinationPlan], list[str]]]] = {
    "ffmpeg": ("ffmpeg", ffmpeg_arguments),
    "gstreamer": ("gst-launch-1.0", gstreamer_arguments),
}


def command_for(plan: Plan, framework: str) -> str:
    """The command line of ``ffmpeg`` or ``gstreamer`` that sends a plan's first destination.

    Raises:
        InputError: another framework.
        NoPlanError: the destination has no settings.
    """
    if framework not in COMMANDS:
        raise InputError(f'"{framework}" is not known', f"choose from {', '.join(COMMANDS)}")
    program, arguments = COMMANDS[framework]
    return command_line(program, arguments(_first(plan)))


def write_plan(plan: Plan, path: Path) -> None:
    """Write a plan as ``.json``, ``.toml`` (settings), ``.csv`` or ``.md``.

    Raises:
        InputError: another kind of file.
        NoPlanError: settings are asked for and there are none.
        StorageError: the disk would not take it.
    """
    writers: dict[str, Callable[[Plan], str]] = {
        ".json": lambda p: p.model_dump_json(indent=2) + "\n",
        ".toml": _settings_toml,
        ".csv": plan_csv,
        ".md": plan_markdown,
    }
    writer = writers.get(path.suffix.lower())
    if writer is None:
        raise InputError(f'"{path.name}" has no known kind', "name it .json, .toml, .csv or .md")
    write_text(path, writer(plan))


def _settings_toml(plan: Plan) -> str:
    settings = settings_of(_first(plan))
    return tomlkit.dumps(settings.model_dump(mode="json", exclude_none=True))


def _first(plan: Plan) -> DestinationPlan:
    first = plan.destinations[0]
    if not first.feasible:
        raise NoPlanError(
            f"no settings for {first.title}: {first.infeasible_because}", "free some upload"
        )
    return first


def write_document(path: Path, document: dict[str, Any]) -> None:
    """Write a JSON document whole or not at all.

    Raises:
        StorageError: the disk would not take it.
    """
    write_text(path, json.dumps(document, indent=2, ensure_ascii=False) + "\n")
