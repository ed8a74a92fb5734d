"""A plan, and whatever else is kept, as one page: self-contained HTML, or Markdown.

The page needs no script and no network; figures are SVG inside it.
"""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import InputError, StorageError
from eager_kestrel.core.plan import card_text as sheet
from eager_kestrel.core.plan.exports import cell, plan_markdown
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words import broadcasts as aired_words
from eager_kestrel.core.words import runs as run_words

if TYPE_CHECKING:
    from markupsafe import Markup

    from eager_kestrel.core.checks.findings import Findings
    from eager_kestrel.core.checks.rehearsal import Rehearsal
    from eager_kestrel.core.connection.hours import Hours
    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.plan.plan import DestinationPlan, Plan
    from eager_kestrel.core.watching.review import ReportMaterial, Review

KINDS = (".html", ".htm", ".md")


@dataclass(frozen=True, slots=True)
class TextLine:
    """A line of a section."""

    text: str
    state: str = ""
    """``held``, ``failed``, ``mind`` or nothing."""


@dataclass(frozen=True, slots=True)
class Section:
    """A part of the page that is there only when there is something to tell."""

    title: str
    lines: tuple[TextLine, ...] = ()
    columns: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()
    draw: Callable[[Path], None] | None = field(default=None, repr=False)


def require_page(path: Path) -> None:
    """Refuse a file name that is no page's, before any work is done.

    Raises:
        InputError: says which are.
    """
    if path.suffix.lower() not in KINDS:
        raise InputError(
            f'"{path.name}" is no page', "name it .html or .md; a browser prints it as .pdf"
        )


def page(told: ReportMaterial, kind: str) -> str:
    """The page as text.

    Args:
        told: what it tells.
        kind: ``.html`` or ``.md``.
    """
    sections = sections_of(told)
    return _markdown(told, sections) if kind == ".md" else _html(told, sections)


def sections_of(told: ReportMaterial) -> list[Section]:
    """Everything beside the plan that is there to be told."""
    found = []
    if told.forecast is not None:
        found.append(_forecast(told.forecast))
    if told.hours is not None and told.hours.hours:
        found.append(_hours(told.hours))
    if told.rehearsals:
        found.append(_rehearsals(told.rehearsals))
    if told.findings is not None:
        found.append(_findings(told.findings))
    if told.review is not None:
        found.append(_review(told.review))
    return found


def _forecast(found: Forecast) -> Section:
    from eager_kestrel.core.words.runs import hourly
    from eager_kestrel.report.connection_figures import save_forecast_figure

    return Section(
        "How much it would have stuttered",
        (
            TextLine(found.verdict, "held" if found.steps and found.steps[0].within else "mind"),
            *(TextLine(line) for line in found.unknown),
        ),
        ("settings", "stutter"),
        tuple(
            (step.settings, "not known" if step.stutter is None else hourly(step.stutter))
            for step in found.steps
        ),
        lambda path: save_forecast_figure(found, path),
    )


def _hours(found: Hours) -> Section:
    from eager_kestrel.report.connection_figures import save_hours_figure

    def rate(kbps: float | None) -> str:
        return "-" if kbps is None else str(Bitrate.from_kbps(kbps))

    return Section(
        "The connection by hour of day",
        (),
        ("hour", "runs", "typical", "floor"),
        tuple(
            (
                f"{hour.hour:02d}:00",
                str(hour.runs or hour.readings),
                rate(hour.typical_kbps),
                rate(hour.floor_kbps),
            )
            for hour in found.hours
        ),
        lambda path: save_hours_figure(found, path),
    )


def _rehearsals(found: tuple[Rehearsal, ...]) -> Section:
    return Section(
        "Rehearsed",
        tuple(
            TextLine(
                f"{one.platform}, {one.planned}: "
                + run_words.verdict(
                    one.verdict.text, one.verdict.limited_by, held=one.verdict.held
                ),
                "held" if one.verdict.held else "failed",
            )
            for one in found
        ),
    )


def _findings(found: Findings) -> Section:
    wrong = [one for one in found.findings if one.severity != "fine"]
    fine = len(found.findings) - len(wrong)
    holds = "1 rule holds" if fine == 1 else f"{fine} rules hold"
    said = TextLine(f"{found.breaches} broken, {holds}", "failed" if found.breaches else "held")
    return Section(
        "Checked",
        (said,),
        ("guide", "rule", "found", "wanted", "what to do") if wrong else (),
        tuple((one.label, one.rule, one.found, one.wanted, one.do) for one in wrong),
    )


