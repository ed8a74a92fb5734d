"""The JSON Schema of every kind of document, described by the text under each field."""

from __future__ import annotations

import ast
import importlib
import inspect
import json
import textwrap
from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from eager_kestrel.core.document import format_name
from eager_kestrel.core.errors import NotFoundError, nearest_name

KINDS: dict[str, tuple[str, str]] = {
    "guide": ("guide.guide", "Guide"),
    "show": ("show.show", "Show"),
    "settings": ("settings.values", "Settings"),
    "run": ("connection.run", "RunDocument"),
    "runs": ("connection.run", "Export"),
    "run-list": ("connection.run", "RunList"),
    "run-comparison": ("connection.run", "RunComparison"),
    "import": ("results", "ImportResult"),
    "schedule": ("connection.pooling", "Schedule"),
    "endpoints": ("connection.endpoints", "NamedEndpoints"),
    "counted": ("connection.summarising", "EndpointCount"),
    "hours": ("connection.uplink", "Hours"),
    "ranking": ("connection.endpoints", "Ranking"),
    "rankings": ("connection.endpoints", "Rankings"),
    "guide-list": ("results", "GuideList"),
    "guide-check": ("results", "GuideCheck"),
    "guide-diff": ("results", "GuideDiff"),
    "questions": ("guide.questions", "Questions"),
    "plan": ("plan.plan", "Plan"),
    "machine": ("show.machine", "MeasuredMachine"),
    "trial": ("footage", "Trial"),
    "trial-report": ("plan.trial_report", "TrialReport"),
    "footage": ("footage", "Footage"),
    "forecast": ("forecast.forecast", "Forecast"),
    "need": ("choice.what_if", "Needs"),
    "comparison": ("choice.what_if", "Comparison"),
    "sweep": ("choice.what_if", "Sweep"),
    "findings": ("checks.findings", "Findings"),
    "tonight": ("checks.findings", "TonightCheck"),
    "recording": ("settings.recording", "Recording"),
    "watch": ("connection.broadcast", "Now"),
    "broadcast": ("connection.broadcast", "Broadcast"),
    "review": ("watching.review", "Review"),
    "rehearsal": ("checks.rehearsal", "Rehearsal"),
    "rehearsals": ("checks.rehearsal", "Rehearsals"),
    "proofs": ("checks.findings", "Proofs"),
    "received": ("checks.findings", "ReceivedList"),
    "explanation": ("plan.glossary", "Explained"),
    "terms": ("results", "TermList"),
    "practice": ("results", "PracticeAddress"),
    "far-end": ("results", "FarEndAddress"),
    "demo": ("watching.review", "DemoStory"),
}
"""By the kind in a document's ``format`` line, where it is defined."""
TITLES = {"guide": f"Ingest guidelines of one platform, {format_name('guide')}"}


def document_kinds() -> list[str]:
    """Every kind of document."""
    return list(KINDS)


def document_schema(kind: str) -> str:
    """The JSON Schema of a kind of document.

    Raises:
        NotFoundError: there is no such kind; suggests one.
    """
    if kind not in KINDS:
        raise NotFoundError(
            f'no document is called "{kind}"', nearest_name(kind, document_kinds(), "")
        )
    module, name = KINDS[kind]
    model: type[BaseModel] = getattr(importlib.import_module(f"eager_kestrel.core.{module}"), name)
    schema = model.model_json_schema(mode="validation")
    for inner in _models(model, set()):
        part = schema if inner is model else schema.get("$defs", {}).get(inner.__name__)
        if part:
            _describe(part, inner)
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = TITLES.get(kind, format_name(kind))
    return json.dumps(schema, indent=2) + "\n"


def _models(annotation: object, seen: set[object]) -> Iterator[type[BaseModel]]:
    """Every model inside a type."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        if annotation in seen:
            return
        seen.add(annotation)
        yield annotation
        for field in annotation.model_fields.values():
            yield from _models(field.annotation, seen)
    for part in getattr(annotation, "__args__", ()):
        yield from _models(part, seen)


def _describe(schema: dict[str, Any], model: type[BaseModel]) -> None:
    """Put the docstring under each field into its schema."""
    body = ast.parse(textwrap.dedent(inspect.getsource(model))).body[0]
    assert isinstance(body, ast.ClassDef)
    for field, text in zip(body.body, body.body[1:], strict=False):
        if (
            isinstance(field, ast.AnnAssign)
            and isinstance(field.target, ast.Name)
            and isinstance(text, ast.Expr)
            and isinstance(text.value, ast.Constant)
        ):
            described = schema.get("properties", {}).get(field.target.id)
            if isinstance(described, dict):
                described["description"] = str(text.value.value)
