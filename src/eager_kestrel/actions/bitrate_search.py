"""Search for the highest bitrate that holds, after a rehearsal that did not.

A plan's next fallback may be far below what the upload carries. If the upload was the limit, the
plan is made again at the rate that was delivered, tried, and narrowed down from both sides.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.plan.alternatives import fallback_at
from eager_kestrel.core.plan.plan import DestinationPlan, Fallback, Plan
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.files.footage import table_for
from eager_kestrel.files.guides import load_guide

if TYPE_CHECKING:
    from eager_kestrel.core.checks.rehearsal import Rehearsal


CARRIED_SHARE = 0.96
"""Of what was delivered while frames waited, what is tried next."""
CLOSE = 0.05
"""Of the rate that failed: nearer than this nothing more is tried."""
MOST_TRIES = 5
"""Rehearsals after the first."""
LESS = 0.9
"""Of what failed, where a second try at what was delivered fails, too."""

NextTry = Callable[[float], Fallback | None]
"""Full settings for a total in kbit/s; None where nothing is allowed."""


def again_of(plan: Plan, chosen: DestinationPlan) -> NextTry:
    """Return the plan of one destination at other totals.

    Args:
        chosen: the destination; if it shares the upload with others, only its fallbacks are
            used.
    """
    if plan.split is not None or chosen.video is None:
        return lambda _: None
    guide = load_guide(chosen.platform).under(chosen.tier)
    asked = plan.inputs
    show = Show(
        source=asked.source,
        shape=asked.shape,
        source_fps=asked.source_fps,
        motion=asked.motion,
        safe_share=asked.safe_share,
        destinations=(Destination(platform=chosen.platform, tier=chosen.tier),),
    )
    made = candidates_table(show, guide, table_for(asked.motion, asked.footage), chosen.video.codec)
    return lambda total: fallback_at(guide, made, plan.budget, chosen.transport, total)


@dataclass
class BitrateSearch:
    """What was tried, and what to try next."""

    ladder: Sequence[Fallback]
    """What was planned, and its steps down."""
    again: NextTry
    tried: list[tuple[Fallback, Rehearsal]] = field(default_factory=list)

    @property
    def held(self) -> Fallback | None:
        """The most that held."""
        fine = [step for step, seen in self.tried if seen.verdict.held]
        return max(fine, key=lambda step: step.total_kbps, default=None)

    def noted(self, step: Fallback, seen: Rehearsal) -> None:
        """A step was rehearsed."""
        self.tried.append((step, seen))

    def next(self) -> Fallback | None:
        """What to rehearse next; None when that is enough."""
        step, seen = self.tried[-1]
        if len(self.tried) > MOST_TRIES or seen.verdict.limited_by == "ingest":
            return None
        if not seen.verdict.held and seen.verdict.limited_by is None:
            return None  # it was stopped
        if seen.verdict.limited_by == "machine":
            return self._lower(step, seen)
        return self._between() or (None if self.held else self._lower(step, seen))

    def _between(self) -> Fallback | None:
        """Settings between the most that held and the least that failed; None when they are near.

        What the connection delivered while frames waited is as much as it carries.
        """
        failed = [(s, seen) for s, seen in self.tried if seen.verdict.limited_by == "upload"]
        if not failed:
            return None
        high = min(min(s.total_kbps, seen.delivered_kbps) for s, seen in failed)
        tried = {s.total_kbps for s, _ in self.tried}
        held = self.held
        if held is None:
            wanted = CARRIED_SHARE * high if len(failed) == 1 else LESS * high
        elif high - held.total_kbps <= CLOSE * high:
            return None
        else:
            wanted = (held.total_kbps + CARRIED_SHARE * high) / 2
        step = self.again(wanted)
        if step is None or step.total_kbps in tried:
            return None
        return step if held is None or step.total_kbps > held.total_kbps else None

    def _lower(self, step: Fallback, seen: Rehearsal) -> Fallback | None:
        """The step of the ladder that would hold, else the next one down."""
        below = [s for s in self.ladder if s.total_kbps < step.total_kbps]
        at = seen.verdict.fallback or 0
        return below[min(at, len(below) - 1)] if below else None
