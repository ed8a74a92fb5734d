"""Rate-quality points from real encodes: pictures x frame rates x bitrates for each motion class.

Each point is encoded as a live stream would be (capped at its bitrate, a buffer of one second, a
keyframe every two seconds, nothing at scene cuts), from three seconds of footage. The first second
lets the rate control settle and is left out; the two that follow, one keyframe interval, are
measured: bytes from the packets, and PSNR, SSIM and XPSNR of the luma by FFmpeg's filters,

- *at size*: against the source scaled to the same picture: what compression took away;
- *at source*: scaled back to 1920x1080, against the source: what compression and the smaller
  picture took away together.

XPSNR: Helmrich et al., "XPSNR: A Low-Complexity Extension of the Perceptually Weighted Peak
Signal-to-Noise Ratio for High-Resolution Video Quality Assessment", ICASSP 2020.

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
import imageio_ffmpeg

import clip
import footage

FFMPEG = imageio_ffmpeg.get_ffmpeg_exe()
SECONDS, SETTLING = 3, 1
PICTURES = ((1920, 1080), (1536, 864), (1280, 720), (1024, 576), (768, 432), (512, 288))
RATES = (60, 30)
FEW_PICTURES, FEW_RATES = ((1920, 1080), (1280, 720), (768, 432)), (30,)
"""For the other codecs, whose parameters but one are those of H.264."""
START = {"still": 1500, "calm": 2600, "lively": 4200, "hectic": 6500}
"""Bitrates (kbit/s) that 1280x720 at 30 is tried around; only where to look, not a result."""
FACTORS = (0.15, 0.3, 0.6, 1.2, 2.4)
FILM_KBPS = (300, 600, 1200, 2400, 4800)
ENCODERS = {
    "h264": ["libx264", "-preset", "veryfast", "-x264-params", "scenecut=0:open-gop=0:threads=1"],
    "hevc": ["libx265", "-preset", "veryfast", "-x265-params",
             "scenecut=0:open-gop=0:pools=none:frame-threads=1:log-level=error"],
    "av1": ["libsvtav1", "-preset", "8", "-svtav1-params", "rc=2:scd=0:pred-struct=1:lp=1"],
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Wanted:
    """An encode to make."""

    motion: str
    codec: str
    width: int
    height: int
    fps: int
    target_kbps: int


@dataclass(frozen=True, slots=True)
class Point(Wanted):
    """An encode that was measured; decibels for PSNR and XPSNR, all of luma."""

    kbps: float
    psnr: float
    ssim: float
    xpsnr: float
    psnr_at_source: float
    xpsnr_at_source: float


@dataclass(frozen=True, slots=True)
class Source:
    """What is encoded."""

    width: int = footage.WIDTH
    height: int = footage.HEIGHT
    fps: int = footage.FPS


def source_of(motion: str) -> Source:
    """The film's own, or that of all made footage."""
    return Source(clip.WIDTH, clip.HEIGHT, clip.FPS) if motion == clip.NAME else Source()


def of_film() -> Iterator[Wanted]:
    """Encodes of the film, to hold the fit against."""
    for width, height in PICTURES:
        if width <= clip.WIDTH:
            for kbps in FILM_KBPS:
                size = (width * height / 921_600) ** 0.75
                yield Wanted(
                    clip.NAME, "h264", width, height, clip.FPS, int(round(kbps * size, -1))
                )


def wanted(motions: tuple[str, ...], codecs: tuple[str, ...]) -> Iterator[Wanted]:
    """Every encode to make, H.264 first."""
    for codec in codecs:
        few = codec != "h264"
        for motion in motions:
            for width, height in FEW_PICTURES if few else PICTURES:
                for fps in FEW_RATES if few else RATES:
                    size = (width * height / 921_600) ** 0.75 * (fps / 30) ** 0.5
                    for factor in FACTORS[:4] if few else FACTORS:
                        kbps = max(50, round(START[motion] * size * factor, -1))
                        yield Wanted(motion, codec, width, height, fps, int(kbps))


def read_points(path: Path) -> list[Point]:
    """The points of a file; none when there is no file."""
    if not path.exists():
        return []
    kinds = {f.name: {"str": str, "int": int, "float": float}[str(f.type)] for f in fields(Point)}
    with path.open(newline="") as rows:
        return [Point(**{k: kinds[k](v) for k, v in row.items()}) for row in csv.DictReader(rows)]


def measure_all(todo: list[Wanted], path: Path, cache: Path) -> None:
    """Measure what the file does not hold yet, two at a time, and add it."""
    known = {_key(point) for point in read_points(path)}
    left = [w for w in todo if _key(w) not in known]
    names = [f.name for f in fields(Point)]
    fresh = not path.exists()
    for motion in dict.fromkeys(w.motion for w in left):
        source_file(motion, cache)
    with path.open("a", newline="") as out, ThreadPoolExecutor(2) as workers:
        table = csv.DictWriter(out, names, lineterminator="\n")
        if fresh:
            table.writeheader()
        for number, point in enumerate(workers.map(lambda w: measured(w, cache), left), 1):
            table.writerow(asdict(point))
            out.flush()
            what = f"{point.motion} {point.codec} {point.width}x{point.height} at {point.fps}"
            print(f"{number}/{len(left)} {what}: {point.kbps:.0f} kbit/s, {point.xpsnr:.2f} dB",
                  flush=True)  # fmt: skip


