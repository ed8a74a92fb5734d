"""``check``: everything a streamer can get wrong is found, and a plan's settings always pass."""

from __future__ import annotations

import json
import shlex
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.checks.findings import check, check_each
from eager_kestrel.core.connection.run import Run
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.errors import UnitError
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.settings.values import Settings, parse_interval
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from tests.conftest import Kestrel
from tests.test_guide_files import TABLE, guides
from tests.test_reasons import BUNDLED
from tests.test_runs import at, kept

GOOD = """
format = "eager-kestrel/settings/3"
transport = "rtmps"
[video]
codec = "h264"
resolution = "1920x1080"
frame_rate = "60"
bitrate = "6000 kbit/s"
rate_control = "constant"
buffer_kbit = 6000
keyframes = "2 s"
profile = "high"
level = 4.2
b_frames = 2
pixel_format = "yuv420p"
[audio]
codec = "aac"
bitrate = "160 kbit/s"
sample_rate_hz = 48000
channels = 2
"""


def findings(kestrel: Kestrel, *arguments: str | Path) -> dict[str, str]:
    """Rule to severity, for everything that is not fine."""
    result = kestrel("check", *arguments, "--json")
    assert result.code in (0, 1), result.err
    found = result.document["findings"]
    assert result.code == (1 if any(f["severity"] == "breach" for f in found) else 0)
    assert all(f["what_to_do"] for f in found if f["severity"] != "fine")
    return {f["rule"]: f["severity"] for f in found if f["severity"] != "fine"}


def test_good_settings_are_fine(kestrel: Kestrel, tmp_path: Path) -> None:
    path = tmp_path / "s.toml"
    path.write_text(GOOD)
    assert findings(kestrel, path, "--for", "oxbow", "--upload", "10 Mbit/s") == {}
    assert "0 breaches" in kestrel("check", path, "--for", "oxbow").out
    assert "✓" in kestrel("check", path, "--for", "oxbow", "--all").out


@pytest.mark.parametrize(
    ("old", "new", "rule", "severity"),
    [
        ('"2 s"', '"auto"', "video.keyframes", "breach"),
        ('"2 s"', '"250 frames"', "video.keyframes", "breach"),
        ('"2 s"', '"120 frames"', "", ""),
        ('"constant"', '"variable"', "video.rate_control", "breach"),
        ('"6000 kbit/s"', '"6100 kbit/s"', "video.max_bitrate", "breach"),
        ('"1920x1080"', '"1919x1079"', "sides divisible by 8", "breach"),
        ('"1920x1080"', '"1922x1082"', "video.max_resolution", "breach"),
        ('"1920x1080"', '"1278x718"', "sides divisible by 8", "caution"),
        ('"1920x1080"', '"1440x1080"', "video.shapes", "breach"),
        ("buffer_kbit = 6000", "buffer_kbit = 30000", "buffer", "caution"),
        ("buffer_kbit = 6000", "buffer_kbit = 90000", "buffer", "breach"),
        ("buffer_kbit = 6000", "buffer_kbit = 600", "buffer", "caution"),
        ("level = 4.2", "level = 4", "level", "breach"),
        ("level = 4.2", 'level = "9.9"', "level", "breach"),
        ('frame_rate = "60"', 'frame_rate = "75"', "video.frame_rates", "breach"),
        ('"high"', '"baseline"', "video.profiles.h264", "breach"),
        ("b_frames = 2", "b_frames = 3", "video.max_b_frames", "breach"),
        ('codec = "h264"', 'codec = "hevc"', "video.codecs", "breach"),
        ('"160 kbit/s"', '"64 kbit/s"', "audio.min_bitrate", "breach"),
        ("channels = 2", "channels = 1", "audio.channels", "breach"),
        ("48000", "32000", "audio.sample_rates", "breach"),
        ('"yuv420p"', '"yuv444p"', "video.pixel_formats", "breach"),
        ('"rtmps"', '"hls"', "transports", "breach"),
        (
            "[video]",
            'source_fps = "50"\n[video]',
            "frame rate fits the source",
            "caution",
        ),
    ],
)
def test_every_slip_is_found(
    kestrel: Kestrel, tmp_path: Path, old: str, new: str, rule: str, severity: str
) -> None:
    assert old in GOOD
    path = tmp_path / "s.toml"
    path.write_text(GOOD.replace(old, new, 1))
    found = findings(kestrel, path, "--for", "oxbow")
    assert found.get(rule, "") == severity
    if not rule:
        assert found == {}


