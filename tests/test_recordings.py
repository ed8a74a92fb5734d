"""Recordings described exactly: files made with known settings, and laws of the counting."""

from __future__ import annotations

import json
import shlex
import subprocess
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

import imageio_ffmpeg
import numpy as np
import pytest
from hypothesis import given, strategies as st

from eager_kestrel.core.checks.stream import (
    BIN_SECONDS,
    MOST_BINS,
    AudioFacts,
    StreamWatch,
    VideoFacts,
    VideoTally,
    by_second,
    video_seen,
)
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.media.recording import read_recording
from tests.conftest import Kestrel

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
Make = Callable[..., Path]
FACTS = VideoFacts("h264", "high", "4", Resolution(1280, 720))


@pytest.fixture(scope="session")
def made(tmp_path_factory: pytest.TempPathFactory) -> Make:
    """Makes a recording with FFmpeg, once for each name."""
    folder = tmp_path_factory.mktemp("recordings")

    def make(
        name: str,
        *options: str,
        fps: str = "30",
        seconds: str = "6",
        audio: bool = True,
        size: str = "320x180",
    ) -> Path:
        path = folder / name
        if path.exists():
            return path
        source = f"testsrc2=size={size}:rate={fps},noise=alls=15:allf=t"
        command = [FFMPEG, "-v", "error", "-f", "lavfi", "-i", source]
        if audio:
            command += ["-f", "lavfi", "-i", "sine=frequency=330:sample_rate=48000"]
        usual = ["-c:v", "libx264", "-preset", "ultrafast", "-pix_fmt", "yuv420p", "-threads", "1"]
        subprocess.run([*command, "-t", seconds, *usual, *options, str(path)], check=True)
        return path

    return make


CONSTANT = (
    *shlex.split("-b:v 600k -minrate 600k -maxrate 600k -bufsize 600k -g 60 -keyint_min 60"),
    *shlex.split("-x264-params scenecut=0:nal-hrd=cbr:filler=1"),
)


@pytest.mark.parametrize("name", ["a.flv", "a.mp4", "a.mkv", "a.ts"])
def test_a_constant_stream_in_every_container(made: Make, name: str) -> None:
    seen = read_recording(made(name, *CONSTANT, "-c:a", "aac", "-b:a", "96k", "-ac", "2"))
    video, audio = seen.video, seen.audio
    assert seen.seconds == pytest.approx(6, abs=0.1)
    assert (video.codec, str(video.resolution), str(video.shape)) == ("h264", "320x180", "16:9")
    assert (video.frame_rate, video.regular_share, video.frames) == (30, 1.0, 180)
    assert video.average_kbps == pytest.approx(600, rel=0.1)  # x264 fills its buffer first
    assert video.rate_control == "constant"
    assert video.peak_2s_kbps <= video.peak_1s_kbps
    assert video.buffer_needed_kbit < 650
    keys = video.keyframes
    assert (keys.count, keys.regular, keys.longest_seconds) == (3, True, pytest.approx(2, abs=0.01))
    assert video.gaps == ()
    assert audio is not None
    assert (audio.codec, audio.sample_rate_hz, audio.channels) == ("aac", 48000, 2)
    assert audio.average_kbps == pytest.approx(96, rel=0.1)
    assert abs(audio.offset_ms) < 60


@pytest.mark.parametrize(
    ("profile", "b_frames", "options"),
    [
        ("baseline", 0, ("-profile:v", "baseline")),
        ("main", 2, ("-profile:v", "main", "-bf", "2", "-x264-params", "cabac=1:b-adapt=0")),
        (
            "high",
            3,
            (
                *shlex.split("-profile:v high -bf 3 -preset veryfast -x264-params"),
                "b-adapt=0:b-pyramid=0:8x8dct=1",
            ),
        ),
    ],
)
def test_profile_level_and_b_frames(
    made: Make, profile: str, b_frames: int, options: tuple[str, ...]
) -> None:
    seen = read_recording(made(f"{profile}.mp4", *options, "-level", "4.1", "-b:v", "500k"))
    assert (seen.video.profile, seen.video.level) == (profile, "4.1")
    assert seen.video.b_frames == b_frames
    deep = read_recording(made(f"{profile}.mp4"), deep=True).decoded
    assert deep is not None
    assert deep.frames == seen.video.frames
    assert deep.damaged == 0
    assert (deep.b_frames > 0) == (b_frames > 0)
    assert deep.i_frames == seen.video.keyframes.count


