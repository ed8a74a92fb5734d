"""Guides written, imported, compared and linted; laws over guides nobody wrote."""

from __future__ import annotations

import csv
import io
import json
import shlex
import sys
import tomllib
from datetime import date
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.actions.importing import read_guideline
from eager_kestrel.core.checks.findings import as_explained, check
from eager_kestrel.core.codecs import CODECS, Codec, least_level
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.questions import BY_KEY
from eager_kestrel.core.guide.rules import CUSTOMARY_RATES, BitrateRow
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.resolution import AspectRatio, Resolution
from eager_kestrel.core.settings.keyframes import keyframe_frames
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import guide_toml, load_guide
from eager_kestrel.files.pages import read_page
from eager_kestrel.files.toml import read_model
from tests.conftest import Kestrel, Person
from tests.test_guides import OXBOW

TABLES = Path(__file__).parent / "tables"
PLATFORMS = ("oxbow", "fernlight", "pocketfair", "gatepost")
TABLE = quality_table()

pieces = st.sampled_from([None, "2 s", "3 s", "6 s"])
kbits = st.integers(100, 60_000).map(lambda k: f"{k} kbit/s")


@st.composite
def guides(draw: st.DrawFn) -> Guide:
    """Any guide that passes the check, from the mean to the generous."""
    across, down = draw(st.sampled_from([(16, 9), (9, 16), (4, 3), (1, 1), (21, 9), (5, 4)]))
    scale = draw(st.integers(2, 20)) * 8
    largest = Resolution(across * scale, down * scale)
    resolutions = draw(st.booleans())
    codecs = draw(st.lists(st.sampled_from(["h264", "hevc", "av1"]), min_size=1, unique=True))
    rates = draw(st.lists(st.sampled_from(CUSTOMARY_RATES), min_size=1, max_size=4, unique=True))
    ceiling = draw(st.integers(200, 60_000))
    floors = st.one_of(st.none(), st.integers(100, ceiling).map(lambda k: f"{k} kbit/s"))
    hls = draw(st.booleans())
    seconds = draw(st.sampled_from(["1 s", "2 s", "1.5 s"]))
    keyframes = draw(
        st.sampled_from(
            [
                seconds,
                {"max": "4 s"},
                {"min": "1 s"},
                {"max": "4 s", "recommended": seconds},
            ]
        )
    )
    video: dict[str, Any] = {
        "codecs": codecs,
        "shapes": draw(st.sampled_from([[], [f"{across}:{down}"]])),
        "max_resolution": str(largest),
        "max_bitrate": f"{ceiling} kbit/s",
        "min_bitrate": draw(floors),
        "keyframes": keyframes,
        "rate_control": draw(
            st.sampled_from([["constant"], ["variable"], ["variable", "constant"]])
        ),
        "max_b_frames": draw(st.integers(0, 4)),
    }
    if draw(st.booleans()):
        video["max_frame_rate"] = str(max(rates))
    else:
        video["frame_rates"] = [str(rate) for rate in rates]
    if draw(st.booleans()) and "h264" in codecs:
        video["max_level"] = {"h264": draw(st.sampled_from(["3.1", "4", "4.2", "5.2"]))}
        video["profiles"] = {"h264": draw(st.sampled_from([["baseline"], ["main", "high"]]))}
    least = draw(st.integers(16, 128))
    bitrates = []
    for part in draw(st.lists(st.sampled_from([1, 2, 4]), max_size=3, unique=True)):
        low = draw(st.integers(100, ceiling))
        size = Resolution(
            max(16, largest.width // part // 2 * 2), max(16, largest.height // part // 2 * 2)
        )
        if not AspectRatio(across, down).fits(size):
            continue
        bitrates.append(
            {
                "resolution": str(size),
                "frame_rate": str(draw(st.sampled_from([min(rates), max(rates)]))),
                "min": f"{low} kbit/s",
                "max": f"{draw(st.integers(low, ceiling))} kbit/s",
                "recommended": f"{low} kbit/s" if draw(st.booleans()) else None,
            }
        )
    if resolutions:
        sizes = {str(largest), *(row["resolution"] for row in bitrates)}
        video["resolutions"] = sorted(sizes)
    taken = video["profiles"]["h264"] if "profiles" in video else ["high", "main", "baseline"]
    wish = {
        "codec": draw(st.sampled_from([None, *codecs])),
        "frame_rate": draw(st.sampled_from([None, str(min(rates)), str(max(rates))])),
        "rate_control": draw(st.sampled_from([None, *video["rate_control"]])),
        "b_frames": draw(st.sampled_from([None, 0, video["max_b_frames"]])),
        "profile": draw(st.sampled_from([None, *taken])) if "h264" in codecs else None,
    }
    video["recommended"] = {key: value for key, value in wish.items() if value is not None}
    channels = draw(st.sampled_from([[1], [2], [1, 2], [2, 1]]))
    liked = {"channels": channels[-1], "sample_rate": 44100} if draw(st.booleans()) else {}
    document = {
        "name": "made-up",
        "title": "Made-up",
        "source": "a test",
        "checked": date(2026, 11, 1),
        "transports": ["hls"]
        if hls
        else draw(st.sampled_from([["rtmp"], ["rtmps", "rtmp"], ["srt"]])),
        "segments": {"max": "6 s", "recommended": draw(pieces)} if hls else None,
        "delivery": {
            "transcodes": draw(st.sampled_from(["always", "when there is capacity", "never"])),
            "slowest_viewer": draw(st.one_of(st.none(), kbits)),
        },
        "video": video,
        "audio": {
            "codecs": ["aac"],
            "min_bitrate": f"{least} kbit/s",
            "max_bitrate": f"{draw(st.integers(least, 320))} kbit/s",
            "sample_rates": [48000, 44100],
            "channels": channels,
            "recommended": liked,
        },
        "bitrates": bitrates,
        "tiers": {"trusted": {"video": {"max_bitrate": f"{ceiling + 1000} kbit/s"}}},
    }
    return Guide.model_validate(document)


sources = st.sampled_from(["1920x1080", "1280x720", "1080x1920", "640x480", "3840x2160"])
motions = st.sampled_from(["still", "calm", "lively", "hectic"])
rates = st.sampled_from(["60", "59.94", "50", "30", "29.97", "24"])


@given(
    guides(), st.floats(100, 80_000), sources, rates, motions, st.sampled_from([None, "trusted"])
)
def test_any_guide_is_planned_for_or_names_the_rule(
    guide: Guide, kbps: float, source: str, fps: str, motion: str, tier: str | None
) -> None:
    show = Show(
        source=source,
        source_fps=fps,
        motion=motion,
        destinations=(Destination(platform=guide.name, tier=tier),),
    )
    uplink = assumed_uplink(Bitrate.from_kbps(kbps))
    made = plan(uplink, show, {guide.name: guide}, TABLE)
    (there,) = made.destinations
    if not there.feasible:
        assert guide.title in there.infeasible_because
        return
    assert there.total_kbps <= made.budget.safe_kbps + 0.001
    found = check(there.settings, [guide.under(tier)], made.budget.safe_kbps)
    assert [f for f in found.findings if f.severity == "breach"] == []
    assert [f for f in as_explained(found.findings, made) if f.severity == "caution"] == []


@given(guides())
def test_a_guide_written_and_read_again_is_the_same(guide: Guide) -> None:
    text = guide_toml(guide)
    assert read_model(text.encode(), Guide, "guide", "made-up.toml") == guide
    assert Guide.model_validate_json(guide.model_dump_json()) == guide


@pytest.mark.parametrize("name", PLATFORMS)
def test_the_bundled_guides_survive_writing(name: str) -> None:
    guide = load_guide(name)
    assert read_model(guide_toml(guide).encode(), Guide, "guide", name) == guide


def test_the_four_platforms_are_as_the_scenario_has_them() -> None:
    fernlight, pocketfair, gatepost = (load_guide(name) for name in PLATFORMS[1:])
    full, uhd = Resolution(1920, 1080), Resolution(3840, 2160)
    sixty = Fraction(60)

    def ceiling(resolution: Resolution) -> float:
        said = fernlight.limits(resolution, sixty, "h264", "rtmps").max
        assert said is not None
        return said.kbps

    assert [ceiling(p) for p in (full, Resolution(2560, 1440), uhd)] == [9_000, 24_000, 51_000]
    assert ceiling(Resolution(1664, 936)) == 6_000
    between = fernlight.limits(Resolution(1664, 936), sixty, "h264", "rtmps")
    assert between.min == Bitrate.parse("4.5 Mbit/s")
    assert between.recommended is None
    slow = fernlight.limits(full, Fraction(30), "h264", "rtmps")
    assert slow.max == Bitrate.parse("6 Mbit/s")
    assert fernlight.delivery.better_from_lines == 1440
    assert [str(p) for p in pocketfair.video.resolutions] == ["720x1280", "540x960"]
    assert pocketfair.audio.channels == (2, 1)
    assert gatepost.video.profiles_of("h264") == ("baseline",)
    assert (gatepost.video.max_b_frames, gatepost.video.max_bitrate.kbps) == (0, 900)
    assert gatepost.delivery.slowest_viewer == Bitrate.parse("1.5 Mbit/s")


def test_rows_of_a_codec_outweigh_general_ones() -> None:
    base = load_guide("fernlight")
    row = base.bitrates[2]
    special = BitrateRow(
        resolution=row.resolution,
        frame_rate=row.frame_rate,
        codec="av1",
        max=Bitrate.parse("5 Mbit/s"),
    )
    guide = base.model_copy(update={"bitrates": (*base.bitrates, special)})
    for codec, kbps in (("av1", 5_000), ("h264", 9_000)):
        said = guide.limits(row.resolution, row.frame_rate, codec, "rtmps").max
        assert said == Bitrate.from_kbps(kbps)


@given(
    st.sampled_from(["h264", "hevc", "av1"]),
    st.integers(2, 30),
    st.sampled_from([24, 30, 60]),
    st.floats(100, 50_000),
)
def test_the_least_level_holds_and_the_one_below_does_not(
    codec: Codec, step: int, fps: int, kbps: float
) -> None:
    resolution = Resolution(128 * step, 72 * step)
    profile = "high" if codec == "h264" else "main"
    level = least_level(codec, resolution, Fraction(fps), profile, kbps)
    assert level.takes(resolution, Fraction(fps))
    below = CODECS[codec].levels[: CODECS[codec].levels.index(level)]
    assert not any(
        b.takes(resolution, Fraction(fps)) and kbps <= b.bitrate_kbps(profile) for b in below
    )


def test_keyframes_never_pass_what_is_allowed_at_most() -> None:
    guide = load_guide("gatepost")
    rule = guide.video.keyframes.model_copy(update={"max": 2.0})
    guide = guide.with_rules({"video": guide.video.model_copy(update={"keyframes": rule})})
    assert keyframe_frames(guide, Fraction(30000, 1001)) == 59  # 60 frames would be 2.002 s


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        (
            "max_b_frames = 2",
            'min_bitrate = "9000 kbit/s"',
            "min_bitrate (9 Mbit/s) is above max_bitrate",
        ),
        ('shapes = ["16:9"]', 'resolutions = ["2560x1440"]', "larger than max_resolution"),
        (
            'max_frame_rate = "60"',
            'max_frame_rate = "60"\nframe_rates = ["30"]',
            "either max_frame_rate",
        ),
        (
            'video.max_bitrate = "8000 kbit/s"\ndelivery.transcodes = "always"',
            'video.max_bitrate = "5000 kbit/s"',
            "tiers.hearth: it loosens nothing",
        ),
        ('["rtmps", "rtmp"] ', '["hls"] ', "[segments] must say how long"),
        ('["high", "main"] ', '["hihg"] ', 'write "high"'),
        (
            "[tiers.hearth]",
            '[[bitrates]]\nresolution = "1280x720"\nframe_rate = "60"\n'
            'recommended = "9 Mbit/s"\n[tiers.hearth]',
            "bitrates.0: recommended (9 Mbit/s) is above",
        ),
        (
            "[tiers.hearth]",
            '[[bitrates]]\nresolution = "1280x720"\nframe_rate = "60"\n'
            'recommended = "5 Mbit/s"\nmax = "4 Mbit/s"\n[tiers.hearth]',
            "recommended (5 Mbit/s) is above max (4 Mbit/s)",
        ),
        (
            "[tiers.hearth]",
            '[[bitrates]]\nresolution = "2560x1440"\nframe_rate = "60"\n'
            'recommended = "5 Mbit/s"\n[tiers.hearth]',
            "bitrates.0: 2560x1440 is larger",
        ),
        (
            "[tiers.hearth]",
            '[[bitrates]]\nresolution = "640x480"\nframe_rate = "60"\n'
            'recommended = "5 Mbit/s"\n[tiers.hearth]',
            "bitrates.0: 640x480 is not 16:9",
        ),
        ("max_b_frames = 2", "max_b_frames = 0\nrecommended = { b_frames = 2 }", "2 B-frames are"),
        (
            'max_frame_rate = "60"',
            'max_frame_rate = "30"\nrecommended = { frame_rate = "60" }',
            "rate 60",
        ),
        (
            "max_b_frames = 2",
            'recommended = { rate_control = "variable" }',
            "rate control variable",
        ),
        ("max_b_frames = 2", 'recommended = { profile = "baseline" }', "profile baseline"),
        (
            "channels =",
            "recommended = { channels = 1 }\nchannels =",
            "channels are recommended",
        ),
        (
            "channels =",
            "recommended = { sample_rate = 32000 }\nchannels =",
            "sample rate 32000",
        ),
    ],
)
def test_contradictions_are_named_with_file_and_line(
    kestrel: Kestrel, tmp_path: Path, old: str, new: str, says: str
) -> None:
    from tests.test_guides import OXBOW

    assert old in OXBOW
    path = tmp_path / "oxbow.toml"
    path.write_text(OXBOW.replace(old, new, 1))
    result = kestrel("guides", "check", path)
    assert result.code == 1
    assert says in result.err
    assert f"{path}:" in result.err


