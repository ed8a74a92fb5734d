"""Steps, offers, sweeps and ``need``: they agree with the plan, whatever is asked."""

from __future__ import annotations

import csv
import io
import shlex
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.checks.findings import check
from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.choice.what_if import compare
from eager_kestrel.core.connection.uplink import Uplink, assumed_uplink
from eager_kestrel.core.division.what_if import needs
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution, parse_frame_rate
from eager_kestrel.core.show.show import Destination, Reserve, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import look_word
from eager_kestrel.files.guides import load_guide
from tests.conftest import Kestrel
from tests.test_plan import OXBOW, TABLE, planned, show, shows, uploads

ladder = st.one_of(
    st.integers(3, 15).map(lambda n: Resolution(128 * n, 72 * n)),
    st.sampled_from([Resolution(1600, 900), Resolution(960, 540), Resolution(640, 360)]),
)


def step(wanted: Show) -> float:
    """Upload of one step of the grid that ``need`` looks at; the floor is assumed at 80 %."""
    return 10 / min(wanted.safe_share, 0.8) + 0.1


def among_the_best(kbps: float, wanted: Show, resolution: Resolution, fps: float) -> bool:
    """By brute force: whether nothing that may be sent is seen to look better."""
    guide = OXBOW.under(wanted.destinations[0].tier)
    field = candidates_table(wanted, guide, TABLE, "h264")
    safe = budget(assumed_uplink(Bitrate.from_kbps(kbps)), wanted.safe_share, wanted.reserves)
    scored = field.at(safe.safe_kbps)
    if not scored.allowed.any():
        return False
    best = int(np.where(scored.allowed, scored.quality, -1.0).argmax())
    top, narrow = scored.quality[best], min(1.0, 2 * float(scored.quality[best]))
    behind = (scored.scenes[:, best : best + 1] - scored.scenes).max(axis=0)
    near = (scored.quality >= top - TABLE.tie * narrow - 1e-9) & scored.allowed
    near &= behind <= TABLE.noticeable * narrow + 1e-9
    return any(
        ok and c.resolution == resolution and abs(float(c.frame_rate) - fps) < 0.01
        for c, ok in zip(scored.candidates, near, strict=True)
    )


@given(shows, ladder, st.sampled_from([None, 24.0, 50.0, 60.0]), st.floats(0.05, 0.999))
def test_need_says_when_a_resolution_is_among_the_best(
    wanted: Show, resolution: Resolution, fps: float | None, less: float
) -> None:
    guide = OXBOW.under(wanted.destinations[0].tier)
    for found in needs(wanted, [guide], TABLE, [resolution], fps):
        if not found.possible:
            continue
        assert found.full_kbps is not None
        assert found.full_gives is not None
        if found.from_kbps is None:
            assert not among_the_best(found.full_kbps * (1 + less), wanted, resolution, found.fps)
            assert found.better is not None
            assert found.better.quality > found.full_gives.quality
            continue
        assert found.from_gives is not None
        assert among_the_best(found.from_kbps, wanted, resolution, found.fps)
        assert not among_the_best(
            found.from_kbps * less - step(wanted), wanted, resolution, found.fps
        )
        given_there = planned(found.from_kbps, wanted).destinations[0].quality
        assert given_there is not None
        assert abs(given_there - found.from_gives.quality) <= TABLE.tie + 1e-4
        if found.until_kbps is None:
            assert among_the_best(4 * found.full_kbps, wanted, resolution, found.fps)
            continue
        assert found.then is not None
        # bitrates are rounded, each at its own totals, so that right at the edge it may flicker
        just_below = np.linspace(0.05, 1, 12) * step(wanted)
        assert any(
            among_the_best(found.until_kbps - by, wanted, resolution, found.fps)
            for by in just_below
        )
        assert not among_the_best(found.until_kbps / less, wanted, resolution, found.fps)


@given(shows, ladder)
def test_need_says_when_a_plan_takes_a_resolution_and_when_it_looks_good(
    wanted: Show, resolution: Resolution
) -> None:
    guide = OXBOW.under(wanted.destinations[0].tier)
    for found in needs(wanted, [guide], TABLE, [resolution]):
        if found.chosen_from_kbps is not None:
            video = planned(found.chosen_from_kbps, wanted).destinations[0].video
            assert video is not None
            assert (video.resolution, float(video.frame_rate)) == (
                resolution,
                pytest.approx(found.fps, abs=0.01),
            )
            before = planned(found.chosen_from_kbps - step(wanted), wanted).destinations[0].video
            assert before is None or (before.resolution, float(before.frame_rate)) != (
                resolution,
                pytest.approx(found.fps, abs=0.01),
            )
        if found.good_kbps is not None:
            assert found.full_gives is not None
            assert look_word(found.full_gives.quality) in ("good", "excellent")
            pinned = wanted.model_copy(
                update={"resolution": resolution, "fps": parse_frame_rate(f"{found.fps:g}")}
            )
            for kbps, good in ((found.good_kbps, True), (found.good_kbps - step(wanted), False)):
                (there,) = planned(kbps, pinned).destinations
                word = look_word(there.quality or 0.0)
                assert (word in ("good", "excellent")) is good


