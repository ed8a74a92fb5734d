"""Everything that was checked: settings, a recording, rehearsals, streams that came in."""

from __future__ import annotations

from eager_kestrel.core.checks.recording import Recording
from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.rules.advice import Advice
from eager_kestrel.core.rules.finding import Finding


class Findings(Frozen):
    """Everything that was looked at."""

    format: str = format_name("findings")
    findings: tuple[Finding, ...]
    advice: tuple[Advice, ...] = ()
    """Where something is to be done: the nearest settings that satisfy everything."""
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
