"""What a report is made of, explanations with the latest plan's numbers, and documents as files.

The extension of a name decides how a plan is written.
"""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.actions.broadcasts import review
from eager_kestrel.actions.forecasting import ForecastOptions, forecast
from eager_kestrel.actions.what_if import hours
from eager_kestrel.core.checks.findings import Findings, Proofs
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.connection.uplink import Hours
from eager_kestrel.core.errors import InputError, KestrelError, NoPlanError, StorageError
from eager_kestrel.core.forecast.forecast import Forecast
from eager_kestrel.core.plan.exports import (
    command_line,
    ffmpeg_arguments,
    gstreamer_arguments,
    plan_csv,
)
from eager_kestrel.core.plan.glossary import Explained, Glossary, explained, numbers_of
from eager_kestrel.core.results import TermList
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.watching.review import DemoStory, ReportMaterial, Review
from eager_kestrel.files.documents import read_kept, write_kept, write_text
from eager_kestrel.files.home import bundled_toml
from eager_kestrel.files.plans import LATEST, latest_plan, read_plan

if TYPE_CHECKING:
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan


def terms() -> TermList:
    """Every word that is explained."""
    return TermList(terms=tuple(sorted(glossary().terms)))


def glossary() -> Glossary:
    """Every word."""
    return Glossary.model_validate(bundled_toml("terms.toml"))


def explain(word: str) -> Explained:
    """What a word or a question is about, and what it comes to in the latest plan.

    Raises:
        NotFoundError: the word is not known; suggests the nearest.
    """
    plan = latest_plan()
    numbers = {} if plan is None else numbers_of(plan)
    values = {name: value for name, (value, _) in numbers.get("reasons", {}).items()}
    name, term = glossary().find(word, values)
    if plan is None:
        return explained(name, term, numbers, None)
    title = plan.inputs.title or "your stream"
    where = " and ".join(destination.title for destination in plan.destinations)
    return explained(name, term, numbers, f"your latest plan: {title} on {where}")


FILE_NAME = "proofs.json"
SYMPTOMS = ("buffering", "dropped frames", "blurry", "stutters", "disconnects", "delay")
"""Explained by their causes, not as words."""


def gather_report(name: str = LATEST) -> ReportMaterial:
    """A plan, and whatever else is kept that is about the same.

    Args:
        name: a plan's file, or ``latest``.

    Raises:
        InputError: no plan was made yet.
        FormatError: the file is no plan.
    """
    plan = read_plan(name)
    platforms = {destination.platform for destination in plan.destinations}
    proofs = _proofs()
    found: dict[str, Hours | Forecast | Review | None] = dict.fromkeys(
        ("hours", "forecast", "review")
    )
    for key, ask in (
        ("hours", hours),
        ("forecast", lambda: forecast(name, ForecastOptions())),
        ("review", lambda: review(LATEST, name)),
    ):
        with contextlib.suppress(KestrelError):  # what is not there is left out
            found[key] = ask()
    by_hour, expected, last = found["hours"], found["forecast"], found["review"]
    aired = isinstance(last, Review) and last.broadcast.platform in platforms
    return ReportMaterial(
        plan=plan,
        words=_words(),
        hours=by_hour if isinstance(by_hour, Hours) else None,
        forecast=expected if isinstance(expected, Forecast) else None,
        rehearsals=tuple(one for one in proofs.rehearsals if one.platform in platforms),
        findings=proofs.findings
        if (
            proofs.findings is not None
            and any(one.platform in platforms for one in proofs.findings.findings)
        )
        else None,
        review=last if aired and isinstance(last, Review) else None,
    )


def told_by_demo(story: DemoStory) -> ReportMaterial:
    """What the demo went through, as a report has it."""
    return ReportMaterial(
        plan=story.plan,
        words=_words(),
        hours=None,
        forecast=None,
        rehearsals=(story.rehearsal,),
        findings=story.findings,
        review=None,
    )


def _words() -> tuple[tuple[str, str], ...]:
    """The words of the trade, and what they mean; symptoms are explained by their causes."""
    return tuple((n, term.text) for n, term in glossary().terms.items() if n not in SYMPTOMS)


def _proofs() -> Proofs:
    with contextlib.suppress(KestrelError):
        return read_kept(FILE_NAME, "proofs", Proofs) or Proofs()
    return Proofs()


def keep_rehearsals(found: Sequence[Rehearsal]) -> None:
    """Keep the latest rehearsals for a report; a full disk is no reason to fail."""
    slim = tuple(one.model_copy(update={"moments": ()}) for one in found)
    with contextlib.suppress(StorageError):
        write_kept(FILE_NAME, _proofs().model_copy(update={"rehearsals": slim}))


def keep_findings(found: Findings) -> None:
    """Keep what was checked last for a report; a full disk is no reason to fail."""
    slim = found.model_copy(update={"recording": None})
    with contextlib.suppress(StorageError):
        write_kept(FILE_NAME, _proofs().model_copy(update={"findings": slim}))


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
