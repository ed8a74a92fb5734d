"""How long it takes to hold a hundred settings files against four guides, in one process.

Usage: python -m benchmarks check [--quick]

The reference, taken in the same run, is reading the same hundred files with the standard library's
TOML parser alone. Wanted, after start-up: at most 150 times that.
"""

from __future__ import annotations

import tempfile
import time
import tomllib
from pathlib import Path

from benchmarks import SLACK, options
from eager_kestrel.actions.checking import check, settings_from

FILES, REPEATS = 100, 10
MOST_TIMES = 150
PLATFORMS = ["oxbow:hearth", "fernlight", "pocketfair", "gatepost"]
SETTINGS = """
format = "eager-kestrel/settings/3"
transport = "rtmps"
[video]
codec = "h264"
resolution = "{width}x{height}"
frame_rate = "{fps}"
bitrate = "{bitrate} kbit/s"
rate_control = "constant"
buffer_kbit = {bitrate}
keyframes = "2 s"
profile = "high"
level = "4.2"
b_frames = 2
[audio]
codec = "aac"
bitrate = "160 kbit/s"
sample_rate_hz = 48000
channels = 2
"""


def main(words: list[str]) -> int:
    """Print both times; 1 when the check takes too many times the parsing."""
    quick = options(__doc__).parse_args(words).quick
    count = FILES // 4 if quick else FILES
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for number in range(count):
            step = 5 + number % 11
            path = Path(folder) / f"{number:03}.toml"
            path.write_text(
                SETTINGS.format(
                    width=128 * step,
                    height=72 * step,
                    fps=(60, 30, 25)[number % 3],
                    bitrate=1000 + 70 * number,
                )
            )
            paths.append(path)
        check(
            settings_from(paths[0], {}, ""), PLATFORMS
        )  # models are built on first use: that is start-up
        began = time.process_time()
        for path in paths * REPEATS:
            tomllib.loads(path.read_text())
        reference = (time.process_time() - began) / REPEATS
        began = time.process_time()
        findings = [check(settings_from(path, {}, ""), PLATFORMS) for path in paths]
        taken = time.process_time() - began
    told = sum(len(found.findings) for found in findings)
    print(f"{len(findings)} files x {len(PLATFORMS)} guides: {told} findings in {taken:.3f} s")
    print(f"{taken / reference:.1f} times parsing the same files as TOML ({reference:.3f} s)")
    most = MOST_TIMES * (SLACK if quick else 1.0) * reference
    return 0 if taken < most and len(findings) == count else 1
