"""What a schedule of runs has taught: by quarter of an hour, and the plan it leads to."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.actions.evidence import with_seen_safe
from eager_kestrel.actions.planning import plan
from eager_kestrel.actions.shows import ShowOptions, asked_show
from eager_kestrel.core.choice.budget import Budget, budget
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.line.evening import QuarterOfRuns, quarters
from eager_kestrel.core.line.evidence import evidence_of
from eager_kestrel.core.line.pooling import uplink_of
from eager_kestrel.core.show.show import SAFE_SHARE
from eager_kestrel.core.stutter import LIMIT_SECONDS
from eager_kestrel.core.words import runs as words
from eager_kestrel.files.shows import USUAL

if TYPE_CHECKING:
    from eager_kestrel.core.line.run import Run
    from eager_kestrel.core.line.uplink import Uplink


@dataclass(frozen=True, slots=True)
class Evening:
    """What was learned."""

    quarters: tuple[QuarterOfRuns, ...]
    uplink: Uplink
    budget: Budget
    """With the customary share, and nothing reserved."""
    leads_to: tuple[str, ...]
    """A line for each destination of the plan it leads to."""


def learned(runs: Sequence[Run], platform: str = "", guides: Path | None = None) -> Evening:
    """What runs of a schedule say.

    Args:
        runs: at least one that learned something; failed ones count by their number.
        platform: to plan for; else the show of this folder, if there is one.
        guides: a folder whose guides come first.

    Raises:
        FormatError: none of them has enough steady samples.
    """
    known = [run for run in runs if not run.failed]
    evidence = Evidence.of([evidence_of(run) for run in known])
    uplink = with_seen_safe(uplink_of(known), "lively", LIMIT_SECONDS, evidence)
    leads = _leads_to(uplink, platform, guides)
    return Evening(quarters(runs), uplink, budget(uplink, SAFE_SHARE, ()), leads)


def _leads_to(uplink: Uplink, platform: str, guides: Path | None) -> tuple[str, ...]:
    """The settings of each destination, in a line; nothing where there is nothing to plan."""
    if not platform and not Path(USUAL).is_file():
        return ()
    wishes = ShowOptions(platforms=(platform,)) if platform else ShowOptions()
    try:
        made = plan(asked_show(None, wishes).show, uplink, guides).plan
    except KestrelError as error:  # a show that cannot be read is no reason to lose an evening
        return (error.line(),)
    return tuple(
        words.leads_to(place.title, place.video.words if place.video is not None else None)
        for place in made.destinations
    )
