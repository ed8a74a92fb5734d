"""What stands on the card beside bitrate and resolution, and the fitted quality table."""

from __future__ import annotations

import re
import shlex
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st
from rich.cells import cell_len

from eager_kestrel.core.checks.findings import check
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.plan import GB_PER_KBPS_HOUR, DataUse, DestinationPlan, Plan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.resolution import frame_fit
from eager_kestrel.core.show.machine import Machine
from eager_kestrel.core.show.show import MOTIONS, Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from eager_kestrel.files.history import History
from tests.broadcasts import a_broadcast
from tests.conftest import Kestrel
from tests.test_runs import at, kept

TABLE = quality_table()
SCENES = {
    "page": "still",
    "desk": "still",
    "hall": "still",
    "head": "calm",
    "dog": "calm",
    "stretch": "calm",
    "look": "lively",
    "wheel": "lively",
    "film": "lively",
    "turn": "lively",
    "walk": "hectic",
    "chase": "hectic",
    "fight": "hectic",
}
"""As calibration/scenes.py counts them."""
POINTS = Path(__file__).parent.parent / "calibration" / "points.csv"


def guide(**video: Any) -> Guide:
    """A guide that takes most things, with some rules changed."""
    rules: dict[str, Any] = {
        "codecs": ["h264"],
        "shapes": ["16:9"],
        "max_resolution": "1920x1080",
        "max_frame_rate": "60",
        "max_bitrate": "9000 kbit/s",
        "keyframes": {"max": "4 s"},
        "rate_control": ["constant"],
    }
    return Guide.model_validate(
        {
            "name": "anywhere",
            "title": "Anywhere",
            "source": "a test",
            "checked": date(2026, 10, 1),
            "transports": ["rtmp"],
            "delivery": {"transcodes": "always"},
            "video": rules | video,
            "audio": {
                "codecs": ["aac"],
                "min_bitrate": "32 kbit/s",
                "max_bitrate": "160 kbit/s",
                "sample_rates": [48000],
                "channels": [1, 2],
            },
        }
    )


def planned(upload: float, rules: Guide, **changed: Any) -> Plan:
    base: dict[str, Any] = {
        "source": Resolution(1920, 1080),
        "source_fps": 60,
        "motion": "lively",
        "destinations": (Destination(platform="anywhere"),),
    }
    show = Show(**(base | changed))
    line = assumed_uplink(Bitrate.from_kbps(upload))
    return plan(line, show, {"anywhere": rules}, TABLE)


def only(made: Plan) -> DestinationPlan:
    (there,) = made.destinations
    return there


@given(st.floats(1500, 20_000), st.booleans())
def test_variable_bitrate_keeps_its_peak_within_the_line(upload: float, recommended: bool) -> None:
    rules = (
        guide(rate_control=["constant", "variable"], recommended={"rate_control": "variable"})
        if (recommended)
        else guide(rate_control=["variable"])
    )
    there = only(planned(upload, rules))
    assert there.video is not None
    video = there.video
    assert video.rate_control == "variable"
    assert video.peak_kbps is not None
    assert video.bitrate_kbps <= 0.8 * video.peak_kbps
    assert there.total_kbps <= 0.7 * upload + 0.01
    assert there.total_kbps > video.peak_kbps
    assert video.buffer_kbit <= video.peak_kbps
    found = check(there.settings, [rules])
    assert found.breaches == 0
    assert "peak of" in next(r.text for r in there.reasons if r.setting == "rate_control")


@given(st.floats(1500, 20_000), st.sampled_from(MOTIONS))
def test_adapting_never_goes_below_what_the_platform_takes(upload: float, motion: str) -> None:
    rules = load_guide("fernlight").model_copy(update={"name": "anywhere"})
    there = only(planned(upload, rules, motion=motion))
    if there.video is None or there.adaptive is None:
        return
    limits = rules.limits(there.video.resolution, there.video.frame_rate, "h264", "rtmps")
    assert there.adaptive.max_kbps == there.video.bitrate_kbps
    assert there.adaptive.min_kbps <= there.adaptive.max_kbps
    if limits.min is not None:
        assert there.adaptive.min_kbps >= limits.min.kbps


@given(st.floats(1, 1e5), st.floats(1, 700))
def test_data_adds_up(kbps: float, hours: float) -> None:
    used = DataUse.of(kbps, hours)
    assert used.gb_per_hour == pytest.approx(kbps * 3600 / 8 / 1e6, abs=0.001)
    assert used.gb_per_month == pytest.approx(used.gb_per_hour * hours, rel=0.01, abs=0.5)
    assert pytest.approx(0.00045) == GB_PER_KBPS_HOUR


