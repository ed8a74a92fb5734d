"""What a measurement has learned so far, and the run that comes of it."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, field
from datetime import UTC, datetime

from eager_kestrel import __version__
from eager_kestrel.core.line.run import Background, BothEnds, Endpoint, Phase, Run


def run_id(taken_at: datetime) -> str:
    """Sortable by time, unique on this machine."""
    return f"{taken_at.astimezone(UTC).strftime('%Y%m%d-%H%M%S')}-{secrets.token_hex(2)}"


@dataclass
class Notebook:
    """What a measurement has learned so far."""

    endpoint: Endpoint
    taken_at: datetime
    counted_by: str = ""
    address: str = ""
    background: Background | None = None
    idle: Phase | None = None
    one: Phase | None = None
    several: Phase | None = None
    both_ends: BothEnds | None = None
    notes: list[str] = field(default_factory=list)

    def used_bytes(self) -> int:
        """What its load phases delivered."""
        loads = [phase for phase in (self.one, self.several) if phase is not None]
        return sum(p.samples.delivered_bytes[-1] for p in loads if p.samples.delivered_bytes)

    def run(self, *, partial: bool) -> Run:
        """What there is of it, as a run."""
        return Run(
            id=run_id(self.taken_at),
            taken_at=self.taken_at.isoformat(timespec="seconds"),
            version=__version__,
            endpoint=self.endpoint.model_copy(update={"address": self.address}),
            counted_by=self.counted_by,
            partial=partial,
            notes=tuple(self.notes),
            background=self.background,
            idle=self.idle,
            one_connection=self.one,
            several_connections=self.several,
            both_ends=self.both_ends,
            data_used_bytes=self.used_bytes(),
        )
