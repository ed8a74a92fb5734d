"""Quality over the scenes of a kind: laws of the model, ties, the range, smooth or sharp."""

from __future__ import annotations

import csv
import re
from fractions import Fraction
from math import log
from pathlib import Path
from typing import get_args

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.choice.candidates import candidates
from eager_kestrel.core.choice.candidates_table import CandidatesTable, candidates_table
from eager_kestrel.core.choice.quality import (
    clean_kbps,
    expected_range,
    quality,
    sharpness,
    smoothness,
)
from eager_kestrel.core.choice.scored import ANY, BESIDE, as_good_as, best_of, preferred, ranks_of
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.show.show import Destination, Motion, Preference, Show
from eager_kestrel.core.words.numbers import look_word, looks, points, quality_with_range
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from tests.conftest import Kestrel

TABLE = quality_table()
OXBOW = load_guide("oxbow")
POINTS = Path(__file__).parent.parent / "calibration" / "points.csv"
WORDS = ("bad", "poor", "fair", "good", "excellent")
KINDS: tuple[Motion, ...] = get_args(Motion)
kinds = st.sampled_from(KINDS)
preferences = st.sampled_from([None, "smooth", "sharp"])
sources = st.sampled_from(
    [
        (1920, 1080, "60"),
        (1920, 1080, "59.94"),
        (1280, 720, "60"),
        (1920, 1080, "30"),
        (2560, 1440, "60"),
        (1080, 1920, "50"),
    ]
)


def field(
    motion: Motion,
    prefer: Preference | None = None,
    guide: Guide = OXBOW,
    source: tuple[int, int, str] = (1920, 1080, "60"),
) -> CandidatesTable:
    wanted = Show.model_validate(
        {
            "source": f"{source[0]}x{source[1]}",
            "source_fps": source[2],
            "motion": motion,
            "prefer": prefer,
            "destinations": (Destination(platform="oxbow"),),
        }
    )
    return candidates_table(wanted, guide, TABLE, "h264")


@given(
    kinds,
    st.integers(1, 15),
    st.sampled_from([15, 24, 30, 60]),
    st.floats(50, 20_000),
    st.floats(1.0, 4.0),
)
def test_quality_never_falls_with_bitrate_and_stays_in_range(
    motion: Motion, row: int, fps: int, kbps: float, factor: float
) -> None:
    pixels, rate = np.array([128.0 * 72 * row * row]), np.array([float(fps)])
    low = quality(TABLE, motion, "h264", pixels, rate, np.array([kbps]))[0]
    high = quality(TABLE, motion, "h264", pixels, rate, np.array([kbps * factor]))[0]
    assert 0 <= low <= high <= 1
    enough = clean_kbps(TABLE, motion, "h264", pixels, rate)
    there, beyond = (
        sharpness(TABLE, motion, "h264", pixels, rate, enough * times)[:, 0] for times in (1, 100)
    )
    assert (beyond - there <= TABLE.tie + 1e-9).all()


@given(kinds, st.lists(st.floats(0.01, 0.99), min_size=2, max_size=12))
def test_the_range_holds_the_middle_and_widens_with_spread(
    motion: Motion, scenes: list[float]
) -> None:
    found = np.array(scenes)[:, None]
    low, high = expected_range(found)
    assert 0 <= low[0] <= high[0] <= 1
    logits = np.log(found / (1 - found))
    middle = 1 / (1 + np.exp(-logits.mean()))
    assert low[0] - 1e-9 <= middle <= high[0] + 1e-9
    wider = 1 / (1 + np.exp(-(logits.mean() + 2 * (logits - logits.mean()))))
    low_2, high_2 = expected_range(np.clip(wider, 1e-3, 1 - 1e-3))
    assert high_2[0] - low_2[0] >= high[0] - low[0] - 0.35  # logits are flat near 0 and 1
    alone = expected_range(found[:1])
    assert alone[0][0] == alone[1][0] == scenes[0]