@pytest.mark.parametrize(
    ("fps", "exact"),
    [
        ("30000/1001", "30000/1001"),
        ("60000/1001", "60000/1001"),
        ("25", "25"),
        ("24", "24"),
        ("24000/1001", "24000/1001"),
        ("60", "60"),
        ("50", "50"),
        ("12.5", "25/2"),
    ],
)
@pytest.mark.parametrize("container", ["flv", "mp4"])
def test_frame_rates_are_told_apart(made: Make, fps: str, exact: str, container: str) -> None:
    name = f"rate-{fps.replace('/', '-')}.{container}"
    seen = read_recording(made(name, "-b:v", "200k", fps=fps, seconds="8"))
    assert str(seen.video.frame_rate) == exact


def test_automatic_keyframes_and_mono(made: Make, kestrel: Kestrel) -> None:
    path = made(
        *shlex.split("auto.mkv -g 250 -x264-params scenecut=0 -b:v 400k -ac 1 -b:a 64k"),
        seconds="10",
    )
    seen = read_recording(path)
    assert seen.video.keyframes.longest_seconds == pytest.approx(250 / 30, abs=0.01)
    assert seen.audio is not None
    assert seen.audio.channels == 1
    result = kestrel("check", path, "--for", "oxbow", "--for", "gatepost", "--json")
    assert result.code == 1
    found = {(f["platform"], f["rule"]): f for f in result.document["findings"]}
    assert found["oxbow", "video.keyframes"]["severity"] == "breach"
    assert "250 frames" in found["oxbow", "video.keyframes"]["found"]
    assert found["oxbow", "audio.channels"]["severity"] == "breach"
    assert found["gatepost", "audio.channels"]["severity"] == "fine"
    assert found["gatepost", "video.resolutions"]["severity"] == "breach"
    assert result.document["recording"]["container"] == "matroska"


def test_a_good_recording_and_its_figure(made: Make, kestrel: Kestrel, tmp_path: Path) -> None:
    path = made(
        "good.mp4",
        *CONSTANT,
        *shlex.split("-profile:v high -x264-params"),
        *shlex.split("scenecut=0:nal-hrd=cbr:filler=1:cabac=1:8x8dct=1 -c:a aac -b:a 128k -ac"),
        "2",
    )
    figure = tmp_path / "r.png"
    result = kestrel(
        "check",
        path,
        "--for",
        "oxbow",
        "--upload",
        "5 Mbit/s",
        "--figure",
        figure,
        "--deep",
        "--all",
    )
    assert result.code == 0, result.out
    assert "0 breaches" in result.out
    assert "180 frames" in result.out
    assert "safe rate" in result.out
    assert figure.read_bytes().startswith(b"\x89PNG")
    thin = kestrel("check", path, "--for", "oxbow", "--upload", "700 kbit/s")
    assert thin.code == 1
    alone = kestrel("check", path, "--json")
    assert alone.code == 0
    assert {f["platform"] for f in alone.document["findings"]} == {"any"}


def test_a_playlist_of_pieces(made: Make, tmp_path: Path) -> None:
    path = made("pieces.m3u8", *CONSTANT, "-f", "hls", "-hls_time", "2", "-hls_list_size", "0")
    seen = read_recording(path)
    assert seen.container == "hls"
    assert seen.video.frames == 180
    keyed = tmp_path / "keyed.m3u8"
    keyed.write_text(
        path.read_text().replace("#EXTINF", '#EXT-X-KEY:METHOD=AES-128,URI="k"\n#EXTINF', 1)
    )
    with pytest.raises(FormatError, match="encrypted"):
        read_recording(keyed)
    away = tmp_path / "away.m3u8"
    away.write_text("#EXTM3U\n#EXTINF:2,\nhttp://127.0.0.1:9/x.ts\n#EXT-X-ENDLIST\n")
    with pytest.raises(FormatError):
        read_recording(away)


