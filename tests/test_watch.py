"""Watching: what a look means, broadcasts as evidence, and what review makes of one."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.checks.causes import StreamSample
from eager_kestrel.core.connection.broadcast import BroadcastTrouble
from eager_kestrel.core.connection.pooling import quarters, redistributed, uplink_of
from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.stutter import LATE_SECONDS
from eager_kestrel.core.watching.recorder import Recorder
from eager_kestrel.core.watching.review import review_of
from eager_kestrel.core.watching.verdict import Expected, Judge
from eager_kestrel.files.history import History
from tests.broadcasts import a_broadcast, planned, played
from tests.conftest import Kestrel
from tests.test_runs import at, kept

EVER = ("--days", "3650")
PLANNED = Expected(kbps=6000, fps=60.0)


def steady(kbps: float) -> Callable[[float], float]:
    return lambda _: kbps


@given(
    line=st.floats(6200, 20000),
    keyframe=st.floats(1, 10),
    fps=st.sampled_from([24.0, 30.0, 60.0]),
    seen=st.booleans(),
    seed=st.integers(0, 99),
)
def test_a_steady_line_is_never_cried_over(
    line: float, keyframe: float, fps: float, seen: bool, seed: int
) -> None:
    out = played(
        steady(line), Expected(kbps=6000, fps=fps), 120, seen=seen, keyframe=keyframe, seed=seed
    )
    assert out.first_late is None
    assert {now.verdict.text for now in out.told} == {"on time"}
    assert len(out.notes.seconds.sent_kbps) == 120


@given(lack=st.floats(0.02, 0.25), seen=st.booleans(), seed=st.integers(0, 99))
def test_a_queue_that_grows_is_told_before_a_frame_is_late(
    lack: float, seen: bool, seed: int
) -> None:
    out = played(lambda t: 9000 if t < 20 else 6000 * (1 - lack), PLANNED, 90, seen=seen, seed=seed)
    assert out.warned_at is not None
    assert out.warned_at >= 20
    if out.first_late is not None:
        assert out.warned_at < out.first_late
        assert set(out.causes) == {"upload"}
        assert any(trouble.late for trouble in out.notes.troubles)


@given(carried=st.floats(500, 4000), seen=st.booleans(), length=st.floats(4, 15))
def test_a_dip_is_the_lines_and_a_step_that_fits_is_named(
    carried: float, seen: bool, length: float
) -> None:
    made, expected = planned()
    out = played(
        lambda t: carried if 20 <= t < 20 + length else 12000,
        expected,
        60,
        kbps=made.total_kbps,
        seen=seen,
    )
    assert set(out.causes) == {"upload"}
    worst = out.notes.troubles[0]
    assert worst.late
    assert worst.carried_kbps == pytest.approx(carried, rel=0.25)
    for now in out.told:
        if now.verdict.fallback is not None:
            step = made.fallbacks[now.verdict.fallback]
            assert step.total_kbps <= 0.9 * (now.verdict.carried_kbps or 0)
            assert step.video.text in now.verdict.text
    assert out.told[-1].verdict.text == "on time"


@pytest.mark.parametrize("seen", [True, False])
def test_a_stall_is_told_as_one(seen: bool) -> None:
    out = played(lambda t: 0 if 20 <= t < 23 else 9000, PLANNED, 60, seen=seen)
    assert out.causes == ["upload"]
    assert "nothing got through" in out.notes.troubles[0].text
    short = played(lambda t: 0 if 20 <= t < 20.3 else 9000, PLANNED, 60, seen=seen)
    assert short.causes == []


def test_a_closed_window_is_the_ingests_fault() -> None:
    closed = played(
        lambda t: 0 if t >= 20 else 9000,
        PLANNED,
        30,
        look=lambda t: {"window_closed_seconds": max(0.0, t - 20)},
    )
    assert closed.causes == ["ingest"]


def test_a_window_that_is_too_small_for_the_way_is_the_ingests_fault() -> None:
    def window(t: float) -> dict[str, object]:
        closed = 0.96 * max(0.0, t - 10)
        return {
            "round_trip_ms": 100.0,
            "min_round_trip_ms": 98.0,
            "window_closed_seconds": closed,
        }

    small = played(
        lambda t: 1300 if t >= 10 else 9000, Expected(kbps=2500), 40, kbps=2500, look=window
    )
    assert set(small.causes) == {"ingest"}
    assert "receive window is small" in small.notes.troubles[0].text
    queued = played(
        lambda t: 1300 if t >= 10 else 9000,
        Expected(kbps=2500),
        40,
        kbps=2500,
        look=lambda t: window(t) | {"round_trip_ms": 400.0},
    )
    assert set(queued.causes) == {"upload"}


@pytest.mark.parametrize("seen", [True, False])
@pytest.mark.parametrize("line", [9000, 60000])
def test_a_program_that_halts_again_and_again_is_told(seen: bool, line: float) -> None:
    halting = played(
        steady(line),
        PLANNED,
        60,
        seen=seen,
        share=lambda t: 1 if t < 20 else 8.0 * (t % 0.8 >= 0.7),
    )
    assert {now.verdict.cause for now in halting.told if now.seconds > 26} == {"machine"}
    assert "by fits and starts" in halting.notes.troubles[-1].text


def test_a_program_that_ended_is_no_broken_connection() -> None:
    notes = Recorder.of("here", PLANNED)
    for number in range(40):
        notes.look(StreamSample(number / 4, True, number * 100, number * 100))
    gone = StreamSample(10.0, False, 3900, 3900, program_ended=True)
    assert notes.look(gone).verdict.text == "the program ended"


@pytest.mark.parametrize(
    ("seen", "extra", "cause", "said"),
    [
        (False, {}, "program", "the encoder or the scene, not your connection"),
        (True, {"fps": 60.0}, "scene", "so the scene needs no more"),
        (True, {"fps": 41.0}, "machine", "41 of 60 fps"),
        (True, {"fps": 60.0, "media_late_seconds": 1.2}, "machine", "1.2 s behind"),
    ],
)
def test_less_than_planned_is_not_laid_on_the_line(
    seen: bool, extra: dict[str, object], cause: str, said: str
) -> None:
    before: dict[str, object] = {"fps": 60.0} if extra else {}
    out = played(
        steady(9000),
        PLANNED,
        60,
        seen=seen,
        share=lambda t: 1 if t < 20 else 0.5,
        look=lambda t: extra if t >= 20 else before,
    )
    assert set(out.causes) == {cause}
    assert said in out.notes.troubles[-1].text
    more = played(steady(20000), PLANNED, 60, seen=seen, share=lambda t: 1 if t < 20 else 1.5)
    assert "more than planned" in more.notes.troubles[-1].text


@given(
    st.floats(3, 20),
    st.sampled_from([1.0, 2.0, 4.0]),
    st.floats(0.87, 1.0),
    st.floats(0, 1),
    st.integers(0, 99),
)
def test_a_lawful_constant_bitrate_is_never_off_the_plan(
    keyframe: float, interval: float, rate: float, buffered: float, seed: int
) -> None:
    """Neither a keyframe more in a window, nor the encoder's buffer spent at the start."""
    begun = 1 + buffered / 2  # a second of buffer, spent within two
    out = played(
        steady(20000),
        Expected(6000, 60.0, interval),
        60,
        keyframe=keyframe,
        seed=seed,
        share=lambda t: begun if t < 2 else rate,
        look=lambda _: {"fps": 60.0},
    )
    assert out.causes == []