def _key(w: Wanted) -> tuple[str | int, ...]:
    return (w.motion, w.codec, w.width, w.height, w.fps, w.target_kbps)


def source_file(motion: str, cache: Path) -> Path:
    """Raw 4:2:0 footage of a motion class, made once."""
    path = cache / f"{motion}.yuv"
    source = source_of(motion)
    count = SECONDS * source.fps
    if path.exists() and path.stat().st_size == count * source.width * source.height * 3 // 2:
        return path
    if motion == clip.NAME:
        _run(["-i", str(clip.fetched(cache)), "-frames:v", str(count), "-pix_fmt", "yuv420p",
              "-f", "rawvideo", str(path)])  # fmt: skip
        return path
    print(f"making footage: {motion}", flush=True)
    part = path.with_suffix(".part")
    command = [FFMPEG, "-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24",
               "-s", f"{footage.WIDTH}x{footage.HEIGHT}", "-r", str(footage.FPS), "-i", "-",
               "-vf", "scale=out_color_matrix=bt709:out_range=tv", "-pix_fmt", "yuv420p",
               "-f", "rawvideo", str(part)]  # fmt: skip
    with subprocess.Popen(command, stdin=subprocess.PIPE) as maker:
        assert maker.stdin is not None
        for frame in footage.frames(motion, count):
            maker.stdin.write(frame)
        maker.stdin.close()
    part.rename(path)
    return path


def measured(want: Wanted, cache: Path) -> Point:
    """Encode, decode, compare."""
    shot = source_of(want.motion)
    source = ["-f", "rawvideo", "-pix_fmt", "yuv420p", "-s", f"{shot.width}x{shot.height}",
              "-r", str(shot.fps), "-i", str(source_file(want.motion, cache))]  # fmt: skip
    size = f"scale={want.width}:{want.height}:flags=lanczos"
    encoded = cache / ("-".join(map(str, _key(want))) + ".mkv")
    rate = f"{want.target_kbps}k"
    interval = str(2 * want.fps)
    capped = ["-b:v", rate, "-bufsize", rate]
    if want.codec != "av1":
        capped += ["-maxrate", rate]
    _run([*source, "-vf", f"fps={want.fps},{size}", "-c:v", *ENCODERS[want.codec], *capped,
          "-g", interval, "-keyint_min", interval, "-bf", "2", str(encoded)])  # fmt: skip
    # frames are paired by number: a container's rounded timestamps would pair some with a neighbour
    settled = (
        f"settb=1/{want.fps},setpts=N,trim=start_frame={SETTLING * want.fps},setpts=PTS-STARTPTS"
    )
    back = f"scale={shot.width}:{shot.height}:flags=bicubic"
    reference = f"[1:v]fps={want.fps},{settled}"
    at_size = _run(["-i", str(encoded), *source, "-filter_complex",
                    f"[0:v]{settled},split=3[a][b][c];{reference},{size},split=3[x][y][z];"
                    "[a][x]psnr[p];[b][y]ssim[s];[c][z]xpsnr[q];"
                    "[p][s][q]concat=n=3:v=1[o]", "-map", "[o]", "-f", "null", "-"])  # fmt: skip
    at_source = at_size
    if (want.width, want.height) != (shot.width, shot.height):
        at_source = _run(["-i", str(encoded), *source, "-filter_complex",
                          f"[0:v]{settled},{back},split=2[a][b];{reference},split=2[x][y];"
                          "[a][x]psnr[p];[b][y]xpsnr[q];[p][q]concat=n=2:v=1[o]",
                          "-map", "[o]", "-f", "null", "-"])  # fmt: skip
    point = Point(
        **asdict(want),
        kbps=round(_kbps(encoded), 1),
        psnr=_found(r"PSNR y:([\d.]+|inf)", at_size),
        ssim=_found(r"SSIM Y:([\d.]+)", at_size),
        xpsnr=_found(r"XPSNR\s+y: ([\d.]+|inf)", at_size),
        psnr_at_source=_found(r"PSNR y:([\d.]+|inf)", at_source),
        xpsnr_at_source=_found(r"XPSNR\s+y: ([\d.]+|inf)", at_source),
    )
    encoded.unlink()
    return point


def _run(arguments: list[str]) -> str:
    command = [FFMPEG, "-hide_banner", "-nostdin", "-y", "-threads", "1", "-filter_threads", "1",
               *arguments]  # fmt: skip
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(done.stderr[-2000:])
    return done.stderr


def _found(pattern: str, text: str) -> float:
    match = re.search(pattern, text)
    if match is None:
        raise RuntimeError(f"no {pattern} in {text[-1000:]}")
    return float(match[1])


def _kbps(path: Path) -> float:
    """Payload of the packets after the first second."""
    with av.open(str(path)) as opened:
        stream = opened.streams.video[0]
        base = stream.time_base
        assert base is not None
        sizes = [p.size for p in opened.demux(stream)
                 if p.pts is not None and p.pts * base >= SETTLING]  # fmt: skip
    return sum(sizes) * 8e-3 / (SECONDS - SETTLING)