@given(kinds, st.floats(150, 30_000), preferences, sources)
def test_what_is_taken_is_as_good_as_the_best_on_every_scene(
    motion: Motion, safe: float, prefer: Preference | None, source: tuple[int, int, str]
) -> None:
    """By brute force, one candidate at a time."""
    made = field(motion, prefer, source=source)
    scored = made.at(safe)
    if scored.chosen is None:
        assert not scored.allowed.any()
        return
    allowed = [int(i) for i in np.flatnonzero(scored.allowed)]
    best = max(allowed, key=lambda i: (round(float(scored.quality[i]) / 1e-9), -scored.kbps[i]))

    def behind(index: int, other: int) -> tuple[float, float]:
        """How far it falls behind another on average, and where it does so most."""
        scale = min(1.0, 2 * scored.quality[other])
        each = scored.scenes[:, other] - scored.scenes[:, index]
        return float(TABLE.motion[motion].mean(each)) / scale, float(each.max()) / scale

    def as_good(index: int, other: int) -> bool:
        mean, most = behind(index, other)
        return mean <= TABLE.tie + 1e-7 and most <= TABLE.noticeable + 1e-7

    chosen = scored.chosen
    assert as_good(chosen, best)
    assert set(np.flatnonzero(scored.among_best)) == {i for i in allowed if as_good(i, best)}
    rivals = [i for i in allowed if made.fps[i] == made.fps[chosen]]
    assert made.fps[best] == made.fps[chosen]
    flat = [i for i in rivals if as_good(i, best) and behind(i, best)[0] <= TABLE.flat + 1e-7]
    assert chosen in flat  # expected to lose next to nothing, and of that the largest
    largest = max(made.seen_pixels[i] for i in flat)
    apart = {i: abs(log(made.seen_pixels[i] / largest)) for i in flat if made.ranks[i] < ANY}
    if min(apart.values(), default=1.0) <= 2 * BESIDE:  # a usual one, the nearest to the largest
        assert apart.get(chosen, 1.0) == pytest.approx(min(apart.values()), abs=1e-9)
    else:
        assert made.seen_pixels[chosen] == largest
    same = {
        i
        for i in rivals
        if np.abs(behind(i, chosen)[0]) <= TABLE.tie + 1e-7
        and np.abs(scored.scenes[:, i] - scored.scenes[:, chosen]).max()
        <= TABLE.noticeable * min(1.0, 2 * scored.quality[chosen]) + 1e-7
    }
    assert set(np.flatnonzero(scored.tied)) == same


@given(kinds, st.floats(120, 12_000), st.floats(1.0, 4.0), st.sampled_from([30, 60]))
def test_more_bitrate_never_takes_a_lower_resolution(
    motion: Motion, kbps: float, more: float, fps: int
) -> None:
    """On the model itself, where no guide stands in between, at one frame rate."""
    source, rate = Resolution(1920, 1080), Fraction(fps)
    found = [c for c in candidates(source, rate, OXBOW.video, []) if c.frame_rate == rate]
    found.sort(key=lambda c: c.resolution.pixels)
    pixels = np.array([float(c.resolution.pixels) for c in found])
    rates = np.full_like(pixels, float(fps))
    usual = ranks_of(found, source, ()) < ANY
    taken = []
    for at in (kbps, kbps * more):
        grid = np.full((1, pixels.size), at)
        scenes = sharpness(TABLE, motion, "h264", pixels, rates, grid)
        allowed = np.ones_like(grid, dtype=bool)
        mean = TABLE.motion[motion].mean(scenes)
        near = as_good_as(best_of(grid, mean, allowed), scenes, mean, TABLE)
        taken.append(int(preferred(near, mean, pixels, usual, TABLE)[0]))
    assert taken[1] >= taken[0]


def test_a_usual_resolution_is_the_nearest_one() -> None:
    pixels = np.array([lines * lines * 16 / 9 for lines in (576, 720, 900, 1008, 1080)])
    usual = np.array([False, True, True, False, True])
    for flat, taken in (("11111", 4), ("11110", 2), ("11010", 3), ("11100", 2), ("10000", 0)):
        judged = np.where(np.array([*flat]) == "1", 0.9, 0.9 - 2 * TABLE.flat)[None]
        near = np.ones_like(judged, dtype=bool)
        assert preferred(near, judged, pixels, usual, TABLE).tolist() == [taken], flat


