"""Forecasts: queues against the slow way, laws of chances, and the command line."""

from __future__ import annotations

import json
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.forecast.hours import hours
from eager_kestrel.core.forecast.lines import Lines
from eager_kestrel.core.forecast.odds import most_kbps, odds_of, runs_to_halve
from eager_kestrel.core.forecast.queue import critical_kbps, replay, waits
from eager_kestrel.core.forecast.sending import MOST_BURST_SECONDS, planned, recorded, together
from eager_kestrel.core.forecast.watched import Watched, watched
from eager_kestrel.core.line.airing import LATE_SECONDS
from eager_kestrel.core.line.trace import Trace
from eager_kestrel.core.show.show import MOTIONS
from eager_kestrel.core.units import parse_chance
from eager_kestrel.core.words.forecasts import one_in
from tests.conftest import Kestrel
from tests.test_recordings import CONSTANT, Make
from tests.test_recordings import made as made  # the fixture
from tests.test_runs import at, kept
from tests.test_throughput import run_of, sampled

EVER = ("--days", "3650")
steps = st.lists(st.floats(0, 500), min_size=30, max_size=80).map(np.array)
seeds = st.integers(0, 10_000)


def seen_on(seed: int, runs: int = 9, spread: float = 0.2, dips: float = 0.05) -> Watched:
    """Runs of a line that swings from run to run, and dips in some."""
    rng = np.random.default_rng(seed)
    levels = 8_000 * np.exp(spread * rng.standard_normal(runs))
    paths = np.repeat(levels[:, None] * 0.05, 160, axis=1) * rng.uniform(0.97, 1.03, (runs, 160))
    for path in paths:
        if rng.random() < 4 * dips:
            path[60:90] *= rng.random()
    found = watched(list(paths), [1e6 * n for n in range(runs)])
    assert found is not None
    return found


@given(steps)
@example(np.zeros(40))
def test_the_critical_rate_is_the_least_of_all_spans(carried: Floats) -> None:
    total = np.concatenate([[0.0], np.cumsum(carried)])
    spans = [
        (total[end] - total[begin]) / ((end - begin) * 0.05 - LATE_SECONDS)
        for begin in range(total.size)
        for end in range(begin + 15, total.size)
    ]
    assert critical_kbps(carried, 0.05, LATE_SECONDS) == pytest.approx(min(spans), abs=1e-6)


@given(steps, st.floats(0.2, 3.0))
def test_frames_are_late_above_the_critical_rate_and_not_below(
    carried: Floats, factor: float
) -> None:
    critical = critical_kbps(carried, 0.05, LATE_SECONDS)
    assume(critical > 1 and abs(factor - 1) > 1e-6)
    kbps = critical * factor
    sent = np.full(carried.size, kbps * 0.05)
    one = replay(sent, kbps, 20.0, [carried.copy()])
    assert (one.late_frames[0] > 0) == (factor > 1)
    assert (one.worst_seconds[0] > LATE_SECONDS) == (factor > 1)


@given(steps, seeds)
def test_what_waits_is_what_a_queue_would_hold(carried: Floats, seed: int) -> None:
    sent = np.random.default_rng(seed).uniform(0, 500, carried.size)
    queue, slow = 0.0, []
    for a, c in zip(sent, carried, strict=True):
        queue = max(0.0, queue + a - c)
        slow.append(queue)
    assert waits(sent, carried.copy()) == pytest.approx(np.array(slow), abs=1e-6)
    found = replay(sent, 1000.0, 20.0, [carried.copy(), carried.copy()])
    late = np.array(slow) > LATE_SECONDS * 1000.0
    assert list(found.late_frames) == [late.sum()] * 2
    assert found.dip_seconds.sum() == pytest.approx(2 * late.sum() / 20.0)


@given(st.floats(300, 20_000), st.sampled_from([24.0, 30.0, 59.94, 60.0]), st.integers(1, 240),
       st.integers(0, 3), st.floats(0.2, 2.0), st.sampled_from(MOTIONS))  # fmt: skip
