"""What a report is made of, and explanations with the numbers of the latest plan."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from eager_kestrel.actions.broadcasts import review
from eager_kestrel.actions.forecasting import ForecastOptions, forecast
from eager_kestrel.actions.what_if import hours
from eager_kestrel.core.checks.findings import Findings, Proofs
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.connection.uplink import Hours
from eager_kestrel.core.errors import KestrelError, StorageError
from eager_kestrel.core.forecast.forecast import Forecast
from eager_kestrel.core.plan.glossary import Explained, Glossary, explained, numbers_of
from eager_kestrel.core.results import TermList
from eager_kestrel.core.watching.review import DemoStory, ReportMaterial, Review
from eager_kestrel.files.documents import read_kept, write_kept
from eager_kestrel.files.home import bundled_toml
from eager_kestrel.files.plans import LATEST, latest_plan, read_plan


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