@pytest.mark.parametrize(
    ("motion", "kbps", "lines", "rates"),
    [
        ("hectic", 4000, (720, 720), {60}),
        ("hectic", 4500, (720, 720), {60}),
        ("hectic", 5000, (720, 936), {60}),
        ("hectic", 6000, (792, 936), {60}),
        ("hectic", 8000, (864, 1008), {60}),
        ("lively", 3000, (720, 720), {30}),
        ("lively", 4400, (720, 1080), {30, 60}),
        ("calm", 4500, (1080, 1080), {30}),
        ("calm", 600, (360, 504), {24, 30}),
        ("lively", 600, (360, 504), {24, 30}),
        ("hectic", 600, (270, 504), {24, 30}),
    ],
)
def test_what_practice_does_is_about_the_same_as_the_best(
    motion: Motion, kbps: float, lines: tuple[int, int], rates: set[int]
) -> None:
    wide = OXBOW.video.model_copy(update={"max_resolution": Resolution(1920, 1080)})
    made = field(motion, guide=OXBOW.model_copy(update={"video": wide}))
    pixels, fps = made.pixels, made.fps
    grid = np.full((1, pixels.size), kbps)
    scenes = sharpness(TABLE, motion, "h264", pixels, fps, grid) * smoothness(TABLE, motion, fps)
    mean = TABLE.motion[motion].mean(scenes)
    best = best_of(grid, mean, (fps >= 24)[None])
    near = as_good_as(best, scenes, mean, TABLE)[0] & (fps == fps[best[0]])
    alike = [(made.candidates[i].resolution.lines, float(fps[i])) for i in np.flatnonzero(near)]
    assert any(lines[0] <= n <= lines[1] and rate in rates for n, rate in alike), alike


def test_the_shipped_table_chooses_well_on_measured_footage() -> None:
    """Of the resolutions measured at one target, how far its choice is below the best, in VMAF."""
    motion_of = {name: kind for kind in KINDS for name in TABLE.motion[kind].scenes}
    cells: dict[tuple[str, str, str], list[dict[str, str]]] = {}
    with POINTS.open(newline="") as rows:
        for row in csv.DictReader(rows):
            if (row["codec"], row["preset"]) == ("h264", "veryfast"):
                key = (row["scene"], row["fps"], row["target_kbps"])
                cells.setdefault(key, []).append(row)
    regrets: dict[Motion, list[float]] = {}
    for (scene, fps, _), own in cells.items():
        if len(own) < 3:
            continue
        pixels = np.array([float(r["width"]) * float(r["height"]) for r in own])
        kbps = np.array([float(r["kbps"]) for r in own])
        motion = motion_of[scene]
        judged = quality(TABLE, motion, "h264", pixels, np.full_like(pixels, float(fps)), kbps)
        vmaf = np.array([float(r["vmaf"]) for r in own])
        regrets.setdefault(motion, []).append(float(vmaf.max() - vmaf[judged.argmax()]))
    assert set(regrets) == set(KINDS)
    assert {row["scene"] for own in cells.values() for row in own} == set(motion_of)
    for motion, each in regrets.items():
        assert np.mean(each) <= (1.8 if motion == "still" else 1.0), motion  # text is hard


# Smooth or sharp


@given(kinds, st.floats(500, 30_000))
def test_who_prefers_smooth_never_gets_fewer_frames(motion: Motion, safe: float) -> None:
    scored = [field(motion, prefer).at(safe) for prefer in ("sharp", None, "smooth")]
    chosen = [(w, w.chosen) for w in scored if w.chosen is not None]
    assert len(chosen) in (0, 3)
    rates = [w.candidates[at].frame_rate for w, at in chosen]
    assert rates == sorted(rates)
    sharp = [w.sharpness(at) for w, at in chosen]
    if len(set(rates)) > 1:
        assert sharp[0] >= sharp[-1] - TABLE.tie


TRADE = re.compile(
    r"(\d+) fps: (smoother|less smooth); at (\d+) fps each frame would be "
    r"(sharper|less sharp): (\d+) against (\d+)"
)


