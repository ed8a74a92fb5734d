"""``plan``: what it promises in JSON, its laws, and its refusals."""

from __future__ import annotations

import json
import shlex
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import example, given, strategies as st

from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.choice.candidates import candidates, even_ladder, frame_rates
from eager_kestrel.core.choice.candidates_table import candidates_table
from eager_kestrel.core.choice.limits import rounded_down
from eager_kestrel.core.codecs import H264_LEVELS, least_level
from eager_kestrel.core.connection.uplink import SeenSafe, Uplink, assumed_uplink
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.plan.plan import Plan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import AspectRatio, Resolution
from eager_kestrel.core.show.show import MOTIONS, Destination, Reserve, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from tests.conftest import Kestrel

TABLE = quality_table()
OXBOW = load_guide("oxbow")


def show(
    motion: str = "lively",
    fps: str = "60",
    tier: str | None = None,
    share: float = 0.7,
    reserves: tuple[Reserve, ...] = (),
    source: str = "1920x1080",
) -> Show:
    return Show(
        source=source,
        source_fps=fps,
        motion=motion,
        safe_share=share,
        reserves=reserves,
        destinations=(Destination(platform="oxbow", tier=tier),),
    )


def planned(kbps: float, wanted: Show) -> Plan:
    uplink = assumed_uplink(Bitrate.from_kbps(kbps))
    return plan(uplink, wanted, {"oxbow": OXBOW}, TABLE)


shows = st.builds(
    show,
    motion=st.sampled_from(MOTIONS),
    fps=st.sampled_from(["60", "59.94", "50", "30", "29.97", "25", "24"]),
    tier=st.sampled_from([None, "hearth"]),
    share=st.floats(0.3, 1.0),
    reserves=st.lists(
        st.builds(
            Reserve,
            name=st.just("call"),
            rate=st.integers(1, 3000).map(lambda k: Bitrate(k * 1000)),
        ),
        max_size=3,
    ).map(tuple),
    source=st.sampled_from(["1920x1080", "1280x720", "3840x2160", "1440x1080", "1080x1920"]),
)
uploads = st.floats(50, 100_000)


def test_the_document_holds_what_it_promises(kestrel: Kestrel) -> None:
    result = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json")
    assert result.code == 0, result.err
    document = result.document
    assert document["format"] == "eager-kestrel/plan/3"
    assert document["uplink"]["typical_kbps"] == 12_000
    assert document["uplink"]["floor_kbps"] < 12_000
    steps = document["budget"]["steps"]
    assert all(set(s) == {"name", "before_kbps", "after_kbps", "text"} for s in steps)
    assert [s["before_kbps"] for s in steps[1:]] == [s["after_kbps"] for s in steps[:-1]]
    (there,) = document["destinations"]
    assert there["platform"] == "oxbow"
    assert there["tier"] is None
    assert there["feasible"] is True
    video, audio = there["video"], there["audio"]
    assert video["codec"] == "h264"
    assert video["bitrate_kbps"] == 6000
    assert there["limited_by"]["bitrate"] == "guide"
    assert video["rate_control"] == "constant"
    assert video["keyframe_frames"] == video["keyframe_seconds"] * video["fps"]
    assert video["buffer_kbit"] == 6000
    assert (video["profile"], video["b_frames"]) == ("high", 2)
    assert audio == {"codec": "aac", "bitrate_kbps": 160, "sample_rate_hz": 48000, "channels": 2}
    assert there["total_kbps"] <= document["budget"]["safe_kbps"] == 8400
    assert {r["setting"] for r in there["reasons"]} >= {
        "bitrate",
        "resolution",
        "frame_rate",
        "audio",
    }
    assert all(r["text"] for r in there["reasons"])


def test_a_tier_raises_the_ceiling(kestrel: Kestrel) -> None:
    result = kestrel(
        "plan", "--for", "oxbow:hearth", "--upload", "40 Mbit/s", "--motion", "hectic", "--json"
    )
    there = result.document["destinations"][0]
    assert there["video"]["bitrate_kbps"] == 8000
    assert not any("exactly what you send" in w for w in result.document["warnings"])


