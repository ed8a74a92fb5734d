"""Check settings against guides and the upload, with what to set instead."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.checks.findings import Findings
from eager_kestrel.core.rules.advice import advise, with_advice
from eager_kestrel.core.rules.guide_rules import against_guide, against_upload
from eager_kestrel.core.words import settings as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.rules.finding import Finding
    from eager_kestrel.core.rules.settings import Settings


def check(settings: Settings, guides: Sequence[Guide], safe_kbps: float | None = None) -> Findings:
    """Hold settings against guides, and against the connection when it is known."""
    return check_each([(settings, guide) for guide in guides], safe_kbps)


def as_explained(found: Iterable[Finding], planned: Plan) -> list[Finding]:
    """Findings of a plan's settings; a recommendation it says it does not follow is no caution."""
    places = planned.destinations
    explained = {(there.name, one.rule) for there in places for one in there.not_followed}
    return [
        one.model_copy(update={"severity": "fine", "wanted": words.explained(one.wanted)})
        if one.severity == "caution" and (one.label, one.rule) in explained
        else one
        for one in found
    ]


def check_each(
    pairs: Sequence[tuple[Settings, Guide]],
    safe_kbps: float | None = None,
    planned: Plan | None = None,
) -> Findings:
    """Hold settings of their own against each of several guides, and all against the connection.

    Args:
        planned: the plan they are of.
    """
    found = [finding for settings, guide in pairs for finding in against_guide(settings, guide)]
    found += against_upload(pairs, safe_kbps)
    if planned is not None:
        found = as_explained(found, planned)
    if all(finding.severity == "fine" for finding in found):
        return Findings(findings=tuple(found))
    advice = advise(pairs, safe_kbps)
    return Findings(findings=with_advice(found, advice), advice=advice)