@pytest.mark.parametrize("seen", [True, False])
@pytest.mark.parametrize("carries", [1.15, 4.0])
def test_a_program_that_was_held_up_is_not_the_connection(seen: bool, carries: float) -> None:
    """Frozen for eight seconds, then sending all of it as fast as the connection takes it."""
    planned, line = 6000 * 125.0, carries * 6000 * 125.0
    notes, waiting, handed, carried = Recorder.of("here", PLANNED), 0.0, 0.0, 0.0
    causes = set()
    for tick in range(1, 4 * 120):
        moment, due = tick / 4, planned * tick / 4
        handed = handed if 20 <= moment < 28 else min(due, handed + planned)
        carried = min(handed, carried + line / 4)
        waiting = (handed - carried) / planned
        look = StreamSample(
            moment,
            True,
            round(handed),
            round(carried),
            queued_bytes=round(handed - carried),
            queued_seconds=waiting if seen else None,
            fps=60.0 if seen else None,
        )
        verdict = notes.look(look).verdict
        causes.add(verdict.cause)
        assert verdict.cause not in ("upload", "scene", "ingest"), verdict.text
        if 21.5 <= moment < 28:
            assert verdict.cause == "machine"
            assert "sent nothing" in verdict.text
    assert verdict.cause is None
    notes.over()
    assert {trouble.cause for trouble in notes.troubles} <= {"machine", "program"}