def test_a_plan_sends_its_rate_in_frames_no_longer_than_the_buffer(
    kbps: float, fps: float, keyframes: int, b_frames: int, buffer: float, motion: str
) -> None:
    video = 0.9 * kbps
    sending = planned(kbps, video, fps, keyframes, b_frames, buffer * video, motion)  # type: ignore[arg-type]
    assert sending.pattern.size == keyframes
    assert sending.pattern.sum() == pytest.approx(keyframes / fps)
    assert sending.pattern.max() * kbps <= max(buffer, 1 / fps) * video + 0.1 * kbps / fps + 1e-6
    needs, piled = sending.needs
    assert kbps <= needs
    assert 0 <= piled <= MOST_BURST_SECONDS + 1e-9
    whole = sending.sent_kbit(10 * keyframes / fps)
    assert whole.sum() == pytest.approx(10 * keyframes / fps * kbps, rel=0.2 / keyframes + 1e-9)


@given(seeds)
def test_what_a_recording_needs_keeps_its_frames_in_time(seed: int) -> None:
    """On an even line of what it says it needs no frame waits longer than it says."""
    rng = np.random.default_rng(seed)
    seconds = np.arange(300) / 30 + 10
    sizes = rng.gamma(0.5, 4000, 300) * np.where(np.arange(300) % 60 == 0, 12, 1)
    sending = recorded(seconds, sizes)
    assert sending.kbps == pytest.approx(sizes.sum() * 8e-3 / 10, rel=0.01)
    needs, piled = sending.needs
    sent = sending.sent_kbit(40)
    waiting = waits(sent, np.full(sent.size, needs / sending.fps)).max() / needs
    assert waiting <= piled + 1e-6
    both = together((sending, sending))
    assert both.kbps == pytest.approx(2 * sending.kbps)
    assert both.pattern.sum() / both.pattern.size == pytest.approx(1 / both.fps)


@given(seeds, st.integers(2, 20), st.floats(0, 0.5), st.floats(0.0, 1.0))
def test_more_or_longer_is_never_safer(seed: int, runs: int, spread: float, dips: float) -> None:
    lines = Lines.drawn(seen_on(seed, runs, spread, dips), draws=40)
    rates = np.linspace(100, 14_000, 15)
    hour, evening = lines.late(rates, 3600), lines.late(rates, 4 * 3600)
    assert (hour >= 0).all()
    assert (evening <= 1).all()
    assert (np.diff(hour, axis=1) >= -1e-12).all()
    assert (evening >= hour - 1e-9).all()


@given(seeds, st.floats(0.1, 10))
def test_a_line_twice_as_fast_carries_twice_as_much(seed: int, factor: float) -> None:
    seen = seen_on(seed)
    fast = watched(
        [trace * level * factor * 0.05
         for trace, level in zip(seen.traces, seen.levels_kbps, strict=True)],
        [1e6 * n for n in range(seen.count)],
    )  # fmt: skip
    assert fast is not None
    slow_odds = odds_of(Lines.drawn(seen), 5_000, 3600)
    fast_odds = odds_of(Lines.drawn(fast), 5_000 * factor, 3600)
    assert fast_odds.chance == pytest.approx(slow_odds.chance, abs=1e-4)
    assert slow_odds.low <= slow_odds.chance <= slow_odds.high


@given(seeds, st.sampled_from([0.05, 0.2, 0.5]))
def test_the_most_under_a_risk_is_the_most(seed: int, risk: float) -> None:
    lines = Lines.drawn(seen_on(seed, 20, 0.1, 0.02), draws=120)
    most = most_kbps(lines, risk, 3600)
    assume(most is not None)
    assert most is not None
    assert odds_of(lines, most, 3600).high < risk
    typical = float(np.median(lines.watched.levels_kbps))
    assert most == typical or odds_of(lines, 1.01 * most, 3600).high >= risk


@pytest.mark.parametrize("seed", range(4))
def test_simulated_hours_say_what_the_formula_says(seed: int) -> None:
    lines = Lines.drawn(seen_on(seed, 12), draws=240, seed=seed)
    kbps = (4_000, 5_500, 7_000, 2_500)[seed]
    sent = np.full(20 * 3600, kbps / 20)
    found = replay(sent, kbps, 20.0, hours(lines, 20.0, 3600, 1, seed))
    share = float((found.late_frames > 0).mean())
    said = lines.late(np.array([float(kbps)]), 3600)[:, 0].mean()
    assert share == pytest.approx(said, abs=0.1)