def test_the_line_and_the_viewers_count_too(kestrel: Kestrel, tmp_path: Path) -> None:
    path = tmp_path / "s.toml"
    path.write_text(GOOD)
    assert (
        findings(kestrel, path, "--for", "oxbow", "--upload", "8 Mbit/s")["safe rate"] == "breach"
    )
    tight = ("--upload", "10 Mbit/s", "--reserve", "call=1.5 Mbit/s")
    assert findings(kestrel, path, "--for", "oxbow", *tight)["safe rate"] == "breach"
    assert (
        findings(kestrel, path, "--for", "oxbow", "--upload", "10 Mbit/s", "--share", "90 %") == {}
    )
    two = findings(kestrel, path, "--for", "oxbow", "--for", "fernlight", "--upload", "14 Mbit/s")
    assert two == {"safe rate": "breach"}  # two destinations, one line
    assert findings(kestrel, path, "--for", "gatepost")["delivery.slowest_viewer"] == "breach"


def test_the_show_of_the_folder_is_checked_against(
    kestrel: Kestrel, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As it is planned and measured for; ``--show`` with the same file asks the same."""
    monkeypatch.chdir(tmp_path)
    much = ("--bitrate", "9 Mbit/s", "--upload", "8 Mbit/s")
    assert "there is no show.toml here" in kestrel("check", *much).error_line
    assert kestrel("start", "--yes", "--for", "oxbow", "--upload", "8 Mbit/s").code == 0
    here = findings(kestrel, *much)
    assert here == findings(kestrel, *much, "--show", "show.toml")
    assert here["video.max_bitrate"] == here["safe rate"] == "breach"
    assert findings(kestrel, *much, "--for", "fernlight") != here


def test_flags_alone_and_over_a_file(kestrel: Kestrel, tmp_path: Path) -> None:
    flags = (
        "--bitrate",
        "6 Mbit/s",
        *shlex.split("--resolution 1920x1080 --fps 60 --keyframes 250frames --buffer"),
        "6000 kbit",
        "--audio-bitrate",
        "128 kbit/s",
    )
    assert findings(kestrel, *flags, "--for", "oxbow") == {"video.keyframes": "breach"}
    path = tmp_path / "s.toml"
    path.write_text(GOOD)
    over = findings(kestrel, path, "--bitrate", "9 Mbit/s", "--for", "oxbow")
    assert over["video.max_bitrate"] == "breach"
    assert findings(kestrel, path, "--bitrate", "8 Mbit/s", "--for", "oxbow:hearth") == {}


def test_advice_is_a_caution_and_pieces_have_rules(kestrel: Kestrel) -> None:
    base = ("--resolution", "2560x1440", "--fps", "60", "--transport", "hls", "--for", "fernlight")
    assert findings(kestrel, *base, "--bitrate", "15 Mbit/s", "--keyframes", "2 s") == {}
    assert findings(kestrel, *base, "--bitrate", "24 Mbit/s") == {"bitrates.recommended": "caution"}
    assert findings(kestrel, *base, "--bitrate", "8 Mbit/s")["video.min_bitrate"] == "breach"
    three = findings(kestrel, *base, "--keyframes", "3 s", "--bitrate", "15 Mbit/s")
    assert three == {"video.keyframes.recommended": "caution", "segments.recommended": "caution"}
    five = findings(kestrel, *base, "--keyframes", "5 s", "--bitrate", "15 Mbit/s")
    assert five["video.keyframes"] == five["segments.max"] == "breach"
    loose = findings(kestrel, *base, "--bitrate", "15 Mbit/s", "--rate-control", "variable")
    assert loose == {"video.recommended.rate_control": "caution"}


def test_2997_settings_meet_a_two_second_rule(kestrel: Kestrel) -> None:
    good = (
        "--fps",
        "29.97",
        "--keyframes",
        "60 frames",
        *shlex.split("--for oxbow --resolution 1280x720"),
    )
    assert findings(kestrel, *good) == {}
    assert findings(
        kestrel, "--keyframes", "60 frames", "--resolution", "1280x720", "--for", "oxbow"
    ) == {"video.keyframes": "caution"}  # frames say nothing without a frame rate


@pytest.mark.parametrize(
    "platform", ["oxbow", "oxbow:hearth", "fernlight", "pocketfair", "gatepost"]
)
@pytest.mark.parametrize("upload", ["2 Mbit/s", "9 Mbit/s", "60 Mbit/s"])
def test_a_plan_passes_its_own_check(
    kestrel: Kestrel, tmp_path: Path, platform: str, upload: str
) -> None:
    for fps in ("60", "29.97", "25"):
        out = tmp_path / f"{fps}.json"
        code = kestrel(
            "plan", "--for", platform, "--upload", upload, "--source-fps", fps, "--out", out
        ).code
        if code == 4:
            assert platform in ("pocketfair", "gatepost")
            continue
        assert code == 0
        found = findings(kestrel, out, "--for", platform, "--upload", upload)
        assert found == {}


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (GOOD.replace('"6000 kbit/s"', "6000"), "video.bitrate: 6000 has no unit"),
        (GOOD.replace("b_frames", "bframes"), 'no key "video.bframes" is known; write "b_frames"'),
        (GOOD.replace('"2 s"', '"2"'), "write 2 s or 2 frames"),
        (GOOD.replace("settings/3", "guide/3"), "this is a guide, not a settings"),
        ('{"format": "eager-kestrel/settings/3", "video": {"bitrate": "x"}}', "video.bitrate"),
        ("{", "not JSON"),
        ('format = "eager-kestrel/settings/3"', "nothing is set"),
    ],
)
def test_broken_settings_get_one_line(
    kestrel: Kestrel, tmp_path: Path, text: str, says: str
) -> None:
    path = tmp_path / "s.toml"
    path.write_text(text)
    result = kestrel("check", path, "--for", "oxbow")
    assert result.code == 2
    assert says in result.error_line


def test_bad_words_get_one_line(kestrel: Kestrel, tmp_path: Path) -> None:
    for arguments, says in (
        (("--bitrate", "6 Mbit/s"), "--for PLATFORM"),
        (("--for", "oxbow"), "nothing is set"),
        (("--for", "oxbow", "--bitrate", "6"), "write 6 Mbit/s"),
        (("--for", "oxbow", "--bitrate", "6 Mbit/s", "--buffer", "6000"), 'write "6,000 kbit"'),
        (("--for", "oxbw", "--bitrate", "6 Mbit/s"), 'write "oxbow"'),
        (("--for", "oxbow", "--bitrate", "6 Mbit/s", "--upload", "measured"), "no run"),
    ):
        result = kestrel("check", *arguments)
        assert result.code == 2, arguments
        assert says in result.error_line
    assert kestrel("check", tmp_path / "none.toml", "--for", "oxbow").code == 2


@given(st.text(max_size=15))
def test_no_text_breaks_the_interval(text: str) -> None:
    try:
        interval = parse_interval(text)
    except UnitError:
        return
    assert interval.automatic or (interval.seconds or interval.frames or 0) > 0


FOR_HEARTH = ["oxbow:hearth", "oxbow"]


@given(st.permutations(FOR_HEARTH), st.integers(6_100, 7_900))
def test_each_tier_is_held_to_its_own_ceiling_in_any_order(
    kestrel: Kestrel, platforms: list[str], kbps: int
) -> None:
    """Checked one beside the other they say what each says alone, and of whom."""
    names = [word for platform in platforms for word in ("--for", platform)]
    found = kestrel("check", "--bitrate", f"{kbps} kbit/s", *names, "--json").document["findings"]
    said = {
        (f["platform"], f["tier"]): (f["severity"], f["wanted"])
        for f in found
        if f["rule"] == "video.max_bitrate"
    }
    assert said == {
        ("oxbow", "hearth"): ("fine", "at most 8,000 kbit/s"),
        ("oxbow", None): ("breach", "at most 6,000 kbit/s"),
    }
    shown = kestrel("check", "--bitrate", f"{kbps} kbit/s", *names, "--all").out
    assert "oxbow:hearth" in shown


@pytest.mark.parametrize("name", ["wheel-night", "glaze-talk", "clay-fair", "kiln-watch"])
@pytest.mark.parametrize("upload", ["1.2 Mbit/s", "3 Mbit/s", "9 Mbit/s", "30 Mbit/s"])
def test_every_plan_of_every_show_checks_clean(
    kestrel: Kestrel, tmp_path: Path, name: str, upload: str
) -> None:
    """Each destination with settings of its own, and all of them against the connection."""
    file = tmp_path / "plan.json"
    made = kestrel("plan", name, "--upload", upload, "--out", file, "--json")
    if not any(d["feasible"] for d in made.document["destinations"]):
        return
    held = kestrel("check", file, "--show", name, "--upload", upload, "--json")
    found = held.document["findings"]
    assert {f["rule"] for f in found if f["severity"] != "fine"} <= {"settings"}
    assert held.code == 0
    assert {f["platform"] for f in found} >= {d["platform"] for d in made.document["destinations"]}
    left = {d["platform"] for d in made.document["destinations"] if not d["feasible"]}
    assert {f["platform"] for f in found if f["rule"] == "settings"} == left


def breaches(kestrel: Kestrel, *arguments: str | Path) -> dict[str, str]:
    found = kestrel("check", *arguments, "--json").document["findings"]
    return {f["rule"]: f["what_to_do"] for f in found if f["severity"] == "breach"}


def test_a_single_setting_is_judged_or_said_to_be_too_little(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    assert "video.max_b_frames" in breaches(kestrel, "--b-frames", "3", "--for", "oxbow")
    assert "video.profiles.h264" in breaches(kestrel, "--profile", "baseline", "--for", "oxbow")
    assert breaches(kestrel, "--profile", "High", "--for", "oxbow") == {}
    level = ("--level", "4.0", "--resolution", "1280x720", "--fps", "30", "--for", "oxbow")
    assert breaches(kestrel, *level) == {}
    nothing = kestrel("check", "--source-fps", "60", "--fps", "60", "--for", "oxbow")
    assert nothing.code == 0
    told = tmp_path / "s.toml"
    told.write_text('format = "eager-kestrel/settings/3"\n[video]\ncolour_range = "limited"\n')
    assert kestrel("check", told, "--for", "oxbow").code == 0
    told.write_text('format = "eager-kestrel/settings/3"\n[video]\nbuffer_kbit = 6000\n')
    empty = kestrel("check", told, "--for", "oxbow")
    assert empty.code == 2
    assert "no rule of Oxbow covers these settings" in empty.error_line


def test_a_bitrate_alone_is_held_to_the_mildest_row(kestrel: Kestrel) -> None:
    assert breaches(kestrel, "--bitrate", "2 Mbit/s", "--for", "fernlight") == {}
    assert "video.min_bitrate" in breaches(kestrel, "--bitrate", "300 kbit/s", "--for", "fernlight")
    assert "video.max_bitrate" in breaches(kestrel, "--bitrate", "60 Mbit/s", "--for", "fernlight")
    large = ("--bitrate", "2 Mbit/s", "--resolution", "1920x1080", "--for", "fernlight")
    assert breaches(kestrel, *large)["video.min_bitrate"] == "set 3,000 kbit/s"
    small = ("--bitrate", "300 kbit/s", "--resolution", "640x360", "--fps", "30")
    assert "smaller" not in breaches(kestrel, *small, "--for", "fernlight")["video.min_bitrate"]


@given(
    st.sampled_from(["24", "23.976", "25", "29.97", "30", "50", "59.94", "60"]),
    st.sampled_from(["oxbow", "fernlight", "pocketfair", "gatepost"]),
)
def test_the_keyframes_that_are_recommended_are_taken(
    kestrel: Kestrel, tmp_path_factory: pytest.TempPathFactory, fps: str, platform: str
) -> None:
    """Whoever sets what the program says to set breaks no rule by it."""
    asked = ("--keyframes", "auto", "--fps", fps, "--for", platform)
    (advice,) = kestrel("check", *asked, "--json").document["advice"]
    assert "keyframes every" in breaches(kestrel, *asked)["video.keyframes"]
    told = tmp_path_factory.mktemp("told") / "settings.json"
    told.write_text(json.dumps(advice["settings"]))
    assert findings(kestrel, told, "--for", platform) == {}


def own_rules(home: Path, **changed: str) -> None:
    """The bundled Oxbow with some lines changed."""
    from tests.test_guides import OXBOW, own_guide

    text = OXBOW
    for old, new in changed.items():
        assert old in text
        text = text.replace(old, new, 1)
    own_guide(home, text)


def test_the_highest_level_binds_however_it_is_written(kestrel: Kestrel, home: Path) -> None:
    for written in ("4", "4.0"):
        own_rules(home, **{"max_b_frames = 2": f'max_b_frames = 2\nmax_level.h264 = "{written}"'})
        plan = kestrel("plan", "--for", "oxbow", "--upload", "20 Mbit/s", "--json").document
        video = plan["destinations"][0]["video"]
        assert float(video["level"]) <= 4
        high = ("--level", "4.2", "--resolution", "1280x720", "--fps", "60", "--for", "oxbow")
        assert "video.max_level" in breaches(kestrel, *high)
    own_rules(home, **{"max_b_frames = 2": 'max_b_frames = 2\nmax_level.h264 = "4.7"'})
    assert "has no" in kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s").error_line


def test_what_a_guide_advises_is_planned_and_shown(kestrel: Kestrel, home: Path) -> None:
    recommendation = (
        '[video.recommended]\ncodec = "hevc"\nframe_rate = "30"\nb_frames = 1\n'
        '[audio.recommended]\nsample_rate = "44.1 kHz"\n'
    )
    own_rules(
        home,
        **{
            'codecs = ["h264"]': 'codecs = ["h264", "hevc"]',
            "[tiers.hearth]": recommendation + "[tiers.hearth]",
        },
    )
    there = kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--json").document
    (planned,) = there["destinations"]
    assert (planned["video"]["codec"], planned["video"]["fps"]) == ("hevc", 30)
    assert planned["video"]["b_frames"] == 1
    assert planned["audio"]["sample_rate_hz"] == 44100
    said = {r["setting"]: r["text"] for r in planned["reasons"]}
    assert said["frame_rate"] == said["b_frames"] == "what Oxbow recommends"
    found = kestrel(
        *shlex.split("check --codec h264 --fps 60 --b-frames 2 --audio-rate 48000 --for oxbow"),
        "--json",
    ).document["findings"]
    cautions = {f["rule"] for f in found if f["severity"] == "caution"}
    assert cautions >= {
        "video.recommended.codec",
        "video.recommended.frame_rate",
        "video.recommended.b_frames",
        "audio.recommended.sample_rate",
    }


def test_b_frames_say_who_bound_them(kestrel: Kestrel) -> None:
    for platform, says in (("oxbow", "the most Oxbow takes"), ("fernlight", "add delay")):
        made = kestrel("plan", "--for", platform, "--upload", "9 Mbit/s", "--json").document
        said = {r["setting"]: r["text"] for r in made["destinations"][0]["reasons"]}
        assert says in said["b_frames"]


def test_segments_hold_whole_intervals_where_pieces_are_all_there_is(
    kestrel: Kestrel, home: Path
) -> None:
    own_rules(
        home,
        **{
            'transports = ["rtmps", "rtmp"]': 'transports = ["hls"]',
            'keyframes = "2 s"': 'keyframes = { max = "6 s", recommended = "2 s" }',
            "[tiers.hearth]": '[segments]\nmax = "4 s"\nrecommended = "4 s"\n[tiers.hearth]',
        },
    )
    assert "segments.max" in breaches(kestrel, "--keyframes", "5 s", "--for", "oxbow")
    found = kestrel("check", "--keyframes", "3 s", "--for", "oxbow", "--json").document["findings"]
    assert {f["severity"] for f in found if f["rule"] == "segments.recommended"} == {"caution"}


KBPS = st.integers(100, 30_000).map(lambda kbps: f"{kbps} kbit/s")
VIDEOS = st.fixed_dictionaries(
    {"bitrate": KBPS},
    optional={
        "resolution": st.sampled_from(
            ["1920x1080", "480x270", "1366x768", "1919x1079", "1440x1080", "720x1280", "3840x2160"]
        ),
        "frame_rate": st.sampled_from(["60", "59.94", "30", "29.97", "25", "144"]),
        "codec": st.sampled_from(["h264", "hevc", "av1"]),
        "rate_control": st.sampled_from(["constant", "variable"]),
        "keyframes": st.sampled_from(["2 s", "auto", "250 frames", "0.5 s", "10 s"]),
        "profile": st.sampled_from(["high", "main", "baseline"]),
        "level": st.sampled_from(["3.1", "4", "4.2", "5.2"]),
        "b_frames": st.integers(0, 5),
        "buffer_kbit": st.integers(100, 60_000),
        "pixel_format": st.sampled_from(["yuv420p", "yuv444p"]),
        "colour": st.sampled_from(["bt709", "smpte170m"]),
    },
)
AUDIOS = st.fixed_dictionaries(
    {},
    optional={
        "codec": st.sampled_from(["aac", "opus", "mp3"]),
        "bitrate": st.sampled_from(["16 kbit/s", "128 kbit/s", "400 kbit/s"]),
        "sample_rate_hz": st.sampled_from([32000, 44100, 48000]),
        "channels": st.integers(1, 6),
    },
)
SETTINGS = st.builds(
    lambda video, audio, source: Settings.model_validate(
        {"video": video, "audio": audio, "source_fps": source}
    ),
    VIDEOS,
    AUDIOS,
    st.sampled_from([None, "60", "50", "25"]),
)


@given(
    SETTINGS,
    st.lists(st.one_of(st.sampled_from(BUNDLED), guides()), min_size=1, max_size=2),
    st.one_of(st.none(), st.floats(300, 40_000)),
)
def test_advice_that_is_followed_leaves_nothing_to_do(
    asked: Settings, platforms: list[Guide], safe: float | None
) -> None:
    platforms = list({guide.name: guide for guide in platforms}.values())
    held = check(asked, platforms, safe)
    wrong = [f for f in held.findings if f.severity != "fine"]
    assert bool(held.advice) == bool(wrong)
    if not wrong:
        return
    assert all(f.what_to_do for f in wrong)
    to_set = {name: one for one in held.advice for name in one.platforms}
    assert sorted(to_set) == sorted(guide.label for guide in platforms)
    again = check_each([(to_set[guide.label].settings, guide) for guide in platforms], safe)
    unmet = {rule for one in held.advice for rule in one.unmet}
    assert {f.rule for f in again.findings if f.severity != "fine"} <= unmet
    if not unmet:
        for one in held.advice:
            assert one.changes or len(held.advice) > 1


@given(guides(), st.floats(500, 40_000), SETTINGS)
def test_there_is_advice_wherever_there_is_a_plan(
    guide: Guide, kbps: float, asked: Settings
) -> None:
    """What a plan can send, advice finds, too: no rule is called unmet that a plan meets."""
    show = Show(
        source="3840x2160",
        source_fps=60,
        motion="lively",
        destinations=(Destination(platform=guide.name),),
    )
    made = plan(assumed_uplink(Bitrate.from_kbps(kbps)), show, {guide.name: guide}, TABLE)
    (there,) = made.destinations
    if not there.feasible or there.not_followed:
        return
    audio = asked.audio.model_copy(update={"bitrate": None})
    asked = asked.model_copy(update={"source_fps": None, "audio": audio})
    for one in check(asked, [guide], made.budget.safe_kbps).advice:
        assert one.unmet == ()


def test_tonight_the_kept_plan_fits_or_the_fallback_it_names_does(kestrel: Kestrel) -> None:
    assert "no plan was made" in kestrel("check", "--tonight").error_line
    now = datetime.now(UTC).astimezone()

    def measured(kbps: float, number: int) -> Run:
        taken = (now - timedelta(days=1, minutes=number)).isoformat(timespec="seconds")
        name = f"r-{kbps:.0f}-{number}"
        return at(now.hour, kbps).model_copy(update={"id": name, "taken_at": taken})

    kept(*(measured(9000 + 100 * n, n) for n in range(3)))
    made = kestrel("plan", "--for", "oxbow", "--at", f"{now:%H:%M}", "--json").document
    fits = kestrel("check", "--tonight", "--json")
    assert (fits.code, fits.document["fits"]) == (0, True)
    assert fits.document["total_kbps"] == made["total_kbps"]
    kept(*(measured(4000 + 50 * n, n) for n in range(9)))
    late = kestrel("check", "--tonight")
    assert late.code == 1
    assert late.out.count("only") == 1
    steps = made["destinations"][0]["fallbacks"]
    safe = kestrel("check", "--tonight", "--json").document["safe_kbps"]
    held = [step for step in steps if step["total_kbps"] <= safe]
    assert ("its fallback" in late.out) == bool(held)
    again = kestrel("plan", "--for", "oxbow", "--at", f"{now:%H:%M}", "--json").document
    assert again["total_kbps"] < made["total_kbps"]
    assert kestrel("check", "--tonight").code == 0
    assert "leave the rest out" in kestrel("check", "--tonight", "--for", "oxbow").error_line
