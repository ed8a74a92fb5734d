"""Encode one stretch as a live stream would, and compare it with the original.

The stretch is scaled, encoded at a constant bitrate with a buffer of a second and a keyframe every
two, decoded, and compared beside itself, both scaled to the screen most viewers have: XPSNR
(Helmrich et al., ICASSP 2020) and SSIM (Wang et al., IEEE Trans. Image Processing 13(4), 2004) by
the media library's filters, VMAF by a program that has it.
"""

from __future__ import annotations

import contextlib
import functools
import gc
import importlib
import re
import shutil
import subprocess
import tempfile
import time
from dataclasses import dataclass
from fractions import Fraction
from math import gcd
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING, Any, ClassVar, Literal

import av
import av.error
import av.filter
import numpy as np

from eager_kestrel.core.codecs import CODECS, Codec
from eager_kestrel.core.errors import StoppedError, StorageError
from eager_kestrel.core.footage import SETTLING_SECONDS
from eager_kestrel.core.plan.exports import AV1_LIVE
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.media.encoders import PRESETS, ordinary_process

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


WAKE_SECONDS = 0.2
"""Between two looks whether a program is to end."""
KEYFRAME_SECONDS = 2
SEEN_FRAMES, VMAF_FRAMES, QUICK_FRAMES = 12, 24, 15
"""Of a stretch that are compared, spread over it; by VMAF; by it in a quick look."""
PAIR = 2
"""A frame that VMAF looks at, and its neighbour."""
Measures = Literal["all", "vmaf"]
YUV = av.VideoFormat("yuv420p")
VMAF_MODEL = "vmaf_v0.6.1"
GONE_SECONDS = 10.0
MOST_DB = 100.0
"""XPSNR of two frames that are the same."""


@dataclass(frozen=True, slots=True)
class EncodeSetting:
    """How to encode."""

    codec: Codec
    preset: str
    resolution: Resolution
    frame_rate: Fraction
    kbps: float


@dataclass(frozen=True, slots=True)
class Scores:
    """What came of it, after the first second."""

    kbps: float
    xpsnr_db: float | None
    """Not looked at where VMAF alone was wanted, as SSIM."""
    ssim: float | None
    vmaf: float | None
    """None if no ffmpeg program with VMAF is installed."""


def presets_of(codec: Codec) -> tuple[str, ...]:
    """From fastest to slowest."""
    return PRESETS[CODECS[codec].encoder]


def encode(source: Path, setting: EncodeSetting, every: int, out: Path, stopped: Event) -> None:
    """Encode a stretch, each ``every``-th frame of it; whole or not at all.

    Args:
        stopped: set when it is to end at once.

    Raises:
        StorageError: the disk would not take it.
        StoppedError: it was to end.
    """
    part = out.with_name(f".{out.name}")
    try:
        with av.open(str(source)) as opened, av.open(str(part), "w", format="matroska") as written:
            stream = _stream(written, setting)
            shown: Any = opened.streams.video[0]
            graph, last = _scaled(shown, setting.resolution), 0
            for number, frame in enumerate(opened.decode(shown)):
                if stopped.is_set():
                    raise StoppedError("stopped")
                if number % every:
                    continue
                frame.pts, frame.time_base = last, 1 / setting.frame_rate
                ready = _through(graph, frame)
                ready.pts, ready.time_base, ready.pict_type = last, 1 / setting.frame_rate, 0
                with ordinary_process():
                    written.mux(stream.encode(ready))
                last += 1
            written.mux(stream.encode(None))
        part.replace(out)
    except (av.error.OSError, OSError) as error:
        what = getattr(error, "strerror", None) or str(error)
        raise StorageError(
            f"an encode cannot be written ({what})", "free some space", str(out)
        ) from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def _stream(written: Any, setting: EncodeSetting) -> Any:
    stream: Any = written.add_stream(CODECS[setting.codec].encoder, rate=setting.frame_rate)
    stream.width, stream.height = setting.resolution.width, setting.resolution.height
    stream.pix_fmt, stream.time_base = "yuv420p", 1 / setting.frame_rate
    context = stream.codec_context
    context.bit_rate = int(setting.kbps * 1000)
    context.gop_size = round(KEYFRAME_SECONDS * setting.frame_rate)
    context.max_b_frames = 2
    context.thread_count = 1
    stream.options = {"preset": setting.preset} | _rate_options(setting)
    return stream


