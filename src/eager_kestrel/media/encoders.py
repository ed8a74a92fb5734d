"""The encoders of this machine: which open, and how fast each is at a preset.

None is looked for by name: every encoder the media library knows for a codec is tried.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from fractions import Fraction
from itertools import chain, cycle, pairwise
from pathlib import Path
from typing import Any, TypeAlias

import av
import av.error
import av.logging
import numpy as np
from numpy.typing import NDArray

from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.plan.exports import AV1_LIVE
from eager_kestrel.core.resolution import Resolution

FRAMES = 24
"""Kept in memory, shown forth and back."""
GRAIN = 3.0
SPREAD = 42.0
DRIFT = (3, 2)
"""Pixels a frame, across and down."""

Samples: TypeAlias = NDArray[np.float32]


def made_frames(
    resolution: Resolution, pixel_format: str = "yuv420p", seed: int = 5
) -> list[av.VideoFrame]:
    """So many frames of one scene, ready to encode; shown forth and back they never jump."""
    rng = np.random.default_rng(seed)
    down, across = FRAMES * DRIFT[1], FRAMES * DRIFT[0]
    height, width = resolution.height, resolution.width
    back = _texture(rng, height + down, width + across)
    front = _texture(rng, height // 3, width // 4)
    grain = (GRAIN * rng.standard_normal((height + 64, width + 64))).astype(np.float32)
    colour = _texture(rng, height // 2, width // 2) / 3 + 85
    frames = []
    for number in range(FRAMES):
        luma = back[number * DRIFT[1] :, number * DRIFT[0] :][:height, :width].copy()
        top, left = (number * 5) % (height // 2), (number * 11) % (width // 2)
        luma[top : top + front.shape[0], left : left + front.shape[1]] = front
        y, x = rng.integers(0, 64, 2)
        luma += grain[y : y + height, x : x + width]
        chroma: Samples = np.roll(colour, number, axis=1)
        planes: list[Samples] = [luma.ravel(), chroma.ravel(), (255 - chroma).ravel()]
        whole = np.clip(np.concatenate(planes), 16, 235).astype(np.uint8)
        frame = av.VideoFrame.from_ndarray(whole.reshape(-1, width), format="yuv420p")
        frames.append(frame if pixel_format == "yuv420p" else frame.reformat(format=pixel_format))
    return frames


def endless(frames: list[av.VideoFrame]) -> Iterator[av.VideoFrame]:
    """The frames forth and back without end."""
    return cycle(chain(frames, frames[-2:0:-1]))


def _texture(rng: np.random.Generator, height: int, width: int) -> Samples:
    """Noise whose amplitude falls with frequency, as in natural resolutions.

    Field, J. Opt. Soc. Am. A 4, 1987.
    """
    down, across = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None, :]
    fall = 1 / np.maximum(np.hypot(down, across), 1 / max(height, width))
    phase = np.exp(2j * np.pi * rng.random(fall.shape))
    made = np.fft.irfft2(fall * phase, (height, width))
    made *= SPREAD / made.std()
    return np.asarray(made + 120, dtype=np.float32)


FORMATS = ("yuv420p", "nv12")
X26 = (
    "ultrafast",
    "superfast",
    "veryfast",
    "faster",
    "fast",
    "medium",
    "slow",
    "slower",
    "veryslow",
)
PRESETS = {
    "libx264": X26,
    "libx265": X26,
    "libsvtav1": tuple(str(n) for n in range(13, 6, -1)),  # those of its real-time mode
}
"""From fastest to slowest, of the libraries whose presets are an option without a list."""
TRIED = Resolution(640, 360)
BITS_PER_PIXEL = 0.05
"""About what live streams of moving pictures are sent at."""
WARM_SECONDS = 0.7
KEYFRAME_SECONDS = 2
B_FRAMES = 2

Frames: TypeAlias = list[av.VideoFrame]
"""Made before, ready to encode."""
Tell: TypeAlias = Callable[[float, float], None]
"""Told seconds so far and frames a second, about each second."""


@dataclass(frozen=True, slots=True)
class Encoder:
    """One that opens here."""

    name: str
    """As the media library names it."""
    codec: Codec
    pixel_format: str
    presets: tuple[str, ...]
    """From fastest to slowest; one that is empty where it has none."""


@dataclass(frozen=True, slots=True)
class EncodeSpeed:
    """How fast frames were encoded."""

    fps: float
    """Of the whole time counted."""
    cpu_seconds_a_frame: float
    """Of all cores together, of this process."""
    seconds: float
    """Counted."""
    by_second: tuple[float, ...]
    """Frames in each whole second counted."""


def encoders(codecs: tuple[Codec, ...]) -> tuple[list[Encoder], dict[str, str]]:
    """Every encoder of some codecs that opens here, and by name why another one does not."""
    found, missing = [], {}
    for name in sorted(av.codecs_available):
        codec = _encoder_of(name, codecs)
        if codec is None:
            continue
        why = {layout: _why_not(name, layout) for layout in FORMATS}
        usable = next((layout for layout, reason in why.items() if reason is None), None)
        if usable is None:
            missing[name] = next((r for r in why.values() if r and NO_FORMAT not in r), NO_DEVICE)
        else:
            found.append(Encoder(name, codec, usable, PRESETS.get(name, ("",))))
    return sorted(found, key=lambda e: codecs.index(e.codec)), missing


def _encoder_of(name: str, codecs: tuple[Codec, ...]) -> Codec | None:
    """The codec an encoder is of; None when it is none of these, or only a codec's own name."""
    try:
        known = av.Codec(name, "w")
    except (av.error.FFmpegError, av.codec.codec.UnknownCodecError):
        return None
    codec = next((c for c in codecs if av.Codec(c, "r").id == known.id), None)
    if name == codec or (
        codec
        and known.video_formats
        and not any(f.name in FORMATS for f in known.video_formats or ())
    ):
        return None
    return codec