@given(uploads, shows)
def test_never_above_the_safe_rate_the_guide_or_the_source(kbps: float, wanted: Show) -> None:
    result = planned(kbps, wanted)
    assert 0 <= result.budget.safe_kbps <= result.uplink.typical_kbps
    (there,) = result.destinations
    assert there.total_kbps <= result.budget.safe_kbps + 0.001
    if there.video is None:
        assert there.infeasible_because
        return
    video = there.video
    ruled = OXBOW.under(wanted.destinations[0].tier)
    assert video.bitrate_kbps <= ruled.video.max_bitrate.kbps
    assert video.resolution.width <= min(wanted.source.width, ruled.video.max_resolution.width)
    assert video.resolution.height <= min(wanted.source.height, ruled.video.max_resolution.height)
    assert video.frame_rate <= wanted.source_fps
    assert ruled.video.takes_rate(video.frame_rate)
    assert ruled.video.shapes[0].fits(video.resolution)
    step = 50 if video.bitrate_kbps < 2000 else 100
    assert video.bitrate_kbps % step == 0
    level = next(row for row in H264_LEVELS if row.name == video.level)
    assert level.takes(video.resolution, video.frame_rate)
    assert video.buffer_kbit <= level.buffer_kbit(video.profile)
    assert there.audio is not None
    assert ruled.audio.min_bitrate.kbps <= there.audio.bitrate_kbps <= ruled.audio.max_bitrate.kbps
    assert planned(kbps, wanted).model_dump_json() == result.model_dump_json()
    assert Plan.model_validate_json(result.model_dump_json()) == result


@given(uploads, st.floats(1.0, 3.0), shows)
def test_more_upload_is_never_worse_and_never_a_smaller_resolution(
    kbps: float, factor: float, wanted: Show
) -> None:
    less = planned(kbps, wanted).destinations[0]
    more = planned(kbps * factor, wanted).destinations[0]
    assert more.feasible or not less.feasible
    if less.video and more.video and less.quality and more.quality:
        assert more.quality >= less.quality - TABLE.tie - 1e-4
        if (
            less.video.frame_rate == more.video.frame_rate
            and more.video.bitrate_kbps >= less.video.bitrate_kbps
        ):
            assert more.video.resolution.height >= less.video.resolution.height


@given(st.floats(400, 8000))
@example(4397.0)
def test_more_motion_never_chooses_a_larger_resolution_or_a_lower_frame_rate(kbps: float) -> None:
    """Where the bitrate is the same, and by more than the model can tell."""
    seen = []
    for motion in MOTIONS:
        scored = candidates_table(show(motion), OXBOW, TABLE, "h264").at(kbps + 200)
        judged = np.where(scored.allowed, scored.quality, -1.0)
        sizes = np.array([one.resolution.pixels for one in scored.candidates])
        rates = np.array([float(one.frame_rate) for one in scored.candidates])
        best = int(judged.argmax())
        seen.append((sizes, rates, judged, best, scored.kbps[best]))
    for (size, rate, _, at, one), (sizes, rates, judged, best, other) in pairwise(seen):
        if one != other:
            continue  # where no gain is visible, less motion is sent at less
        calmer = (sizes <= size[at]) & (rates >= rate[at])
        assert judged[calmer].max() >= judged[best] - TABLE.tie


def test_keyframes_of_2997_are_counted_in_whole_frames() -> None:
    video = planned(12_000, show(fps="29.97")).destinations[0].video
    assert video is not None
    assert video.frame_rate == Fraction(30000, 1001)
    assert (video.keyframe_seconds, video.keyframe_frames) == (2.0, 60)


