"""How fast recordings are read, and what memory that takes.

Usage: python -m benchmarks recordings [--quick] [--seconds 7200]

Makes a recording of that many seconds (7,200 by default) by repeating a short one without encoding
it again, and compares `check`'s reading with a bare PyAV demux loop over the same file in the same
run, turn about; medians. Memory is that of a fresh process for a tenth and for all of it. Wanted:
at least 0.8 of the bare loop's speed, and memory that does not grow with the length.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import av
import imageio_ffmpeg

from benchmarks import options
from eager_kestrel.media.recording import read_recording

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
ROUNDS = 5
PIECE_SECONDS = 60
PEAK = """
import resource, sys
from pathlib import Path
from eager_kestrel.media.recording import read_recording
read_recording(Path(sys.argv[1]))
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def made(folder: Path, seconds: int) -> Path:
    """A recording of so many seconds."""
    piece, path = folder / "piece.mkv", folder / f"{seconds}.mkv"
    if not piece.exists():
        subprocess.run(
            [
                FFMPEG,
                "-v",
                "error",
                "-f",
                "lavfi",
                "-i",
                "testsrc2=size=640x360:rate=60,noise=alls=20:allf=t",
                "-f",
                "lavfi",
                "-i",
                "sine=frequency=330:sample_rate=48000",
                "-t",
                str(PIECE_SECONDS),
                "-c:v",
                "libx264",
                "-preset",
                "ultrafast",
                "-b:v",
                "1500k",
                "-maxrate",
                "1500k",
                "-bufsize",
                "1500k",
                "-g",
                "120",
                "-c:a",
                "aac",
                str(piece),
            ],
            check=True,
        )
    repeats = str(max(0, seconds // PIECE_SECONDS - 1))
    subprocess.run(
        [FFMPEG, "-v", "error", "-stream_loop", repeats, "-i", str(piece), "-c", "copy", str(path)],
        check=True,
    )
    return path


def bare(path: Path) -> float:
    """Seconds of a loop that does nothing with the packets."""
    began = time.perf_counter()
    with av.open(str(path)) as opened:
        for _ in opened.demux():
            pass
    return time.perf_counter() - began


def ours(path: Path) -> float:
    """Seconds of reading a recording."""
    began = time.perf_counter()
    read_recording(path)
    return time.perf_counter() - began


def peak_mb(path: Path) -> float:
    """Most memory of a process that reads it."""
    done = subprocess.run([sys.executable, "-c", PEAK, str(path)], check=True, capture_output=True)
    return float(done.stdout)


def main(words: list[str]) -> int:
    """Print both; 1 when either is missed."""
    parser = options(__doc__)
    parser.add_argument("--seconds", type=int)
    asked = parser.parse_args(words)
    seconds = asked.seconds or (240 if asked.quick else 7200)
    least = 0.5 if asked.quick else 0.8
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        whole, tenth = made(folder, seconds), made(folder, seconds // 10)
        times = [(bare(whole), ours(whole)) for _ in range(ROUNDS)]
        ratio = statistics.median(b / o for b, o in times)
        small, large = peak_mb(tenth), peak_mb(whole)
        print(
            f"{whole.stat().st_size / 1e6:,.0f} MB, {seconds:,} s: {ratio:.2f} of a bare loop's "
            f"speed; {small:.0f} MB for a tenth, {large:.0f} MB for all of it"
        )
    return 0 if ratio >= least and large - small < 20 else 1