def test_a_local_copy_is_held_against_the_disk(kestrel: Kestrel, tmp_path: Path) -> None:
    options = ("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json")
    copy = kestrel(*options, "--copy-to", tmp_path).document["local_copy"]
    assert (copy["width"], copy["height"], copy["fps"]) == (1920, 1080, 60)
    assert copy["keyframe_frames"] == 60
    assert copy["gb_per_hour"] > copy["sent_gb_per_hour"]
    assert copy["free_hours"] == pytest.approx(copy["free_gb"] / copy["gb_per_hour"], abs=0.06)
    assert kestrel(*options).document["local_copy"]["free_gb"] is None
    assert kestrel(*options).answer == kestrel(*options).answer
    gone = kestrel(*options, "--copy-to", tmp_path / "none")
    assert gone.code == 2
    assert "no such file or folder" in gone.error_line
    shown = kestrel(
        *shlex.split("plan --for oxbow --upload"),
        "12 Mbit/s",
        "--hours",
        "50",
        "--copy-to",
        tmp_path,
        "--why",
    )
    assert "a month at 50 hours" in shown.out
    assert "GB free, enough for" in shown.out.replace("\n", " ")


@given(
    st.tuples(st.integers(160, 4000), st.integers(160, 4000)),
    st.tuples(st.integers(160, 4000), st.integers(160, 4000)),
)
def test_crop_and_pad_keep_the_shape(a: tuple[int, int], b: tuple[int, int]) -> None:
    source, sent = Resolution(*(x // 2 * 2 for x in a)), Resolution(*(x // 2 * 2 for x in b))
    fit = frame_fit(source, sent)
    if fit is None:
        ratio = source.width * sent.height / (sent.width * source.height)
        assert ratio == pytest.approx(1, abs=0.02)  # 848x480 passes for 16:9
        return
    crop, pad = fit.crop, fit.pad
    assert crop.width <= source.width
    assert crop.height <= source.height
    assert pad.width <= sent.width
    assert pad.height <= sent.height
    for part, wanted in ((crop, sent), (pad, source)):
        across = abs(part.width - part.height * wanted.width / wanted.height)
        down = abs(part.height - part.width * wanted.height / wanted.width)
        assert min(across, down) <= 2
    assert 0 < fit.kept_share < 1.0001
    assert fit.kept_share == pytest.approx(crop.pixels / source.pixels, abs=1e-4)


def test_larger_than_the_source_only_where_it_is_rewarded() -> None:
    rules = load_guide("fernlight").model_copy(update={"name": "anywhere"})
    rich = only(planned(80_000, rules))
    assert rich.video is not None
    assert rich.video.resolution == Resolution(2560, 1440)
    assert rich.video.resize is not None
    assert "delivers such resolutions better" in next(
        r.text for r in rich.reasons if r.setting == "resolution"
    )
    thin = only(planned(9000, rules))
    assert thin.video is not None
    assert thin.video.resolution.height <= 1080
    plain = rules.model_copy(
        update={"delivery": rules.delivery.model_copy(update={"better_from_lines": None})}
    )
    kept = only(planned(80_000, plain))
    assert kept.video is not None
    assert kept.video.resolution.height == 1080
    assert kept.video.resize is None


@given(st.integers(40, 400), st.floats(0.3, 1.0), st.sampled_from(MOTIONS))
def test_the_machine_is_never_asked_for_more(fps: int, share: float, motion: str) -> None:
    machine = Machine.model_validate(
        {
            "share": share,
            "encoders": [
                {"codec": "h264", "preset": "veryfast", "holds": f"1920x1080 at {fps}"},
                {"codec": "h264", "preset": "slow", "holds": f"1920x1080 at {fps // 4}"},
            ],
        }
    )
    there = only(planned(30_000, guide(), machine=machine, motion=motion))
    assert there.video is not None
    video = there.video
    asked = video.pixels_per_second
    assert asked <= 1920 * 1080 * fps * share * 1.0001
    slow = 1920 * 1080 * (fps // 4) * share
    assert video.preset == ("slow" if asked <= slow else "veryfast")
    assert any(r.setting == "preset" and "slowest" in r.text for r in there.reasons)


def test_viewers_lines_bind_where_transcodes_are_not_assured() -> None:
    never = guide().model_copy(
        update={"delivery": guide().delivery.model_copy(update={"transcodes": "never"})}
    )
    there = only(planned(30_000, never, viewers=Bitrate.parse("3 Mbit/s")))
    assert there.total_kbps <= 3000
    assert there.limited_by["bitrate"] == "viewers"
    assured = only(planned(30_000, guide(), viewers=Bitrate.parse("3 Mbit/s")))
    assert assured.total_kbps > 3000


def test_voice_on_a_poor_line_is_mono() -> None:
    poor = only(planned(900, guide(), audio="voice"))
    assert poor.audio is not None
    assert poor.audio.channels == 1
    music = only(planned(900, guide(), audio="music"))
    assert music.audio is not None
    assert music.audio.channels == 2
    rich = only(planned(20_000, guide(), audio="voice"))
    assert rich.audio is not None
    assert rich.audio.channels == 2


def test_the_budget_is_drawn(kestrel: Kestrel, tmp_path: Path) -> None:
    for name in ("b.png", "b.svg"):
        result = kestrel(
            "plan", "wheel-night", "--upload", "12 Mbit/s", "--figure", tmp_path / name
        )
        assert result.code == 0, result.err
    assert (tmp_path / "b.png").read_bytes().startswith(b"\x89PNG")
    assert "<svg" in (tmp_path / "b.svg").read_text()


def test_every_reason_of_every_bundled_platform_reads_as_a_sentence(kestrel: Kestrel) -> None:
    for platform in ("oxbow", "oxbow:hearth", "fernlight", "pocketfair", "gatepost"):
        for upload in ("1 Mbit/s", "3 Mbit/s", "60 Mbit/s"):
            result = kestrel("plan", "--for", platform, "--upload", upload, "--json")
            if result.code == 4:
                continue
            for reason in result.document["destinations"][0]["reasons"]:
                assert reason["text"]
                assert "None" not in reason["text"]
                assert "{" not in reason["text"]


LONG = "https://upload-server-of-the-long-lane.north-yard.hollowlane.example/try"
PLANNED = ("plan", "--for", "oxbow", "--for", "gatepost", "--days", "3650")
WIDE = (
    ("guides", "list"),
    ("need", "oxbow"),
    ("need", "oxbow", "--resolution", "1280x720", "--fps", "60"),
    PLANNED,
    (*PLANNED, "--why"),
    (*PLANNED, "--full"),
    ("plan", "--for", "oxbow", "--days", "3650", "--sweep", "upload=2..12"),
    ("plan", "--for", "oxbow", "--days", "3650", "--compare", "1280x720@60, 1920x1080@30"),
    ("forecast", "--days", "3650"),
    (
        "check",
        "--for",
        "oxbow",
        "--for",
        "gatepost",
        "--bitrate",
        "9 Mbit/s",
        "--keyframes",
        "10 s",
    ),
    ("runs", "list"),
    ("runs", "hours", "--days", "3650"),
    ("runs", "show", "latest"),
    ("runs", "compare", "r-001", "r-002"),
    ("endpoints", "list"),
    ("review",),
    ("explain",),
    ("explain", "budget"),
)


@pytest.mark.parametrize("command", WIDE, ids=" ".join)
def test_no_width_loses_a_word(
    kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch, command: tuple[str, ...]
) -> None:
    """Every word and number that is printed at 200 columns is printed at any width from 50."""
    made = [at(20, 9000 + 100 * n, n + 1, url=LONG) for n in range(4)]
    kept(*(run.model_copy(update={"id": f"r-{n:03d}"}) for n, run in enumerate(made)))
    with History() as history:
        history.keep([a_broadcast([4000] * 30)])
    kestrel("endpoints", "add", "陶芸の庭" if command[0] == "endpoints" else "yard", LONG)
    kestrel("plan", "--for", "oxbow", "--days", "3650")

    def printed(columns: int) -> str:
        monkeypatch.setenv("COLUMNS", str(columns))
        result = kestrel(*command)
        assert result.code in (0, 1, 2), result.err
        return re.sub(r"[│─╭╮╰╯░-▓█▁-▇·]+", " ", str(result.out))

    words = set(re.findall(r"[^\s:;,()]+", printed(200)))
    for columns in (50, 63, 80, 121):
        narrow = printed(columns)
        assert "…" not in narrow
        assert max(map(cell_len, narrow.splitlines())) <= columns
        whole = re.sub(r"\s+", "", narrow)  # a long address may go on in the next line
        assert [one for one in words if one not in whole] == [], columns


def test_twenty_runs_fit_on_a_screen(kestrel: Kestrel, monkeypatch: pytest.MonkeyPatch) -> None:
    made = [at(20, 9000 + 100 * n, n % 27 + 1) for n in range(25)]
    kept(*(r.model_copy(update={"id": f"202611{n:02d}-200000-abcd"}) for n, r in enumerate(made)))
    monkeypatch.setenv("COLUMNS", "80")
    assert len(str(kestrel("runs", "list").out).splitlines()) <= 42
