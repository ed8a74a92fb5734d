"""The demo: the whole job on the scenario's wet evening, really measured, on loopback only."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from eager_kestrel.actions.checking import check_recording
from eager_kestrel.actions.encoders import EncoderOptions, measure_encoders
from eager_kestrel.actions.measuring import MeasureOptions, measure
from eager_kestrel.actions.planning import keep_plan, plan, uplink_from_history
from eager_kestrel.actions.practice import simulated_connection, simulated_uplink
from eager_kestrel.actions.rehearsing import (
    RehearseOptions as RehearsalWish,
    destination_of,
    rehearse,
    stage,
)
from eager_kestrel.actions.reporting import keep_findings
from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import Broadcast, Now
from eager_kestrel.core.connection.evidence import evidence_of
from eager_kestrel.core.connection.pooling import uplink_of
from eager_kestrel.core.connection.progress import Tell, tell_nobody
from eager_kestrel.core.connection.run import Endpoint, Phase, Run, Series
from eager_kestrel.core.connection.summarising import run_document
from eager_kestrel.core.connection.throughput import Limits
from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.errors import InputError, NetworkError, StoppedError
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.plan.plan import DestinationPlan, Plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.watching.recorder import Recorder
from eager_kestrel.core.watching.review import DemoStory
from eager_kestrel.core.watching.verdict import Expected
from eager_kestrel.files.documents import copy_file
from eager_kestrel.files.guides import guide_for
from eager_kestrel.files.history import History
from eager_kestrel.files.home import load_trace, made, storage_error
from eager_kestrel.files.shows import bundled_show

LINE = "wet-evening"
SHOW = "wheel-night"
REHEARSED_SECONDS = 10.0
MEASURED_SECONDS = (12, 24)
"""The second where a busy machine took the first."""


def demo_show() -> Show:
    """The show the demo plans."""
    return bundled_show(SHOW)


def demo(
    tell: Tell = tell_nobody,
    tell_now: Callable[[Now], None] = lambda _: None,
    record_to: Path | None = None,
) -> DemoStory:
    """Measure, plan, rehearse and check on the simulated wet evening. Keeps nothing of its own.

    Args:
        tell: how measuring goes on.
        tell_now: how the rehearsed stream stands.
        record_to: where the recording of what arrived goes.

    Raises:
        NetworkError: loopback itself failed, or is too slow to be the connection.
        StoppedError: Ctrl-C.
    """
    show = demo_show()
    for seconds in MEASURED_SECONDS:
        with simulated_uplink(simulated_connection(LINE)) as stand_in:
            limits = Limits(seconds=seconds)
            wish = MeasureOptions(stand_in.url, connections=1, limits=limits, practice=True)
            run = measure(wish, tell)
        _go_on(stopped=run.one_connection is not None and run.one_connection.ended == "stopped")
        planned = plan(show, uplink_of([run]), evidence=Evidence.of([evidence_of(run)]))
        if any(destination.feasible for destination in planned.plan.destinations):
            break
    else:
        raise NetworkError(
            "this machine is too busy to simulate the wet evening, also for twice as long",
            "end what keeps it busy, and run it again",
        )
    chosen = destination_of(planned.plan, None)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "arrived.flv"
        guide = guide_for(show.destinations[0])
        with stage(simulated_connection(LINE), guide, record_to=file) as there:
            watched = _recorder(chosen)
            outcome = rehearse(
                planned.plan,
                chosen,
                there.target,
                there.key,
                RehearsalWish(seconds=REHEARSED_SECONDS),
                lambda sample: tell_now(watched.look(sample)),
            )
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


HOURS = {
    9: "day",
    12: "day",
    15: "day",
    19: LINE,
    20: LINE,
    21: LINE,
    23: "bad-night",
}
"""When a run is taken, and over which connection."""
DAYS = 14
RUN_SECONDS = 10.0
LONG_EVERY, LONG_SECONDS = 5, 40.0
"""Every so many days the runs are long enough to see the end of a burst."""
STARTS_AT = "20:00"
ENDPOINT = Endpoint(url="https://upload.hollowlane.example/try")
SAID = "made up for the demo"
AIRED_MINUTES, AIRED_DAYS_AGO = 12.0, (6, 1)
AMBITIOUS = 3.6
"""The last broadcast sends so many times what is planned now."""
STEP_SECONDS, STEPS_A_LOOK = 0.05, 5
ROUND_TRIP_MS = 38.0
CLIP_SECONDS, CLIP, CLIP_FPS = 8, Resolution(960, 540), 30
RECORDED_SECONDS = 12
ENCODED = EncoderOptions(("1280x720",), "30", ("h264",))


@dataclass(frozen=True, slots=True)
class FilledHome:
    """Where what lies."""

    folder: Path
    recording: Path
    clip: Path
    broadcasts: int
    runs: int


def fill(folder: Path, tell: Callable[[str], None] = lambda _: None) -> FilledHome:
    """Fill an empty folder, or a new one, with a fortnight at Hollow Lane Pottery.

    Args:
        tell: told what is being made.

    Raises:
        InputError: something is in the folder already.
        StorageError: the disk does not take it.
    """
    with contextlib.suppress(FileNotFoundError):
        try:
            taken = any(folder.iterdir())
        except NotADirectoryError:
            taken = True
        if taken:
            raise InputError(f"{folder} is not empty", "name a new folder")
    made(folder)
    with _at_home(folder):
        tell("a fortnight of runs")
        now = datetime.now().astimezone()
        runs = [*_runs(now)]
        with History() as history:
            history.add(runs)
        tell("a plan")
        show = bundled_show(SHOW).model_copy(update={"at": STARTS_AT})
        planned = plan(show, uplink_from_history(around=STARTS_AT)).plan
        keep_plan(planned)
        tell("two broadcasts")
        aired = [*_broadcasts(planned, now)]
        with History() as history:
            history.keep(aired)
        tell("this machine's encoders at 720p30, some 15 s")
        measure_encoders(ENCODED)
        tell("a recording and a clip")
        from eager_kestrel.media.clip import write_made_clip

        recording, clip = folder / "arrived.flv", folder / "clip.mp4"
        try:
            _record(planned.destinations[0], recording)
            write_made_clip(clip, CLIP, CLIP_FPS, CLIP_SECONDS)
        except OSError as error:
            raise storage_error(error, str(folder), writing=True) from None
        keep_findings(check_recording(recording, [planned.destinations[0].name]))
    return FilledHome(folder, recording, clip, len(aired), len(runs))


@contextlib.contextmanager
def _at_home(folder: Path) -> Iterator[None]:
    """State lives there meanwhile."""
    before = os.environ.get("EAGER_KESTREL_HOME")
    os.environ["EAGER_KESTREL_HOME"] = str(folder)
    try:
        yield
    finally:
        if before is None:
            del os.environ["EAGER_KESTREL_HOME"]
        else:
            os.environ["EAGER_KESTREL_HOME"] = before


def _runs(now: datetime) -> Iterator[Run]:
    """What a counter would have read every 50 ms, over the traces."""
    rng = np.random.default_rng(20)
    for day in range(DAYS):
        lasted = LONG_SECONDS if day % LONG_EVERY == 0 else RUN_SECONDS
        for hour, line in HOURS.items():
            trace, begin = load_trace(line), float(rng.uniform(0, 290))
            at = np.arange(0, lasted + 1e-9, STEP_SECONDS)
            carried = [trace.bytes_until(begin + float(x)) for x in at]
            samples = Series(
                seconds=tuple(float(x) for x in at),
                delivered_bytes=tuple(int(x - carried[0]) for x in carried),
            )
            midnight = now.replace(hour=0, minute=0, second=0, microsecond=0)
            taken = midnight - timedelta(days=DAYS - day) + timedelta(hours=hour, minutes=5)
            yield Run(
                id=f"{taken:%Y%m%d-%H%M%S}-demo",
                taken_at=taken.isoformat(),
                version="demo",
                endpoint=ENDPOINT,
                counted_by=SAID,
                one_connection=Phase(
                    name="one connection", connections=1, ended="time", samples=samples
                ),
            )


def _broadcasts(planned: Plan, now: datetime) -> Iterator[Broadcast]:
    """One as planned now, and one that sent too much, both watched over the evening's connection.

    The looks are simulated; what they mean is said by what watches a real stream.
    """
    destination = planned.destinations[0]
    assert destination.video is not None
    for days, times, begin in zip(AIRED_DAYS_AGO, (1.0, AMBITIOUS), (0.0, 40.0), strict=True):
        kbps = times * destination.total_kbps
        watched = _recorder(destination, times)
        for look in _looks(load_trace(LINE), begin, kbps):
            watched.look(look)
        watched.over()
        taken = (now - timedelta(days=days)).replace(hour=20, minute=0, second=0, microsecond=0)
        yield Broadcast(
            id=f"{taken:%Y%m%d-%H%M%S}-demo",
            taken_at=taken.isoformat(timespec="seconds"),
            version="demo",
            kind="measured",
            seen_by="connection",
            program=SAID,
            platform=destination.platform,
            server=destination.servers[0],
            planned=destination.video.text if times == 1.0 else "",
            planned_kbps=round(kbps, 1),
            seconds=watched.seconds,
            troubles=tuple(watched.troubles),
            ended="the program ended the stream",
        )


def _recorder(destination: DestinationPlan, times: float = 1.0) -> Recorder:
    """Watches what is sent as planned, or so many times as much."""
    video = destination.video
    assert video is not None
    steps = destination.fallbacks if times == 1.0 else ()
    kbps = times * destination.total_kbps
    expected = Expected(kbps, float(video.frame_rate), video.keyframe_seconds, steps)
    return Recorder.of(destination.servers[0], expected)


def _looks(line: Trace, begin: float, kbps: float) -> Iterator[StreamSample]:
    """A steady stream, first in, first out, through a connection that carries what it can."""
    handed = carried = 0.0
    for step in range(1, round(AIRED_MINUTES * 60 / STEP_SECONDS) + 1):
        at = step * STEP_SECONDS
        handed += kbps * 125 * STEP_SECONDS
        room = line.bytes_until(begin + at) - line.bytes_until(begin + at - STEP_SECONDS)
        carried = min(handed, carried + room)
        if step % STEPS_A_LOOK == 0:
            yield StreamSample(
                at,
                True,
                round(handed),
                round(carried),
                queued_bytes=round(handed - carried),
                round_trip_ms=ROUND_TRIP_MS,
                min_round_trip_ms=ROUND_TRIP_MS,
            )


def _record(destination: DestinationPlan, path: Path) -> None:
    """A test image as planned, written to a file as an ingest server would."""
    from eager_kestrel.files.flv_writer import StreamFile
    from eager_kestrel.media.stand_in import StandIn
    from eager_kestrel.net.receiving import file_beginning
    from eager_kestrel.wire.flv import file_tag

    assert destination.video is not None
    assert destination.audio is not None
    made_up, written = (
        StandIn(destination.video, destination.audio),
        StreamFile(path, file_beginning()),
    )
    for frame in made_up.steps():
        if frame.number >= RECORDED_SECONDS * destination.video.frame_rate:
            break
        for tag in frame.tags:
            written.add(file_tag(tag.kind, tag.milliseconds, tag.payload))
    made_up.close()
    written.close()
