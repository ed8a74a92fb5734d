"""Stutter seen: the laws of replay, and that plan, forecast and check say the same."""

from __future__ import annotations

import itertools
import json
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import imageio_ffmpeg
import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.schedule import ScheduleOutcome, learned
from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.connection.evidence import (
    BroadcastEvidence,
    RunEvidence,
    broadcast_evidence,
)
from eager_kestrel.core.connection.run import Endpoint, Phase, Run, Series
from eager_kestrel.core.forecast.evidence import REACH, Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending, group_of_frames, planned
from eager_kestrel.core.show.show import Motion
from eager_kestrel.core.stutter import LATE_SECONDS, LIMIT_SECONDS, bridged, queued_kbit, stutters
from eager_kestrel.files.history import History
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel
from tests.test_runs import at, kept

BEGIN = datetime(2026, 11, 1, 20, tzinfo=UTC)
GRID = 0.05
FRAMES = planned(group_of_frames(120, 2, "lively"), 1.0, 0.95, 60.0, 1e9)
LOWEST = 400.0
"""The lowest total worth sending, where nothing else is said."""


def a_run(steps: Floats, number: int = 0) -> RunEvidence:
    taken = (BEGIN + timedelta(days=number)).isoformat()
    return RunEvidence(
        f"r{number}", taken, "", "", "measured", False, False, None, None, steps[:1] / GRID, steps
    )


def held(kbps: float, seconds: int, number: int = 0) -> BroadcastEvidence:
    broadcast = a_broadcast([round(kbps)] * seconds, name=f"b{number}", days_ago=number + 1)
    return broadcast_evidence(broadcast)


def uneven(
    seed: int, count: int, kbps: float = 8000, length: int = 200, deepest: float = 0.0
) -> list[RunEvidence]:
    """Runs with dips of different depth and length."""
    rng = np.random.default_rng(seed)
    found = []
    for number in range(count):
        steps = rng.normal(kbps, kbps * 0.1, length).clip(0) * GRID
        if rng.random() < 0.5:
            begin = rng.integers(0, length - 60)
            steps[begin : begin + rng.integers(10, 60)] *= rng.uniform(deepest, 0.8)
        found.append(a_run(steps, number))
    return found


@given(
    st.lists(st.floats(0, 50), min_size=1, max_size=80),
    st.lists(st.floats(0, 50), min_size=80, max_size=80),
)
def test_the_queue_is_lindleys(sent: list[float], carried: list[float]) -> None:
    queue, most = 0.0, []
    for a, c in zip(sent, carried, strict=False):
        queue += a
        most.append(queue)
        queue = max(0.0, queue - c)
    found = queued_kbit(np.array(sent), np.array(carried[: len(sent)]))
    assert found == pytest.approx(np.array(most), abs=1e-6)


@given(st.lists(st.booleans(), min_size=1, max_size=200))
def test_stutters_are_runs_of_late_frames_with_gaps_bridged(late: list[bool]) -> None:
    seconds = np.arange(len(late), dtype=np.float64) * GRID
    found = stutters(late, seconds, GRID)
    flags = bridged(np.array(late), np.zeros(len(late), dtype=np.intp), GRID)
    assert flags[np.array(late)].all()
    assert sum(s.lasted_seconds for s in found) == pytest.approx(flags.sum() * GRID, abs=0.01)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags]).astype(int)) == 1)
    assert len(found) == edges.size
    for before, after in itertools.pairwise(found):
        assert after.at_seconds - before.at_seconds - before.lasted_seconds >= 0.94