@given(uploads, shows)
def test_steps_down_are_cheaper_and_each_meets_the_guide(kbps: float, wanted: Show) -> None:
    (there,) = planned(kbps, wanted).destinations
    if not there.feasible:
        assert there.fallbacks == ()
        return
    totals = [there.total_kbps, *(step.total_kbps for step in there.fallbacks)]
    for before, after in pairwise(totals):
        assert after < before
        assert after > before * 0.5
    for step in there.fallbacks:
        lower = there.model_copy(update={"video": step.video, "audio": step.audio})
        held = check(lower.settings, [OXBOW.under(there.tier)], there.total_kbps)
        assert held.breaches == 0
    if there.step_up is not None and there.quality is not None:
        assert there.step_up.quality >= there.quality + TABLE.tie - 1e-4


@given(uploads, shows)
def test_an_offer_of_more_upload_is_kept(kbps: float, wanted: Show) -> None:
    (there,) = planned(kbps, wanted).destinations
    for offer in there.offers:
        if offer.kind == "upload":
            assert offer.upload_kbps is not None
            after = planned(offer.upload_kbps + 0.01, wanted).destinations[0].video
            assert after is not None
            assert after.resolution == offer.gives.resolution
            assert after.frame_rate == offer.gives.frame_rate
        else:
            assert there.quality is not None
            assert offer.gives.quality >= there.quality + TABLE.tie - 1e-4


@given(st.floats(500, 50_000), st.floats(0.3, 1.0), st.floats(0.2, 1.0), st.floats(0.01, 40_000))
def test_the_budget_can_be_turned_round(
    typical: float, evenness: float, share: float, safe: float
) -> None:
    line = Uplink(
        typical_kbps=typical,
        floor_kbps=typical * evenness,
        spread=0.3,
        basis="one run",
        text="a run",
    )
    made = budget(line, share, show().reserves)
    upload = made.upload_for(safe)
    same = Uplink(
        typical_kbps=upload, floor_kbps=upload * evenness, spread=0.3, basis="one run", text="a run"
    )
    assert budget(same, share, ()).safe_kbps == pytest.approx(safe, rel=1e-4, abs=0.01)


def test_a_tier_and_a_codec_are_offered(kestrel: Kestrel) -> None:
    wish = ("--upload", "40 Mbit/s", "--motion", "hectic")
    oxbow = kestrel("plan", "--for", "oxbow", *wish, "--why")
    assert "the hearth tier would allow" in oxbow.out
    fernlight = kestrel(
        "plan", "--for", "fernlight", "--upload", "7 Mbit/s", "--motion", "hectic", "--json"
    ).document["destinations"][0]
    assert {offer["needs"] for offer in fernlight["offers"]} >= {"hevc", "av1"}
    assert "if it struggles" in oxbow.out


def test_need_answers_in_words_as_a_table_and_drawn(kestrel: Kestrel, tmp_path: Path) -> None:
    wish = ("need", "oxbow", "--resolution", "1280x720", "--fps", "60", "--motion", "hectic")
    (answer,) = kestrel(*wish, "--json").document["needs"]
    assert answer["possible"]
    assert answer["full_gives"]["height"] == 720
    again = kestrel(
        *shlex.split("plan --for oxbow --upload"),
        f"{answer['chosen_from_kbps']} kbit/s",
        "--motion",
        "hectic",
        "--json",
    ).document["destinations"][0]
    assert (again["video"]["height"], again["video"]["fps"]) == (720, 60)
    (reserved,) = kestrel(*wish, "--reserve", "call=1.5 Mbit/s", "--json").document["needs"]
    more = reserved["full_kbps"] - answer["full_kbps"]
    assert more == pytest.approx(1500 / 0.7, abs=1)
    said = " ".join(kestrel(*wish).out.split())
    assert "1280x720 at 60 fps: among the best from" in said
    assert "no gain beyond" in said
    figure = tmp_path / "need.svg"
    table = kestrel("need", "oxbow", "fernlight", "gatepost", "--figure", figure)
    assert table.code == 0, table.err
    assert "<svg" in figure.read_text()
    assert all(name in table.out for name in ("oxbow", "fernlight", "gatepost", "never"))
    tiny = " ".join(
        kestrel("need", "oxbow", "--resolution", "256x144", "--motion", "still").out.split()
    )
    assert "never among the best" in tiny
    impossible = kestrel("need", "oxbow", "--resolution", "1000x1000")
    assert impossible.code == 4
    assert "no upload makes oxbow take 1000x1000" in impossible.error_line
    assert kestrel("need", "oxbw").code == 2
    assert kestrel("need", "oxbow", "--figure", "x.gif").code == 2


