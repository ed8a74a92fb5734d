"""What a trial costs, and what planning by one's own footage gains.

Usage: python -m benchmarks trial [--quick] [--only speed|fit|regret|look|memory]

Quick: the fit, memory on shorter clips, a look at a small clip, and the regret of one draw.

Speed: a trial of a made clip (1280x720 at 60) with nothing kept. The reference, in the same run, is
each of its encodes and comparisons as bare ffmpeg commands, two at a time. Wanted: 1.25 times.

Memory: looking through clips of 10 and 60 s, each in a process of its own. Wanted: alike.

Fit (needs the calibration extra): every parameter that ships beside the same fitted anew to
``calibration/points.csv``. Wanted: within 1 %, since what nothing makes again goes stale unseen.

Regret (needs it, too): on every scene of ``calibration/points.csv``, parameters
fitted to twelve of its encodes at three neighbouring resolutions, with the parameters of its kind,
fitted to the other scenes only, as prior. VMAF of the best resolution less VMAF of the one a plan
takes, mean over bitrates of 250 to 12,000 kbit/s. Wanted: at most 1.0, and half of what the kind
gives. Beside it what a quick look gives (`plan --footage CLIP`): at each of nine bitrates, three
encodes around what the kind would take, of a scene at 60 those at 30. Wanted: 0.3 on average and 2
at worst, the bias within 3.

Look: `plan --footage` of 20 s of a made clip of 1920x1080 at 60, and of an hour of it, each as a
whole command beside `plan` alone. Wanted: 15 s, 30 s for the hour, 600 MB.
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
from typing import Any

import numpy as np

from benchmarks import SLACK, options

ROOT = Path(__file__).parents[1]
WANTED_RATIO, WANTED_REGRET, WANTED_SHARE = 1.25, 1.0, 0.5
MEMORY_RATIO = 1.3
FIT_SHARE = 0.01
MEAN, WORST, BIAS = 0.3, 2.0, 3.0
"""Of a quick look, in points of VMAF."""
LOOK_SECONDS, LONG_SECONDS, LOOK_MB = 15.0, 30.0, 600.0
LOOKED_KBPS = np.geomspace(500, 9000, 9)
DRAWS = 4


def made_clip(
    path: Path, seconds: int, size: tuple[int, int] = (1280, 720), **options: str
) -> Path:
    """A clip of moving texture at 60, constant quality if no options of the encoder say more."""
    import av

    from eager_kestrel.core.resolution import Resolution
    from eager_kestrel.media.encoders import endless, made_frames

    frames = endless(made_frames(Resolution(*size)))
    with av.open(str(path), "w") as written:
        stream = written.add_stream("libx264", rate=60)
        (stream.width, stream.height), stream.pix_fmt = size, "yuv420p"
        stream.options = options or {"preset": "ultrafast", "crf": "16"}
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


def shipped() -> bool:
    """Whether the table that ships is the fit of the points that are there."""
    sys.path.insert(0, str(ROOT / "calibration"))
    import fit as calibrated
    import measure
    from eager_kestrel.core.choice.quality import PARAMETERS
    from eager_kestrel.files.footage import quality_table

    points, table = measure.read_points(ROOT / "calibration" / "points.csv"), quality_table()
    anew = {m: found.kind(table.motion[m]) for m, found in calibrated.of_kinds(points).items()}
    pairs = [
        (getattr(own, name), getattr(anew[motion].scenes[scene], name))
        for motion, kind in table.motion.items()
        for scene, own in kind.scenes.items()
        for name in (*PARAMETERS, "weight")
    ]
    off = max(abs(now / then - 1) for then, now in pairs)
    print(f"fitted anew to {len(points):,} points, {len(pairs)} parameters: {off:.1%} off at most")
    return off <= FIT_SHARE


def regret(draws: int, every: int, slack: float) -> bool:
    """Print the table of each nth scene; whether as wanted, with limits so many times as loose."""
    sys.path.insert(0, str(ROOT / "calibration"))
    import fit as calibrated
    import judge
    import measure
    from eager_kestrel.core.footage import Sample, learn
    from eager_kestrel.files.footage import quality_table
    from scenes import SCENES

    table, points = quality_table(), measure.read_points(ROOT / "calibration" / "points.csv")
    rows, looked = [], []
    print("| scene | kind | at | by the kind | by its own dozen | by a quick look | worst | bias |")
    print("| --- | --- | ---: | ---: | ---: | ---: | ---: | ---: |")
    for scene, shot in list(SCENES.items())[::every]:
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
                fitted = base.with_own(motion, *learn(base, motion, "h264", samples))
                own.append(judge.judged(here, fitted, motion, fps).regret.mean())
            rows.append((kind, float(np.mean(own))))
            lost, off = quick_look(here, base, motion, fps)
            looked.append((lost.mean(), lost.max(), off))
            print(
                f"| {scene} | {motion} | {fps} | {kind:.2f} | {rows[-1][1]:.2f} | "
                f"{lost.mean():.2f} | {lost.max():.1f} | {off:+.1f} |"
            )
    kind, own_mean = np.array(rows).mean(axis=0)
    mean, worst, off = np.array(looked).T
    print(
        f"| mean | | | {kind:.2f} | {own_mean:.2f} | {mean.mean():.2f} | {worst.max():.1f} at "
        f"worst, over 2 in {(worst > WORST).sum()} of {worst.size} | {off.mean():+.1f} |"
    )
    by_dozen = own_mean <= slack * min(WANTED_REGRET, WANTED_SHARE * kind)
    return bool(by_dozen and mean.mean() <= slack * MEAN and abs(off.mean()) <= slack * BIAS)


def quick_look(here: Any, base: Any, motion: Any, fps: int) -> tuple[np.ndarray, float]:
    """Of a scene at some bitrates, what the choice by a quick look loses, and the bias there.

    Args:
        here: the scene's points.
        base: the table without its origin.
    """
    import judge
    import measure
    from eager_kestrel.core.choice.quality import sharpness
    from eager_kestrel.core.footage import Sample, learn

    tried_at = min(fps, 30) if any(p.fps == 30 for p in here) else fps
    less = (tried_at / fps) ** base.motion[motion].typical.rate_exponent
    grid = np.array([LOOKED_KBPS, LOOKED_KBPS * less])
    there = judge.measured_curves(here, fps, grid[0])
    seen = judge.measured_curves(here, tried_at, grid[1])
    known = np.flatnonzero(~(np.isnan(there) | np.isnan(seen)).any(axis=1))
    there, seen = there[known], seen[known]
    pixels = np.array([float(w * h) for w, h in measure.RESOLUTIONS])[known]
    by_kind, _ = judge.taken(base, motion, pixels, fps, grid[0])
    lost, off = [], []
    for number, kbps in enumerate(grid[0]):
        middle, top = by_kind[number], pixels.size - 1
        around = {middle, middle + 1 if middle < top else middle - 2}
        around |= {middle - 1 if middle else middle + 2}
        samples = [
            Sample(float(pixels[n]), tried_at, grid[1][number], float(seen[n, number]))
            for n in sorted(around)
            if 0 <= n <= top
        ]
        table = base.with_own(motion, *learn(base, motion, "h264", samples))
        chosen, _ = judge.taken(table, motion, pixels, fps, np.array([kbps]))
        lost.append(100 * float(there[:, number].max() - there[chosen[0], number]))
        rates = np.full_like(pixels, fps), np.full_like(pixels, kbps)
        said = sharpness(table, motion, "h264", pixels, *rates).mean(axis=0)
        off.append(100 * float((said - there[:, number]).mean()))
    return np.array(lost), float(np.mean(off))


def look(size: tuple[int, int], *times: int) -> bool:
    """Print what `plan --footage` takes of a clip, and of it so many times; whether as wanted."""
    import imageio_ffmpeg

    plan = [*["plan", "--for", "oxbow", "--json", "--upload"], "12 Mbit/s"]
    took = []
    with tempfile.TemporaryDirectory() as folder:
        rate = {"b": "8M", "maxrate": "8M", "bufsize": "8M", "g": "120", "preset": "veryfast"}
        part = made_clip(Path(folder) / "part.mp4", 10, size, **rate)
        for number in times:
            clip = Path(folder) / f"{number}.mp4"
            many = [imageio_ffmpeg.get_ffmpeg_exe(), "-v", "error", "-stream_loop", str(number - 1)]
            copied = [*many, "-i", str(part), "-c", "copy", str(clip)]
            subprocess.run(copied, check=True)
            alone, first, again = (
                peak_of([*plan, *more], folder)
                for more in ([], ["--footage", str(clip)], ["--footage", str(clip)])
            )
            clip.unlink()
            print(
                f"{10 * number} s of {size[0]}x{size[1]} at 60: {first[0]:.1f} s, "
                f"{first[0] / alone[0]:.1f} times plan alone; again {again[0]:.1f} s; "
                f"{first[1]:.0f} MB"
            )
            took.append(first)
    (seconds, _), (longer, peak) = took[0], took[-1]
    return seconds <= LOOK_SECONDS and longer <= LONG_SECONDS and peak <= LOOK_MB


def peak_of(command: list[str], home: str) -> tuple[float, float]:
    """Seconds that a command takes, and the most memory, in MB."""
    code = (
        "import resource, sys; from eager_kestrel.__main__ import main\n"
        "try: main()\n"
        "finally: sys.stderr.write(str(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss))"
    )
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-c", code, *command],
        check=True,
        capture_output=True,
        text=True,
        env={**os.environ, "EAGER_KESTREL_HOME": home},
    )
    return time.perf_counter() - began, int(done.stderr.split()[-1].split(")")[-1]) / 1000


def main(words: list[str]) -> int:
    """Run what was asked for; 1 when something is not as wanted."""
    parser = options(__doc__)
    parser.add_argument("--only", choices=("speed", "fit", "memory", "regret", "look"))
    asked = parser.parse_args(words)
    parts: dict[str, Callable[[], bool]] = {
        "speed": speed,
        "fit": shipped,
        "memory": partial(memory, *((3, 8) if asked.quick else (10, 60))),
        "regret": partial(regret, *((1, 4, SLACK) if asked.quick else (DRAWS, 1, 1.0))),
        "look": partial(look, *(((640, 360), 1) if asked.quick else ((1920, 1080), 2, 360))),
    }
    if asked.quick:
        del parts["speed"]
    results = [run() for name, run in parts.items() if asked.only in (None, name)]
    return 0 if all(results) else 1
