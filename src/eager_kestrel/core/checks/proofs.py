"""What proved a plan last, kept for a report."""

from __future__ import annotations

from eager_kestrel.core.checks.findings import Findings
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.document import Frozen, format_name


class Proofs(Frozen):
    """The latest rehearsals and the latest check."""

    format: str = format_name("proofs")
    rehearsals: tuple[Rehearsal, ...] = ()
    """Without their moments."""
    findings: Findings | None = None