NO_FORMAT, NO_DEVICE = "pixel format", "no device"
NO_DEVICE_SAID = re.compile(r"(?i)device|creating an? \w+ session")
LOADING = re.compile(r"(?i)cannot load (\S+)|(\S+) failed to open")


@contextmanager
def ordinary_process() -> Iterator[None]:
    """Opening libsvtav1 makes a process of root's a real-time one, and others wait: undo that."""
    if not hasattr(os, "sched_setscheduler"):
        yield
        return
    policy, priority = os.sched_getscheduler(0), os.sched_getparam(0)
    try:
        yield
    finally:
        if os.sched_getscheduler(0) != policy:
            for thread in Path("/proc/self/task").iterdir():
                with suppress(ProcessLookupError):
                    os.sched_setscheduler(int(thread.name), policy, priority)


def _why_not(name: str, pixel_format: str) -> str | None:
    """Why an encoder does not open, by what the media library says; None if it opens."""
    av.logging.set_level(av.logging.ERROR)
    av.logging.set_skip_repeated(False)  # it would give one encoder's words to the next
    try:
        with av.logging.Capture() as logged:
            context = _context(name, "", TRIED, Fraction(30), pixel_format)
            with ordinary_process():
                context.open()
    except (av.error.FFmpegError, ValueError, OSError) as error:
        why = getattr(error, "strerror", None) or str(error)
        said = " ".join(text.strip() for _, _, text in logged) or why
        if (library := LOADING.search(said)) is not None:
            return f"no driver ({library[1] or library[2]})"
        return NO_DEVICE if NO_DEVICE_SAID.search(said) else said
    finally:
        av.logging.set_level(None)
        av.logging.set_skip_repeated(True)
    return None


def _context(
    name: str, preset: str, resolution: Resolution, fps: Fraction, pixel_format: str
) -> Any:
    """An encoder set up as for a live stream."""
    os.environ.setdefault("SVT_LOG", "0")  # it speaks on its own otherwise
    made: Any = av.CodecContext.create(name, "w")
    made.width, made.height, made.pix_fmt = resolution.width, resolution.height, pixel_format
    made.time_base, made.framerate = 1 / fps, fps
    kbps = live_kbps(resolution, fps)
    made.bit_rate = int(kbps * 1000)
    made.gop_size = round(KEYFRAME_SECONDS * fps)
    made.max_b_frames = B_FRAMES
    made.thread_count = 0
    options = {"maxrate": f"{kbps:.0f}k", "bufsize": f"{kbps:.0f}k"}
    if name == "libx265":
        options["x265-params"] = "log-level=none"
    if name == "libsvtav1":
        options = {"svtav1-params": AV1_LIVE}
    made.options = options | ({"preset": preset} if preset else {})
    return made


def live_kbps(resolution: Resolution, fps: Fraction) -> float:
    """A bitrate such a resolution is sent at."""
    return max(300.0, resolution.pixels * float(fps) * BITS_PER_PIXEL / 1000)


@dataclass(frozen=True, slots=True)
class EncoderSetting:
    """What is tried: an encoder at a preset, for a resolution and frame rate."""

    encoder: Encoder
    preset: str
    resolution: Resolution
    fps: Fraction

    @property
    def name(self) -> str:
        """Encoder and preset."""
        return f"{self.encoder.name} {self.preset}".strip()


def pace(
    setting: EncoderSetting, frames: Frames, seconds: float, tell: Tell = lambda *_: None
) -> EncodeSpeed:
    """Encode as fast as it goes and count, once warm.

    Args:
        frames: made before; making them is not counted.
        seconds: to count.
        tell: told seconds so far and frames a second, about each second.

    Raises:
        ValueError: it does not take such resolutions or preset.
    """
    av.logging.set_level(None)
    try:
        encoder = setting.encoder
        context = _context(
            encoder.name, setting.preset, setting.resolution, setting.fps, encoder.pixel_format
        )
        with ordinary_process():
            context.open()
        return _counted(context, endless(frames), seconds, tell)
    except (av.error.FFmpegError, OSError) as error:
        raise ValueError(str(error)) from None


def _counted(
    context: Any,
    frames: Iterator[av.VideoFrame],
    seconds: float,
    tell: Tell,
) -> EncodeSpeed:
    number, warm_until = 0, time.perf_counter() + WARM_SECONDS
    while time.perf_counter() < warm_until:
        _encode(context, next(frames), number)
        number += 1
    begun, cpu, first = time.perf_counter(), time.process_time(), number
    now, marks = begun, [number]
    while now - begun < seconds:
        _encode(context, next(frames), number)
        number += 1
        now = time.perf_counter()
        if now - begun >= len(marks):
            marks.append(number)
            tell(now - begun, (number - first) / (now - begun))
    count, taken = number - first, now - begun
    by_second = tuple(float(b - a) for a, b in pairwise(marks))
    return EncodeSpeed(count / taken, (time.process_time() - cpu) / count, taken, by_second)


def _encode(context: Any, frame: av.VideoFrame, number: int) -> None:
    frame.pts = number
    frame.pict_type = 0
    context.encode(frame)


def cores() -> int:
    """That may be used."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