def test_a_pause_of_any_length_is_told_and_survives_a_break() -> None:
    """Longer than looks are kept, and the connection breaks in the middle of it."""
    notes, handed, told = Recorder.of("here", PLANNED), 0, []
    for tick in range(1, 4 * 80):
        moment = tick / 4
        handed += 0 if 10 <= moment < 70 else 187_500
        there = not 50 <= moment < 52
        told.append(notes.look(StreamSample(moment, there, handed, handed)).verdict)
    assert "sent nothing for 35" in told[4 * 45].text
    assert told[4 * 51].cause == "connection"
    assert told[4 * 65].cause == "machine"
    assert told[-1].cause is None


@given(st.booleans(), st.integers(0, 99))
def test_a_second_with_more_on_a_line_with_little_to_spare_is_no_warning(
    seen: bool, seed: int
) -> None:
    """Its queue is gone two seconds later; a queue that really grows is told (above)."""
    out = played(
        steady(6340),
        PLANNED,
        240,
        seen=seen,
        seed=seed,
        share=lambda t: 1.18 if int(t) % 60 == 30 else 1.0,
    )
    assert out.first_late is None
    assert out.causes == []


def test_a_rate_about_the_limit_does_not_flap() -> None:
    out = played(
        steady(20000),
        PLANNED,
        300,
        look=lambda _: {"fps": 60.0},
        share=lambda t: 0.846 + 0.01 * (int(t / 7) % 2),
    )
    assert len(out.causes) <= 1


def test_a_break_is_told_with_how_long_it_lasted() -> None:
    notes = Recorder.of("here", PLANNED)
    for tick in range(1, 160):
        moment = tick / 4
        there = not 10 <= moment < 14
        sent = round(750_000 * (moment if moment < 10 else max(10, moment - 4)))
        now = notes.look(
            StreamSample(moment, there, sent, sent, said="" if there else "reset by peer")
        )
    notes.over()
    assert now.verdict.cause is None
    (trouble,) = notes.troubles
    assert trouble.cause == "connection"
    assert trouble.text == (
        "the connection to the ingest server broke (reset by peer), and was back after 4 s"
    )
    assert len(notes.seconds.sent_kbps) == 39


@given(
    st.lists(
        st.tuples(
            st.floats(0.05, 3),
            st.booleans(),
            st.integers(0, 10**7),
            st.integers(0, 10**7),
            st.floats(0, 30) | st.none(),
            st.floats(0, 9) | st.none(),
        ),
        max_size=60,
    )
)
def test_any_looks_make_a_broadcast(
    looks: list[tuple[float, bool, int, int, float, float]],
) -> None:
    notes, moment, handed, carried = Recorder.of("here", PLANNED), 0.0, 0, 0
    for step, there, more, less, wait, late in looks:
        moment, handed, carried = moment + step, handed + more, carried + min(more, less)
        now = notes.look(
            StreamSample(
                seconds=moment,
                connected=there,
                handed_bytes=handed,
                carried_bytes=carried,
                queued_bytes=handed - carried,
                queued_seconds=wait,
                media_late_seconds=late,
            )
        )
        assert json.loads(now.model_dump_json())["verdict"]["text"]
    notes.over()
    assert len(notes.seconds.sent_kbps) == int(moment)
    assert all(t.lasted_seconds >= 0 and t.worst_queue_seconds >= 0 for t in notes.troubles)


def test_two_hours_take_less_than_300_kb() -> None:
    rng = np.random.default_rng(1)
    rates = [int(x) for x in rng.integers(5500, 6500, 7200)]
    broadcast = a_broadcast(rates, queued_ms=[int(x) for x in rng.integers(0, 900, 7200)])
    assert len(broadcast.model_dump_json()) < 300_000


# Evidence


