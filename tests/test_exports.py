"""A plan in other shapes, and the FFmpeg list really encoded and probed."""

from __future__ import annotations

import csv
import io
import itertools
import shlex
import socket
import subprocess
import time
from fractions import Fraction
from pathlib import Path

import av
import imageio_ffmpeg
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.plan.exports import KEY, command_line, ffmpeg_arguments, gstreamer_arguments
from eager_kestrel.core.plan.plan import DestinationPlan
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.show.show import Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.guides import load_guide, read_guide
from tests.conftest import Kestrel
from tests.test_plan import TABLE

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
SECONDS = 5
PROFILE_IDC = {"baseline": 66, "main": 77, "high": 100}


def planned_for(platform: str, upload: str, fps: str, source: str = "1280x720") -> DestinationPlan:
    show = Show(
        source=source,
        source_fps=fps,
        motion="lively",
        destinations=(Destination(platform=platform),),
    )
    made = plan(
        assumed_uplink(Bitrate.parse(upload)), show, {platform: load_guide(platform)}, TABLE
    )
    (there,) = made.destinations
    assert there.feasible
    return there


@pytest.fixture(scope="module")
def clip(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A few seconds of a moving pattern with noise, and a tone, nearly lossless."""
    path = tmp_path_factory.mktemp("clip") / "clip.mkv"
    subprocess.run(
        [
            FFMPEG,
            *shlex.split("-v error -f lavfi -i testsrc2=size=640x360:rate=60 -f lavfi -i"),
            *shlex.split("sine=frequency=330:sample_rate=48000 -t"),
            str(SECONDS),
            *shlex.split("-vf noise=alls=12:allf=t -c:v libx264 -preset ultrafast -qp 12 -c:a"),
            *shlex.split("pcm_s16le -threads 1"),
            str(path),
        ],
        check=True,
    )
    return path


@pytest.mark.parametrize(
    ("platform", "upload", "fps", "source"),
    [
        ("oxbow", "2 Mbit/s", "30", "1280x720"),
        ("gatepost", "4 Mbit/s", "50", "640x480"),
        ("oxbow", "1.5 Mbit/s", "29.97", "640x360"),
    ],
)
def test_the_ffmpeg_list_gives_what_was_planned(
    clip: Path, tmp_path: Path, platform: str, upload: str, fps: str, source: str
) -> None:
    there = planned_for(platform, upload, fps, source)
    assert there.video
    assert there.audio
    out = tmp_path / "out.flv"
    arguments = ffmpeg_arguments(there, str(clip), str(out))
    arguments.remove("-re")  # not in real time, and on one core: other tests are measuring
    arguments[-1:-1] = ["-threads", "1"]
    done = subprocess.run(
        [FFMPEG, "-v", "error", "-y", *arguments], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    with av.open(str(out)) as container:
        video, audio = container.streams.video[0], container.streams.audio[0]
        assert (video.width, video.height) == (
            there.video.resolution.width,
            there.video.resolution.height,
        )
        assert video.codec_context.name == "h264"
        head = bytes(video.codec_context.extradata or b"")
        assert head[1] == PROFILE_IDC[there.video.profile]
        assert head[3] == round(float(there.video.level) * 10)
        assert audio.codec_context.sample_rate == there.audio.sample_rate_hz
        assert audio.codec_context.layout.nb_channels == there.audio.channels
        packets = [p for p in container.demux(video) if p.size and p.pts is not None]
    frames = sorted(p.pts or 0 for p in packets)
    tick = Fraction(packets[0].time_base or 0)
    rate = Fraction(there.video.frame_rate)
    gaps = {round(float((b - a) * tick * rate)) for a, b in itertools.pairwise(frames)}
    assert gaps == {1}
    keys = sorted(p.pts or 0 for p in packets if p.is_keyframe)
    spans = {round(float((b - a) * tick * rate)) for a, b in itertools.pairwise(keys)}
    assert spans == {there.video.keyframe_frames}
    sent = sum(p.size for p in packets) * 8 / 1000 / SECONDS
    assert sent == pytest.approx(there.video.bitrate_kbps, rel=0.08)


def test_lists_name_no_key_and_quote_everything_else() -> None:
    there = planned_for("oxbow", "9 Mbit/s", "60")
    for program, arguments in (
        ("ffmpeg", ffmpeg_arguments(there, "my file; rm -rf $HOME.mkv")),
        ("gst-launch-1.0", gstreamer_arguments(there, "file:///my file$(x).mkv")),
    ):
        line = command_line(program, arguments)
        assert line.count(KEY) == 1
        assert f'{KEY}"' in line
        assert shlex.split(line)[1:] == arguments
        unquoted = line.replace(f'{KEY}"', "")
        assert "$" not in "".join(unquoted.split("'")[::2])


@pytest.mark.parametrize("codec", ["h264", "hevc", "av1"])
@pytest.mark.parametrize("platform", ["fernlight"])
def test_every_codec_has_both_lists(kestrel: Kestrel, platform: str, codec: str) -> None:
    for framework, word in (("ffmpeg", "-c:v"), ("gstreamer", "mux.")):
        result = kestrel(
            "plan",
            "--for",
            platform,
            "--upload",
            "9 Mbit/s",
            "--codec",
            codec,
            "--command",
            framework,
        )
        assert result.code == 0, result.err
        assert word in result.out
        assert len(result.out.strip().splitlines()) == 1


def test_files_by_extension(kestrel: Kestrel, tmp_path: Path) -> None:
    wish = ("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--reserve", "a|b=1 Mbit/s")
    for name in ("p.json", "p.toml", "p.csv", "p.md"):
        assert kestrel(*wish, "--out", tmp_path / name).code == 0
    (row,) = csv.DictReader(io.StringIO((tmp_path / "p.csv").read_text()))
    assert (row["platform"], row["bitrate_kbps"], row["audio_kbps"]) == ("oxbow", "6000.0", "160.0")
    text = (tmp_path / "p.md").read_text()
    assert "| video bitrate | 6,000 kbit/s = 6 Mbit/s, constant (CBR) | guide |" in text
    for said in (
        "if it struggles",
        "local copy",
        "safe rate",
        "GB an hour",
        "a source of 1920x1080 at 60 fps",
    ):
        assert said in text
    assert "a\\|b" in text
    for name in ("p.json", "p.toml"):
        assert kestrel("check", tmp_path / name, "--for", "oxbow").code == 0
    assert kestrel(*wish, "--out", tmp_path / "p.xls").code == 2
    poor = ("plan", "--for", "oxbow", "--upload", "150 kbit/s", "--out", tmp_path / "q.toml")
    assert kestrel(*poor).code == 4
    assert kestrel(*wish, "--command", "nothing").code == 2


def test_an_upright_platform_gets_a_crop_never_a_stretch(clip: Path, tmp_path: Path) -> None:
    """What is shown keeps its shape: a square of the source is a square of the resolution."""
    made = planned_for("pocketfair", "5 Mbit/s", "30")
    out = tmp_path / "upright.flv"
    arguments = ffmpeg_arguments(made, str(clip), str(out))
    begins = [FFMPEG, "-v", "error", "-y", "-t", "0.5"]
    subprocess.run([*begins, *arguments[1:]], check=True)
    with av.open(str(out)) as sent:
        stream = sent.streams.video[0]
        assert made.video is not None
        assert (stream.width, stream.height) == (
            made.video.resolution.width,
            made.video.resolution.height,
        )
        assert stream.sample_aspect_ratio in (None, 0, 1)
    (filters,) = [a for a in arguments if "scale=" in a]
    assert (
        f"crop=min(iw\\,ih*{made.video.resolution.width}/{made.video.resolution.height})" in filters
    )
    fit = made.fit
    assert fit is not None
    padded = made.model_copy(update={"fit": fit.model_copy(update={"way": "pad"})})
    subprocess.run([*begins, *ffmpeg_arguments(padded, str(clip), str(out))[1:]], check=True)
    with av.open(str(out)) as sent:
        frame = next(sent.decode(video=0)).to_ndarray(format="gray")
    assert frame.shape == (made.video.resolution.height, made.video.resolution.width)
    bars = (made.video.resolution.height - fit.pad.height) // 2
    assert frame[: bars - 2].max() < 30 < frame[bars + 2 : -bars - 2].max()
    assert "add-borders=true" in gstreamer_arguments(padded)
    assert "aspectratiocrop" not in gstreamer_arguments(padded)
    launched = gstreamer_arguments(made)
    assert "aspectratiocrop" in launched
    assert "aspect-ratio=9/16" in launched


def test_audio_and_rate_control_are_the_plans() -> None:
    made = planned_for("fernlight", "9 Mbit/s", "30")
    assert made.audio is not None
    assert made.video is not None
    opus = made.model_copy(update={"audio": made.audio.model_copy(update={"codec": "opus"})})
    assert "libopus" in ffmpeg_arguments(opus)
    assert "opusenc" in gstreamer_arguments(opus)
    varied = made.video.model_copy(update={"rate_control": "variable", "peak_kbps": 9000.0})
    launched = " ".join(gstreamer_arguments(made.model_copy(update={"video": varied})))
    assert "nal-hrd=cbr" not in launched
    assert "vbv-maxrate=9000" in launched


def test_a_plan_that_cannot_be_written_or_sends_nothing_is_not_the_latest(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    assert kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s").code == 0
    before = kestrel("explain", "bitrate", "--json").document["sum"]
    bad = kestrel("plan", "--for", "oxbow", "--upload", "5 Mbit/s", "--out", tmp_path / "p.txt")
    assert bad.code == 2
    assert kestrel("plan", "--for", "oxbow", "--upload", "200 kbit/s").code == 4
    assert kestrel("explain", "bitrate", "--json").document["sum"] == before


def test_commas_name_several_and_json_stays_json(kestrel: Kestrel) -> None:
    one = kestrel("plan", "--for", "oxbow,pocketfair", "--upload", "12 Mbit/s", "--json").document
    other = kestrel(
        *shlex.split("plan --for oxbow --for pocketfair --upload"),
        "12 Mbit/s",
        "--json",
        "--command",
        "ffmpeg",
    ).document
    assert [d["platform"] for d in one["destinations"]] == ["oxbow", "pocketfair"]
    assert one["destinations"] == other["destinations"]


@pytest.mark.parametrize("encoding", ["ascii", "cp1252"])
def test_signs_a_terminal_lacks_are_written_plainly(encoding: str) -> None:
    import os
    import subprocess
    import sys

    done = subprocess.run(
        [sys.executable, "-m", "eager_kestrel", "plan", "oxbow", "--upload", "9 Mbit/s", "--why"],
        capture_output=True,
        env={**os.environ, "PYTHONIOENCODING": encoding},
        check=False,
    )
    assert done.returncode == 0, done.stderr
    said = done.stdout.decode(encoding)
    assert "-> safe rate" in said
    assert "#" in said


def test_low_quality_and_slow_viewers_are_said(kestrel: Kestrel) -> None:
    poor = kestrel("plan", "--for", "oxbow", "--upload", "700 kbit/s", "--json").document
    assert poor["destinations"][0]["quality"] < 0.5
    low = [line for line in poor["warnings"] if "predicted quality for Oxbow" in line]
    assert any("upload" in line for line in low)
    good = kestrel("plan", "--for", "oxbow", "--upload", "12 Mbit/s", "--json").document
    assert not any("predicted quality" in line for line in good["warnings"])
    slow = kestrel("plan", "--for", "oxbow", "--upload", "9 Mbit/s", "--viewers", "150 kbit/s")
    assert slow.code == 4
    assert "slowest viewers have room for" in slow.err
    assert "raise --viewers" in slow.err


def test_a_platform_is_planned_by_its_bare_name_and_codecs_by_any(kestrel: Kestrel) -> None:
    upload = ("--upload", "12 Mbit/s", "--json")
    bare = kestrel("plan", "oxbow:hearth", *upload).answer
    assert bare == kestrel("plan", "--for", "oxbow:hearth", *upload).answer
    named = kestrel("plan", "fernlight", "--codec", "H265", *upload)
    assert named.answer == kestrel("plan", "fernlight", "--codec", "hevc", *upload).answer
    assert kestrel("plan", "oxbow:none", *upload).code == 2


def test_what_is_wrong_with_start_is_said_before_the_first_question(
    kestrel: Kestrel, tmp_path: Path
) -> None:
    wrong = kestrel("start", "--yes", "--for", "oxbow", "--upload", "10")
    assert wrong.code == 2
    assert "10 has no unit" in wrong.error_line
    assert not (tmp_path / "show.toml").exists()
    assert kestrel("start", "--yes", "--for", "oxbow", "--upload", "10 Mbit/s").code == 0
    again = kestrel("start", "--yes", "--for", "oxbow", "--upload", "10 Mbit/s")
    assert "already exists" in again.error_line


SALTMARSH = """
format = "eager-kestrel/guide/3"
name = "saltmarsh"
title = "Saltmarsh"
source = "https://help.saltmarsh.example"
checked = 2026-11-20
transports = ["srt", "rtmps"]
delivery.transcodes = "always"
servers = [
    {name = "Old", url = "rtmps://in.saltmarsh.example/live"},
    {name = "Pan", url = "srt://in.saltmarsh.example:9000"},
]
[video]
codecs = ["h264"]
shapes = ["16:9"]
max_resolution = "1280x720"
max_frame_rate = "30"
max_bitrate = "9000 kbit/s"
keyframes = "2 s"
rate_control = ["constant"]
[audio]
codecs = ["aac"]
min_bitrate = "96 kbit/s"
max_bitrate = "192 kbit/s"
sample_rates = [48000]
channels = [2]
"""


@given(upload=st.floats(0.8, 30), trip=st.none() | st.floats(0.5, 400))
def test_srt_keeps_a_quarter_free_and_waits_four_round_trips(
    tmp_path_factory: pytest.TempPathFactory, upload: float, trip: float | None
) -> None:
    path = tmp_path_factory.getbasetemp() / "saltmarsh.toml"
    path.write_text(SALTMARSH)
    show = Show(
        source="1280x720",
        source_fps="30",
        motion="lively",
        destinations=(Destination(platform="saltmarsh"),),
    )
    uplink = assumed_uplink(Bitrate.parse(f"{upload:.3f} Mbit/s"))
    uplink = uplink.model_copy(update={"round_trip_ms": trip})
    (there,) = plan(uplink, show, {"saltmarsh": read_guide(path)}, TABLE).destinations
    if there.video is None or there.audio is None:
        return
    assert there.servers == ("srt://in.saltmarsh.example:9000",)
    assert there.latency_ms is not None
    assert there.latency_ms >= max(120, 4 * (trip or 0))
    assert there.latency_ms <= max(120, 4 * (trip or 0) + 10)
    repeats, headers, audio = there.budget_steps
    assert (repeats.name, audio.name) == ("repeats", "audio")
    assert repeats.after_kbps == pytest.approx(repeats.before_kbps / 1.25, abs=0.01)
    assert repeats.after_kbps >= headers.after_kbps >= audio.after_kbps >= there.video.bitrate_kbps
    assert there.total_kbps <= repeats.before_kbps + 0.01
    sent = there.video.bitrate_kbps + there.audio.bitrate_kbps
    assert there.total_kbps >= 1.25 * sent


def test_an_srt_listener_gets_what_was_planned(
    kestrel: Kestrel, clip: Path, tmp_path: Path
) -> None:
    """The very command that is printed, to a listener on this machine."""
    protocols = subprocess.run([FFMPEG, "-protocols"], capture_output=True, text=True, check=True)
    if "srt" not in protocols.stdout.split():
        pytest.skip("this FFmpeg has no SRT: nothing listens")
    (tmp_path / "g").mkdir()
    (tmp_path / "g" / "saltmarsh.toml").write_text(SALTMARSH)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    arrived = tmp_path / "arrived.ts"
    made = kestrel(
        "plan", "saltmarsh", "--guides", tmp_path / "g", "--upload", "4 Mbit/s", "--json"
    ).document["destinations"][0]
    there = DestinationPlan.model_validate(made)
    there = there.model_copy(update={"servers": (f"srt://127.0.0.1:{port}",)})
    arguments = [a.replace(KEY, "some-key") for a in ffmpeg_arguments(there, str(clip))]
    assert f"latency={120_000}&streamid=some-key" in arguments[-1]
    listener = [FFMPEG, "-v", "error", "-i", f"srt://127.0.0.1:{port}?mode=listener"]
    with subprocess.Popen([*listener, "-c", "copy", str(arrived)]) as listening:
        for _ in range(10):  # it takes a while to listen
            time.sleep(1)
            sent = subprocess.run([FFMPEG, "-v", "error", *arguments[1:]], check=False)
            if sent.returncode == 0 or listening.poll() is not None:
                break
        ended = listening.wait(30)
    if ended < 0:
        pytest.skip("this FFmpeg crashes when it listens for SRT")
    assert ended == sent.returncode == 0
    with av.open(str(arrived)) as file:
        stream = file.streams.video[0]
        assert there.video is not None
        assert (stream.width, stream.height) == (
            there.video.resolution.width,
            there.video.resolution.height,
        )
        assert len([*file.decode(video=0)]) > 20
    launched = gstreamer_arguments(there)
    assert any(
        a.startswith(f"uri=srt://127.0.0.1:{port}?mode=caller&latency=120&") for a in launched
    )
