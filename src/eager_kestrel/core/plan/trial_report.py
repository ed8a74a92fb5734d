"""A trial and the plan that follows from it, as one document."""

from __future__ import annotations

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.footage import Trial
from eager_kestrel.core.plan.plan import Plan


class TrialReport(Frozen):
    """A trial, and the plan that follows from it (``trial``)."""

    format: str = format_name("trial-report")
    trial: Trial
    plan: Plan | None
    """None if no platform is named."""
    interpolated: tuple[str, ...] = ()
    """What is planned and was not encoded: read off the model that the encodes were fitted to."""
