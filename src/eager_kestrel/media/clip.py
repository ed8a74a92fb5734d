"""A clip of your own: whether it can be tried, what it shows, and stretches cut out of it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

import av
import av.error
import av.logging
import numpy as np

from eager_kestrel.core import footage
from eager_kestrel.core.errors import FormatError, StorageError
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.media.recording import DAMAGED, opened_recording, read_recording

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


ACROSS = 640
LOOK_EVERY = 0.5
UNEVEN_SHARE = 0.02
"""So many frames may come when they are not due."""
HDR = {16: "PQ", 18: "HLG"}
"""Transfer characteristics of ITU-T H.273."""
RECORD = "record a minute at your source's size and constant rate, 8 bit, the busiest scene in it"


@dataclass(frozen=True, slots=True)
class Clip:
    """A clip that can be tried."""

    path: Path
    resolution: Resolution
    frame_rate: Fraction
    seconds: float
    looks: tuple[footage.FrameComplexity, ...]


def read_clip(path: Path, progress: Callable[[float], None] = lambda _: None) -> Clip:
    """Look through a clip; memory does not grow with its length.

    Raises:
        FormatError: it cannot be tried; says why and what to record instead.
    """
    seen = read_recording(path).video
    if not seen.frame_rate or 1 - seen.regular_share > UNEVEN_SHARE:
        raise FormatError("its frame rate varies", RECORD, str(path))
    seconds = seen.frames / float(seen.frame_rate)
    if seconds < footage.STRETCH_SECONDS:
        raise FormatError(
            f"{seconds:.1f} s are too short: a stretch to try takes {footage.STRETCH_SECONDS:g} s",
            RECORD,
            str(path),
        )
    resolution, looks = _looked(path, progress)
    if max(look.ti for look in looks) < footage.STILL_TI:
        raise FormatError("nothing in it moves", RECORD, str(path))
    return Clip(path, resolution, seen.frame_rate, seconds, tuple(looks))


def _looked(
    path: Path, progress: Callable[[float], None]
) -> tuple[Resolution, list[footage.FrameComplexity]]:
    """SI and TI of two frames that follow each other, every half second."""
    looks: list[footage.FrameComplexity] = []
    resolution: Resolution | None = None
    before: Floats | None = None
    due = 0.0
    for frame, at in frames_of(path):
        resolution = Resolution(frame.width, frame.height)
        if before is not None:
            luma = _luma(frame)
            looks.append(
                footage.FrameComplexity(
                    seconds=at, si=footage.spatial(luma), ti=footage.temporal(luma, before)
                )
            )
            before, due = None, at + LOOK_EVERY
            progress(at)
        elif at >= due:
            before = _luma(frame)
    if resolution is None or not looks:
        raise FormatError("no frame of it can be decoded", RECORD, str(path))
    return resolution, looks


def _luma(frame: av.VideoFrame) -> Floats:
    height = max(16, round(frame.height * ACROSS / frame.width / 2) * 2)
    small = frame.reformat(width=ACROSS, height=height, format="gray")
    return small.to_ndarray().astype(np.float64)


def frames_of(path: Path, begin: float = 0.0) -> Iterator[tuple[av.VideoFrame, float]]:
    """Decoded frames with the seconds since the first, from near a moment on.

    Raises:
        FormatError: it breaks off, or is of a kind that cannot be tried.
    """
    with opened_recording(path) as opened:
        stream = opened.streams.video[0]
        stream.thread_type = "AUTO"
        base = float(stream.time_base or 0)
        start = (stream.start_time or 0) * base
        if begin > 1:
            opened.seek(int((begin + start - 1) / base), stream=stream)
        try:
            for frame in opened.decode(stream):
                if frame.pts is None:
                    continue
                _refuse(frame, int(stream.codec_context.color_trc), path)
                yield frame, frame.pts * base - start
        except (av.error.FFmpegError, *DAMAGED):
            raise FormatError("it ends too early", "record it again", str(path)) from None


def _refuse(frame: av.VideoFrame, transfer: int, path: Path) -> None:
    """Refuse what a live encoder would not be given."""
    if frame.interlaced_frame:
        raise FormatError("it is interlaced", RECORD, str(path))
    if transfer in HDR:
        raise FormatError(f"it is HDR ({HDR[transfer]})", RECORD, str(path))
    if any(component.bits > 8 for component in frame.format.components):
        bits = max(component.bits for component in frame.format.components)
        raise FormatError(f"it has {bits} bits a sample", RECORD, str(path))


def cut(clip: Clip, stretch: footage.Stretch, out: Path) -> None:
    """Write one stretch without loss, as 8-bit 4:2:0; whole or not at all.

    Raises:
        FormatError: the clip breaks off.
        StorageError: the disk would not take it.
    """
    part = out.with_name(f".{out.name}")
    frames = round(stretch.seconds * float(clip.frame_rate))
    try:
        with av.open(str(part), "w", format="nut") as written:
            stream: Any = written.add_stream("utvideo", rate=clip.frame_rate)  # quick to decode
            stream.width, stream.height = (
                clip.resolution.width // 2 * 2,
                clip.resolution.height // 2 * 2,
            )
            stream.pix_fmt = "yuv420p"
            stream.time_base = 1 / clip.frame_rate
            for number, frame in enumerate(_from(clip, stretch.begin_seconds, frames)):
                ready = frame.reformat(stream.width, stream.height, "yuv420p")
                ready.pts, ready.time_base, ready.pict_type = number, 1 / clip.frame_rate, 0
                written.mux(stream.encode(ready))
            written.mux(stream.encode(None))
        part.replace(out)
    except (av.error.OSError, OSError) as error:
        what = getattr(error, "strerror", None) or str(error)
        raise StorageError(
            f"a stretch cannot be written ({what})", "free some space", str(out)
        ) from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def _from(clip: Clip, begin: float, frames: int) -> Iterator[av.VideoFrame]:
    left = frames
    for frame, at in frames_of(clip.path, begin):
        if at < begin - 0.25 / float(clip.frame_rate):
            continue
        if not left:
            return
        left -= 1
        yield frame


def hardest(stretches: Sequence[footage.Stretch]) -> int:
    """The position of the hardest."""
    return max(range(len(stretches)), key=lambda n: stretches[n].si * stretches[n].ti)


GREEN = 1
"""Of red, green, blue: the one that says most of brightness."""


def crop_of(
    file: Path,
    seconds: float,
    screen: Resolution,
    size: tuple[int, int],
    at: tuple[int, int] | None,
) -> tuple[Floats, tuple[int, int]]:
    """The pixels of a crop at a moment, scaled as a screen of that size shows the whole.

    Args:
        seconds: since its start.
        at: its left and top; None for where the resolution is busiest.

    Returns:
        Shape (rows, columns, 3), 0..1, and where it was taken.
    """
    with av.open(str(file)) as opened:
        stream: Any = opened.streams.video[0]
        base, last = float(stream.time_base), None
        for frame in opened.decode(stream):
            last = frame
            if frame.pts is not None and frame.pts * base >= seconds - 1e-6:
                break
    assert last is not None
    shown = last.reformat(screen.width, screen.height, "rgb24", interpolation="BICUBIC")
    pixels = shown.to_ndarray().astype(np.float64) / 255
    across, down = min(size[0], screen.width), min(size[1], screen.height)
    left, top = at or _busiest(pixels[..., GREEN], across, down)
    return pixels[top : top + down, left : left + across], (left, top)


def _busiest(luma: Floats, across: int, down: int) -> tuple[int, int]:
    """Where a crop holds most of the resolution's edges."""
    edges = np.abs(np.diff(luma[1:], axis=1)) + np.abs(np.diff(luma[:, 1:], axis=0))
    total = np.pad(edges.cumsum(axis=0).cumsum(axis=1), ((1, 0), (1, 0)))
    down, across = min(down, edges.shape[0]), min(across, edges.shape[1])
    sums = total[down:, across:] - total[:-down, across:] - total[down:, :-across]
    sums = sums + total[:-down, :-across]
    top, left = np.unravel_index(int(sums.argmax()), sums.shape)
    return int(left), int(top)


def write_made_clip(path: Path, resolution: Resolution, fps: int, seconds: float) -> None:
    """Write made footage with moving detail and grain, to try encodes on.

    Raises:
        OSError: the disk does not take it.
    """
    from eager_kestrel.media.encoders import endless, made_frames

    frames = endless(made_frames(resolution))
    with av.open(str(path), "w") as written:
        stream = written.add_stream("libx264", rate=fps)
        stream.width, stream.height = resolution.width, resolution.height
        stream.pix_fmt = "yuv420p"
        stream.options = {"preset": "ultrafast", "crf": "12"}
        for number in range(round(fps * seconds)):
            frame = next(frames)
            frame.pts = number
            written.mux(stream.encode(frame))
        written.mux(stream.encode(None))
