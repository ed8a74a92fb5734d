"""A run: one measurement of the uplink to one endpoint, with every sample it rests on.

Terms follow RFC 5136 (capacity and available capacity) and RFC 6349 (TCP throughput). Times are
seconds since the start of their phase on a clock that cannot jump; bytes are those the counter
named in ``counted_by`` says the peer has received.
"""

from __future__ import annotations

from datetime import datetime
from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, model_validator

from eager_kestrel.core.connection.broadcast import Broadcast, BroadcastRow
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.document import Frozen, Kept, Moment, format_name

PhaseName = Literal["idle", "one connection", "sustained", "several connections"]
FoundBy = Literal["given", "responsiveness configuration", "redirect", "practice", "imported"]
Kind = Literal["measured", "practice", "reading"]
Method = Literal["flooding", "climbing"]
Ending = Literal["complete", "enough", "time", "data", "failed", "stopped"]


def is_loopback(url: str) -> bool:
    """Whether an address is one of this machine itself."""
    host = urlsplit(url).hostname or ""
    return host in ("localhost", "::1") or host.startswith("127.")


class RoundTrip(Kept):
    """One small request and its answer."""

    at_seconds: float
    """When it was sent, since the start of the phase."""
    round_trip_ms: float | None
    """Until its answer began to arrive; none when it never did."""


class Series(Kept):
    """Bytes delivered so far at moments since the phase began; both columns never fall."""

    seconds: tuple[float, ...]
    delivered_bytes: tuple[int, ...]
    stretches: tuple[tuple[float, float], ...] = ()
    """From when to when the connection was loaded; empty when it was throughout."""

    @model_validator(mode="after")
    def _columns_match(self) -> Series:
        if len(self.seconds) != len(self.delivered_bytes):
            raise ValueError("seconds and delivered_bytes must be equally long")
        for column in (self.seconds, self.delivered_bytes):
            if sorted(column) != list(column):
                raise ValueError("samples must never fall")
        moments = [moment for stretch in self.stretches for moment in stretch]
        if any(b <= a for a, b in self.stretches) or moments != sorted(moments):
            raise ValueError("stretches must follow one another")
        if moments and not self.seconds[:1] <= (moments[0],) <= (moments[-1],) <= self.seconds[-1:]:
            raise ValueError("stretches must lie within the samples")
        return self


class Phase(Kept):
    """A stretch of a run under one kind of load."""

    name: PhaseName
    connections: int = 0
    """Connections that upload; 0 when idle."""
    ended: Ending
    """Why it ended: the floor was known well enough, a limit came, or it broke off."""
    ended_text: str = ""
    """For ``failed``: what happened, in one line."""
    method: Method = "flooding"
    """Whether the connection was kept full, or climbed up to its rate."""
    max_kbps: float | None = None
    """The most that was sent, by somebody's rule; the connection may carry more."""
    samples: Series = Field(default_factory=lambda: Series(seconds=(), delivered_bytes=()))
    round_trips: tuple[RoundTrip, ...] = ()
    late_share: float = 0.0
    """Of its time that this machine let other programs run when it was its turn."""


class Endpoint(Kept):
    """Where the bytes went."""

    url: str
    """Without user information or query."""
    name: str = ""
    """The name it goes by here, if any."""
    address: str = ""
    """The peer's address as connected."""
    bound_to: str = ""
    """The local address asked for, if any."""
    proxy: str = ""
    """The proxy in between, if any."""
    found_by: FoundBy = "given"


class BothEnds(Kept):
    """The rate over the same bytes as each end saw it."""

    here_kbps: float
    """By what was acknowledged here."""
    endpoint_kbps: float
    """By what was read there."""
    endpoint_bytes: int
    """Read there in all."""
    strangers_a_second: float = 0.0
    """That came there meanwhile without the token."""


class Background(Kept):
    """What this machine was already sending before the test began."""

    upload_kbps: float
    """Mean over ``watched_seconds``, all interfaces but loopback."""
    watched_seconds: float


