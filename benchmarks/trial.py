"""What a trial costs, and what planning by one's own footage gains.

Usage: python -m benchmarks trial [--quick] [--only speed|regret|memory]

Quick: memory on shorter clips, and the regret of one draw.

Speed: a trial of a made clip (1280x720 at 60) with nothing kept. The reference, in the same run, is
each of its encodes and comparisons as bare ffmpeg commands, two at a time. Wanted: 1.25 times.

Memory: looking through clips of 10 and 60 s, each in a process of its own. Wanted: alike.

Regret (needs the calibration extra): on every scene of ``calibration/points.csv``, parameters
fitted to twelve of its encodes at three neighbouring resolutions, with the parameters of its kind,
fitted to the other scenes only, as prior. VMAF of the best resolution less VMAF of the one a plan
takes, mean over bitrates of 250 to 12,000 kbit/s. Wanted: at most 1.0, and half of what the kind
gives.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

from benchmarks import options

ROOT = Path(__file__).parents[1]
WANTED_RATIO, WANTED_REGRET, WANTED_SHARE = 1.25, 1.0, 0.5
MEMORY_RATIO = 1.3
DRAWS = 4


def made_clip(path: Path, seconds: int) -> Path:
    """A clip of moving texture, constant quality."""
    import av

    from eager_kestrel.core.resolution import Resolution
    from eager_kestrel.media.encoders import endless, made_frames

    frames = endless(made_frames(Resolution(1280, 720)))
    with av.open(str(path), "w") as written:
        stream = written.add_stream("libx264", rate=60)
        stream.width, stream.height, stream.pix_fmt = 1280, 720, "yuv420p"
        stream.options = {"preset": "ultrafast", "crf": "16"}
        for number in range(60 * seconds):
            frame = next(frames)
            frame.pts = number
            written.mux(stream.encode(frame))
        written.mux(stream.encode(None))
    return path


def speed() -> bool:
    """Print the ratio; whether within the limit."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ["EAGER_KESTREL_HOME"] = folder
        from eager_kestrel.actions.encode_trial import TrialOptions, try_clip
        from eager_kestrel.actions.trial import look_at
        from eager_kestrel.media.trial_encode import SEEN_FRAMES, SETTLING_SECONDS, vmaf_program

        clip = look_at(made_clip(Path(folder) / "clip.mp4", 4))
        began = time.perf_counter()
        tried = try_clip(clip, TrialOptions("h264", "veryfast", 720, 4000.0, "lively"))
        taken = time.perf_counter() - began
        program = vmaf_program()
        assert program is not None
        jobs = [(point, source) for point in tried.trial.points for source in tried.sources]

        def bare(job: tuple[int, tuple[object, Path]]) -> tuple[float, float]:
            number, (point, source) = job
            out = Path(folder) / f"bare-{number}.mkv"
            rate, fps = f"{point.target_kbps:.0f}k", point.frame_rate  # type: ignore[attr-defined]
            every = round(clip.frame_rate / fps)
            size = f"{point.resolution.width}:{point.resolution.height}"  # type: ignore[attr-defined]
            head = [program, "-v", "error", "-nostdin", "-threads", "1", "-filter_threads", "1"]
            one = time.perf_counter()
            subprocess.run(
                [
                    *head,
                    "-i",
                    str(source),
                    "-vf",
                    f"select='not(mod(n,{every}))',setpts=N/({fps})/TB,scale={size}:flags=lanczos",
                    "-r",
                    str(fps),
                    "-c:v",
                    "libx264",
                    "-preset",
                    "veryfast",
                    "-threads",
                    "1",
                    "-b:v",
                    rate,
                    "-maxrate",
                    rate,
                    "-bufsize",
                    rate,
                    "-g",
                    str(round(2 * fps)),
                    "-bf",
                    "2",
                    str(out),
                ],
                check=True,
            )
            two = time.perf_counter()
            begin = f"settb=1/({fps}),setpts=N,trim=start_frame={round(SETTLING_SECONDS * fps)}"
            seen = f"{begin},setpts=PTS-STARTPTS,scale=1920:1080:flags=bicubic"
            subprocess.run(
                [
                    *head,
                    "-i",
                    str(out),
                    "-i",
                    str(source),
                    "-filter_complex",
                    f"[0:v]{seen}[x];[1:v]select='not(mod(n,{every}))',{seen}[y];[x][y]libvmaf="
                    f"n_threads=1:n_subsample={max(1, round(2 * fps) // 24)}",
                    "-f",
                    "null",
                    "-",
                ],
                check=True,
                capture_output=True,
            )
            few = f"{begin},select='not(mod(n,{max(1, round(2 * fps) // SEEN_FRAMES)}))',setpts=N"
            few = f"{few},scale=1920:1080:flags=bicubic,split"
            subprocess.run(
                [
                    *head,
                    "-i",
                    str(out),
                    "-i",
                    str(source),
                    "-filter_complex",
                    f"[0:v]{few}[a][c];[1:v]select='not(mod(n,{every}))',{few}[b][d];"
                    "[a][b]ssim[e];[c][d]xpsnr[f]",
                    "-map",
                    "[e]",
                    "-f",
                    "null",
                    "-",
                    "-map",
                    "[f]",
                    "-f",
                    "null",
                    "-",
                ],
                check=True,
                capture_output=True,
            )
            return two - one, time.perf_counter() - two

        began = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            parts = list(pool.map(bare, enumerate(jobs)))
        reference = time.perf_counter() - began
        encodes = sum(part for part, _ in parts) / 2
    print(
        f"{len(jobs)} encodes compared: {taken:.1f} s, {taken / reference:.2f} times bare "
        f"commands ({reference:.1f} s, {encodes:.1f} s of them the encodes)"
    )
    return taken <= WANTED_RATIO * reference


