"""Rate-quality points from real encodes: pictures x frame rates x bitrates of every scene.

Each point is encoded as a live stream would be (capped at its bitrate, a buffer of one second, a
keyframe every two seconds, nothing at scene cuts), from five seconds of footage (three of the
scenes that were measured first). The first second lets the rate control settle and is left out; the
whole keyframe intervals that follow are measured: bytes from the packets, and VMAF (v0.6.1) of
every third decoded frame, scaled to 1920x1080 beside the source scaled alike, as somebody sees it
who watches on such a screen. A target of 0 is no encode at all: what the size alone takes away.

VMAF: Li et al., "Toward A Practical Perceptual Video Quality Metric", 2016; its filter and models
are in the ``ffmpeg`` that ``imageio-ffmpeg`` carries.

Points are kept in a file as they come, so a run that was stopped goes on where it was.
"""

from __future__ import annotations

import csv
import re
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, fields
from pathlib import Path

import av

from scenes import FFMPEG, SCENES, source_file

SETTLING = 1
RESOLUTIONS = (
    (1920, 1080),
    (1536, 864),
    (1280, 720),
    (1024, 576),
    (768, 432),
    (640, 360),
    (480, 270),
)
QUICK_RESOLUTIONS = ((1920, 1080), (1536, 864), (1280, 720), (768, 432))
"""At the full frame rate."""
LATER_RESOLUTIONS = ((1920, 1080), (1536, 864), (1280, 720), (1024, 576), (640, 360))
LATER_QUICK_RESOLUTIONS = ((1920, 1080), (1536, 864), (1280, 720))
"""Of the scenes that were measured later, in time for more scenes instead."""
GRID = (100, 200, 400, 800, 1600, 3200, 6400, 12_800)
LEAST_BITS, MOST_BITS = 0.01, 0.34
"""Of a pixel at 30 frames a second, for lively footage: beyond, a picture is never the best."""
BITS = {"still": 0.25, "calm": 0.5, "lively": 1.0, "hectic": 1.5}
"""How many times that range for each motion; only where to look, not a result."""
FEW_RESOLUTIONS, FEW_KBPS = ((1920, 1080), (1280, 720), (768, 432)), 3
"""For the other codecs, whose parameters but one are those of H.264."""
PRESET_KBPS = (800, 1600, 3200)
PRESET_SCENES = ("desk", "dog", "wheel", "chase")
CODEC_SCENES = PRESET_SCENES
X264_PRESETS = ("ultrafast", "superfast", "faster", "fast", "medium", "slow")
AV1_PRESETS = ("6", "7", "9", "10", "11", "12")
SPEEDS = {
    "h264": ("ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow"),
    "av1": ("12", "11", "10", "9", "8", "7", "6"),
}
"""From fast to slow."""
USUAL = {"h264": "veryfast", "hevc": "veryfast", "av1": "8"}
ENCODERS = {
    "h264": ["libx264", "-x264-params", "scenecut=0:open-gop=0:threads=1"],
    "hevc": [
        "libx265",
        "-x265-params",
        "scenecut=0:open-gop=0:pools=none:frame-threads=1:log-level=error",
    ],
    "av1": ["libsvtav1", "-svtav1-params", "rc=2:scd=0:pred-struct=1:lp=1"],
}
EVERY = 3
"""VMAF looks at every third frame."""


@dataclass(frozen=True, slots=True)
class Wanted:
    """An encode to make."""

    scene: str
    codec: str
    preset: str
    width: int
    height: int
    fps: int
    target_kbps: int


@dataclass(frozen=True, slots=True)
class Point(Wanted):
    """An encode that was measured."""

    kbps: float
    vmaf: float

    @property
    def motion(self) -> str:
        """The kind of motion its scene is counted to."""
        return SCENES[self.scene].motion


def slow_rate(scene: str) -> int:
    """Half of 60, or what a clip has."""
    return min(30, SCENES[scene].fps)


def wanted(scene: str) -> Iterator[Wanted]:
    """Every encode of a scene in H.264."""
    shot = SCENES[scene]
    first = shot.seconds < 5
    slow, quick = (
        (RESOLUTIONS, QUICK_RESOLUTIONS) if first else (LATER_RESOLUTIONS, LATER_QUICK_RESOLUTIONS)
    )
    resolutions = [p for p in slow if p[0] <= shot.width]
    for width, height in resolutions:
        yield Wanted(scene, "h264", "", width, height, slow_rate(scene), 0)
    for fps in sorted({slow_rate(scene), shot.fps}):
        for width, height in resolutions if fps <= 30 else quick:
            for kbps in _around(shot.motion, width * height * fps):
                yield Wanted(scene, "h264", USUAL["h264"], width, height, fps, kbps)


def _around(motion: str, pixels: int) -> list[int]:
    least, most = (bits * BITS[motion] * pixels / 1000 for bits in (LEAST_BITS, MOST_BITS))
    return [kbps for kbps in GRID if least <= kbps <= most]