@given(st.floats(1e-5, 1 - 1e-5))
def test_a_chance_in_words_is_near_the_number(chance: float) -> None:
    said = one_in(chance)
    if " in " in said:
        part, whole = said.replace(",", "").split(" in ")
        assert int(part) / int(whole) == pytest.approx(chance, rel=0.17)
        assert parse_chance(said.replace(",", "") + " shows") == int(part) / int(whole)
    else:
        assert (said == "hardly any") == (chance < 1e-4)
        assert chance < 1e-4 or chance >= 0.95


@pytest.mark.parametrize("written", ["3", "0 %", "1 in 0", "2 in 1", "often", "100 %", "1 in 1"])
def test_what_is_no_chance_is_refused(written: str) -> None:
    with pytest.raises(UnitError, match="1 in 50"):
        parse_chance(written)


# The command line


def keep_line(kbps: float = 8_000, hour: int = 20, count: int = 14) -> None:
    """A fortnight of runs a little apart, one a day."""
    kept(*(at(hour, kbps * (0.97 + 0.005 * (day % 9)), day) for day in range(1, 1 + count)))


def test_a_forecast_says_what_the_plan_says(kestrel: Kestrel, tmp_path: Path) -> None:
    keep_line()
    made = kestrel("plan", "--for", "oxbow", *EVER, "--out", tmp_path / "p.json", "--json").document
    found = kestrel("forecast", tmp_path / "p.json", *EVER, "--json",
                    "--figure", tmp_path / "f.svg").document  # fmt: skip
    assert found["format"] == "eager-kestrel/forecast/1"
    assert found["odds"] == made["odds"]
    assert found["steps"][0]["odds"] == made["odds"]
    assert found["total_kbps"] == made["total_kbps"]
    assert "waiting" in (tmp_path / "f.svg").read_text()
    totals = [step["total_kbps"] for step in found["steps"]]
    assert totals == sorted(totals, reverse=True)
    assert len(totals) == 1 + len(made["destinations"][0]["steps_down"])
    assert [at["hour"] for at in found["by_hour"]] == [20]
    card = kestrel("forecast", tmp_path / "p.json", *EVER).out
    assert card.splitlines()[0].startswith("Late frames in")
    assert one_in(found["odds"]["chance"]) in card
    beside = kestrel("plan", "--for", "oxbow", *EVER).out
    assert f"{one_in(made['odds']['chance'])} hours" in beside


def test_longer_shows_and_worse_lines_are_late_more_often(kestrel: Kestrel) -> None:
    keep_line(8_000)
    plan = kestrel("plan", "--for", "oxbow", *EVER, "--json")
    assert plan.code == 0
    chances = [
        kestrel("forecast", *EVER, "--for", length, "--json").document["odds"]["chance"]
        for length in ("10 min", "1 h")
    ]
    assert all(a <= b for a, b in pairwise(chances))
    kept(*(at(20, 3_000, day) for day in range(15, 20)))
    worse = kestrel("forecast", *EVER, "--for", "1 h", "--json").document
    assert worse["odds"]["chance"] > chances[1] + 0.2


@pytest.mark.parametrize("risk", ["1 in 3 shows", "50 %"])
def test_a_share_by_risk_keeps_under_it(kestrel: Kestrel, tmp_path: Path, risk: str) -> None:
    keep_line(20_000)
    found = kestrel("plan", "--for", "oxbow", "--risk", risk, *EVER, "--json")
    made = found.document
    assert found.err == ""
    assert made["inputs"]["risk"] == pytest.approx(parse_chance(risk))
    assert made["odds"]["high"] <= parse_chance(risk)
    step = made["budget"]["steps"][1]
    assert one_in(parse_chance(risk)) in step["why"]
    assert step["after_kbps"] == pytest.approx(
        made["inputs"]["safe_share"] * step["before_kbps"], abs=0.01
    )
    file = tmp_path / "show.toml"
    file.write_text(
        'format = "eager-kestrel/show/1"\nsource = "1920x1080"\nframe_rate = "60"\n'
        f'motion = "lively"\nrisk = "{risk}"\nlasts = "1 h"\n[[destinations]]\nplatform = "oxbow"\n'
    )
    same = kestrel("plan", file, *EVER, "--json").document
    assert same["destinations"] == made["destinations"]
    (tmp_path / "plan.json").write_text(json.dumps(made))
    held = kestrel("check", "plan.json", "--show", file, "--json")
    assert held.code == 0, held.out