def _review(found: Review) -> Section:
    from eager_kestrel.report.broadcast_figures import save_broadcast_figure

    broadcast = found.broadcast
    last = aired_words.for_how_long(
        broadcast.lasted_seconds, broadcast.typical_kbps, broadcast.planned_kbps
    )
    return Section(
        f"The last show, {broadcast.taken_at[:16].replace('T', ' ')}",
        (TextLine(f"{last}."), *(TextLine(line) for line in found.next_time)),
        ("at", "lasted", "fault", "what") if found.incidents else (),
        tuple(
            (
                one.at,
                f"{one.trouble.lasted_seconds:.0f} s",
                aired_words.CAUSES[one.trouble.cause],
                one.trouble.text,
            )
            for one in found.incidents
        ),
        lambda path: save_broadcast_figure(broadcast, path),
    )


def _place(plan: Plan, there: DestinationPlan) -> dict[str, Any]:
    steps = [
        f"{step.video.words} ({Bitrate.from_kbps(step.total_kbps).in_kbps()} in all)"
        for step in there.fallbacks
    ]
    return {
        "title": sheet.title_of(plan, there),
        "rows": sheet.card_rows(plan, there),
        "because": there.infeasible_because,
        "ingest": there.ingest,
        "steps": steps,
        "beside": sheet.beside(there),
        "reasons": there.reasons,
        "offers": [offer.text for offer in there.offers],
    }


def _html(told: ReportMaterial, sections: list[Section]) -> str:
    import jinja2

    from eager_kestrel.report.plan_figures import save_budget_figure

    plan = told.plan
    loader = jinja2.PackageLoader("eager_kestrel.report", "templates")
    environment = jinja2.Environment(loader=loader, autoescape=True, trim_blocks=True)
    drawn = [
        {
            "title": one.title,
            "lines": one.lines,
            "columns": one.columns,
            "rows": one.rows,
            "figure": "" if one.draw is None else _figure(one.draw, number),
        }
        for number, one in enumerate(sections)
    ]
    budget = _figure(lambda path: save_budget_figure(plan, path), len(sections))
    made = f"Planned {plan.made_at[:16].replace('T', ' ')}." if plan.made_at else ""
    return environment.get_template("page.html").render(
        title=plan.inputs.title or "Your stream",
        source=sheet.source_of(plan),
        made=made,
        warnings=plan.warnings,
        places=[_place(plan, there) for there in plan.destinations],
        division=sheet.division(plan),
        budget=sheet.budget_sums(plan),
        figures={"budget": budget},
        sections=drawn,
        data=[sheet.data_said(plan), sheet.copy_said(plan)],
        words=told.words,
        basis=sheet.basis(plan),
    )


def _figure(draw: Callable[[Path], None], number: int) -> Markup:
    """A figure as it stands in the page; the plotting library has escaped what is in it."""
    from markupsafe import Markup

    return Markup(_svg(draw, number))  # noqa: S704


def _svg(draw: Callable[[Path], None], number: int) -> str:
    """A figure as SVG to stand in a page: no header, and no name two figures could share."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "figure.svg")
        draw(path)
        text = path.read_text(encoding="utf-8")
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    text = re.sub(r'\bid="', f'id="f{number}-', text)
    return re.sub(r'(href="#|url\(#)', rf"\1f{number}-", text)


def _markdown(told: ReportMaterial, sections: list[Section]) -> str:
    lines = [plan_markdown(told.plan).rstrip(), ""]
    for section in sections:
        lines += [f"## {section.title}", ""]
        lines += [f"- {line.text}" for line in section.lines]
        if section.rows:
            lines += [
                "",
                "| " + " | ".join(section.columns) + " |",
                "|" + " --- |" * len(section.columns),
            ]
            lines += ["| " + " | ".join(cell(said) for said in row) + " |" for row in section.rows]
        lines.append("")
    if told.words:
        lines += ["## The words used", ""]
        lines += [f"- **{name}**: {said}" for name, said in told.words]
    return "\n".join(lines).rstrip() + "\n"


def write_page(told: ReportMaterial, path: Path) -> None:
    """Write the page; the extension says which kind.

    Raises:
        InputError: the file name is no page's.
        StorageError: the disk would not take it.
    """
    require_page(path)
    text = page(told, ".md" if path.suffix.lower() == ".md" else ".html")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        what = error.strerror or str(error)
        raise StorageError(what, "choose another place", str(path)) from None