@given(st.integers(0, 10**6), st.integers(1, 12), st.lists(st.floats(0.1, 1.6), min_size=2))
def test_a_higher_rate_never_stutters_less(seed: int, count: int, rates: list[float]) -> None:
    broadcasts = [held(3000 + 500 * n, 900, n) for n in range(seed % 3)]
    replay = Replay(Evidence.of(uneven(seed, count), broadcasts), FRAMES, LOWEST)
    found = [replay.seen(8000 * rate) for rate in sorted(rates)]
    for before, after in itertools.pairwise(found):
        assert before is not None
        assert after is not None
        assert after.seconds_per_hour >= before.seconds_per_hour - 1e-6
        assert after.high_seconds_per_hour >= before.high_seconds_per_hour - 1e-6
    for one in found:
        assert one is not None
        assert one.low_seconds_per_hour <= one.seconds_per_hour <= one.high_seconds_per_hour


def stopped(run: RunEvidence, begin: int, steps: int, number: int = 0) -> RunEvidence:
    """The same run, but for a time at which nothing got through."""
    whole = run.steps_kbit
    return a_run(np.concatenate([whole[:begin], np.zeros(steps), whole[begin:]]), number)


def test_a_standstill_hardly_ever_lowers_the_safe_rate() -> None:
    """No bitrate avoids it, so none pays for it.

    What follows it is moved against the keyframes, which meet other dips: of 2,208 connections
    looked at, eight lost more than 5 %, three of them more than 20 %.
    """
    rng, ratios = np.random.default_rng(5), []
    for _ in range(120):
        runs = uneven(int(rng.integers(10**6)), 3)
        begin, steps = int(rng.integers(10, 350)), int(rng.integers(15, 900))
        rates = [
            Replay(Evidence.of([first, *runs[1:]]), FRAMES, LOWEST).safe_kbps(LIMIT_SECONDS) or 0.0
            for first in (runs[0], stopped(runs[0], begin, steps))
        ]
        ratios.append(rates[1] / rates[0])
    assert np.mean(np.array(ratios) >= 0.98) >= 0.97
    assert np.median(ratios) >= 1.0


@given(st.integers(0, 10**6), st.integers(10, 350), st.integers(15, 900))
def test_a_standstill_is_told_as_one(seed: int, begin: int, steps: int) -> None:
    """It is no stutter that a bitrate avoids."""
    runs = uneven(seed, 3)
    before = Replay(Evidence.of(runs), FRAMES, LOWEST)
    after = Replay(Evidence.of([stopped(runs[0], begin, steps), *runs[1:]]), FRAMES, LOWEST)
    without, safe = before.safe_kbps(LIMIT_SECONDS), after.safe_kbps(LIMIT_SECONDS)
    assert without is not None
    assert safe is not None
    seen = after.seen(safe)
    assert seen is not None
    assert seen.standstills is not None
    was = before.seen(safe)
    already = was.standstills if was is not None else None
    if already is None:
        assert seen.standstills.number == 1
    else:  # the new one may run into an old one
        assert seen.standstills.number >= already.number
        assert seen.standstills.seconds > already.seconds
    longer = seen.standstills.seconds - (already.seconds if already else 0.0)
    assert longer == pytest.approx(steps * GRID, abs=0.11)
    assert seen.standstills.late_seconds >= seen.standstills.late_at_half_seconds > 0
    assert seen.within(LIMIT_SECONDS)


@given(st.integers(0, 10**6), st.integers(1, 5), st.booleans())
def test_a_clean_run_never_lowers_the_safe_rate(seed: int, count: int, stop: bool) -> None:
    runs = uneven(seed, count)
    if stop:
        runs[0] = stopped(runs[0], 100, 40)
    clean = a_run(np.full(200, 8000 * GRID), 99)
    before = Replay(Evidence.of(runs), FRAMES, LOWEST).safe_kbps(LIMIT_SECONDS)
    after = Replay(Evidence.of([*runs, clean]), FRAMES, LOWEST).safe_kbps(LIMIT_SECONDS)
    assert before is not None
    assert after is not None
    assert after >= 0.99 * min(before, 8000 / 1.42)