@pytest.mark.parametrize("prefer", [None, "smooth", "sharp"])
@pytest.mark.parametrize("motion", ["calm", "hectic"])
def test_the_card_says_what_the_frame_rate_gives_and_takes(
    kestrel: Kestrel, motion: str, prefer: str | None
) -> None:
    wish = ["--for", "oxbow", "--upload", "4 Mbit/s", "--motion", motion]
    wish += [] if prefer is None else ["--prefer", prefer]
    there = kestrel("plan", *wish, "--json").document["destinations"][0]
    trade = there["frame_rate_trade"]
    assert {there["video"]["fps"], trade["fps"]} == {30.0, 60.0}
    if prefer is not None:
        assert there["video"]["fps"] == (60 if prefer == "smooth" else 30)
    card = " ".join(re.sub("[│╭╮╰╯]", " ", kestrel("plan", *wish, "--why").out).split())
    said = TRADE.search(card)
    assert said is not None
    assert int(said[1]) == there["video"]["fps"]
    assert [int(said[5]), int(said[6])] == [
        points(trade["other_sharpness"]),
        points(trade["sharpness"]),
    ]
    assert (said[4] == "sharper") is (trade["other_sharpness"] > trade["sharpness"])


def test_a_preference_that_is_none_is_refused(kestrel: Kestrel) -> None:
    result = kestrel("plan", "--for", "oxbow", "--upload", "4 Mbit/s", "--prefer", "fast")
    assert result.code == 2
    assert '"fast"' in result.err
    assert "smooth" in result.err


# In words


@given(st.floats(0, 1), st.floats(0, 1))
def test_a_better_look_never_has_a_worse_word(one: float, other: float) -> None:
    low, high = sorted((one, other))
    assert WORDS.index(look_word(low)) <= WORDS.index(look_word(high))
    said = re.fullmatch(r"(\d+)/100 \((\w+)\)", looks(one))
    assert said is not None
    assert said[2] in WORDS
    assert 0 <= int(said[1]) == points(one) <= 100


@pytest.mark.parametrize(
    ("value", "said"),
    [
        (0.2, "20/100 (bad)"),
        (0.4, "40/100 (poor)"),
        (0.6, "60/100 (fair)"),
        (0.8, "80/100 (good)"),
        (1.0, "100/100 (excellent)"),
        (0.784, "78/100 (good)"),
        (0.0, "0/100 (bad)"),
    ],
)
def test_the_words_are_those_of_the_scale(value: float, said: str) -> None:
    assert looks(value) == said


def test_quality_is_said_alike_everywhere(kestrel: Kestrel) -> None:
    wish = ("--for", "oxbow", "--upload", "3 Mbit/s")
    made = kestrel("plan", *wish, "--json").document["destinations"][0]
    card = " ".join(re.sub("[│╭╮╰╯]", " ", kestrel("plan", *wish, "--why").out).split())
    assert quality_with_range(made["quality"], *made["quality_range"]) in card
    said = looks(made["quality"])
    assert said in " ".join(kestrel("explain", "quality").out.split())
    assert said in kestrel("plan", "--for", "oxbow", "--sweep", "upload=3..4").out


COMPARED = re.compile(r"(\d+)/100 \(\w+\)(?: at best)?,? against (\d+)/100")


@given(st.floats(0.6, 25), kinds, preferences)
def test_a_comparison_is_only_made_where_the_rounded_numbers_differ(
    upload: float, motion: Motion, prefer: Preference | None
) -> None:
    from eager_kestrel.actions.planning import uplink_from_number
    from eager_kestrel.core.plan.planner import plan

    shown = field(motion, prefer).show
    made = plan(uplink_from_number(f"{upload:.3f} Mbit/s"), shown, {"oxbow": OXBOW}, TABLE)
    (there,) = made.destinations
    for text in [r.text for r in there.reasons] + [o.text for o in there.offers]:
        for worse, better in COMPARED.findall(text):
            assert int(worse) < int(better), text
    if there.quality is not None and there.quality_range is not None:
        low, high = there.quality_range
        assert 0 <= low <= high <= 1