class Run(Kept):
    """One measurement of the uplink."""

    format: str = format_name("run")
    id: str
    """Sortable by time, unique on this machine."""
    taken_at: Moment
    """ISO 8601 with the offset of the place it was taken."""
    version: str
    """Of the program that took it."""
    endpoint: Endpoint
    counted_by: str
    """How delivered bytes were counted."""
    partial: bool = False
    """Whether it was cut short before every phase had ended on its own."""
    notes: tuple[str, ...] = ()
    background: Background | None = None
    idle: Phase | None = None
    """Round trips without load."""
    one_connection: Phase | None = None
    """What a live stream gets, since it rides on one."""
    sustained: Phase | None = None
    """One connection watched on at the rate of a plan, to tell a burst from what lasts."""
    several_connections: Phase | None = None
    """What the connection carries in all."""
    both_ends: BothEnds | None = None
    """Where the endpoint counts, too."""
    data_used_bytes: int = 0
    """Everything the test delivered in its phases."""
    failed: str = ""
    """Why nothing was learned, in one line; that the connection was down is worth knowing, too."""
    imported_kbps: float | None = None
    """A rate somebody read elsewhere and imported; then there are no samples."""

    @property
    def endpoint_name(self) -> str:
        """What runs towards the same endpoint have in common: its name, or its host."""
        return self.endpoint.name or urlsplit(self.endpoint.url).hostname or ""

    @property
    def kind(self) -> Kind:
        """Whether it was measured on a real connection, is practice, or was read elsewhere."""
        if self.imported_kbps is not None:
            return "reading"
        loopback = is_loopback(self.endpoint.url)
        return "practice" if loopback or self.endpoint.found_by == "practice" else "measured"

    @property
    def taken(self) -> datetime:
        """When it was taken, with the offset of the place."""
        return datetime.fromisoformat(self.taken_at)


class RoundTripSummary(Frozen):
    """Round trips of one phase in ms."""

    median_ms: float
    p95_ms: float
    jitter_ms: float
    """Mean absolute difference of successive ones (as RFC 3550 section 6.4.1)."""
    count: int
    lost: int


class PhaseSummary(Frozen):
    """A load phase in figures; kbit/s of delivered payload."""

    typical_kbps: float
    floor_kbps: float
    high_kbps: float
    spread: float
    stalled_share: float
    ramp_seconds: float
    steady_seconds: float
    windows: int


class RunSummary(Frozen):
    """Everything a run says, computed from its samples."""

    idle: RoundTripSummary | None
    """Round trips without load."""
    loaded: RoundTripSummary | None
    """The same while one connection fills the connection."""
    one_connection: PhaseSummary | None
    """One connection."""
    several_connections: PhaseSummary | None
    uplink: Uplink | None
    """What this run alone speaks for; none when it learned too little."""
    verdicts: tuple[str, ...]
    """What is wrong or would mislead, most important first."""
    remarks: tuple[str, ...] = ()
    """What is worth knowing, and no trouble."""


class RunDocument(Run):
    """A run with everything it says (``measure``, ``runs show``); samples only if asked for."""

    summary: RunSummary


class RunRow(Frozen):
    """A kept run in a line."""

    id: str
    taken_at: Moment
    endpoint: str
    typical_kbps: float | None
    floor_kbps: float | None
    partial: bool
    kind: Kind


class RunList(Frozen):
    """Kept runs and broadcasts, oldest first (``runs list``)."""

    format: str = format_name("run-list")
    runs: tuple[RunRow, ...]
    broadcasts: tuple[BroadcastRow, ...]
    all_runs: int
    """That are kept, listed or not."""
    all_broadcasts: int
    size_bytes: int
    """Of the history on the disk."""


class Export(Frozen):
    """Everything that is kept (``runs export``), or runs written to a file (``measure --out``)."""

    format: str = format_name("runs")
    runs: tuple[Run, ...]
    broadcasts: tuple[Broadcast, ...] = ()


class RunComparison(Frozen):
    """Runs side by side (``runs compare``)."""

    format: str = format_name("run-comparison")
    runs: tuple[RunDocument, ...]
    text: str
    """Whether their floors can be told apart."""