@given(st.integers(0, 10**6), st.floats(0, 1800))
def test_the_highest_rate_within_the_limit_is_the_highest(seed: int, limit: float) -> None:
    replay = Replay(Evidence.of(uneven(seed, 6)), FRAMES, LOWEST)
    most, safe = replay.max_kbps(limit), replay.safe_kbps(limit)
    assert most is not None
    assert safe is not None
    seen = replay.seen(most)
    assert seen is not None
    assert seen.within(limit + 0.01)
    above = replay.seen(most * 1.01)
    assert most >= replay.evidence.highest_kbps or (above and not above.within(limit))
    assert most / 1.43 <= safe <= most


@given(st.integers(0, 10**6), st.floats(0.2, 1.5))
def test_a_broadcast_that_held_never_lowers_the_safe_rate_below_it(seed: int, rate: float) -> None:
    runs, kbps = uneven(seed, 5), 8000 * rate
    before = Replay(Evidence.of(runs), FRAMES, LOWEST).safe_kbps(LIMIT_SECONDS)
    after = Replay(Evidence.of(runs, [held(kbps, 7200)]), FRAMES, LOWEST).safe_kbps(LIMIT_SECONDS)
    assert before is not None
    assert after is not None
    assert after >= min(before, kbps) * 0.99
    alone = Replay(Evidence.of([], [held(kbps, 7200)]), FRAMES, LOWEST)
    safe = alone.safe_kbps(LIMIT_SECONDS)
    assert safe is not None
    assert kbps * 0.995 <= safe <= kbps * REACH * 1.01
    assert alone.seen(kbps * 1.5) is None  # it says nothing of so high a rate


@given(st.integers(0, 10**6))
def test_more_evidence_of_the_same_kind_narrows_the_interval(seed: int) -> None:
    few = uneven(seed, 6)
    again = [a_run(run.steps_kbit, number) for number, run in enumerate(few * 12)]
    widths = []
    for runs in (few, again):
        seen = Replay(Evidence.of(runs), FRAMES, LOWEST).seen(6000)
        assert seen is not None
        widths.append(seen.high_seconds_per_hour - seen.low_seconds_per_hour)
    assert widths[1] <= 0.7 * widths[0]


def test_late_broadcasts_stutter_at_their_rate_and_less_below() -> None:
    queued = [0] * 60 + [*range(900, 9001, 900)] + [9000] * 3 + [0] * 57
    dip = a_broadcast([4000] * 60 + [1000] * 10 + [4000] * 60, sent=[4000] * 130, queued_ms=queued)
    replay = Replay(Evidence.of([], [broadcast_evidence(dip)]), FRAMES, LOWEST)
    at_rate, below = replay.seen(4000), replay.seen(900)
    assert at_rate is not None
    assert below is not None
    assert at_rate.number == 1
    assert 5 < at_rate.seconds < 20
    assert below.number == 0


@given(
    st.sampled_from([15.0, 24.0, 25.0, 30000 / 1001, 30.0, 50.0, 60000 / 1001, 60.0]),
    st.sampled_from([1, 2, 4, 5]),
    st.sampled_from(["still", "calm", "lively", "hectic"]),
)
def test_frames_by_steps_are_the_stream(fps: float, keyframe: int, motion: Motion) -> None:
    group = group_of_frames(round(fps * keyframe), 2, motion)
    sending = planned(group, 3000, 2800, fps, 2800.0)
    steps = sending.by_step(GRID)
    assert steps.mean() == pytest.approx(GRID)
    assert steps.min() >= 0
    # A steady connection with a little to spare never makes such a stream late.
    ample = Replay(Evidence.of([a_run(np.full(400, 3000 * 1.3 * GRID))]), sending, LOWEST).seen(
        3000
    )
    assert ample is not None
    assert ample.number == 0
    assert ample.worst_queue_seconds < LATE_SECONDS