@given(
    st.lists(
        st.tuples(st.floats(1, 1e4), st.floats(0.01, 5), st.booleans()), min_size=1, max_size=40
    )
)
def test_weights_pass_upwards_and_none_is_lost(rows: list[tuple[float, float, bool]]) -> None:
    values, weights = np.array([r[0] for r in rows]), np.array([r[1] for r in rows])
    exact = np.array([r[2] for r in rows])
    passed = redistributed(values, weights, exact)
    assert passed.sum() == pytest.approx(weights.sum())
    assert (passed >= -1e-12).all()
    assert redistributed(values, weights, np.ones(values.size, bool)) == pytest.approx(weights)
    for most in np.sort(values):  # a bound from below never makes less of what is above it
        assert passed[values <= most].sum() <= weights[values <= most].sum() + 1e-9


def some_runs() -> list[Run]:
    return [at(20, kbps, day) for day, kbps in enumerate((5200, 6100, 4700, 5900, 5400), 1)]


def test_a_broadcast_that_held_raises_the_floor_and_a_dip_lowers_it() -> None:
    runs = some_runs()
    alone = uplink_of(runs)
    high = round(1.2 * alone.typical_kbps)
    held = quarters(a_broadcast([high] * 1800))
    with_held = uplink_of(runs, aired=held)
    assert with_held.floor_kbps >= alone.floor_kbps
    assert with_held.typical_kbps >= alone.typical_kbps
    assert with_held.broadcasts == ("20261101-200000-w0001",)
    low = round(0.2 * alone.floor_kbps)
    assert uplink_of(runs, aired=quarters(a_broadcast([low] * 1800))).floor_kbps == pytest.approx(
        alone.floor_kbps, rel=1e-6
    )  # so little was sent that it says nothing
    dipped = quarters(a_broadcast([low] * 1800, sent=[high] * 1800, queued_ms=[900] * 1800))
    assert uplink_of(runs, aired=dipped).floor_kbps < alone.floor_kbps
    assert alone.contradicted_kbps is None
    lasting = a_broadcast([1000] * 600, queued_ms=[900] * 600)
    told = uplink_of(runs, aired=quarters(lasting))
    assert (told.runs_floor_kbps, told.contradicted_kbps) == (alone.floor_kbps, 1000)
    assert uplink_of(runs, aired=[]) == alone


def test_what_the_ingest_did_says_nothing_of_the_line() -> None:
    trouble = BroadcastTrouble(
        cause="ingest",
        at_seconds=100,
        lasted_seconds=700,
        worst_queue_seconds=9,
        late=True,
        text="",
    )
    waits = [0] * 100 + [9000] * 700 + [0] * 100
    broadcast = a_broadcast(
        [5000] * 100 + [10] * 700 + [5000] * 100, queued_ms=waits, troubles=(trouble,)
    )
    (quarter,) = quarters(broadcast)
    assert not quarter.limited.any()
    assert quarter.rates_kbps.min() == 5000


def test_plan_counts_broadcasts_of_its_platforms_and_says_so(
    kestrel: Kestrel,
) -> None:
    kept(*some_runs())
    before = kestrel("plan", "--for", "oxbow", *EVER, "--json").document
    high = round(1.5 * before["uplink"]["typical_kbps"])
    trouble = BroadcastTrouble(
        cause="upload",
        at_seconds=50,
        lasted_seconds=3,
        worst_queue_seconds=1,
        late=True,
        text="late",
    )
    with History() as history:
        history.keep(
            [
                a_broadcast([high] * 7800, troubles=(trouble,), name="20261102-200000-w0002"),
                a_broadcast([90] * 100, platform="larkspur", name="20261102-200000-w0003"),
                a_broadcast([90] * 100, kind="practice", name="20261102-200000-w0004"),
            ]
        )
    after = kestrel("plan", "--for", "oxbow", *EVER, "--json")
    assert after.document["uplink"]["broadcasts"] == ["20261102-200000-w0002"]
    assert after.document["uplink"]["floor_kbps"] > before["uplink"]["floor_kbps"]
    said = kestrel("plan", "--for", "oxbow", *EVER)
    assert f"yesterday it carried {high:,} kbit/s for 2 h 10 min with 1 stall" in " ".join(
        (said.out + said.err).split()
    )