@given(
    st.sampled_from(["rtmp", "rtmps", "hls"]),
    st.sampled_from([24, 30, 60]),
    st.floats(200, 50_000),
    st.floats(32, 320),
)
def test_overhead_and_its_inverse(transport: str, fps: int, video: float, audio: float) -> None:
    extra = overhead(transport, Fraction(fps), 48000)
    total = extra.total_kbps(video, audio)
    assert video + audio < total < (video + audio) * 1.15 + 250
    assert extra.video_kbps(total, audio) == pytest.approx(video)
    plain = overhead("rtmp", Fraction(fps), 48000).total_kbps(video, audio)
    assert total >= plain


@given(st.floats(1, 10**6))
def test_array_rounding_agrees_with_the_quantity(kbps: float) -> None:
    assert rounded_down(np.array([kbps]))[0] == Bitrate.from_kbps(kbps).rounded_down().kbps


@given(st.integers(1, 20), st.integers(1, 20))
def test_ladders_have_the_shape_and_sides_divisible_by_eight(across: int, down: int) -> None:
    shape = AspectRatio.parse(f"{across}:{down}")
    for resolution in even_ladder(shape, Resolution(3840, 2160)):
        assert resolution.width % 8 == resolution.height % 8 == 0
        assert resolution.width * shape.down == resolution.height * shape.across


def test_candidates_divide_the_frame_rate_and_never_enlarge() -> None:
    rates = [rate for rate, _ in frame_rates(Fraction(50), OXBOW.video)]
    assert rates == [50, 25, 10]
    some = OXBOW.video.model_copy(update={"max_frame_rate": None, "frame_rates": (30, 25)})
    assert frame_rates(Fraction(48), some) == [(30, False)]
    found = candidates(Resolution(1280, 720), Fraction(60), OXBOW.video, [Resolution(848, 480)])
    assert max(c.resolution for c in found) == Resolution(1280, 720)
    assert any(c.resolution == Resolution(848, 480) for c in found)
    assert {c.frame_rate for c in found} == {60, 30, 20, 15, 10}


def test_levels_by_the_table() -> None:
    for resolution, fps, kbps, level in (
        ("1920x1080", 30, 6000, "4"),
        ("1920x1080", 60, 6000, "4.2"),
        ("1280x720", 30, 4000, "3.1"),
        ("1280x720", 60, 4000, "3.2"),
        ("3840x2160", 60, 50_000, "5.2"),
        ("640x480", 25, 900, "3"),
    ):
        assert (
            least_level(
                "h264", Resolution.parse(resolution), Fraction(fps), "main", kbps, kbps
            ).name
            == level
        )


def test_the_budget_takes_the_lower_of_share_and_what_was_seen_safe() -> None:
    wild = Uplink(
        typical_kbps=8000,
        floor_kbps=4000,
        spread=1,
        basis="one run",
        text="one run",
        seen_safe=SeenSafe(
            kbps=4000,
            held_kbps=5000,
            headroom=0.25,
            observed_seconds=60,
            limit_seconds_per_hour=7,
            lowest_kbps=800,
        ),
    )
    calm = Uplink(typical_kbps=8000, floor_kbps=7900, spread=0.02, basis="one run", text="one run")
    call = Reserve(name="video call", rate=Bitrate.parse("1.5 Mbit/s"))
    assert budget(wild, 0.7, (call,)).safe_kbps == 2500
    assert budget(wild, 0.7, ()).limited_by == "seen safe"
    assert budget(calm, 0.7, (call,)).safe_kbps == pytest.approx(4100)
    assert budget(calm, 0.7, (call, call, call, call, call)).safe_kbps == 0


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (("--for", "oxbw", "--upload", "12 Mbit/s"), 2, 'write "oxbow"'),
        (("--for", "oxbow", "--upload", "12"), 2, "write 12 Mbit/s or 12 kbit/s"),
        (("--for", "oxbow", "--upload", "12 mb"), 2, "may mean bits or bytes"),
        (("--for", "oxbow:hart", "--upload", "12 Mbit/s"), 2, 'write "hearth"'),
        (("--for", "oxbow:", "--upload", "12 Mbit/s"), 2, "PLATFORM:TIER"),
        (("--for", "oxbow", "--upload", "12 Mbit/s", "--motion", "livly"), 2, 'write "lively"'),
        (("--for", "oxbow", "--upload", "12 Mbit/s", "--source", "1080"), 2, "1920x1080"),
        (("--for", "oxbow", "--upload", "12 Mbit/s", "--share", "0.7"), 2, 'write "70 %"'),
        (("--for", "oxbow", "--upload", "12 Mbit/s", "--reserve", "call"), 2, "video call=1.5"),
        (("--for", "oxbow"), 2, "run eager-kestrel measure --to oxbow"),
        (("--upload", "12 Mbit/s"), 2, "--for"),
        (("--for", "oxbow", "--uplod", "12 Mbit/s"), 2, "--upload"),
        (("--for", "oxbow", "--upload", "200 kbit/s"), 4, "no settings for Oxbow"),
        (
            ("--for", "oxbow", "--upload", "9 Mbit/s", "--out", "/proc/x/p.json"),
            1,
            "/proc",
        ),
    ],
)
def test_bad_input_gets_one_line(
    kestrel: Kestrel, arguments: tuple[str, ...], code: int, says: str
) -> None:
    result = kestrel("plan", *arguments)
    assert result.code == code
    assert says in result.error_line


