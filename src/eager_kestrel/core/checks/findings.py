"""Findings: what was checked, how each rule stands, and what to do.

A *breach* is what the platform refuses or the upload cannot hold. A *caution* works but is unwise.
*Fine* says that a rule was checked and holds.
"""

from __future__ import annotations

from typing import Literal

from eager_kestrel.core.checks.recording import Recording
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.document import Frozen, format_name

Severity = Literal["breach", "caution", "fine"]


class Finding(Frozen):
    """One rule and how it stands."""

    platform: str
    """The guide it is of, or ``uplink``."""
    tier: str | None = None
    """Of the account the guide was read for."""
    rule: str
    """The guide's key, or the name of a general rule."""
    severity: Severity
    found: str
    wanted: str
    do: str = ""
    """What to do; empty when fine."""

    @property
    def label(self) -> str:
        """``oxbow`` or ``oxbow:hearth``: which guide, and for whom."""
        return f"{self.platform}:{self.tier}" if self.tier else self.platform


class Findings(Frozen):
    """Everything that was looked at."""

    format: str = format_name("findings")
    findings: tuple[Finding, ...]
    recording: Recording | None = None
    """What was found, where a recording was looked at."""

    @property
    def breaches(self) -> int:
        """How many rules are broken."""
        return sum(finding.severity == "breach" for finding in self.findings)


class Proofs(Frozen):
    """The latest rehearsals and the latest check."""

    format: str = format_name("proofs")
    rehearsals: tuple[Rehearsal, ...] = ()
    """Without their moments."""
    findings: Findings | None = None


class ReceivedStream(Frozen):
    """One stream that came, from its beginning to its end."""

    number: int
    ended: str
    """Why."""
    findings: Findings | None
    """None if fewer than two frames arrived."""
    worst_delay_seconds: float
    late_frames: int = 0
    file: str | None = None
    """Where it was recorded."""
    file_error: str | None = None
    """Why not all of it was kept."""


class ReceivedList(Frozen):
    """Every stream that came (``receive``)."""

    format: str = format_name("received")
    streams: tuple[ReceivedStream, ...]
    refused: int
