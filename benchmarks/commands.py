"""Whether the commands a plan prints make what it says: run on clips, then checked.

Usage: python -m benchmarks commands [--quick] [--plans 50] [--seed 1]

Random plans for the bundled guides are exported for FFmpeg and GStreamer and run on three clips
(moving, cut every two seconds, all noise), without waiting for real time. Each recording is held
against its plan and its guide. Wanted: no breach. GStreamer is left out, and said to be, where it
is not installed.
"""

from __future__ import annotations

import itertools
import random
import shutil
import subprocess
import tempfile
from collections import Counter
from collections.abc import Iterable
from pathlib import Path

import imageio_ffmpeg

from benchmarks import options
from eager_kestrel.core.checks.findings import against_plan, check_recording
from eager_kestrel.core.connection.uplink import assumed_uplink
from eager_kestrel.core.plan.exports import ffmpeg_arguments, gstreamer_arguments
from eager_kestrel.core.plan.planner import plan
from eager_kestrel.core.show.show import MOTIONS, Destination, Show
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.footage import quality_table
from eager_kestrel.files.guides import load_guide
from eager_kestrel.media.recording import read_recording

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
GSTREAMER = shutil.which("gst-launch-1.0")
SECONDS, QUICK_SECONDS = 12, 6
LIMIT_SECONDS = 300.0
CUTS = ";".join(
    [
        "testsrc2=size=640x360:rate=60[a]",
        "mandelbrot=size=640x360:rate=60[b]",
        "[a][b]blend=all_expr='if(mod(floor(T/2),2),A,B)'[out0]",
    ]
)
CLIPS = {
    "moving": "testsrc2=size=640x360:rate=60,noise=alls=12:allf=t",
    "cuts": CUTS,
    "noise": "nullsrc=size=640x360:rate=60,geq=random(1)*255:128:128",
}


def clips(folder: Path, names: Iterable[str], seconds: int) -> dict[str, Path]:
    """Each clip, nearly lossless, with a tone."""
    found = {}
    for name in names:
        graph = CLIPS[name]
        found[name] = folder / f"{name}.mkv"
        source = ["-f", "lavfi", "-i", graph, "-f", "lavfi", "-i", "sine=frequency=330"]
        how = ["-t", str(seconds), "-c:v", "libx264", "-preset", "ultrafast", "-qp", "10"]
        sound = ["-c:a", "pcm_s16le", str(found[name])]
        subprocess.run([FFMPEG, "-v", "error", "-y", *source, *how, *sound], check=True)
    return found


def main(words: list[str]) -> int:
    """Print each breach, and a table of how many there were."""
    reads = options(__doc__)
    reads.add_argument("--plans", type=int)
    reads.add_argument("--seed", type=int, default=1)
    asked = reads.parse_args(words)
    chance, table = random.Random(asked.seed), quality_table()
    runs, clean = Counter[str](), Counter[str]()
    with tempfile.TemporaryDirectory() as name:
        sources = (
            clips(Path(name), ["cuts"], QUICK_SECONDS)
            if asked.quick
            else clips(Path(name), CLIPS, SECONDS)
        )
        for number in range(asked.plans or (1 if asked.quick else 50)):
            guide = load_guide(chance.choice(["oxbow", "fernlight", "pocketfair", "gatepost"]))
            show = Show(
                source=chance.choice(["1920x1080", "1280x720", "640x480"]),
                source_fps=chance.choice(["60", "50", "30", "29.97"]),
                motion=chance.choice(MOTIONS),
                destinations=(Destination(platform=guide.name),),
            )
            upload = assumed_uplink(Bitrate.from_kbps(chance.choice([2000, 4000, 7000, 12_000])))
            (there,) = plan(upload, show, {guide.name: guide}, table).destinations
            if there.video is None:
                continue
            for clip, program in itertools.product(sources, ("ffmpeg", "gstreamer")):
                out = Path(name) / f"out.{'ts' if there.transport == 'hls' else 'flv'}"
                out.unlink(missing_ok=True)
                if program == "ffmpeg":
                    words = ffmpeg_arguments(there, str(sources[clip]), str(out))
                    words.remove("-re")
                    command = [FFMPEG, "-v", "error", "-y", *words]
                elif GSTREAMER is None:
                    continue
                else:
                    words = gstreamer_arguments(there, sources[clip].as_uri(), str(out))
                    command = [
                        GSTREAMER,
                        "-q",
                        *("filesink" if w == "rtmp2sink" else w for w in words),
                    ]
                done = subprocess.run(
                    command, capture_output=True, text=True, timeout=LIMIT_SECONDS, check=False
                )
                runs[f"{program} {clip}"] += 1
                if done.returncode or not out.exists():
                    print(f"{number} {program} {clip}: {done.stderr.strip()[-300:]}")
                    continue
                seen = read_recording(out)
                found = [*against_plan(seen, there), *check_recording(seen, [guide]).findings]
                broken = [one for one in found if one.severity == "breach"]
                clean[f"{program} {clip}"] += not broken
                for one in broken:
                    said = f"{one.platform} {one.rule}: {one.found}, wanted {one.wanted}"
                    print(f"{number} {guide.name} {there.video.text} {program} {clip}: {said}")
    for kind in sorted(runs):
        print(f"{kind:<20} {clean[kind]} of {runs[kind]} clean")
    if GSTREAMER is None:
        print("gst-launch-1.0 is not installed: only FFmpeg was run")
    return 0 if clean == runs else 1
