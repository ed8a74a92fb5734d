"""``check``: everything a streamer can get wrong is found, and a plan's settings always pass."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eager_kestrel.core.checks.settings import parse_interval
from eager_kestrel.core.errors import UnitError
from tests.conftest import Kestrel

GOOD = """
format = "eager-kestrel/settings/1"
transport = "rtmps"
[video]
codec = "h264"
picture = "1920x1080"
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

SOURCE_50 = 'source_frame_rate = "50"\n[video]'


def findings(kestrel: Kestrel, *arguments: str | Path) -> dict[str, str]:
    """Rule to severity, for everything that is not fine."""
    result = kestrel("check", *arguments, "--json")
    assert result.code in (0, 1), result.err
    found = result.document["findings"]
    assert result.code == (1 if any(f["severity"] == "breach" for f in found) else 0)
    assert all(f["do"] for f in found if f["severity"] != "fine")
    return {f["rule"]: f["severity"] for f in found if f["severity"] != "fine"}


def test_good_settings_are_fine(kestrel: Kestrel, tmp_path: Path) -> None:
    path = tmp_path / "s.toml"
    path.write_text(GOOD)
    assert findings(kestrel, path, "--for", "oxbow", "--uplink", "10 Mbit/s") == {}
    assert "0 breaches" in kestrel("check", path, "--for", "oxbow").out
    assert "✓" in kestrel("check", path, "--for", "oxbow", "--all").out


