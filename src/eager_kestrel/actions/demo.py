"""The demo: the whole job on the scenario's wet evening, really measured, on loopback only."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from eager_kestrel.actions.measure import Wish, measure
from eager_kestrel.actions.plan import Planned, plan_show
from eager_kestrel.actions.practice import practice_line, simulated_uplink
from eager_kestrel.actions.recordings import check_file
from eager_kestrel.actions.rehearse import Wish as RehearsalWish
from eager_kestrel.actions.rehearse import destination_of, guide_of, rehearse, stage
from eager_kestrel.core.checks.rehearsal import Moment, Rehearsal
from eager_kestrel.core.checks.rules import Findings
from eager_kestrel.core.line.pooling import uplink_of
from eager_kestrel.core.line.progress import Tell, tell_nobody
from eager_kestrel.core.line.run import Run
from eager_kestrel.core.line.stopping import Limits
from eager_kestrel.core.show.show import Show
from eager_kestrel.files.bundled import bundled_show
from eager_kestrel.files.documents import copy_file

LINE = "wet-evening"
SHOW = "wheel-night"
REHEARSED_SECONDS = 10.0


@dataclass(frozen=True, slots=True)
class Story:
    """What the demo went through."""

    show: Show
    run: Run
    planned: Planned
    rehearsal: Rehearsal
    arrived: Findings
    """The recording of what arrived, held against Oxbow's guide."""


def demo_show() -> Show:
    """The show the demo plans."""
    return bundled_show(SHOW)


def demo(
    tell: Tell = tell_nobody,
    told: Callable[[Moment], None] = lambda _: None,
    record_to: Path | None = None,
) -> Story:
    """Measure, plan, rehearse and check on the simulated wet evening. Keeps nothing of its own.

    Args:
        tell: progress of the measurement.
        told: progress of the rehearsal.
        record_to: where to copy what arrived, in place of what stands there.

    Raises:
        NetworkError: loopback itself failed.
    """
    show = demo_show()
    with simulated_uplink(practice_line(LINE)) as stand_in:
        wish = Wish(stand_in.url, connections=1, limits=Limits(seconds=12), practice=True)
        run = measure(wish, tell)
    planned = plan_show(show, uplink_of([run]))
    chosen = destination_of(planned.plan, None)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "arrived.flv"
        with stage(practice_line(LINE), guide_of(chosen), record_to=file) as there:
            outcome = rehearse(planned.plan, chosen, there.target, there.key,
                               RehearsalWish(seconds=REHEARSED_SECONDS), told)  # fmt: skip
        arrived = check_file(file, [show.destinations[0].name])
        if record_to is not None:
            copy_file(file, record_to)
    return Story(show, run, planned, outcome.rehearsals[-1], arrived)
