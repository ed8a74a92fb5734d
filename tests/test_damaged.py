"""Recordings damaged in every way: described or refused, in a line and in little memory."""

from __future__ import annotations

import random
import shlex
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import imageio_ffmpeg
import pytest

from eager_kestrel.core.checks.findings import check_recording
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.files.guides import load_guide
from eager_kestrel.media.recording import read_recording
from tests.conftest import THOROUGH, Kestrel, running
from tests.damage import KINDS, damaged, seeds

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
GUIDES = [load_guide("oxbow"), load_guide("gatepost")]
VARIANTS = 80 if THOROUGH else 16
"""Of each kind of file."""


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    return seeds(tmp_path_factory.mktemp("whole"))


@pytest.mark.parametrize("kind", KINDS)
def test_damaged_recordings_get_their_line(
    whole: dict[str, bytes], tmp_path: Path, kind: str
) -> None:
    """Whatever is hit: what is read stands up to every rule, what is not is refused in words."""
    seed = whole[kind]
    path = tmp_path / f"damaged.{kind}"
    read = 0
    for number in range(VARIANTS):
        random_ = random.Random(f"{kind}{number}")
        path.write_bytes(damaged(bytearray(seed), random_))
        try:
            seen = read_recording(path, deep=random_.random() < 0.2)
        except KestrelError as error:
            assert "\n" not in error.line()
            assert error.instead
            continue
        read += 1
        found = check_recording(seen, GUIDES, 5000.0)
        assert found.model_dump_json()
        assert seen.seconds >= 0
    assert read > VARIANTS // 4  # a few bytes are no reason to refuse a recording


MEMORY = """
import re, sys
from pathlib import Path
from eager_kestrel.core.errors import KestrelError
from eager_kestrel.media.recording import read_recording
try:
    read_recording(Path(sys.argv[1]))
except KestrelError as error:
    print(error.line())
print(int(re.search(r"VmHWM:\\s+(\\d+)", Path("/proc/self/status").read_text())[1]) // 1024)
"""


@pytest.mark.skipif(sys.platform != "linux", reason="peak memory is read as Linux counts it")
@pytest.mark.parametrize(
    ("box", "at", "value"),
    [
        (b"stsz", 8, 0x7FFFFFFF),
        (b"stts", 4, 0x00FFFFFF),
        (b"stts", 8, 0x7FFFFFFF),
        (b"stco", 4, 0x0FFFFFFF),
        (b"stsc", 4, 0x0FFFFFFF),
    ],
)
def test_an_index_that_claims_too_much_takes_no_memory(
    whole: dict[str, bytes], tmp_path: Path, box: bytes, at: int, value: int
) -> None:
    data = bytearray(whole["mp4"])
    place = data.index(box) + 4 + at
    data[place : place + 4] = value.to_bytes(4, "big")
    path = tmp_path / "greedy.mp4"
    path.write_bytes(bytes(data))
    with running([sys.executable, "-c", MEMORY, str(path)]) as process:
        said, _ = process.communicate(timeout=30)
    line, peak = said.strip().splitlines()
    assert "its index is damaged" in line
    assert int(peak) < 200


@pytest.mark.parametrize("length", [2**63 - 1, 2**63, 2**64 - 1, 2**40, 17])
def test_a_box_longer_than_its_file_ends_the_search(
    whole: dict[str, bytes], tmp_path: Path, length: int
) -> None:
    """A length of 64 bits (ISO/IEC 14496-12, section 4.2) may be more than a file can be."""
    path = tmp_path / "long.mp4"
    box = b"\x00\x00\x00\x01free" + length.to_bytes(8, "big")
    path.write_bytes(whole["mp4"][:32] + box + whole["mp4"][32:])
    with suppress(KestrelError):
        read_recording(path)


def test_an_interrupted_playlist_is_read_to_where_it_goes(tmp_path: Path) -> None:
    """Without an end tag a reader would wait for more pieces, for ever."""
    folder = tmp_path / "pieces"
    folder.mkdir()
    subprocess.run(
        [
            FFMPEG,
            *shlex.split("-v error -f lavfi -i testsrc2=size=160x90:rate=25 -t 6 -c:v libx264"),
            *shlex.split("-preset ultrafast -pix_fmt yuv420p -g 50 -hls_time 2 -hls_list_size"),
            "0",
            str(folder / "list.m3u8"),
        ],
        check=True,
    )
    path = folder / "list.m3u8"
    whole = read_recording(path)
    path.write_text(path.read_text().replace("#EXT-X-ENDLIST", ""))
    cut = read_recording(path)
    assert cut.seconds == whole.seconds
    assert cut.video.frames == whole.video.frames == 150
    path.write_text(path.read_text() + "#EXTINF:2,\nhttp://elsewhere.example/x.ts\n")
    with pytest.raises(KestrelError):  # nothing is fetched from elsewhere
        read_recording(path)


@pytest.mark.parametrize(
    ("name", "source", "options"),
    [
        ("long-sound.mp4", "testsrc2=size=160x90:rate=25:duration=8", ("-t", "14")),
        ("slow.mp4", "testsrc2=size=160x90:rate=1/2", ("-t", "20")),
        ("fast.mp4", "testsrc2=size=64x36:rate=500", ("-t", "2")),
    ],
)
def test_odd_but_intact_recordings_are_described(
    kestrel: Kestrel, tmp_path: Path, name: str, source: str, options: tuple[str, ...]
) -> None:
    path = tmp_path / name
    subprocess.run(
        [
            FFMPEG,
            *shlex.split("-v error -f lavfi -i"),
            source,
            *shlex.split("-f lavfi -i sine=frequency=330:sample_rate=48000"),
            *options,
            *shlex.split("-c:v libx264 -preset ultrafast -pix_fmt yuv420p -c:a aac"),
            str(path),
        ],
        check=True,
    )
    result = kestrel("check", path, "--for", "oxbow")
    assert result.code in (0, 1), result.err
    assert "cut off" not in result.err