def run_at(hour: int, day: int, steps: Floats) -> Run:
    delivered = np.concatenate([[0.0], np.cumsum(steps * 125)])
    series = Series(
        seconds=tuple(float(x) for x in np.arange(delivered.size) * GRID),
        delivered_bytes=tuple(int(x) for x in delivered),
    )
    stamp = datetime.now(UTC).astimezone().replace(hour=hour, minute=10) - timedelta(days=day)
    return Run(
        id=f"r{day:02d}{hour:02d}",
        taken_at=stamp.isoformat(),
        version="0",
        endpoint=Endpoint(url="https://up.oxbow.example/u"),
        counted_by="made",
        one_connection=Phase(name="one connection", connections=1, ended="time", samples=series),
    )


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("limit", ["7 s/h", "10 min/h"])
def test_plan_forecast_and_check_agree(kestrel: Kestrel, seed: int, limit: str) -> None:
    rng = np.random.default_rng(seed)
    runs = uneven(seed, 8, float(rng.uniform(8000, 20000)), deepest=0.45)
    kept(*(run_at(20, day, run.steps_kbit) for day, run in enumerate(runs, 1)))
    if seed % 2:
        with History() as history:
            history.keep([a_broadcast([2500] * 3600, days_ago=0.9)])
    made = kestrel("plan", "wheel-night", "--stutter", limit, "--json").document
    seen = made["stutter"]
    assert seen["high_seconds_per_hour"] <= (7 if limit == "7 s/h" else 600)
    share = made["uplink"]["typical_kbps"] * 0.7
    safe = made["uplink"]["seen_safe"]["kbps"]
    assert made["budget"]["limited_by"] == ("seen safe" if safe < share else "safe share")
    assert made["budget"]["before_reserves_kbps"] == pytest.approx(min(safe, share), abs=0.01)
    told = kestrel("forecast", "--json").document
    assert told["stutter"] == seen
    assert told["steps"][0]["within"] is made["destinations"][0]["feasible"] is True
    for cheaper in told["steps"][1:]:
        assert cheaper["within"]
    assert told["max_kbps"] >= made["total_kbps"] + made["budget"]["reserved_kbps"] - 1
    card = " ".join(kestrel("plan", "wheel-night", "--stutter", limit).out.split())
    assert "your upload holds this; stutter: " in card
    again = kestrel("plan", "wheel-night", "--stutter", "0 s/h", "--json")
    if again.code == 0:
        assert again.document["stutter"]["high_seconds_per_hour"] == 0
        assert again.document["total_kbps"] <= made["total_kbps"]


def test_loosening_the_named_limit_changes_the_answer(kestrel: Kestrel) -> None:
    """Seen safe binds: more stutter accepted sends more, a larger share does not."""
    dips = np.full(200, 8000 * GRID)
    dips[80:120] *= 0.25
    kept(*(run_at(20, day, dips) for day in range(1, 7)))
    plain = kestrel("plan", "--for", "oxbow", "--json").document
    assert plain["budget"]["limited_by"] == "seen safe"
    names = [step["name"] for step in plain["budget"]["steps"]]
    assert names[:3] == ["typical upload", "seen safe", "headroom"]
    looser = kestrel("plan", "--for", "oxbow", "--stutter", "30 min/h", "--json").document
    assert looser["total_kbps"] > plain["total_kbps"]
    larger = kestrel("plan", "--for", "oxbow", "--share", "90 %", "--json").document
    assert larger["total_kbps"] == plain["total_kbps"]
    tighter = kestrel("plan", "--for", "oxbow", "--share", "20 %", "--json").document
    assert tighter["budget"]["limited_by"] == "safe share"


@pytest.mark.parametrize(("kbps", "stopped_for"), [(8000, 1.5), (5000, 0.9), (12_000, 3.0)])
def test_one_standstill_takes_no_plan_away(
    kestrel: Kestrel, kbps: float, stopped_for: float
) -> None:
    """It is told, with what it does and what helps; the plan is as it would be without it."""
    steps = np.full(200, kbps * GRID)
    kept(run_at(20, 1, steps))
    clean = kestrel("plan", "--for", "oxbow", "--json").document
    stop = steps.copy()
    stop[100 : 100 + round(stopped_for / GRID)] = 0
    kept(run_at(20, 2, stop))
    made = kestrel("plan", "--for", "oxbow", "--json")
    assert made.code == 0
    assert made.document["total_kbps"] >= 0.95 * clean["total_kbps"]
    still = made.document["stutter"]["standstills"]
    assert still["number"] == 1
    assert still["seconds"] == pytest.approx(stopped_for, abs=0.06)
    told = " ".join(kestrel("plan", "--for", "oxbow").out.split())
    assert f"your connection stopped once for {stopped_for:g} s" in told
    assert "no bitrate avoids that" in told
    said = kestrel("forecast")
    assert "stopped once" in " ".join(said.out.split())
    assert kestrel("check", "--tonight").code == 0