def wanted_of_codecs(scene: str) -> Iterator[Wanted]:
    """A few encodes of a scene in the other codecs."""
    shot = SCENES[scene]
    for codec in ("hevc", "av1"):
        for width, height in FEW_RESOLUTIONS:
            if width <= shot.width:
                around = _around(shot.motion, width * height * slow_rate(scene))
                for kbps in around[:: max(1, len(around) // FEW_KBPS)][:FEW_KBPS]:
                    yield Wanted(scene, codec, USUAL[codec], width, height, slow_rate(scene), kbps)


def wanted_of_presets(scene: str) -> Iterator[Wanted]:
    """Encodes at every preset, and at the usual one beside them."""
    factor = BITS[SCENES[scene].motion]
    for codec, presets in (("h264", X264_PRESETS), ("av1", AV1_PRESETS)):
        for preset in (USUAL[codec], *presets):
            for kbps in PRESET_KBPS:
                target = int(round(kbps * factor, -1))
                yield Wanted(scene, codec, preset, 1280, 720, slow_rate(scene), target)


def read_points(path: Path) -> list[Point]:
    """The points of a file; none when there is no file."""
    if not path.exists():
        return []
    kinds = {"str": str, "int": int, "float": float}
    kind_of = {f.name: kinds[str(f.type)] for f in fields(Point)}
    with path.open(newline="") as rows:
        return [Point(**{k: kind_of[k](v) for k, v in row.items()}) for row in csv.DictReader(rows)]


def measure_all(todo: list[Wanted], path: Path, cache: Path) -> None:
    """Measure what the file does not hold yet, two at a time, and add it."""
    known = {_key(point) for point in read_points(path)}
    left = [w for w in dict.fromkeys(todo) if _key(w) not in known]
    fresh = not path.exists()
    for scene in dict.fromkeys(w.scene for w in left):
        source_file(scene, cache)
    with path.open("a", newline="") as out, ThreadPoolExecutor(2) as workers:
        table = csv.DictWriter(out, [f.name for f in fields(Point)], lineterminator="\n")
        if fresh:
            table.writeheader()
        for number, point in enumerate(workers.map(lambda w: measured(w, cache), left), 1):
            table.writerow(asdict(point))
            out.flush()
            what = f"{point.scene} {point.codec} {point.width}x{point.height} at {point.fps}"
            print(
                f"{number}/{len(left)} {what}: {point.kbps:.0f} kbit/s, VMAF {point.vmaf:.1f}",
                flush=True,
            )


def _key(w: Wanted) -> tuple[str | int, ...]:
    return (w.scene, w.codec, w.preset, w.width, w.height, w.fps, w.target_kbps)


def measured(want: Wanted, cache: Path) -> Point:
    """Encode, decode, compare."""
    shot = SCENES[want.scene]
    source = [
        "-f",
        "rawvideo",
        "-pix_fmt",
        "yuv420p",
        "-s",
        f"{shot.width}x{shot.height}",
        "-r",
        str(shot.fps),
        "-i",
        str(source_file(want.scene, cache)),
    ]
    size = f"scale={want.width}:{want.height}:flags=lanczos"
    # frames are paired by number: a container's rounded timestamps would pair some with a neighbour
    settled = (
        f"settb=1/{want.fps},setpts=N,trim=start_frame={SETTLING * want.fps},setpts=PTS-STARTPTS"
    )
    seen = "scale=1920:1080:flags=bicubic"
    compared = (
        f"[1:v]fps={want.fps},{settled},{seen}[y];"
        "[x][y]libvmaf=model=version=vmaf_v0.6.1:n_threads=1:"
        f"n_subsample={EVERY}"
    )
    if not want.target_kbps:
        said = _run(
            [
                *source,
                *source,
                "-filter_complex",
                f"[0:v]fps={want.fps},{settled},{size},{seen}[x];{compared}",
                "-f",
                "null",
                "-",
            ]
        )
        return Point(**asdict(want), kbps=0.0, vmaf=_found(said))
    encoded = cache / ("-".join(map(str, _key(want))) + ".mkv")
    _run([*source, "-vf", f"fps={want.fps},{size}", *_encoder(want), str(encoded)])
    said = _run(
        [
            "-i",
            str(encoded),
            *source,
            "-filter_complex",
            f"[0:v]{settled},{seen}[x];{compared}",
            "-f",
            "null",
            "-",
        ]
    )
    point = Point(**asdict(want), kbps=round(_kbps(encoded, shot.seconds), 1), vmaf=_found(said))
    encoded.unlink()
    return point


def _encoder(want: Wanted) -> list[str]:
    rate, interval = f"{want.target_kbps}k", str(2 * want.fps)
    capped = ["-b:v", rate, "-bufsize", rate]
    if want.codec != "av1":
        capped += ["-maxrate", rate]
    return [
        "-c:v",
        *ENCODERS[want.codec],
        "-preset",
        want.preset,
        *capped,
        "-g",
        interval,
        "-keyint_min",
        interval,
        "-bf",
        "2",
    ]


def _run(arguments: list[str]) -> str:
    command = [
        FFMPEG,
        "-hide_banner",
        "-nostdin",
        "-nostats",
        "-y",
        "-threads",
        "1",
        "-filter_threads",
        "1",
        *arguments,
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(done.stderr[-2000:])
    return done.stderr


def _found(text: str) -> float:
    match = re.search(r"VMAF score: ([\d.]+)", text)
    if match is None:
        raise RuntimeError(f"no VMAF in {text[-1000:]}")
    return round(float(match[1]), 3)


def _kbps(path: Path, seconds: int) -> float:
    """Payload of the packets after the first second."""
    with av.open(str(path)) as opened:
        stream = opened.streams.video[0]
        base = stream.time_base
        assert base is not None
        sizes = [
            p.size for p in opened.demux(stream) if p.pts is not None and p.pts * base >= SETTLING
        ]
    return sum(sizes) * 8e-3 / (seconds - SETTLING)
