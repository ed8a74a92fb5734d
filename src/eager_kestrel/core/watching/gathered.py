"""Everything there is to tell of a plan: what it rests on, what proved it, how its show went."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from eager_kestrel.core.checks.findings import Findings
    from eager_kestrel.core.checks.rehearsal import Rehearsal
    from eager_kestrel.core.forecast.forecast import Forecast
    from eager_kestrel.core.line.hours import Hours
    from eager_kestrel.core.plan.plan import Plan
    from eager_kestrel.core.watching.review import Review


@dataclass(frozen=True, slots=True)
class ReportMaterial:
    """A plan and whatever else is kept that is about the same."""

    plan: Plan
    words: tuple[tuple[str, str], ...]
    """Terms it uses, and what they mean."""
    hours: Hours | None
    forecast: Forecast | None
    rehearsals: tuple[Rehearsal, ...]
    findings: Findings | None
    review: Review | None