def test_where_no_rate_keeps_the_limit_there_is_a_plan_and_it_says_so(kestrel: Kestrel) -> None:
    dips = np.full(200, 8000 * GRID)
    dips[::40] = dips[1::40] = dips[2::40] = 0
    for first in range(0, 200, 50):
        dips[first : first + 13] = 0.02 * 8000 * GRID
    kept(*(run_at(20, day, dips) for day in range(1, 7)))
    made = kestrel("plan", "--for", "gatepost", "--stutter", "0 s/h", "--json")
    assert made.code in (0, 1), made.err
    document = made.document
    assert document["destinations"][0]["feasible"]
    holds = document["stutter"]["high_seconds_per_hour"] == 0
    assert made.code == (0 if holds else 1)
    assert ("does not hold this" in document["tonight"]) is not holds
    assert kestrel("check", "--tonight").code == made.code


@pytest.mark.parametrize(
    ("more", "named", "helps"),
    [
        (("--upload", "0.2 Mbit/s"), "your upload has a safe rate of 140 kbit/s", "more upload"),
        (
            ("--upload", "3 Mbit/s", "--reserve", "call=2.1 Mbit/s"),
            "the reserves leave 0 kbit/s of 2,100 kbit/s",
            "free some of the reserves",
        ),
        (
            ("--upload", "30 Mbit/s", "--cap", "1 GB", "--hours", "20"),
            "your data cap leaves ",
            "raise the cap",
        ),
        (
            ("--upload", "30 Mbit/s", "--viewers", "100 kbit/s"),
            "its slowest viewers have room for",
            "raise --viewers",
        ),
    ],
)
def test_what_really_leaves_nothing_is_named(
    kestrel: Kestrel, more: tuple[str, ...], named: str, helps: str
) -> None:
    refused = kestrel("plan", "--for", "oxbow", *more)
    assert refused.code == 4
    assert named in refused.error_line
    assert helps in refused.error_line