@pytest.mark.parametrize(
    ("old", "new", "rule", "severity"),
    [
        ('"2 s"', '"auto"', "video.keyframes", "breach"),
        ('"2 s"', '"250 frames"', "video.keyframes", "breach"),
        ('"2 s"', '"120 frames"', "", ""),
        ('"constant"', '"variable"', "video.rate_control", "breach"),
        ('"6000 kbit/s"', '"6100 kbit/s"', "video.ceiling", "breach"),
        ('"1920x1080"', '"1919x1079"', "sides divisible by 8", "breach"),
        ('"1920x1080"', '"1922x1082"', "video.largest", "breach"),
        ('"1920x1080"', '"1278x718"', "sides divisible by 8", "caution"),
        ('"1920x1080"', '"1440x1080"', "video.shapes", "breach"),
        ("buffer_kbit = 6000", "buffer_kbit = 30000", "buffer", "caution"),
        ("buffer_kbit = 6000", "buffer_kbit = 90000", "buffer", "breach"),
        ("buffer_kbit = 6000", "buffer_kbit = 600", "buffer", "caution"),
        ("level = 4.2", "level = 4", "level", "breach"),
        ("level = 4.2", 'level = "9.9"', "level", "breach"),
        ('frame_rate = "60"', 'frame_rate = "75"', "video.frame_rates", "breach"),
        ('"high"', '"baseline"', "video.profiles.h264", "breach"),
        ("b_frames = 2", "b_frames = 3", "video.b_frames", "breach"),
        ('codec = "h264"', 'codec = "hevc"', "video.codecs", "breach"),
        ('"160 kbit/s"', '"64 kbit/s"', "audio.bitrate", "breach"),
        ("channels = 2", "channels = 1", "audio.channels", "breach"),
        ("48000", "32000", "audio.sample_rates_hz", "breach"),
        ('"yuv420p"', '"yuv444p"', "video.pixel_formats", "breach"),
        ('"rtmps"', '"hls"', "transports", "breach"),
        (
            "[video]",
            'source_frame_rate = "50"\n[video]',
            "frame rate divides the source",
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
        findings(kestrel, path, "--for", "oxbow", "--uplink", "8 Mbit/s")["safe rate"] == "breach"
    )
    tight = ("--uplink", "10 Mbit/s", "--reserve", "call=1.5 Mbit/s")
    assert findings(kestrel, path, "--for", "oxbow", *tight)["safe rate"] == "breach"
    assert (
        findings(kestrel, path, "--for", "oxbow", "--uplink", "10 Mbit/s", "--share", "90 %") == {}
    )
    two = findings(kestrel, path, "--for", "oxbow", "--for", "fernlight", "--uplink", "14 Mbit/s")
    assert two == {"safe rate": "breach"}  # two destinations, one line
    assert findings(kestrel, path, "--for", "gatepost")["delivery.slowest_viewer"] == "breach"


def test_flags_alone_and_over_a_file(kestrel: Kestrel, tmp_path: Path) -> None:
    flags = ("--bitrate", "6 Mbit/s", "--picture", "1920x1080", "--fps", "60", "--keyframes",
             "250frames", "--buffer", "6000 kbit", "--audio-bitrate", "128 kbit/s")  # fmt: skip
    assert findings(kestrel, *flags, "--for", "oxbow") == {"video.keyframes": "breach"}
    path = tmp_path / "s.toml"
    path.write_text(GOOD)
    over = findings(kestrel, path, "--bitrate", "9 Mbit/s", "--for", "oxbow")
    assert over["video.ceiling"] == "breach"
    assert findings(kestrel, path, "--bitrate", "8 Mbit/s", "--for", "oxbow:hearth") == {}


def test_advice_is_a_caution_and_pieces_have_rules(kestrel: Kestrel) -> None:
    base = ("--picture", "2560x1440", "--fps", "60", "--transport", "hls", "--for", "fernlight")
    assert findings(kestrel, *base, "--bitrate", "15 Mbit/s", "--keyframes", "2 s") == {}
    assert findings(kestrel, *base, "--bitrate", "24 Mbit/s") == {"rungs.advised": "caution"}
    assert findings(kestrel, *base, "--bitrate", "8 Mbit/s")["video.floor"] == "breach"
    three = findings(kestrel, *base, "--keyframes", "3 s", "--bitrate", "15 Mbit/s")
    assert three == {"video.keyframes.advised": "caution", "segments.advised": "caution"}
    five = findings(kestrel, *base, "--keyframes", "5 s", "--bitrate", "15 Mbit/s")
    assert five["video.keyframes"] == five["segments.at_most"] == "breach"
    loose = findings(kestrel, *base, "--bitrate", "15 Mbit/s", "--rate-control", "variable")
    assert loose == {"video.advised.rate_control": "caution"}


def test_2997_settings_meet_a_two_second_rule(kestrel: Kestrel) -> None:
    good = ("--fps", "29.97", "--keyframes", "60 frames", "--for", "oxbow", "--picture", "1280x720")
    assert findings(kestrel, *good) == {}
    assert findings(
        kestrel, "--keyframes", "60 frames", "--picture", "1280x720", "--for", "oxbow"
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
            "plan", "--for", platform, "--upload", upload, "--fps", fps, "--out", out
        ).code
        if code == 4:
            assert platform in ("pocketfair", "gatepost")
            continue
        assert code == 0
        found = findings(kestrel, out, "--for", platform, "--uplink", upload)
        assert "breach" not in found.values()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (GOOD.replace('"6000 kbit/s"', "6000"), "video.bitrate: 6000 has no unit"),
        (GOOD.replace("b_frames", "bframes"), 'no key "video.bframes" is known; write "b_frames"'),
        (GOOD.replace('"2 s"', '"2"'), "write 2 s or 2 frames"),
        (GOOD.replace("settings/1", "guide/1"), "this is a guide, not a settings"),
        ('{"format": "eager-kestrel/settings/1", "video": {"bitrate": "x"}}', "video.bitrate"),
        ("{", "not JSON"),
        ('format = "eager-kestrel/settings/1"', "nothing is set"),
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
        (("--for", "oxbow", "--bitrate", "6 Mbit/s", "--buffer", "6000"), 'write "6000 kbit"'),
        (("--for", "oxbw", "--bitrate", "6 Mbit/s"), 'write "oxbow"'),
        (("--for", "oxbow", "--bitrate", "6 Mbit/s", "--uplink", "measured"), "no run"),
    ):
        result = kestrel("check", *arguments)
        assert result.code == 2, arguments
        assert says in result.error_line
    assert kestrel("check", tmp_path / "none.toml", "--for", "oxbow").code == 1


@given(st.text(max_size=15))
def test_no_text_breaks_the_interval(text: str) -> None:
    try:
        interval = parse_interval(text)
    except UnitError:
        return
    assert interval.automatic or (interval.seconds or interval.frames or 0) > 0


FOR_HEARTH = ["oxbow:hearth", "oxbow"]


@given(st.permutations(FOR_HEARTH), st.integers(6_100, 7_900))
@settings(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_each_standing_is_held_to_its_own_ceiling_in_any_order(
    kestrel: Kestrel, platforms: list[str], kbps: int
) -> None:
    """Checked one beside the other they say what each says alone, and of whom."""
    names = [word for platform in platforms for word in ("--for", platform)]
    found = kestrel("check", "--bitrate", f"{kbps} kbit/s", *names, "--json").document["findings"]
    said = {
        (f["platform"], f["standing"]): (f["severity"], f["wanted"])
        for f in found
        if f["rule"] == "video.ceiling"
    }
    assert said == {
        ("oxbow", "hearth"): ("fine", "at most 8,000 kbit/s"),
        ("oxbow", None): ("breach", "at most 6,000 kbit/s"),
    }
    shown = kestrel("check", "--bitrate", f"{kbps} kbit/s", *names, "--all").out
    assert "oxbow:hearth" in shown
