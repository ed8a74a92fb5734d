"""A chosen candidate, and what would be chosen instead if one limit were gone."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from math import floor
from typing import TYPE_CHECKING, Literal

from eager_kestrel.core.choice.candidates import Candidate
from eager_kestrel.core.choice.candidates_table import CandidatesTable, rebuilt
from eager_kestrel.core.choice.limits import step_kbps
from eager_kestrel.core.choice.scored import ScoredCandidates
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide


MOST_KBPS = 1e9
"""More than any upload."""


@dataclass(frozen=True)
class Choice:
    """A chosen candidate, and what would be chosen instead if one limit were gone.

    A setting is limited by the limit without which it would be another: so it is asked, limit by
    limit, and nothing is said that asking does not bear out.
    """

    choices: CandidatesTable
    scored: ScoredCandidates
    best: int
    safe_kbps: float
    """What it was allotted."""
    room_kbps: float
    """With what no destination uses."""
    divided: bool = False
    """Whether others share the upload: then a budget this near to another limit is not the limit,
    since the rest went where it was of use."""

    @cached_property
    def with_room(self) -> ScoredCandidates:
        """Weighed with all the room there is, if that changes nothing: what limits it then."""
        roomy = self.choices.at(max(self.safe_kbps, self.room_kbps))
        same = roomy.chosen == self.best and roomy.kbps[self.best] == self.scored.kbps[self.best]
        return roomy if same else self.scored

    @property
    def offered_kbps(self) -> float:
        """The safe rate the bitrate is counted down from, for all copies."""
        roomy = self.with_room is not self.scored
        return round(max(self.safe_kbps, self.room_kbps) if roomy else self.safe_kbps, 3)

    @property
    def left_kbps(self) -> float:
        """What that leaves for video, in whole kbit/s."""
        return float(floor(max(0.0, float(self.with_room.limits_kbps[0, self.best])) + 1e-6))

    @property
    def limit(self) -> BitrateBound:
        """What limits the bitrate."""
        kbps = self.with_room.kbps[self.best]
        spare = step_kbps(kbps) / self.choices.target_share if self.divided else 0.0
        return self.with_room.limit(self.best, float(spare))

    @property
    def now(self) -> Candidate:
        """What is chosen."""
        return self.scored.candidates[self.best]

    def otherwise(self, choices: CandidatesTable) -> Candidate:
        """What other limits would choose; the same where they allow nothing."""
        index = choices.at(self.safe_kbps).chosen
        return self.now if index is None else choices.candidates[index]

    @cached_property
    def freed(self) -> tuple[tuple[Candidate, Literal["floor", "machine", "both"]], ...]:
        """What would be chosen without the guide's floors, on any machine, and without either."""
        free = self.choices.without_minimums()
        return (
            (self.otherwise(free), "floor"),
            (self.otherwise(self.choices.on_any_machine()), "machine"),
            (self.otherwise(free.on_any_machine()), "both"),
        )

    @cached_property
    def of_larger_source(self) -> Candidate:
        """If the source had twice the lines."""
        show = self.choices.show
        source = Resolution(2 * show.source.width, 2 * show.source.height)
        return self.otherwise(rebuilt(self.choices, show.model_copy(update={"source": source})))

    @property
    def _faster_source(self) -> Show:
        show = self.choices.show
        update = {"source_fps": min(2 * show.source_fps, Fraction(480))}
        return show.model_copy(update=update)

    @cached_property
    def of_faster_source(self) -> Candidate:
        """If the source had twice the frames a second."""
        return self.otherwise(rebuilt(self.choices, self._faster_source))

    @cached_property
    def of_both_faster(self) -> Candidate:
        """If it had, and the platform took any rate."""
        return self.otherwise(rebuilt(self.choices, self._faster_source, any_rate))

    @cached_property
    def of_any_text(self) -> Candidate:
        """If nothing in it had to be read."""
        show = self.choices.show.model_copy(update={"smallest_text": None})
        return self.otherwise(rebuilt(self.choices, show))

    @cached_property
    def of_larger_guide(self) -> Candidate:
        """If the platform took any resolution of the source's shape, and any rate."""
        return self.otherwise(rebuilt(self.choices, self.choices.show, any_resolution))

    @cached_property
    def held_back_by(self) -> BitrateBound | Literal["machine"] | None:
        """The limit without which quality would gain most; None where nobody would see it."""
        choices, safe = self.choices, self.safe_kbps
        without: dict[BitrateBound | Literal["machine"], ScoredCandidates] = {
            "machine": choices.on_any_machine().at(safe),
            "budget": choices.at(MOST_KBPS),
            "guide": choices.without_limit("guide").at(safe),
            "level": choices.without_limit("level").at(safe),
            "viewers": choices.without_limit("viewers").at(safe),
        }
        quality = {
            limit: float(scored.quality[scored.chosen])
            for limit, scored in without.items()
            if scored.chosen is not None
        }
        limit = max(quality, key=quality.__getitem__)
        now = float(self.scored.quality[self.best])
        return limit if quality[limit] >= now + choices.table.tie else None

    def minimum_of(self, candidate: Candidate) -> tuple[float, float]:
        """The least bitrate that is taken of a candidate, and what there is for it."""
        at = self.scored.candidates.index(candidate)
        return float(self.scored.min_kbps[at]), float(self.scored.limits_kbps[:3, at].min())

    def beside_others(self, candidate: Candidate, machine: Machine) -> bool:
        """Whether the machine alone would encode it in time."""
        needs = candidate.resolution.pixels * float(candidate.frame_rate)
        return needs <= machine.most_pixels(self.choices.codec)


def any_rate(guide: Guide) -> Guide:
    """A guide that takes every frame rate, with everything else as it is."""
    rates = {"max_frame_rate": Fraction(480), "frame_rates": ()}
    return guide.with_rules({"video": guide.video.model_copy(update=rates)})


def any_resolution(guide: Guide) -> Guide:
    """A guide that takes every resolution and rate, with everything else as it is."""
    sizes = {"max_resolution": Resolution(16384, 16384), "resolutions": ()}
    return any_rate(guide.with_rules({"video": guide.video.model_copy(update=sizes)}))