def test_lint_takes_many_files_and_folders(kestrel: Kestrel, tmp_path: Path) -> None:
    from tests.test_guides import OXBOW

    (tmp_path / "oxbow.toml").write_text(OXBOW)
    (tmp_path / "other.toml").write_text(OXBOW.replace("2026-11-02", "2026-01-02"))
    (tmp_path / "bad.toml").write_text("x")
    result = kestrel("guides", "check", tmp_path)
    assert result.code == 1
    assert "1 good, 2 with errors" in result.out
    assert 'other.toml: its name is "oxbow"' in result.err
    inner = tmp_path / "inner"
    inner.mkdir()
    faulty = OXBOW.replace("2026-11-02", "2026-01-02").replace("title", "titel", 1)
    (inner / "oxbow.toml").write_text(faulty)
    told = kestrel("guides", "check", inner, "--json").document["files"][0]["errors"]
    assert len(told) == 2
    assert any('no key "titel"' in line for line in told)
    (inner / "oxbow.toml").write_text(OXBOW.replace("2026-11-02", "2026-01-02"))
    deeper = kestrel("guides", "check", tmp_path / "inner")
    assert "days ago" in deeper.out
    assert "1 good, 3" not in deeper.out
    (tmp_path / "empty").mkdir()
    assert "no guide was found in" in kestrel("guides", "check", tmp_path / "empty").error_line
    assert kestrel("guides", "check", tmp_path / "oxbow.toml").code == 0
    gone = kestrel("guides", "check", tmp_path / "none.toml")
    assert gone.code == 2
    assert "is not there" in gone.error_line