def memory(*lengths: int) -> bool:
    """Print peaks; whether they are alike."""
    peaks = []
    with tempfile.TemporaryDirectory() as folder:
        for seconds in lengths:
            path = made_clip(Path(folder) / f"{seconds}.mp4", seconds)
            code = (
                "import resource, sys; from pathlib import Path\n"
                "from eager_kestrel.actions.trial import look_at; look_at(Path(sys.argv[1]))\n"
                "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)"
            )
            done = subprocess.run(
                [sys.executable, "-c", code, str(path)], check=True, capture_output=True, text=True
            )
            peaks.append(int(done.stdout) / 1000)
    told = (f"{n} s: {peak:.0f} MB" for n, peak in zip(lengths, peaks, strict=True))
    print(f"looking through {', '.join(told)} at most")
    return peaks[1] <= MEMORY_RATIO * peaks[0]


def regret(draws: int) -> bool:
    """Print the table; whether as wanted."""
    sys.path.insert(0, str(ROOT / "calibration"))
    import fit as calibrated
    import judge
    import measure
    from eager_kestrel.core.footage import Sample, fit
    from eager_kestrel.files.footage import quality_table
    from scenes import SCENES

    table, points = quality_table(), measure.read_points(ROOT / "calibration" / "points.csv")
    rows = []
    print("| scene | kind | at | by the kind | by its own dozen |")
    print("| --- | --- | ---: | ---: | ---: |")
    for scene, shot in SCENES.items():
        here = [p for p in calibrated.usual(points) if p.scene == scene]
        motion = shot.motion
        kept = {
            name: own
            for name, own in table.motion[motion].scenes.items()
            if SCENES[name].origin != shot.origin
        }
        base = table.with_kind(motion, table.motion[motion].with_scenes(kept))
        for fps in sorted({p.fps for p in here}):
            encodes = [p for p in here if p.kbps > 0 and p.fps == fps]
            widths = sorted({p.width for p in encodes})
            kind = judge.judged(here, base, motion, fps).regret.mean()
            own = []
            for seed in range(draws):
                rng = np.random.default_rng(seed)
                first = int(rng.integers(0, max(1, len(widths) - 2)))
                near = [p for p in encodes if p.width in widths[first : first + 3]]
                dozen = [near[n] for n in rng.permutation(len(near))[:12]]
                samples = [
                    Sample(p.width * p.height, p.fps, p.kbps, min(1.0, p.vmaf / 100)) for p in dozen
                ]
                fitted = base.with_own(motion, fit(base, motion, "h264", samples))
                own.append(judge.judged(here, fitted, motion, fps).regret.mean())
            rows.append((kind, float(np.mean(own))))
            print(f"| {scene} | {motion} | {fps} | {kind:.2f} | {rows[-1][1]:.2f} |")
    kind, own_mean = np.array(rows).mean(axis=0)
    print(f"| mean | | | {kind:.2f} | {own_mean:.2f} |")
    return bool(own_mean <= WANTED_REGRET and own_mean <= WANTED_SHARE * kind)


def main(words: list[str]) -> int:
    """Run what was asked for; 1 when something is not as wanted."""
    parser = options(__doc__)
    parser.add_argument("--only", choices=("speed", "memory", "regret"))
    asked = parser.parse_args(words)
    parts: dict[str, Callable[[], bool]] = {
        "speed": speed,
        "memory": partial(memory, *((3, 12) if asked.quick else (10, 60))),
        "regret": partial(regret, 1 if asked.quick else DRAWS),
    }
    if asked.quick:
        del parts["speed"]
    results = [run() for name, run in parts.items() if asked.only in (None, name)]
    return 0 if all(results) else 1
