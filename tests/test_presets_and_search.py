"""What is said of looks, what a machine's presets take, and settling on lines of any rate."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from hypothesis import given, strategies as st

from eager_kestrel.actions.bitrate_search import MOST_TRIES, BitrateSearch, again_of
from eager_kestrel.actions.planning import uplink_from_number
from eager_kestrel.core.checks.rehearsal import Rehearsal, RehearsalVerdict
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.plan.plan import Fallback
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.show.show import MOTIONS, Destination, Show
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide

TABLE = quality_table()
OXBOW = load_guide("oxbow")


def show(**changed: object) -> Show:
    base = {
        "source": "1920x1080",
        "source_fps": "60",
        "motion": "lively",
        "destinations": (Destination(platform="oxbow"),),
    }
    return Show.model_validate(base | changed)


speeds = st.lists(
    st.tuples(
        st.sampled_from(["ultrafast", "veryfast", "fast", "slow", "odd"]), st.integers(20, 400)
    ),
    min_size=1,
    max_size=4,
    unique_by=lambda pair: pair[0],
)


@given(speeds, st.floats(400, 20_000), st.sampled_from(MOTIONS))
def test_more_of_a_machine_never_looks_worse(
    held: list[tuple[str, int]], kbps: float, motion: str
) -> None:
    """Slower presets are held in more room, and none takes more than a faster one that it has."""
    machine = Machine.model_validate(
        {
            "encoders": [
                {"codec": "h264", "preset": name, "holds": f"1920x1080 at {fps}"}
                for name, fps in held
            ]
        }
    )
    field = candidates_table(show(machine=machine, motion=motion), OXBOW, TABLE, "h264")
    factors = TABLE.preset["h264"]
    named = sorted(held, key=lambda pair: -pair[1])
    honest = all(
        factors.get(slow, 1.0) <= factors.get(fast, 1.0) for (fast, _), (slow, _) in pairwise(named)
    )
    best = []
    for room in (0.25, 0.5, 1.0):
        there = field.in_room(room)
        assert not (there.encodable & ~field.encodable).any()
        known = {factors.get(name, 1.0) for name, _ in held} | {1.0}
        assert set(np.unique(there.takes)) <= known
        scored = there.at(kbps)
        best.append(float(scored.quality[scored.allowed].max(initial=0.0)))
    if honest:
        # where nothing more is gained a better preset stops sooner, at a rate rounded down
        assert all(more >= less - TABLE.tie for less, more in pairwise(best))


def fake(step: Fallback, carries_kbps: float) -> Rehearsal:
    """What rehearsing a step on a steady connection would say, without the time it takes."""
    held = step.total_kbps <= carries_kbps
    verdict = RehearsalVerdict(held=held, limited_by=None if held else "upload", text="fake")
    return Rehearsal(
        server="rtmp://ingest.oxbow.example/live",
        platform="oxbow",
        planned=step.video.text,
        total_kbps=step.total_kbps,
        asked_seconds=1,
        seconds=1,
        frames=1,
        late_frames=0,
        lost_frames=0,
        worst_queue_seconds=0,
        delivered_kbps=min(step.total_kbps, carries_kbps),
        counted_by="test",
        encode_ms_typical=1,
        encode_ms_slowest=1,
        round_trip_ms=None,
        round_trip_ms_worst=None,
        reconnects=0,
        verdict=verdict,
        moments=(),
    )


@given(st.floats(600, 9_000))
def test_settling_closes_in_on_what_a_line_carries(carries: float) -> None:
    """Never above it, and within a tenth below, in a few rehearsals."""
    made = plan(uplink_from_number("12 Mbit/s"), show(), {"oxbow": OXBOW}, TABLE)
    (chosen,) = made.destinations
    assert chosen.video is not None
    assert chosen.audio is not None
    now = Fallback(
        video=chosen.video,
        audio=chosen.audio,
        quality=chosen.quality or 0.0,
        total_kbps=chosen.total_kbps,
        upload_kbps=0.0,
    )
    settling = BitrateSearch((now, *chosen.fallbacks), again_of(made, chosen))
    step: Fallback | None = now
    while step is not None:
        settling.noted(step, fake(step, carries))
        step = settling.next()
    assert len(settling.tried) <= MOST_TRIES + 1
    held = settling.held
    assert held is not None
    assert held.total_kbps <= carries
    assert held.total_kbps >= 0.88 * min(carries, now.total_kbps)
    totals = [tried.total_kbps for tried, _ in settling.tried]
    assert len(set(totals)) == len(totals)