def test_a_risk_too_small_for_the_runs_falls_back_to_the_share(kestrel: Kestrel) -> None:
    keep_line(count=3)
    found = kestrel("plan", "--for", "oxbow", "--risk", "1 in 1000", *EVER, "--json")
    assert found.code == 0
    assert "cannot be promised: 3 " in found.error_line
    assert "a share of 70%" in found.error_line
    assert found.document["inputs"]["risk"] is None
    bare = kestrel("plan", "--for", "oxbow", "--risk", "2 %", "--upload", "9 Mbit/s", "--json")
    assert "no two runs" in bare.error_line
    assert bare.document["odds"] is None
    both = kestrel("plan", "--for", "oxbow", "--risk", "2 %", "--share", "60 %", *EVER)
    assert both.code == 2
    assert "--share or --risk" in both.error_line


def test_a_recording_can_be_sent_in_place_of_the_plan(kestrel: Kestrel, made: Make) -> None:
    keep_line()
    assert kestrel("plan", "--for", "oxbow", *EVER).code == 0
    clip = made("sent.flv", *CONSTANT)
    given = kestrel("forecast", "--frames", clip, *EVER, "--json")
    assert given.code == 0, given.err
    found = given.document
    seen = kestrel("check", clip, "--json").document["recording"]
    assert found["total_kbps"] == pytest.approx(seen["total_kbps"], rel=0.1)
    assert found["needs_kbps"] >= found["total_kbps"]
    assert clip.name in found["said"]
    assert kestrel("forecast", "--frames", "none.flv", *EVER).error_line.startswith("eager-kestrel")


def test_what_cannot_be_forecast_gets_one_line(kestrel: Kestrel, tmp_path: Path) -> None:
    assert "no run of the last 14 days" in kestrel("forecast").error_line
    kept(run_of(sampled(Trace.constant(5_000), 6)))
    assert "one run says nothing of other hours" in kestrel("forecast", *EVER).error_line
    keep_line()
    assert "no plan was made yet" in kestrel("forecast", *EVER).error_line
    assert "none is near 3:00" in kestrel("forecast", *EVER, "--around", "3:00").error_line
    assert kestrel("plan", "--for", "fernlight", *EVER).code == 0
    for wrong in (("--for", "3"), ("--for", "2 s"), ("--goal", "often"), ("--figure", "f.txt"),
                  ("--from", "nowhere")):  # fmt: skip
        assert kestrel("forecast", *EVER, *wrong).code == 2
        assert kestrel("forecast", *EVER, *wrong).error_line
    assert kestrel("forecast", "wheel-night", *EVER).code == 0
    (tmp_path / "show.toml").write_text(
        'format = "eager-kestrel/show/1"\nsource = "1280x720"\nframe_rate = "30"\n'
        'motion = "calm"\n[[destinations]]\nplatform = "oxbow"\n[[destinations]]\n'
        'platform = "gatepost"\n'
    )
    assert "of another show" in kestrel("forecast", *EVER).error_line


@pytest.mark.parametrize("kind", ["reading", "practice"])
def test_other_runs_are_no_evidence(kestrel: Kestrel, tmp_path: Path, kind: str) -> None:
    if kind == "reading":
        (tmp_path / "r.csv").write_text("time,upload\n2026-11-20T20:00,9 Mbit/s\n")
        assert kestrel("runs", "import", tmp_path / "r.csv").code == 0
    else:
        kept(at(20, 9_000, url="http://127.0.0.1:9/up"), at(20, 8_000, 21, "http://127.0.0.1:9/up"))
    said = kestrel("forecast", *EVER).error_line
    assert ("practice runs" if kind == "practice" else "imported readings") in said


def test_more_runs_that_show_the_same_make_it_surer() -> None:
    seen = seen_on(3, 20, 0.1, 0.0)
    more = runs_to_halve(seen, 5_000, 3600)
    assert more is not None
    assert more % 20 == 0
    now, then = (
        odds_of(Lines.drawn(seen.times(times)), 5_000, 3600) for times in (1, 1 + more // 20)
    )
    assert then.high - then.low <= (now.high - now.low) / 2 + 1e-4
