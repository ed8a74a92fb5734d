"""Forecasts in full: what is taken from runs, what lines promise, what is said, and figures."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_kestrel.core.forecast.forecast import CURVE_POINTS, FAN, Forecast
from eager_kestrel.core.forecast.hours import Pieces, hours
from eager_kestrel.core.forecast.lines import Lines
from eager_kestrel.core.forecast.odds import odds_of, spread_of
from eager_kestrel.core.forecast.queue import replay
from eager_kestrel.core.forecast.sending import Sending, planned, recorded, together
from eager_kestrel.core.forecast.watched import kbit_steps, watched
from eager_kestrel.core.line.trace import Trace
from eager_kestrel.core.words import forecasts as words
from tests.conftest import Kestrel
from tests.test_forecast import EVER, keep_line, seeds, seen_on
from tests.test_runs import at, kept
from tests.test_throughput import run_of, sampled


@given(st.floats(500, 100_000), st.integers(3, 30))
def test_a_constant_line_is_watched_as_it_is(kbps: float, seconds: int) -> None:
    run = run_of(sampled(Trace.constant(kbps), seconds))
    found = watched([kbit_steps(run)] * 3, [0.0, 1e6, 2e6])
    assert found is not None
    assert found.count == 3
    assert found.levels_kbps == pytest.approx(np.full(3, kbps), rel=0.01)
    assert found.ratios == pytest.approx(np.ones(3), abs=0.03)
    assert np.abs(found.changes).max() < 0.01
    assert found.seconds == pytest.approx(np.full(3, seconds - 1.05), abs=0.11)  # less the ramp


@given(st.floats(0.0, 0.95), st.integers(10, 60))
def test_a_deeper_dip_gives_a_smaller_ratio_and_leaves_the_level(depth: float, width: int) -> None:
    def ratio(left: float) -> tuple[float, float]:
        path = np.full(200, 400.0)
        path[60 : 60 + width] *= left
        found = watched([path, path], [0.0, 1e6])
        assert found is not None
        return float(found.ratios[0]), float(found.levels_kbps[0])

    deep, level = ratio(depth)
    shallow, same = ratio(min(1.0, depth + 0.05))
    assert deep <= shallow + 1e-9
    assert level == pytest.approx(same) == pytest.approx(8_000)


def test_short_runs_and_dead_ones_are_left_out() -> None:
    good = np.full(100, 10.0)
    assert watched([np.full(10, 10.0), np.zeros(200)], [0.0, 1.0]) is None
    found = watched([good, np.full(10, 10.0), good], [0.0, 50.0, 100.0])
    assert found is not None
    assert found.count == 2
    assert list(found.lags) == [2.5, 2.5, 100.0]  # within each, and from one to the other
    assert list(found.times(3).levels_kbps) == [200.0] * 6


def test_runs_close_together_that_differ_make_levels_short() -> None:
    rng = np.random.default_rng(4)
    levels = 8_000 * np.exp(0.3 * rng.standard_normal(24))
    paths = [np.full(160, level * 0.05) for level in levels]
    far = watched(paths, [1e6 * n for n in range(24)])
    near = watched(paths, [60.0 * n for n in range(24)])
    assert far is not None
    assert near is not None
    typical = [float(np.median(Lines.drawn(seen).lasts_seconds)) for seen in (near, far)]
    assert typical[0] < 600 < typical[1]


@given(seeds, st.floats(0.01, 0.99), st.floats(0.01, 0.99))
def test_quantiles_and_chances_of_a_line_are_inverse(seed: int, one: float, other: float) -> None:
    tailed = Lines.drawn(seen_on(seed, 12), draws=20).levels
    low, high = sorted((one, other))
    values = tailed.quantiles(np.array([[low, high]]))
    assert (values[:, 0] <= values[:, 1] + 1e-9).all()
    back = tailed.chance_below(values * (1 - 1e-9))
    assert (back <= np.array([low, high]) + 1e-6).all()
    above = tailed.chance_below(values * (1 + 1e-9))
    assert (above >= np.array([low, high]) - 0.02).all()


@given(seeds)
def test_equal_runs_give_equal_lines_and_equal_hours(seed: int) -> None:
    seen = seen_on(seed)
    one, other = Lines.drawn(seen, draws=5, seed=3), Lines.drawn(seen, draws=5, seed=3)
    first = [h.copy() for h in hours(one, 30.0, 60.0, 1, 8)]
    again = [h.copy() for h in hours(other, 30.0, 60.0, 1, 8)]
    assert len(first) == 5
    for a, b in zip(first, again, strict=True):
        assert (a == b).all()
        assert a.size == 1800
        assert (a >= 0).all()


@given(seeds, st.sampled_from([24.0, 29.97, 60.0]))
def test_pieces_hold_what_runs_carried_and_their_deepest_dips(seed: int, fps: float) -> None:
    lines = Lines.drawn(seen_on(seed, 5, 0.1, 0.2), draws=2)
    pieces = Pieces.of(lines, fps)
    length = pieces.windows.shape[1]
    assert length == pytest.approx(8 * fps, abs=1)
    for run, trace in enumerate(lines.watched.traces):
        whole = pieces.windows[pieces.first[run]]
        assert whole.sum() == pytest.approx(trace.sum() * 0.05, rel=0.03)
        lowest = pieces.windows[pieces.deepest[run]].min()
        assert lowest <= 1.1 * trace.min() / fps + 1e-6  # frames lie across its 50 ms
    assert sorted(pieces.order) == list(range(5))
    assert (np.diff(lines.watched.ratios[pieces.order]) >= 0).all()


def test_a_longer_dip_is_told_longer() -> None:
    def told(width: int) -> tuple[float, int]:
        carried = np.full(600, 100.0)
        carried[200 : 200 + width] = 0.0
        found = replay(np.full(600, 60.0), 1200.0, 20.0, [carried])
        return float(found.dip_seconds.sum()), int(found.late_frames[0])

    lengths = [told(width) for width in (0, 10, 20, 40, 80)]
    assert lengths[0] == lengths[1] == (0.0, 0)
    assert lengths[1] < lengths[2] < lengths[3] < lengths[4]


@given(st.lists(st.floats(500, 6000), min_size=2, max_size=4), st.sampled_from([30.0, 60.0]))
def test_streams_together_send_what_each_sends(rates: list[float], fps: float) -> None:
    streams = tuple(planned(k, 0.9 * k, fps, 60, 2, k, "lively") for k in rates)
    both = together(streams)
    assert both.kbps == pytest.approx(sum(rates))
    assert both.sent_kbit(20).sum() == pytest.approx(20 * sum(rates), rel=0.02)
    assert together(streams[:1]) is streams[0]


def test_an_even_recording_is_an_even_stream() -> None:
    even = recorded(np.arange(90) / 30, np.full(90, 5000.0))
    assert even.needs[0] == pytest.approx(1200.0, rel=0.02)
    assert even.needs[1] < 0.05
    gap = recorded(np.concatenate([np.arange(45), np.arange(75, 120)]) / 30, np.full(90, 5000.0))
    assert gap.needs[0] > gap.kbps  # what was held up comes at once
    assert isinstance(gap, Sending)


@given(st.lists(st.floats(0, 1), min_size=5, max_size=60))
def test_a_chance_lies_within_its_interval(chances: list[float]) -> None:
    chance, low, high = spread_of(np.array(chances))
    assert 0 <= low <= chance <= high <= 1


# What is said


def test_words_of_a_verdict() -> None:
    own = words.verdict(0.02, 0.0, 0.2, 3600, ("a", 0.02), own=True, goal=0.05)
    assert own == "Late frames in about 1 in 50 hours (hardly any to 1 in 5 nine times in ten); " \
                  "the goal was 1 in 20."  # fmt: skip
    none = words.verdict(0.99, 0.97, 1.0, 7200, None, own=False, goal=0.05)
    assert none.startswith("Late frames in nearly all stretches of 2 h; none of the steps")
    step = words.verdict(0.5, 0.1, 0.9, 3600, ("720 lines", 0.01), own=False, goal=0.05)
    assert step.endswith("At 720 lines: 1 in 100.")


def test_words_of_what_viewers_see_grow_with_the_dip() -> None:
    said = [words.viewers(seconds) for seconds in (0, 0.4, 3, 40)]
    assert said[0] == "nothing"
    assert "short stutter" in said[1]
    assert "hides it" in said[2]
    assert "dropped" in said[3]
    assert len(set(said)) == 4


def test_words_of_numbers_of_frames_and_what_it_rests_on() -> None:
    assert words.late_frames(0.0, 0, 0) == "none"
    assert "none in 19 hours of 20" in words.late_frames(0.4, 0, 0)
    assert (
        words.late_frames(1234.5, 0, 9000)
        == "1,234 an hour on average; 0 to 9,000 in 9 of 10 hours"
    )
    assert "31 more" in words.rests_on(5, 40, 31, 0.8)
    assert "longer ones would" in words.rests_on(5, 40, None, 0.8)
    assert words.rests_on(5, 40, None, 0.0).endswith("in all")
    assert words.failed(2).startswith("2 runs that failed")
    assert words.too_few(3, None).endswith("measure for longer")


# The command line


def test_the_document_reads_back_and_holds_what_it_draws(kestrel: Kestrel, tmp_path: Path) -> None:
    keep_line(6_000)
    kept(*(at(9, 11_000, day) for day in (3, 4, 5)))
    assert kestrel("plan", "glaze-talk", *EVER).code == 0
    result = kestrel("forecast", *EVER, "--for", "20 min", "--goal", "1 in 3", "--json",
                     "--figure", tmp_path / "f.png")  # fmt: skip
    found = Forecast.model_validate(json.loads(result.out))
    assert found.odds.seconds == 1200
    assert found.goal == pytest.approx(1 / 3)
    assert len(found.curve.kbps) == CURVE_POINTS
    assert list(found.curve.chance) == sorted(found.curve.chance)
    assert all(a <= b <= c for a, b, c in zip(found.curve.low, found.curve.chance,
                                              found.curve.high, strict=True))  # fmt: skip
    assert len(found.fan.waiting_seconds) == len(FAN)
    for lower, upper in zip(found.fan.waiting_seconds, found.fan.waiting_seconds[1:], strict=False):
        assert all(a <= b + 1e-9 for a, b in zip(lower, upper, strict=True))
    assert found.reserved_kbps == 400
    assert [hour.hour for hour in found.by_hour] == [9, 20]
    noon, evening = found.by_hour
    assert noon.odds.chance <= evening.odds.chance
    assert found.late_frames_an_hour.low <= found.late_frames_an_hour.high
    assert found.steps[0].total_kbps == pytest.approx(found.total_kbps)
    for step in found.steps:
        assert step.meets == (step.odds.chance < found.goal)
    assert (tmp_path / "f.png").read_bytes()[:4] == b"\x89PNG"


def test_around_an_hour_only_runs_near_it_count(kestrel: Kestrel) -> None:
    keep_line(6_000)
    kept(*(at(9, 11_000, day) for day in (3, 4, 5, 6)))
    assert kestrel("plan", "oxbow", *EVER, "--around", "9:00").code == 0
    found = kestrel("forecast", *EVER, "--around", "9:00", "--json").document
    assert found["odds"]["runs"] == 4
    assert found["by_hour"] == []
    every = kestrel("forecast", *EVER, "--json").document
    assert every["odds"]["runs"] == 18
    assert every["odds"]["chance"] >= found["odds"]["chance"]


def test_runs_that_do_not_count_are_told(kestrel: Kestrel) -> None:
    keep_line()
    lost = at(20, 5_000, 15).model_copy(
        update={"id": "20261115-lost", "one_connection": None, "failed": "no answer"}
    )
    kept(lost, at(20, 5_000, 16, "http://127.0.0.1:1/up"))
    assert kestrel("plan", "oxbow", *EVER).code == 0
    said = kestrel("forecast", *EVER, "--json").document["unknown"]
    assert any(line.startswith("1 runs that failed") for line in said)
    assert any("practice runs" in line for line in said)


def test_a_plan_from_one_run_or_a_number_has_no_odds(kestrel: Kestrel) -> None:
    assert kestrel("plan", "oxbow", "--upload", "9 Mbit/s", "--json").document["odds"] is None
    kept(at(20, 9_000, 3))
    one = kestrel("plan", "oxbow", *EVER, "--json").document
    assert one["odds"] is None
    assert "late frames" not in kestrel("plan", "oxbow", *EVER).out
    kept(at(20, 9_100, 4))
    two = kestrel("plan", "oxbow", *EVER, "--json").document["odds"]
    assert two["runs"] == 2
    assert two["high"] > 0.5  # two runs know next to nothing


def test_reserves_are_taken_to_be_in_use(kestrel: Kestrel) -> None:
    keep_line()
    kestrel("plan", "oxbow", *EVER, "--share", "30 %")
    free = kestrel("forecast", *EVER, "--json").document
    kestrel("plan", "oxbow", *EVER, "--share", "60 %", "--reserve", "call=2.4 Mbit/s")
    busy = kestrel("forecast", *EVER, "--json").document
    assert busy["total_kbps"] == pytest.approx(free["total_kbps"], rel=0.1)
    assert busy["reserved_kbps"] == 2400
    assert busy["odds"]["chance"] > free["odds"]["chance"]


def test_odds_of_more_runs_are_no_wider_on_a_steady_line() -> None:
    few, many = seen_on(1, 6, 0.02, 0.0), seen_on(1, 60, 0.02, 0.0)
    width = [
        (lambda o: o.high - o.low)(odds_of(Lines.drawn(seen), 4_000, 3600)) for seen in (few, many)
    ]
    assert width[1] < width[0]
