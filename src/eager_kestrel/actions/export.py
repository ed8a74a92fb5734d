"""Write documents to files; the extension of the name decides how a plan is written."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import InputError, NoPlanError
from eager_kestrel.core.plan.exports import (
    command_line,
    ffmpeg_arguments,
    gstreamer_arguments,
    plan_csv,
)
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.files.documents import write_text

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan

COMMANDS: dict[str, tuple[str, Callable[[DestinationPlan], list[str]]]] = {
    "ffmpeg": ("ffmpeg", ffmpeg_arguments),
    "gstreamer": ("gst-launch-1.0", gstreamer_arguments),
}


def command_for(plan: Plan, framework: str) -> str:
    """The command lines of ``ffmpeg`` or ``gstreamer`` that send a plan, one a destination.

    Several stand under a comment each, so that none is taken for all.

    Raises:
        InputError: another framework.
        NoPlanError: a destination has no settings.
    """
    if framework not in COMMANDS:
        raise InputError(f'"{framework}" is not known', f"choose from {', '.join(COMMANDS)}")
    program, arguments = COMMANDS[framework]
    feasible = [destination for destination in plan.destinations if destination.feasible] or [
        _first(plan)
    ]
    lines = [command_line(program, arguments(destination)) for destination in feasible]
    if len(plan.destinations) == 1:
        return lines[0]
    said = [
        f"# {destination.title}\n{line}" for destination, line in zip(feasible, lines, strict=True)
    ]
    said += [
        f"# {destination.title}: no settings ({destination.infeasible_because})"
        for destination in plan.destinations
        if not destination.feasible
    ]
    return "\n".join(said)


def write_plan(plan: Plan, path: Path) -> None:
    """Write a plan as ``.json``, ``.toml`` (settings) or ``.csv``.

    Raises:
        InputError: another kind of file.
        NoPlanError: settings are asked for and there are none.
        StorageError: the disk would not take it.
    """
    writers: dict[str, Callable[[Plan], str]] = {
        ".json": lambda p: p.model_dump_json(indent=2) + "\n",
        ".toml": _settings_toml,
        ".csv": plan_csv,
    }
    writer = writers.get(path.suffix.lower())
    if writer is None:
        raise InputError(
            f'"{path.name}" has no known kind', "name it .json, .toml, .csv, .md or .html"
        )
    write_text(path, writer(plan))


def _settings_toml(plan: Plan) -> str:
    if len(plan.destinations) > 1:
        names = " and ".join(destination.name for destination in plan.destinations)
        raise InputError(
            f"a settings file holds one destination, and this plan has {names}",
            f"plan one with --for {plan.destinations[0].name}, or name the file .json",
        )
    return settings_text(_first(plan).settings)


def settings_text(settings: Settings) -> str:
    """A settings file."""
    import tomlkit

    return tomlkit.dumps(settings.model_dump(mode="json", exclude_none=True))


def write_new(path: Path, text: str) -> None:
    """Write a file that is not there yet.

    Raises:
        InputError: it already exists.
        StorageError: the disk would not take it.
    """
    if path.exists():
        raise InputError(f"{path} already exists", "move it, or give another name")
    write_text(path, text)


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