def test_sweeps_agree_with_plans(kestrel: Kestrel, tmp_path: Path) -> None:
    out, figure = tmp_path / "s.csv", tmp_path / "s.png"
    done = kestrel(
        "plan", "--for", "oxbow", "--sweep", "upload=1..40", "--out", out, "--figure", figure
    )
    assert done.code == 0, done.err
    assert figure.read_bytes().startswith(b"\x89PNG")
    rows = list(csv.DictReader(io.StringIO(out.read_text())))
    assert len(rows) == 79
    for row in rows[:: len(rows) // 6]:
        alone = kestrel("plan", "--for", "oxbow", "--upload", row["at"], "--json").document
        video = alone["destinations"][0]["video"]
        assert (str(video["width"]), str(video["bitrate_kbps"])) == (
            row["width"],
            row["bitrate_kbps"],
        )
    for over, count in (("motion", 4), ("tier", 2), ("share=50..80", 79)):
        swept = kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--sweep", over, "--json")
        assert len(swept.document["points"]) == count


@pytest.mark.parametrize(
    ("options", "says"),
    [
        (("--sweep", "uplod=1..4"), 'write "upload"'),
        (("--sweep", "upload=4..1"), "write upload=1..40"),
        (("--sweep", "upload"), "write upload=1..40"),
        (("--sweep", "share=0..150"), "write share=50..80"),
        (("--sweep", "upload=1..4", "--out", "s.txt"), "name it .json, .toml, .csv"),
        (
            ("--sweep", "motion", "--upload", "9 Mbit/s", "--figure", "s.png"),
            "sweep upload or share",
        ),
        (("--figure", "s.gif", "--upload", "9 Mbit/s"), "name it .png"),
    ],
)
def test_bad_sweeps_get_one_line(kestrel: Kestrel, options: tuple[str, ...], says: str) -> None:
    result = kestrel("plan", "--for", "oxbow", *options)
    assert result.code == 2
    assert says in result.error_line


def test_need_counts_reserves_larger_than_any_line_measured() -> None:
    huge = Reserve(name="backup", rate=Bitrate.parse("90 Mbit/s"))
    wanted = show("hectic", reserves=(huge,))
    (found,) = needs(wanted, [OXBOW], TABLE, [Resolution(1280, 720)], 50.0)
    assert found.chosen_from_kbps is not None
    video = planned(found.chosen_from_kbps, wanted).destinations[0].video
    assert video is not None
    assert video.resolution == Resolution(1280, 720)


def test_a_plan_with_no_candidates_has_no_steps() -> None:
    guide = load_guide("pocketfair")
    narrow = Show(
        source=Resolution(320, 240),
        source_fps="30",
        motion="calm",
        destinations=(Destination(platform="pocketfair"),),
    )
    uplink = assumed_uplink(Bitrate.parse("9 Mbit/s"))
    (there,) = plan(uplink, narrow, {"pocketfair": guide}, TABLE).destinations
    assert not there.feasible
    assert "cannot provide" in there.infeasible_because
    assert needs(narrow, [guide], TABLE) == ()


@given(st.floats(600, 30_000), shows)
def test_a_comparison_says_what_a_plan_and_its_budget_say(kbps: float, wanted: Show) -> None:
    """The finalist a plan takes is the plan's; and the upload each needs carries just that."""
    line = assumed_uplink(Bitrate.from_kbps(kbps))
    waterfall = budget(line, wanted.safe_share, wanted.reserves)
    ruled = OXBOW.under(wanted.destinations[0].tier)
    field = candidates_table(wanted, ruled, TABLE, "h264")
    if waterfall.safe_kbps <= 0 or not field.candidates:
        return
    shapes = [
        (c.resolution, c.frame_rate)
        for c in field.candidates[:: max(1, len(field.candidates) // 7)]
    ]
    made = planned(kbps, wanted)
    there = made.destinations[0]
    if there.video is not None:
        shapes.append((there.video.resolution, there.video.frame_rate))
    found = compare(wanted, ruled, TABLE, "h264", waterfall, shapes).finalists
    for one in found:
        again = budget(
            assumed_uplink(Bitrate.from_kbps(one.upload_kbps)), wanted.safe_share, wanted.reserves
        )
        assert again.safe_kbps == pytest.approx(one.total_kbps, rel=0.001, abs=0.2)
        assert one.total_kbps <= waterfall.safe_kbps + 1e-6 or one.refused
    if there.video is not None:
        assert found[-1].chosen
        assert found[-1].bitrate_kbps == there.video.bitrate_kbps
        assert found[-1].quality == pytest.approx(there.quality, abs=1e-4)
        assert found[-1].total_kbps == pytest.approx(there.total_kbps, abs=0.01)
        assert found[-1].limited_by == there.limited_by["bitrate"]


def test_what_cannot_be_compared_gets_one_line(kestrel: Kestrel) -> None:
    upload = ("--upload", "6 Mbit/s")
    good = kestrel("plan", "oxbow", *upload, "--compare", "1280x720@60, 1920x1080 at 30", "--json")
    assert [f["fps"] for f in good.document["finalists"]] == [60, 30]
    for wrong, said in (
        ("720p60", "write 1280x720@60"),
        ("1280x720@75", "takes up to 60 fps"),
        ("1000x700@60", "takes up to 1920x1080, 16:9"),
    ):
        assert said in kestrel("plan", "oxbow", *upload, "--compare", wrong).error_line
    several = kestrel("plan", "oxbow,gatepost", *upload, "--compare", "1280x720@60")
    assert "of one platform" in several.error_line
