"""The demo: the whole job on the scenario's wet evening, really measured, on loopback only."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

from eager_kestrel.actions.checking import check_recording
from eager_kestrel.actions.measuring import MeasureOptions, measure
from eager_kestrel.actions.planning import plan
from eager_kestrel.actions.practice import simulated_connection, simulated_uplink
from eager_kestrel.actions.rehearsing import (
    RehearseOptions as RehearsalWish,
    destination_of,
    rehearse,
    stage,
)
from eager_kestrel.core.checks.rehearsal import Moment
from eager_kestrel.core.connection.evidence import evidence_of
from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.core.connection.progress import Tell, tell_nobody
from eager_kestrel.core.connection.summarising import run_document
from eager_kestrel.core.connection.throughput import Limits
from eager_kestrel.core.errors import NetworkError, StoppedError
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.watching.review import DemoStory
from eager_kestrel.files.documents import copy_file
from eager_kestrel.files.guides import guide_for
from eager_kestrel.files.shows import bundled_show

LINE = "wet-evening"
SHOW = "wheel-night"
REHEARSED_SECONDS = 10.0


def demo_show() -> Show:
    """The show the demo plans."""
    return bundled_show(SHOW)


def demo(
    tell: Tell = tell_nobody,
    told: Callable[[Moment], None] = lambda _: None,
    record_to: Path | None = None,
) -> DemoStory:
    """Measure, plan, rehearse and check on the simulated wet evening. Keeps nothing of its own.

    Raises:
        NetworkError: loopback itself failed, or is too slow to be the connection.
        StoppedError: Ctrl-C.
    """
    show = demo_show()
    with simulated_uplink(simulated_connection(LINE)) as stand_in:
        wish = MeasureOptions(stand_in.url, connections=1, limits=Limits(seconds=12), practice=True)
        run = measure(wish, tell)
    _go_on(stopped=run.one_connection is not None and run.one_connection.ended == "stopped")
    planned = plan(show, uplink_of([run]), evidence=Evidence.of([evidence_of(run)]))
    if not any(destination.feasible for destination in planned.plan.destinations):
        raise NetworkError(
            "this machine is too busy to simulate the wet evening", "run it when it is quieter"
        )
    chosen = destination_of(planned.plan, None)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "arrived.flv"
        guide = guide_for(show.destinations[0])
        with stage(simulated_connection(LINE), guide, record_to=file) as there:
            wish_to = RehearsalWish(seconds=REHEARSED_SECONDS)
            outcome = rehearse(planned.plan, chosen, there.target, there.key, wish_to, told)
            verdict = outcome.rehearsals[-1].verdict
            _go_on(stopped=not verdict.held and verdict.limited_by is None)
        arrived = check_recording(file, [show.destinations[0].name])
        if record_to is not None:
            copy_file(file, record_to)
    return DemoStory(
        run=run_document(run, samples=True),
        plan=planned.plan,
        rehearsal=outcome.rehearsals[-1],
        findings=arrived,
    )


def _go_on(*, stopped: bool) -> None:
    """A step that was stopped is the demo's last."""
    if stopped:
        raise StoppedError("stopped", "run it again to see it all")