def test_list_show_where_schema(kestrel: Kestrel, home: Path) -> None:
    from tests.test_guides import OXBOW, own_guide

    path = own_guide(home, OXBOW)
    rows = {row["name"]: row for row in kestrel("guides", "list", "--json").document["guides"]}
    assert set(rows) == set(PLATFORMS)
    assert rows["oxbow"]["where"] == str(path)
    assert rows["gatepost"]["where"] == "bundled"
    assert "fernlight" in kestrel("guides", "list").out
    assert kestrel("guides", "where", "oxbow").out.strip() == str(path)
    assert tomllib.loads(kestrel("guides", "show", "gatepost").out)["name"] == "gatepost"
    assert kestrel("guides", "show", "gatepost", "--json").document["video"]["max_b_frames"] == 0
    schema = kestrel("guides", "schema").document
    assert schema["$schema"].endswith("2020-12/schema")
    video = schema["$defs"]["VideoRules"]["properties"]
    assert video["max_bitrate"]["description"].startswith("Of video")
    assert video["max_resolution"]["type"] == "string"
    path.write_text("x")
    broken = kestrel("guides", "list")
    assert broken.code == 1
    assert "gatepost" in broken.out


def test_the_template_passes_its_own_check_and_names_its_schema(
    kestrel: Kestrel, tmp_path: Path, home: Path
) -> None:
    result = kestrel("guides", "new", "hill-farm", "--from-template", "--out", tmp_path / "g")
    assert result.code == 0, result.err
    written = tmp_path / "g" / "hill-farm.toml"
    assert written.read_text().startswith("#:schema ./guide.schema.json\n")
    assert json.loads((tmp_path / "g" / "guide.schema.json").read_text())["properties"]
    assert kestrel("guides", "check", written).code == 0
    plan = kestrel("plan", "--for", "hill-farm", "--guides", tmp_path / "g", "--upload", "9 Mbit/s")
    assert plan.code == 0
    assert (
        kestrel("guides", "new", "hill-farm", "--from-template", "--out", tmp_path / "g").code == 2
    )
    assert kestrel("guides", "new", "../evil", "--from-template").code == 2
    assert kestrel("guides", "new", "asks").code == 2  # nobody to ask
    assert kestrel("guides", "new", "own", "--from-template").code == 0
    assert (home / "guides" / "own.toml").exists()
    assert "hill-farm" in kestrel("plan", "--for", "hill-farm", "--upload", "9 Mbit/s").error_line
    missing = kestrel("plan", "--for", "oxbow", "--guides", tmp_path / "no", "--upload", "9 Mbit/s")
    assert missing.code == 2
    assert "no folder" in missing.error_line