def broken(made: Make, folder: Path) -> dict[str, tuple[Path, str]]:
    whole = made("good.mkv", *CONSTANT).read_bytes()
    mp4 = made("whole.mp4", *CONSTANT).read_bytes()
    files = {
        "empty.mp4": (b"", "empty"),
        "cut.mp4": (mp4[: len(mp4) // 2], "not a recording"),
        "cut.mkv": (whole[: len(whole) // 2], "cut off"),
        "text.mp4": (b"this is no film at all, but a note about one" * 40, "not a recording"),
        "other.mp4": (whole, "its name says mp4"),
    }
    found = {}
    for name, (raw, says) in files.items():
        (folder / name).write_bytes(raw)
        found[name] = (folder / name, says)
    found["sound.mp4"] = (made("sound.mp4", "-vn"), "no video")
    secret = made(
        *shlex.split("secret.mp4 -encryption_scheme cenc-aes-ctr -encryption_key"),
        "0" * 32,
        "-encryption_kid",
        "1" * 32,
    )
    found["secret.mp4"] = (secret, "encrypted")
    found["gone.mkv"] = (folder / "gone.mkv", "No such file")
    return found


@pytest.mark.parametrize(
    "name",
    [
        "empty.mp4",
        "cut.mp4",
        "cut.mkv",
        "text.mp4",
        "other.mp4",
        "sound.mp4",
        "secret.mp4",
        "gone.mkv",
    ],
)
def test_what_is_no_recording_gets_one_line(
    made: Make, kestrel: Kestrel, tmp_path: Path, name: str
) -> None:
    path, says = broken(made, tmp_path)[name]
    result = kestrel("check", path, "--for", "oxbow")
    assert result.code == 2, result.out
    assert says in result.error_line


def test_only_recordings_are_drawn(kestrel: Kestrel) -> None:
    result = kestrel("check", "--for", "oxbow", "--bitrate", "6 Mbit/s", "--figure", "x.png")
    assert result.code == 2
    assert "go with a recording" in result.error_line


def packets(count: int, fps: Fraction, seed: int = 3, b: int = 0) -> tuple[Any, ...]:
    """Frames of one stream in the order they are sent."""
    rng = np.random.default_rng(seed)
    sent = np.arange(count) / float(fps)
    shown = sent.copy()
    if b:
        order = [0]
        for start in range(1, count, b + 1):
            group = list(range(start, min(start + b + 1, count)))
            order += [group[-1], *group[:-1]]
        shown = np.array(order) / float(fps) + b / float(fps)
    return shown, sent, rng.integers(500, 9000, count).astype(float), np.arange(count) % 60 == 0


@given(st.lists(st.integers(1, 400), min_size=1, max_size=30), st.integers(0, 3))
def test_counts_do_not_depend_on_how_packets_are_batched(cuts: list[int], b: int) -> None:
    stream = packets(900, Fraction(30), b=b)
    whole, parts = VideoTally(), VideoTally()
    whole.add(*stream)
    at = number = 0
    while at < 900:
        step = cuts[number % len(cuts)]
        parts.add(*(column[at : at + step] for column in stream))
        at, number = at + step, number + 1
    one, other = video_seen(FACTS, whole), video_seen(FACTS, parts)
    assert one == other
    assert one.b_frames == b
    assert (one.frame_rate, one.regular_share) == (30, 1.0)


@given(
    st.sampled_from(["60", "60000/1001", "50", "30", "30000/1001", "25", "24", "24000/1001"]),
    st.integers(400, 2000),
    st.booleans(),
)
def test_customary_rates_survive_milliseconds(rate: str, count: int, rounded: bool) -> None:
    shown, sent, sizes, keys = packets(count, Fraction(rate))
    if rounded:
        shown, sent = np.round(shown, 3), np.round(sent, 3)
    tally = VideoTally()
    tally.add(shown, sent, sizes, keys)
    tally.finish()
    assert tally.frame_rate() == Fraction(rate)
    assert tally.regular_share() > 0.99


@given(st.integers(60, 300), st.floats(0.5, 5))
def test_gaps_are_found_and_do_not_change_the_rate(at: int, long: float) -> None:
    shown, sent, sizes, keys = packets(600, Fraction(30))
    late = np.arange(600) >= at
    tally = VideoTally()
    tally.add(shown + late * long, sent + late * long, sizes, keys)
    seen = video_seen(FACTS, tally)
    assert len(seen.gaps) == 1
    assert seen.gaps[0][1] == pytest.approx(long + 1 / 30, abs=0.002)
    assert seen.frame_rate == 30
    assert seen.lowest_2s_kbps < seen.average_kbps


@given(st.lists(st.integers(100, 60_000), min_size=100, max_size=400))
def test_windows_and_buffer_agree_with_the_slow_way(sizes: list[int]) -> None:
    count = len(sizes)
    sent = np.arange(count) / 50  # one frame a bin
    tally = VideoTally()
    tally.add(sent, sent, np.array(sizes, float), np.arange(count) == 0)
    slow = max(sum(sizes[i : i + 50]) for i in range(count - 49)) * 8e-3
    assert tally.windows_kbps(1.0).max() == pytest.approx(slow)
    mean = sum(sizes) / count
    level = worst = 0.0
    for size in sizes:
        level = max(0.0, level + size - mean)
        worst = max(worst, level)
    assert tally.buffer_needed_kbit() == pytest.approx(worst * 8e-3, abs=0.5)
    assert tally.windows_kbps(9999)[0] == pytest.approx(mean * 8e-3 / BIN_SECONDS)


def test_memory_is_bounded_by_what_is_there_not_by_the_time_it_claims() -> None:
    """Frames 59 s apart for a fortnight: bins become wider, and the sums stay what they are."""
    count = 20_000
    at = np.linspace(0.0, 59.0 * (count - 1), count)
    sizes = np.full_like(at, 1000.0)
    tally = VideoTally()
    for part in np.array_split(np.arange(count), 50):
        tally.add(at[part], at[part], sizes[part], np.zeros(part.size, bool))
    tally.finish()
    assert tally.sizes.size <= 2 * MOST_BINS
    assert int(tally.sizes.sum()) == tally.total_bytes == 1000 * count
    whole = tally.windows_kbps(1e9)
    assert whole.size == 1
    assert whole[0] == pytest.approx(8000 / 59 * 1e-3, rel=0.01)
    assert len(by_second(tally)[0]) <= 1200


def test_two_hours_take_a_few_megabytes() -> None:
    tally = VideoTally()
    shown, sent, sizes, keys = packets(6000, Fraction(60))
    for block in range(72):
        tally.add(shown + block * 100, sent + block * 100, sizes, keys)
    assert tally.frames == 432_000
    assert tally.sizes.nbytes < 4_000_000
    assert len(tally.spacings) < 20
    assert tally._waiting.size <= 64


def test_a_stream_is_watched_as_a_file_is_read() -> None:
    shown, sent, sizes, keys = packets(600, Fraction(30), b=2)
    tally, watch = VideoTally(), StreamWatch()
    tally.add(shown, sent, sizes, keys)
    for row, (a, b, size, key) in enumerate(zip(shown, sent, sizes, keys, strict=True)):
        watch.video(b, a, int(size), bool(key), at=100 + b + (0.5 if row == 300 else 0.0))
        watch.audio(b, 400)
    live = watch.live()
    assert live.fps == pytest.approx(30, rel=0.02)
    assert live.keyframe_seconds == pytest.approx(2)
    assert live.audio_kbps == pytest.approx(96, rel=0.05)
    report = watch.report("x", FACTS, AudioFacts("aac", 48000, 2))
    assert report is not None
    assert report.video == video_seen(FACTS, tally)
    assert watch.worst_delay == pytest.approx(0.5, abs=0.01)
    assert json.loads(report.model_dump_json())["audio"]["channels"] == 2
    assert StreamWatch().report("x", FACTS, None) is None


def test_a_recording_takes_no_settings_beside_it(made: Make, kestrel: Kestrel) -> None:
    result = kestrel(
        "check", made("good.mp4", *CONSTANT), "--for", "oxbow", "--bitrate", "6 Mbit/s"
    )
    assert result.code == 2
    assert "leave the settings out" in result.error_line


@pytest.mark.parametrize("order", [("oxbow:hearth", "oxbow"), ("oxbow", "oxbow:hearth")])
def test_a_recording_is_held_to_each_tier_in_any_order(
    made: Make, kestrel: Kestrel, order: tuple[str, str]
) -> None:
    for kbps, rule in (("7000k", "video.max_bitrate"), ("10000k", "peak over two seconds")):
        rate = [word.replace("600k", kbps) for word in CONSTANT]
        file = made(f"{kbps}.flv", *rate, "-c:a", "aac", "-b:a", "128k", "-ac", "2", seconds="4")
        found = kestrel("check", file, "--for", order[0], "--for", order[1], "--json").document
        said = {f.get("tier"): f["severity"] for f in found["findings"] if f["rule"] == rule}
        assert said == {"hearth": "fine", None: "breach"}, rule


def found_in(kestrel: Kestrel, file: Path) -> dict[str, str]:
    found = kestrel("check", file, "--for", "oxbow", "--json").document["findings"]
    return {f["rule"]: f["found"] for f in found if f["severity"] != "fine"}


def test_a_capture_that_leaves_frames_out_keeps_its_rate(made: Make, kestrel: Kestrel) -> None:
    """Of a screen that hardly changes: 60 fps, and not on time; no rate of its own."""
    left_out = "select='not(eq(mod(n,9),3))*not(eq(mod(n,11),5))*not(eq(mod(n,17),5))'"
    file = made("vfr.mkv", "-vf", left_out, "-fps_mode", "vfr", *CONSTANT, fps="60", seconds="10")
    assert read_recording(file).video.frame_rate == 60
    found = found_in(kestrel, file)
    assert "frames when due" in found
    assert "video.frame_rates" not in found


def test_codecs_that_no_guide_knows_are_told(made: Make, kestrel: Kestrel) -> None:
    file = made("mp3.flv", *CONSTANT, "-c:a", "libmp3lame")
    assert found_in(kestrel, file)["audio.codecs"] == "mp3"
    file = made("flac.mkv", *CONSTANT, "-c:a", "flac")
    assert found_in(kestrel, file)["audio.codecs"] == "flac"
    quick = shlex.split("-c:v libvpx-vp9 -b:v 600k -deadline realtime -cpu-used 8")
    found = found_in(kestrel, made("vp9.webm", *quick, seconds="3"))
    assert (found["video.codecs"], found["audio.codecs"]) == ("vp9", "opus")


@pytest.mark.parametrize("name", ["joined.ts", "joined.flv", "joined.mp4"])
def test_a_resolution_that_changes_is_told_with_its_moment(
    made: Make, kestrel: Kestrel, tmp_path: Path, name: str
) -> None:
    sound, later = ("-c:a", "aac"), ("-output_ts_offset", "6")
    small = made("small.ts", *CONSTANT, *sound)
    parts = [small, made("large.ts", *CONSTANT, *sound, *later, size="640x360")]
    both = tmp_path / "both.ts"
    both.write_bytes(b"".join(part.read_bytes() for part in parts))
    joined = tmp_path / name
    copied = subprocess.run([FFMPEG, "-v", "error", "-i", both, "-c", "copy", joined], check=False)
    if copied.returncode < 0:  # FFmpeg 7.0.2 does on such a file
        if name != "joined.ts":
            pytest.skip("this FFmpeg crashes when it copies a stream whose resolution changes")
        joined = both
    said = found_in(kestrel, joined)["resolution"]
    assert said.startswith("changes from 320x180 to 640x360 at ")
    assert "resolution" not in found_in(kestrel, parts[0])


def test_one_keyframe_in_a_long_recording_is_a_breach(made: Make, kestrel: Kestrel) -> None:
    """Also where no second one tells the interval."""
    for name, seconds, breach in (("long.flv", "8", True), ("short.flv", "3", False)):
        file = made(
            name,
            *shlex.split("-g 1000 -keyint_min 1000 -sc_threshold 0 -b:v 500k"),
            seconds=seconds,
        )
        found = kestrel("check", file, "--for", "fernlight", "--json").document["findings"]
        late = [f for f in found if f["rule"] == "video.keyframes longest"]
        assert bool(late) is breach
        assert not late or late[0]["found"].startswith("one keyframe in 7.9")


@pytest.mark.parametrize("source", ["testsrc2", "mandelbrot", "smptebars"])
@pytest.mark.parametrize("fps", ["30", "10"])
def test_constant_bitrate_is_known_whatever_is_shown(tmp_path: Path, source: str, fps: str) -> None:
    """With filler and a buffer of a second, keyframes heavy or not; and quality alone is not it."""
    for name, options, control in (
        (
            "cbr.ts",
            [
                *shlex.split("-b:v 600k -minrate 600k -maxrate 600k -bufsize 600k -x264-params"),
                "nal-hrd=cbr:filler=1",
            ],
            "constant",
        ),
        ("crf.ts", ["-crf", "30"], "variable"),
    ):
        path = tmp_path / name
        part = f"{source}=size=320x180:rate={fps}"
        if control == "variable":  # quiet, then busy
            part = f"{part},noise=alls=90:allf=t:enable='gt(t,6)'"
        subprocess.run(
            [
                FFMPEG,
                *shlex.split("-v error -f lavfi -i"),
                part,
                *shlex.split("-t 12 -c:v libx264 -preset ultrafast -pix_fmt yuv420p -threads 1"),
                "-g",
                str(2 * int(fps)),
                *options,
                str(path),
            ],
            check=True,
        )
        assert read_recording(path).video.rate_control == control