def _rate_options(setting: EncodeSetting) -> dict[str, str]:
    most = {"maxrate": f"{setting.kbps:.0f}k", "bufsize": f"{setting.kbps:.0f}k"}
    if setting.codec == "av1":
        return {"svtav1-params": f"{AV1_LIVE}:lp=1"}
    if setting.codec == "hevc":
        return most | {
            "x265-params": "scenecut=0:open-gop=0:pools=none:frame-threads=1:log-level=none"
        }
    return most | {"x264-params": "scenecut=0:open-gop=0"}


def _scaled(shown: Any, resolution: Resolution, kernel: str = "lanczos") -> Any:
    """A graph that scales."""
    graph = av.filter.Graph()
    begin = graph.add_buffer(template=shown)
    scale = graph.add("scale", f"{resolution.width}:{resolution.height}:flags={kernel}")
    form = graph.add("format", "pix_fmts=yuv420p")
    graph.link_nodes(begin, scale, form, graph.add("buffersink")).configure()
    return graph


def _through(graph: Any, frame: av.VideoFrame) -> av.VideoFrame:
    graph.push(frame)
    found = graph.pull()
    assert isinstance(found, av.VideoFrame)
    return found


@dataclass(frozen=True, slots=True)
class Seen:
    """How an encode and its stretch are held against each other."""

    every: int
    """Each so many-th frame of the stretch was encoded."""
    screen: Resolution
    """Both are scaled to."""
    measures: Measures = "all"
    """Or VMAF alone, where a program has it."""


def compare(
    source: Path, encoded: Path, setting: EncodeSetting, seen: Seen, stopped: Event
) -> Scores:
    """How near an encode comes to its stretch, seen on a screen; VMAF where a program has it.

    Raises:
        StoppedError: it was to end.
    """
    kbps, frames = _measured(encoded, setting)
    vmaf = _vmaf(source, encoded, setting, seen, frames, stopped)
    if vmaf is not None and seen.measures == "vmaf":
        return Scores(kbps, None, None, vmaf)
    settled, screen = _settled(setting), seen.screen
    gap = _gap(frames, SEEN_FRAMES)
    with av.open(str(source)) as plain, av.open(str(encoded)) as tried:
        first: Any = plain.streams.video[0]
        second: Any = tried.streams.video[0]
        shown = (frame for n, frame in enumerate(plain.decode(first)) if n % seen.every == 0)
        pairs = zip(shown, tried.decode(second), strict=False)
        graphs = (_scaled(first, screen, "bicubic"), _scaled(second, screen, "bicubic"))
        with tempfile.TemporaryDirectory() as folder:
            ssim, xpsnr = (_Comparison(name, screen, Path(folder)) for name in ("ssim", "xpsnr"))
            for number, (one, other) in enumerate(pairs):
                if number < settled or (number - settled) % gap:
                    continue
                if stopped.is_set():
                    raise StoppedError("stopped")
                both = _through(graphs[0], one), _through(graphs[1], other)
                for comparison in (ssim, xpsnr):
                    comparison.push(*both)
            similarity, signal = ssim.scores(), np.minimum(xpsnr.scores(), MOST_DB)
    return Scores(kbps, float(signal.mean()), float(similarity.mean()), vmaf)