def test_the_same_question_gives_the_same_number_everywhere(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    """A schedule, a plan, a sweep and tonight's check, by the show of this folder."""
    runs = [run_at(20, day, run.steps_kbit) for day, run in enumerate(uneven(3, 6, 9000), 1)]
    kept(*runs)
    reserve = ("--reserve", "call=800 kbit/s", "--share", "60 %")
    assert kestrel("start", "--yes", "--for", "oxbow", *reserve, "--out", "show.toml").code == 0
    made = kestrel("plan", "--json").document
    assert made["budget"]["reserved_kbps"] == 800
    outcomes = [ScheduleOutcome(number, run, None) for number, run in enumerate(runs, 1)]
    summed = learned(outcomes)
    assert summed.safe_kbps == made["budget"]["safe_kbps"]
    assert summed.limited_by == made["budget"]["limited_by"]
    video = made["destinations"][0]["video"]
    assert f"{video['width']}x{video['height']}" in summed.leads_to[0]
    assert f"{video['bitrate_kbps']:,.0f} kbit/s" in summed.leads_to[0]
    swept = kestrel("plan", "--sweep", "motion", "--json").document
    (same,) = [point for point in swept["points"] if point["at"] == made["inputs"]["motion"]]
    assert same["chosen"]["bitrate_kbps"] == video["bitrate_kbps"]
    assert same["safe_kbps"] == made["budget"]["safe_kbps"]
    tonight = kestrel("check", "--tonight", "--json").document
    assert tonight["fits"]
    assert tonight["safe_kbps"] == pytest.approx(made["budget"]["safe_kbps"], abs=0.06)


def test_reserves_are_part_of_what_is_replayed(kestrel: Kestrel) -> None:
    kept(*(run_at(20, day, np.full(200, 6000 * GRID)) for day in range(1, 4)))
    made = kestrel("plan", "--for", "oxbow", "--reserve", "call=1500 kbit/s", "--json").document
    told = kestrel("forecast", "--json").document
    assert told["reserved_kbps"] == 1500
    assert told["max_kbps"] >= made["total_kbps"] + 1500
    assert made["total_kbps"] + 1500 <= 0.7 * 6000 + 0.1


@pytest.mark.parametrize("kind", ["one run", "practice", "readings", "broadcasts", "number"])
def test_a_forecast_is_always_useful(kestrel: Kestrel, tmp_path: Path, kind: str) -> None:
    """Whatever little there is, it says what that says and nothing more."""
    if kind == "one run":
        kept(run_at(20, 1, np.full(200, 6000 * GRID)))
    elif kind == "practice":
        run = run_at(20, 1, np.full(200, 6000 * GRID))
        kept(run.model_copy(update={"endpoint": Endpoint(url="http://127.0.0.1:9/u")}))
    elif kind == "readings":
        rows = [f"{run_at(hour, 1, np.zeros(1)).taken_at},{hour}" for hour in (9, 20)]
        (tmp_path / "r.csv").write_text("\n".join(["time,upload_mbps", *rows]))
        assert kestrel("runs", "import", tmp_path / "r.csv").code == 0
    elif kind == "broadcasts":
        with History() as history:
            history.keep([a_broadcast([3000] * 600)])
    upload = ("--upload", "4 Mbit/s") if kind in ("broadcasts", "number") else ()
    made = kestrel("plan", "--for", "oxbow", *upload, "--json").document
    assert (made["stutter"] is not None) == (kind in ("one run", "practice"))
    card = " ".join(kestrel("plan", "--for", "oxbow", *upload).out.split())
    assert made["tonight"] in card
    assert ("tonight not known" in card) == (made["stutter"] is None)
    assert "measure --to oxbow" in card
    said = kestrel("forecast")
    if kind == "number":
        assert said.code == 2
        assert "eager-kestrel measure" in said.error_line
        return
    assert said.code == 0, said.err
    told = kestrel("forecast", "--json").document
    assert told["practice"] is (kind == "practice")
    if kind == "practice":
        assert "simulated" in said.out
    if kind == "readings":
        assert told["stutter"] is None
        assert [hour["imported_kbps"] for hour in told["by_hour"]] == [9000, 20000]
        assert "averages say nothing of single seconds" in " ".join(said.out.split())
    else:
        assert told["stutter"]["number"] == 0
        little = told["stutter"]["observed_seconds"] < 600
        about = "are a rule of thumb" if little else "cannot be excluded (95 %)"
        assert about in " ".join(said.out.split())
        bound = 3 / (told["stutter"]["observed_seconds"] / 3600)
        assert told["stutter"]["unseen_per_hour"] == pytest.approx(bound, rel=0.01)


def test_hours_differ_and_each_has_its_highest_rate(kestrel: Kestrel, tmp_path: Path) -> None:
    for day in range(1, 5):
        kept(
            run_at(12, day, np.full(200, 12000 * GRID)), run_at(20, day, np.full(200, 4000 * GRID))
        )
    noon = kestrel("plan", "--for", "oxbow", "--at", "12:00", "--json").document
    assert noon["stutter"]["number"] == 0
    told = kestrel("forecast", "--figure", tmp_path / "f.png", "--json").document
    assert (tmp_path / "f.png").stat().st_size > 20_000
    hours = {hour["hour"]: hour for hour in told["by_hour"]}
    assert hours[12]["max_kbps"] == pytest.approx(12000, rel=0.02)
    assert hours[20]["max_kbps"] == pytest.approx(4000, rel=0.02)
    assert hours[12]["stutter"] == noon["stutter"]
    assert hours[20]["stutter"]["seconds_per_hour"] > 600
    evening = kestrel("forecast", "--at", "20:00", "--json").document
    assert evening["stutter"] == hours[20]["stutter"]
    assert not evening["steps"][0]["within"]
    first = next(step for step in evening["steps"] if step["within"])
    assert first["settings"] in evening["verdict"]
    assert kestrel("forecast", "--at", "4:00").code == 2


def test_runs_and_broadcasts_are_counted_each_once(kestrel: Kestrel) -> None:
    """Two on one day are two, and one over several quarters of an hour is one."""
    kept(run_at(20, 1, np.full(200, 6000 * GRID)), run_at(21, 1, np.full(200, 6000 * GRID)))
    with History() as history:
        history.keep(
            [
                a_broadcast([3000] * 3600, days_ago=1.0, name="b0"),
                a_broadcast([3000] * 300, days_ago=1.01, name="b1"),
            ]
        )
    assert kestrel("plan", "--for", "oxbow").code == 0
    told = kestrel("forecast", "--json").document
    assert told["evidence"].endswith("2 runs and 2 broadcasts")


def test_a_show_of_two_hours_has_twice_an_hours_stutter(kestrel: Kestrel) -> None:
    dips = np.full(200, 8000 * GRID)
    dips[80:140] *= 0.1
    kept(*(run_at(20, day, dips) for day in range(1, 4)))
    kestrel("plan", "--for", "oxbow", "--stutter", "59 min/h")
    hour, two = (kestrel("forecast", "--for", lasts).out for lasts in ("1 h", "2 h"))
    assert "in 60 min" in hour
    assert "in 2 h" in two


def test_frames_of_a_recording_take_the_plans_place(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(*(run_at(20, day, np.full(200, 6000 * GRID)) for day in range(1, 4)))
    kestrel("plan", "--for", "oxbow")
    file = tmp_path / "arrived.flv"
    source = ("-f", "lavfi", "-i", "testsrc2=size=320x180:rate=30", "-t", "4")
    clip = [imageio_ffmpeg.get_ffmpeg_exe(), "-v", "error", *source, "-c:v", "libx264", file]
    subprocess.run(clip, check=True)
    told = kestrel("forecast", "--frames", file, "--json").document
    assert "arrived.flv" in told["text"]
    assert len(told["steps"]) >= 1


def test_bad_limits_get_one_line(kestrel: Kestrel) -> None:
    kept(at(20, 8000))
    for wrong in ("20", "20 s", "1 in 50", "2 h/h", "-3 s/h"):
        said = kestrel("plan", "--for", "oxbow", "--stutter", wrong)
        assert said.code == 2
        assert '"20 s/h"' in said.error_line


def test_a_show_says_how_much_stutter_it_takes(kestrel: Kestrel, tmp_path: Path) -> None:
    kept(run_at(20, 1, np.full(200, 6000 * GRID)))
    show = tmp_path / "mine.toml"
    show.write_text(
        'format = "eager-kestrel/show/3"\nsource = "1920x1080"\nsource_fps = "60"\n'
        'motion = "lively"\nstutter = "1 min/h"\n[[destinations]]\nplatform = "oxbow"\n'
    )
    made = json.loads(kestrel("plan", show, "--json").out)
    assert made["inputs"]["stutter_limit"] == 60
    assert kestrel("forecast", "--json").document["limit_seconds_per_hour"] == 60


def test_an_even_stream_is_late_just_above_what_is_carried() -> None:
    even = Sending(1.0, 20.0, np.full(1, GRID))
    replay = Replay(Evidence.of([a_run(np.full(2000, 5000 * GRID))]), even, LOWEST)
    assert replay.seen(5000).number == 0  # type: ignore[union-attr]
    assert replay.seen(5100).number == 1  # type: ignore[union-attr]