def test_questions_may_be_skipped_and_wrong_answers_are_asked_again(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    answers = {
        "video.max_resolution": "720x1280",
        "video.max_bitrate": "4 Mbit/s",
        "video.rate_control": "constant, variable",
    }
    typed = ["Hill Farm TV", "its page"]
    for key in BY_KEY:
        typed += ["4000"] if key == "video.max_bitrate" else []  # has no unit: asked again
        typed.append(answers.get(key, ""))
    typed.append("")
    monkeypatch.setattr(sys, "stdin", Person("\n".join(typed) + "\n"))
    result = kestrel("guides", "new", "hill", "--out", tmp_path / "hill.toml")
    assert result.code == 0, result.err
    assert "is not one bitrate" in result.err
    document = tomllib.loads((tmp_path / "hill.toml").read_text())
    assert document["title"] == "Hill Farm TV"
    assert document["video"]["max_resolution"] == "720x1280"
    assert document["video"]["shapes"] == ["9:16"]
    assert document["video"]["max_bitrate"] == "4000 kbit/s"
    assert document["video"]["rate_control"] == ["constant", "variable"]
    assert "video.keyframes" in document["unverified"]
    assert "video.max_bitrate" not in document["unverified"]


SHAPES = {
    "plain.csv": (
        ("table.1=resolution | frame rate | maximum kbit/s",),
        4,
        ("1920x1080", "60", 4500, None, 9000),
    ),
    "short.md": ((), 4, ("1920x1080", "60", None, 6000, 8000)),
    "pasted.tsv": (
        ("table.1=resolution | frame rate | maximum kbit/s",),
        2,
        ("1280x720", "25", None, None, 2500),
    ),
    "nofps.csv": (
        ("table.1=resolution | recommended Mbit/s", "video.frame_rates=up to 30"),
        2,
        ("1920x1080", "30", None, 6000, None),
    ),
    "turned.html": ((), 3, None),
    "spans.html": ((), 3, None),
    "codec-columns.md": ((), 3, None),
}


@pytest.mark.parametrize("name", sorted(SHAPES))
def test_tables_become_guides(kestrel: Kestrel, tmp_path: Path, name: str) -> None:
    sets, rows, wanted = SHAPES[name]
    out = tmp_path / "imported.toml"
    options = [part for one in sets for part in ("--set", one)]
    result = kestrel(
        "guides",
        "import",
        TABLES / name,
        *shlex.split("--name imported --accept all"),
        *options,
        "--out",
        out,
    )
    assert result.code == 1, result.err
    document = tomllib.loads(out.read_text())
    assert len(document["bitrates"]) == rows
    if wanted is not None:
        resolution, fps, *rates = wanted
        first = document["bitrates"][0]
        assert (first["resolution"], first["frame_rate"]) == (resolution, fps)
        for key, rate in zip(("min", "recommended", "max"), rates, strict=True):
            assert first.get(key) == (None if rate is None else f"{rate} kbit/s")
    assert document["source"] == name
    assert document["checked"]
    assert kestrel("guides", "check", out).code == 0
    assert kestrel("plan", "--for", out, "--upload", "20 Mbit/s").code == 0


def test_upright_pages_are_read_in_their_shape(kestrel: Kestrel, tmp_path: Path) -> None:
    out = tmp_path / "g.toml"
    kestrel(
        "guides",
        "import",
        TABLES / "upright.csv",
        *shlex.split("--name g --shape 9:16 --accept all --out"),
        out,
    )
    first = tomllib.loads(out.read_text())["bitrates"][0]
    assert (first["resolution"], first["min"], first["max"]) == (
        "720x1280",
        "1000 kbit/s",
        "4000 kbit/s",
    )
    wrong = kestrel("guides", "import", TABLES / "upright.csv", "--name", "h", "--shape", "wide")
    assert wrong.code == 2
    assert "16:9" in wrong.err


def test_a_broken_guide_in_the_folder_stops_no_other_command(kestrel: Kestrel, home: Path) -> None:
    (home / "guides").mkdir(parents=True)
    (home / "guides" / "bent.toml").write_text("format = [")
    listed = kestrel("guides", "list")
    assert listed.code in (0, 1)
    assert "oxbow" in listed.out
    assert "bent.toml" in listed.err
    assert kestrel("plan", "--for", "oxbow", "--upload", "8 Mbit/s").code == 0
    assert kestrel("plan", "--for", "Oxbow", "--upload", "8 Mbit/s").code == 0  # whatever the case
    assert kestrel("plan", "--for", "bent", "--upload", "8 Mbit/s").code == 2


def test_start_offers_to_make_a_guide_that_is_missing(
    kestrel: Kestrel, tmp_path: Path, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The answers given so far are kept."""
    page = tmp_path / "page.txt"
    page.write_text("Maximum video bitrate: 5000 kbps. Keyframe interval: 2 seconds\n")
    typed = [
        "Wheel night",
        "hectic",
        "",
        "",
        "",
        "",  # another one
        "",  # no name: asked again
        "Thimble Cast",
        str(tmp_path / "nowhere.html"),  # refused at its question
        str(page),
        "",
        "-",
        "-",
        "-",
        "",
        "8 Mbit/s",
    ]
    monkeypatch.setattr(sys, "stdin", Person("\n".join(typed) + "\n"))
    monkeypatch.chdir(tmp_path)
    result = kestrel("start")
    assert result.code == 0, result.err
    assert (
        tomllib.loads((home / "guides" / "thimble-cast.toml").read_text())["video"]["max_bitrate"]
        == "5000 kbit/s"
    )
    show = tomllib.loads((tmp_path / "show.toml").read_text())
    assert show["motion"] == "hectic"
    assert show["destinations"][0]["platform"] == "thimble-cast"
    assert "Thimble Cast" in result.out
    assert 'such as "Hill Farm"' in result.err
    assert "nowhere.html" in result.err
    again = ["Clay fair", "calm", "", "", "", "", "-", "-", "-", "", ""]
    monkeypatch.setattr(sys, "stdin", Person("\n".join(again) + "\n"))
    assert kestrel("start", "--out", "fair.toml").code == 0
    show = tomllib.loads((tmp_path / "fair.toml").read_text())
    assert show["destinations"][0]["platform"] == "thimble-cast"  # the user's own is the default


@given(st.lists(st.lists(st.text(max_size=12), min_size=1, max_size=5), min_size=1, max_size=8))
def test_any_cells_give_proposals_that_can_be_read(
    tmp_path_factory: pytest.TempPathFactory, cells: list[list[str]]
) -> None:
    out = io.StringIO()
    csv.writer(out).writerows([["Resolution", "fps", "Bitrate"], *cells])
    path = tmp_path_factory.getbasetemp() / "cells.csv"
    path.write_text(out.getvalue(), encoding="utf-8", errors="replace")
    try:
        found = read_guideline(path)
    except KestrelError:
        return
    for key, answer in found.accepted().items():
        found.check(key, answer)


@given(st.binary(max_size=500))
def test_no_bytes_break_the_tables(tmp_path_factory: pytest.TempPathFactory, raw: bytes) -> None:
    path = tmp_path_factory.getbasetemp() / "bytes"
    path.write_bytes(raw)
    try:
        read_page(path)
    except KestrelError as error:
        assert "\n" not in error.line()


@pytest.mark.parametrize(
    "text",
    [
        "<table>" * 5000,
        "<div>" * 20_000 + "<table><tr><td>1",
        "| a |\n|---|\n" * 3000,
        "a,b\n" + '"' * 50_000,
        "," * 200_000 + "\n" + "," * 1000,
    ],
)
def test_hostile_tables_are_refused_calmly(kestrel: Kestrel, tmp_path: Path, text: str) -> None:
    path = tmp_path / "t"
    path.write_text(text)
    result = kestrel("guides", "import", path, "--name", "g", "--out", tmp_path / "g.toml")
    assert result.code == 2
    assert "Traceback" not in result.err
    assert "defect" not in result.err
    assert not (tmp_path / "g.toml").exists()


def test_diff_says_what_changes_for_the_plan(kestrel: Kestrel, tmp_path: Path) -> None:
    from tests.test_guides import OXBOW

    (tmp_path / "oxbow.toml").write_text(OXBOW.replace('"6000 kbit/s"', '"4500 kbit/s"'))
    (tmp_path / "quiet.toml").write_text(OXBOW.replace("help.oxbow", "www.oxbow"))
    changed = kestrel(
        "guides", "diff", "oxbow", tmp_path / "oxbow.toml", "--upload", "12 Mbit/s", "--json"
    ).document
    assert changed["shows"] == []
    for name, platform in (("mine", "oxbow"), ("other", "gatepost")):
        asked = ("--yes", "--for", platform, "--out", f"{name}.toml", "--upload", "9 Mbit/s")
        assert kestrel("start", *asked).code == 0
    told = kestrel("guides", "diff", "oxbow", tmp_path / "oxbow.toml", "--upload", "12 Mbit/s")
    assert "shows of this folder that go there: mine.toml; plan each again" in told.out
    assert changed["changes"] == [
        {"key": "video.max_bitrate", "before": "6000 kbit/s", "after": "4500 kbit/s"}
    ]
    assert {c["key"] for c in changed["plan"]} >= {"video.bitrate_kbps", "video.buffer_kbit"}
    quiet = kestrel("guides", "diff", "oxbow", tmp_path / "quiet.toml", "--upload", "12 Mbit/s")
    assert "Your plan stays the same." in quiet.out
    assert "give --upload" in kestrel("guides", "diff", "oxbow", tmp_path / "quiet.toml").out
    assert "Nothing changed" in kestrel("guides", "diff", "oxbow", "oxbow").out


@given(st.sets(st.sampled_from(["title", "checked", "transports", "format"]), max_size=3))
def test_every_missing_key_is_told_once(
    tmp_path_factory: pytest.TempPathFactory, gone: set[str]
) -> None:
    from eager_kestrel.files.guides import guide_faults

    path = tmp_path_factory.mktemp("guides") / "oxbow.toml"
    kept = [line for line in OXBOW.splitlines() if line.split("=")[0].strip() not in gone]
    path.write_text("\n".join(kept))
    faults = [fault.line() for fault in guide_faults(path)]
    assert len(faults) == len(set(faults))
    if "format" in gone:  # nothing else can be said of a file that does not say what it is
        assert len(faults) == 1
        return
    present = {
        key for key in gone if any(key == line.split("=")[0].strip() for line in OXBOW.splitlines())
    }
    required = {"title", "checked"} & present
    for key in required:
        assert sum(f'"{key}" is missing' in fault for fault in faults) == 1
    assert bool(faults) or not required