def _gap(frames: int, wanted: int) -> int:
    """So many frames apart are at least as many as wanted, and of every type.

    P and B-frames follow each other by twos and threes, and P-frames are the better ones.
    """
    return next(gap for gap in range(max(1, frames // wanted), 0, -1) if gcd(gap, 6) == 1)


def _settled(setting: EncodeSetting) -> int:
    """Frames until the rate control has settled."""
    return round(SETTLING_SECONDS * setting.frame_rate)


class _Comparison:
    """A filter of the media library that compares two series of frames.

    Its figures come from the file it writes: PyAV before 17.1 does not show what a filter attaches
    to a frame.
    """

    SCORE: ClassVar[dict[str, str]] = {"ssim": r"All:(\S+)", "xpsnr": r"XPSNR y: *(\S+)"}

    def __init__(self, name: str, screen: Resolution, folder: Path) -> None:
        self._name, self._file, self._count = name, folder / name, 0
        graph = av.filter.Graph()
        self._inputs: list[Any] = [
            graph.add_buffer(
                width=screen.width, height=screen.height, format=YUV, time_base=Fraction(1, 60)
            )
            for _ in range(2)
        ]
        compared = graph.add(name, stats_file=str(self._file))
        for number, begin in enumerate(self._inputs):
            begin.link_to(compared, 0, number)
        self._out: Any = graph.add("buffersink")
        compared.link_to(self._out)
        graph.configure()
        self._graph: Any = graph

    def push(self, one: av.VideoFrame, other: av.VideoFrame) -> None:
        """Compare two frames."""
        for begin, frame in zip(self._inputs, (one, other), strict=True):
            frame.pts, frame.time_base = self._count, Fraction(1, 60)
            begin.push(frame)
        self._count += 1
        self._out.pull()

    def scores(self) -> Floats:
        """Return the figure of each pair, shape (pairs,); nothing can be compared afterwards.

        The filter writes the end of its file when it is let go. PyAV may keep it in a cycle, and a
        collection that another thread has begun does not wait for this one.
        """
        del self._inputs, self._out, self._graph
        until = time.perf_counter() + GONE_SECONDS
        while True:
            text = self._file.read_text(encoding="utf-8")
            found = re.findall(self.SCORE[self._name], text)
            if len(found) == self._count or time.perf_counter() > until:
                return np.array([float(x) for x in found])
            gc.collect()
            time.sleep(0.01)


def _measured(encoded: Path, setting: EncodeSetting) -> tuple[float, int]:
    """The bitrate in kbit/s, and how many frames, after the rate control has settled."""
    settled = _settled(setting) / float(setting.frame_rate)
    with av.open(str(encoded)) as opened:
        stream: Any = opened.streams.video[0]
        base = float(stream.time_base)
        sizes = [(p.pts * base, p.size) for p in opened.demux(stream) if p.pts is not None]
    shown = sorted(at for at, _ in sizes)
    gap = (shown[-1] - shown[0]) / max(1, len(shown) - 1)
    counted = [size for at, size in sizes if at >= settled - 1e-6]
    return float(sum(counted) * 8e-3 / (shown[-1] + gap - settled)), len(counted)


@functools.cache
def vmaf_program() -> str | None:
    """A program of the media library with VMAF: of the optional extra, or on the path."""
    candidates: list[str] = []
    with contextlib.suppress(ImportError, RuntimeError):
        extra: Any = importlib.import_module("imageio_ffmpeg")
        candidates.append(extra.get_ffmpeg_exe())
    candidates += [found] if (found := shutil.which("ffmpeg")) else []
    for program in candidates:
        said = subprocess.run(  # noqa: S603 - a fixed list, no shell
            [program, "-hide_banner", "-filters"], capture_output=True, text=True, check=False
        )
        if " libvmaf " in said.stdout:
            return program
    return None


def _vmaf(
    source: Path,
    encoded: Path,
    setting: EncodeSetting,
    seen: Seen,
    frames: int,
    stopped: Event,
) -> float | None:
    """VMAF of some of the frames, each with the one behind it, since it also looks at motion.

    Only those are scaled and looked at: where the next frame is no neighbour, VMAF takes the
    smaller of the motion before and after, and that is the neighbour's.
    """
    program = vmaf_program()
    if program is None:
        return None
    rate, screen = setting.frame_rate, seen.screen
    gap = _gap(frames, VMAF_FRAMES if seen.measures == "all" else QUICK_FRAMES)
    few = f"select='lt(mod(n,{gap}),{PAIR})',setpts=N," if gap > PAIR else ""
    shown = f"{few}scale={screen.width}:{screen.height}:flags=bicubic"
    begin = f"settb={1 / rate},setpts=N,trim=start_frame={_settled(setting)},setpts=PTS-STARTPTS"
    graph = (
        f"[0:v]{begin},{shown}[x];[1:v]select='not(mod(n,{seen.every}))',{begin},{shown}[y];"
        f"[x][y]libvmaf=model=version={VMAF_MODEL}:n_threads=1:n_subsample={PAIR}"
    )
    said = _said(
        [
            program,
            "-hide_banner",
            "-nostdin",
            "-nostats",
            "-threads",
            "1",
            "-filter_threads",
            "1",
            "-i",
            str(encoded),
            "-i",
            str(source),
            "-filter_complex",
            graph,
            "-f",
            "null",
            "-",
        ],
        stopped,
    )
    match = re.search(r"VMAF score: ([\d.]+)", said)
    return float(match[1]) if match else None


def _said(command: list[str], stopped: Event) -> str:
    """What a program says on standard error; it does not outlive us."""
    quiet = subprocess.DEVNULL
    with subprocess.Popen(  # noqa: S603 - a fixed list, no shell
        command, stdin=quiet, stdout=quiet, stderr=subprocess.PIPE, text=True
    ) as child:
        while True:
            try:
                return str(child.communicate(timeout=WAKE_SECONDS)[1])
            except subprocess.TimeoutExpired:
                if stopped.is_set():
                    child.kill()
                    raise StoppedError("stopped") from None
