"""The demo: the whole job on the scenario's wet evening, really measured, on loopback only."""

from __future__ import annotations

from dataclasses import dataclass

from eager_kestrel.actions.measure import Wish, measure
from eager_kestrel.actions.plan import Planned, plan_show
from eager_kestrel.actions.practice import practice_line, simulated_uplink
from eager_kestrel.core.enough import Limits
from eager_kestrel.core.pooling import uplink_of
from eager_kestrel.core.progress import Tell, tell_nobody
from eager_kestrel.core.run import Run
from eager_kestrel.core.show import Show
from eager_kestrel.files.bundled import bundled_show

LINE = "wet-evening"
SHOW = "wheel-night"


@dataclass(frozen=True, slots=True)
class Story:
    """What the demo went through."""

    show: Show
    run: Run
    planned: Planned


def demo_show() -> Show:
    """The show the demo plans."""
    return bundled_show(SHOW)


def demo(tell: Tell = tell_nobody) -> Story:
    """Measure the simulated wet evening and plan *Wheel night* for Oxbow. Keeps nothing.

    Raises:
        NetworkError: loopback itself failed.
    """
    show = demo_show()
    with simulated_uplink(practice_line(LINE)) as stand_in:
        wish = Wish(stand_in.url, connections=1, limits=Limits(seconds=12), practice=True)
        run = measure(wish, tell)
    return Story(show, run, plan_show(show, uplink_of([run])))
