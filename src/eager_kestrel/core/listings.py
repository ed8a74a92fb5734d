"""Documents that are lists or small answers: plain dictionaries with named keys.

They are printed by ``--json`` and nowhere read back, so that types are all they need.
"""

from __future__ import annotations

from typing import Any, NotRequired

from typing_extensions import TypedDict


class GuideRow(TypedDict):
    """A guide in a line."""

    name: str
    title: str
    checked: str
    stale: bool
    where: str


class GuideList(TypedDict):
    """Every guide there is (``guides list``)."""

    format: str
    guides: list[GuideRow]


class GuideCheckRow(TypedDict):
    """A guide's file: everything wrong with it, and what is allowed but odd."""

    file: str
    errors: list[str]
    remarks: list[str]


class GuideCheck(TypedDict):
    """Guide files that were checked (``guides check``)."""

    format: str
    files: list[GuideCheckRow]


class ChangeRow(TypedDict):
    """A key that differs; empty where it is not there."""

    key: str
    before: str
    after: str


class GuideDiff(TypedDict):
    """What differs between two guides, and in a plan (``guides diff``)."""

    format: str
    changes: list[ChangeRow]
    plan: list[ChangeRow] | None


class RunListRow(TypedDict):
    """A kept run in a line."""

    id: str
    taken_at: str
    endpoint: str
    typical_kbps: float | None
    floor_kbps: float | None
    partial: bool
    kind: str


class RunList(TypedDict):
    """Kept runs and broadcasts (``runs list``)."""

    format: str
    runs: list[RunListRow]
    broadcasts: list[dict[str, Any]]
    """Each in a line: id, when, to whom, for how long, what was carried, troubles."""
    all_runs: int
    """That are kept, listed or not."""
    all_broadcasts: int
    size_bytes: int
    """Of the history on the disk."""


class PhaseDocument(TypedDict):
    """A phase of a run with its figures; samples only where they were asked for."""

    name: str
    connections: int
    ended: str
    ended_why: str
    samples: NotRequired[dict[str, list[float]]]
    round_trips: NotRequired[list[dict[str, float | None]]]
    latency: dict[str, float] | None
    typical_kbps: NotRequired[float]
    floor_kbps: NotRequired[float]
    high_kbps: NotRequired[float]
    spread: NotRequired[float]
    stalled_share: NotRequired[float]
    ramp_seconds: NotRequired[float]
    steady_seconds: NotRequired[float]
    windows: NotRequired[int]


class RunDocument(TypedDict):
    """A run with everything it says (``measure``, ``runs show``)."""

    format: str
    id: str
    taken_at: str
    version: str
    endpoint: dict[str, str]
    counted_by: str
    partial: bool
    notes: list[str]
    background: dict[str, float] | None
    idle: PhaseDocument | None
    one_connection: PhaseDocument | None
    several_connections: PhaseDocument | None
    both_ends: dict[str, float] | None
    data_used_bytes: int
    reading_kbps: float | None
    uplink: dict[str, Any] | None
    verdicts: list[str]


class RunsDocument(TypedDict):
    """The runs of a schedule (``measure --repeat``), or an export (``runs export``)."""

    format: str
    runs: list[RunDocument]
    broadcasts: NotRequired[list[dict[str, Any]]]
    """Of an export: each as eager-kestrel/broadcast/2."""
    uplink: NotRequired[dict[str, Any]]
    failed: NotRequired[list[str]]
    quarters: NotRequired[list[dict[str, Any]]]
    """Of an hour: what the runs begun in each say together."""
    safe_kbps: NotRequired[float]
    leads_to: NotRequired[list[str]]
    """The settings of each destination of the plan these runs lead to, in a line."""


class RunComparison(TypedDict):
    """Runs side by side (``runs compare``)."""

    format: str
    runs: list[RunDocument]
    said: str
    """Whether their floors can be told apart."""


class TermList(TypedDict):
    """Every word that is explained (``explain``)."""

    format: str
    terms: list[str]


class Rankings(TypedDict):
    """Rankings of several platforms (``nearest SHOW``)."""

    format: str
    rankings: list[dict[str, Any]]


class Rehearsals(TypedDict):
    """Every destination of a plan, sent at once (``rehearse``)."""

    format: str
    held: bool
    """Whether all did."""
    rehearsals: list[dict[str, Any]]
    """Each as eager-kestrel/rehearsal/2."""


class ReceivedRow(TypedDict):
    """One stream, from its beginning to its end."""

    number: int
    ended: str
    worst_delay_seconds: float
    late_frames: int
    file_error: str | None
    file: str | None
    findings: dict[str, Any] | None


class ReceivedList(TypedDict):
    """Every stream that came (``receive``)."""

    format: str
    streams: list[ReceivedRow]
    refused: int