def test_broadcasts_are_listed_exported_forgotten_and_reviewed(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    assert "watch a show" in kestrel("review").error_line
    dip = BroadcastTrouble(
        cause="upload",
        at_seconds=60,
        lasted_seconds=20,
        late=True,
        worst_queue_seconds=2,
        text="late: 2.0 s wait",
    )
    broadcast = a_broadcast(
        [4000] * 60 + [1500] * 20 + [4000] * 40,
        sent=[4000] * 120,
        queued_ms=[0] * 60 + [2000] * 20 + [0] * 40,
        troubles=(dip,),
    )
    with History() as history:
        history.keep([broadcast])
    assert broadcast.id in kestrel("runs", "list").out
    (row,) = kestrel("runs", "list", "--json").document["broadcasts"]
    assert row["troubles"] == 1
    found = kestrel("review", "--figure", str(tmp_path / "a.png"), "--json").document
    assert 1400 <= found["would_have_held_kbps"] <= 1700
    assert "had no late frame" in found["next_time"][0]
    assert (tmp_path / "a.png").stat().st_size > 10_000
    for upload in ("1.5 Mbit/s", "3 Mbit/s", "9 Mbit/s"):  # planned anew since, or not
        made = kestrel("plan", "--for", "oxbow", "--upload", upload, "--json").document
        there = made["destinations"][0]
        held = 0.9 * found["would_have_held_kbps"]
        fitting = [one for one in (there, *there["fallbacks"]) if one["total_kbps"] <= held]
        advice = kestrel("review", "--json").document["next_time"][0]
        assert ("begin with" in advice) == bool(fitting)
        for video in [one["video"] for one in fitting[:1]]:
            assert f"{video['width']}x{video['height']} at {video['fps']:g} fps, " in advice
            assert f"{video['bitrate_kbps']:,.0f} kbit/s" in advice
    shown = kestrel("review", broadcast.id[:12]).out
    assert "late: 2.0 s wait" in shown
    assert "--footage" not in shown
    for name, ended in (("my show.mkv", 3.0), ("other.mkv", 900.0), ("note.txt", 3.0)):
        (tmp_path / name).touch()
        at = broadcast.taken.timestamp() + broadcast.lasted_seconds + ended
        os.utime(tmp_path / name, (at, at))
    *_, offered = kestrel("review", "--json").document["next_time"]
    assert "--footage 'my show.mkv'" in offered
    kestrel("runs", "export", str(tmp_path / "all.json"))
    assert kestrel("runs", "forget", broadcast.id).out == "1 forgotten\n"
    assert kestrel("review").code == 2
    assert kestrel("runs", "import", str(tmp_path / "all.json")).out == "1 added\n"
    assert kestrel("review", "--json").document["broadcast"] == broadcast.model_dump(mode="json")
    broken = json.loads((tmp_path / "all.json").read_text())
    broken["broadcasts"][0]["seconds"]["sent_kbps"] = [1]
    (tmp_path / "broken.json").write_text(json.dumps(broken))
    assert "broadcast 1" in kestrel("runs", "import", str(tmp_path / "broken.json")).err


@given(st.lists(st.integers(300, 9000), min_size=12, max_size=200))
def test_what_would_have_held_had_no_late_frame(able: list[int]) -> None:
    """Through what the connection was able to carry, second by second, when 6,000 were sent."""
    sent, queued, carried, waits = 6000, 0.0, [], []
    for rate in able:
        carried.append(round(min(rate, queued + sent)))
        queued = max(0.0, queued + sent - rate)
        waits.append(round(queued / sent * 1000))
    broadcast = a_broadcast(carried, sent=[sent] * len(able), queued_ms=waits)
    held = review_of(broadcast).would_have_held_kbps
    assert held is not None
    queue = worst = 0.0
    for rate in able:
        queue = max(0.0, queue + held - rate)
        worst = max(worst, queue)
    assert worst <= LATE_SECONDS * held * 1.02 + 1


def test_judge_knows_nothing_of_a_stream_without_a_plan() -> None:
    judge = Judge()
    for tick in range(1, 80):
        sent = tick * 50_000
        assert judge.told(StreamSample(tick / 4, True, sent, sent)).cause is None