def test_bytes_are_said_back_as_bits(kestrel: Kestrel) -> None:
    document = kestrel("plan", "--for", "oxbow", "--upload", "1.5 MB/s", "--json").document
    assert document["uplink"]["typical_kbps"] == 12_000
    assert '12 Mbit/s (written "1.5 MB/s")' in document["uplink"]["text"]


def test_an_infeasible_plan_is_still_a_document(kestrel: Kestrel) -> None:
    result = kestrel("plan", "--for", "oxbow", "--upload", "150 kbit/s", "--json")
    assert result.code == 4
    (there,) = result.document["destinations"]
    assert there["feasible"] is False
    assert "100 kbit/s" in there["infeasible_because"]


def test_the_card_and_the_file(kestrel: Kestrel, tmp_path: Path) -> None:
    out = tmp_path / "deep" / "plan.json"
    result = kestrel(
        *shlex.split("plan --for oxbow --upload"),
        "12 Mbit/s",
        "--why",
        "--out",
        out,
        "--reserve",
        "video call=1.5 Mbit/s",
    )
    assert result.code == 0
    assert "6,000 kbit/s = 6 Mbit/s, constant (CBR)" in result.out
    assert "every 2 s = 120 frames" in result.out
    assert "\x1b[" not in result.out
    assert json.loads(out.read_text())["format"] == "eager-kestrel/plan/3"
    assert [p.name for p in out.parent.iterdir()] == ["plan.json"]


def test_names_with_brackets_and_colons_are_shown_word_for_word(kestrel: Kestrel) -> None:
    name = "[bold]:fire: call[/]"
    result = kestrel(
        "plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--reserve", f"{name}=1 Mbit/s", "--why"
    )
    assert result.code == 0
    assert name in result.out


def test_the_overhead_table_of_the_docs_is_true() -> None:
    page = Path(__file__).parent.parent / "docs" / "transport-overhead.md"
    lines = page.read_text(encoding="utf-8").splitlines()
    rows = [line for line in lines if line.startswith(("| rtmp", "| hls", "| srt |"))]
    assert len(rows) == 12
    for row in rows:
        transport, fps, *cells = [cell.strip() for cell in row.strip("|").split("|")]
        extra = overhead(transport, Fraction(fps), 48000)
        for cell, (video, audio) in zip(
            cells, [(800, 64), (2500, 128), (6000, 160), (15_000, 160)], strict=True
        ):
            added = extra.total_kbps(video, audio) - video - audio
            assert cell == f"{added:,.1f} ({added / (video + audio):.2%})"
