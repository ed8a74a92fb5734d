"""Everything that was checked: settings, a recording, rehearsals, streams that came in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from eager_kestrel.core.checks.rehearsal import Rehearsal
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.settings.advice import Advice, advise, with_advice
from eager_kestrel.core.settings.recording import Recording, settings_seen
from eager_kestrel.core.settings.setting import Finding, PlanSettings
from eager_kestrel.core.settings.table import (
    SETTINGS,
    against_any,
    against_guide,
    against_upload,
    finding,
)
from eager_kestrel.core.settings.values import Settings
from eager_kestrel.core.words import settings as words

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


class TonightCheck(Frozen):
    """Whether the kept plan still fits the newest evidence at its hour (``check --tonight``)."""

    format: str = format_name("tonight")
    fits: bool
    plan_made_at: str | None
    platforms: tuple[str, ...]
    total_kbps: float
    """What the plan sends."""
    safe_kbps: float
    """What is safe by everything kept of that hour."""
    text: str


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
    skipped: int = 0
    """Messages of audio or video that were not understood."""
    file: str | None = None
    """Where it was recorded."""
    file_error: str | None = None
    """Why not all of it was kept."""


class ReceivedList(Frozen):
    """Every stream that came (``receive``)."""

    format: str = format_name("received")
    streams: tuple[ReceivedStream, ...]
    refused: int


def check(settings: Settings, guides: Sequence[Guide], safe_kbps: float | None = None) -> Findings:
    """Hold settings against guides, and against the connection when it is known."""
    return check_each([(settings, guide) for guide in guides], safe_kbps)


def check_recording(
    recording: Recording, guides: Sequence[Guide], safe_kbps: float | None = None
) -> Findings:
    """Hold a recording against guides, each with its tier applied, and against the connection."""
    settings = settings_seen(recording)
    pairs = [(settings, guide) for guide in guides]
    found = [one for guide in guides for one in against_guide(settings, guide, recording)]
    found += against_upload(pairs, safe_kbps)
    advice: tuple[Advice, ...] = ()
    if any(one.severity != "fine" and not one.what_to_do for one in found):
        advice = advise(pairs, safe_kbps)
    found = [*with_advice(found, advice), *against_any(recording)]
    return Findings(findings=tuple(found), advice=advice, recording=recording)


def against_plan(recording: Recording, planned: DestinationPlan) -> list[Finding]:
    """Whether a recording is what a plan says for a destination; the guide it names is the plan."""
    if planned.video is None or planned.audio is None:
        return []
    wanted = PlanSettings(planned.video, planned.audio)
    return [
        finding(result._replace(setting=setting.name), "plan", planned.name)
        for setting in SETTINGS
        for result in setting.as_planned(recording, wanted)
    ]


def as_explained(found: Iterable[Finding], planned: Plan) -> list[Finding]:
    """Findings of a plan's settings; a recommendation it says it does not follow is no caution."""
    places = planned.destinations
    explained = {
        (destination.name, one.rule) for destination in places for one in destination.not_followed
    }
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
