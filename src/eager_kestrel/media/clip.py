"""A clip of your own: whether it can be tried, what it shows, and stretches cut out of it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import av
import av.error
import av.logging
import numpy as np
from av.container import InputContainer
from av.video.stream import VideoStream

from eager_kestrel.core import footage
from eager_kestrel.core.checks.stream import VideoTally
from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.errors import FormatError, StorageError
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.media.recording import DAMAGED, opened_recording, read_recording

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


ACROSS = 640
LOOK_EVERY = 0.5
EARLIER = 1.0
MOMENTS = 10
"""Of a clip, that a glance looks at."""
MOST_OF = 0.8
"""Of the frames of stretches, that have to be there."""
RATE_AT = (0.0, 0.4, 0.8)
"""Of a clip's length, where a glance counts frames."""
COUNTED = 150
"""Frames, there."""
LEAST_SECONDS = 1.0
"""Of footage, beside what the rate control takes to settle."""
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
    looks: tuple[footage.FrameComplexity, ...]
    frame_rate: Fraction
    """Of the frames that are taken."""
    seconds: float
    recorded: footage.Recorded | None = None
    """What the recorded stream was encoded with; None if the file does not say."""
    every: int = 1
    """Each so many-th frame is taken."""
    earlier: float = EARLIER
    """Seconds before a moment to begin decoding, so that nothing of it is missed."""


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
    recorded = _recorded(seen.codec, resolution, seen.frame_rate, seen.average_kbps)
    return _moving(Clip(path, resolution, looks, seen.frame_rate, seconds, recorded))


def _moving(clip: Clip) -> Clip:
    if max(look.ti for look in clip.looks) < footage.STILL_TI:
        raise FormatError("nothing in it moves", RECORD, str(clip.path))
    return clip


def glance(path: Path) -> Clip:
    """Look at some moments of a clip without reading the rest, at the keyframes before them.

    Raises:
        FormatError: as :func:`read_clip`.
    """
    with opened_recording(path) as opened:
        if not opened.streams.video:
            raise FormatError("there is no video in it", RECORD, str(path))
        stream = opened.streams.video[0]
        seconds = _length(opened, path)
        rates = {_rate(opened, path, seconds * share) for share in RATE_AT}
        if len(rates) != 1:
            raise FormatError("its frame rate varies", RECORD, str(path))
        looks: dict[float, footage.FrameComplexity] = {}
        last = max(0.0, seconds - footage.QUICK_SECONDS)
        moments = [last * number / (MOMENTS - 1) for number in range(MOMENTS)]
        for begin in moments:
            pair = islice(_decoded(opened, path, begin, 0.0), 2)
            found = [(_luma(frame), at) for frame, at in pair]
            if len(found) == 2:
                (before, at), (luma, _) = found
                looks[at] = _complexity(at, luma, before)
        if not looks:
            raise FormatError("no frame of it can be decoded", RECORD, str(path))
        size = Resolution(stream.codec_context.width, stream.codec_context.height)
        codec = stream.codec_context.codec.canonical_name
        kbps = 8e-3 * opened.size / seconds
    if len(looks) < MOMENTS / 2:  # keyframes are far apart: what lies between is like them
        known = sorted(looks)
        for begin in moments:
            keyframe = max((at for at in known if at <= begin), default=known[0])
            looks.setdefault(begin, looks[keyframe].model_copy(update={"seconds": begin}))
    ordered = tuple(looks[at] for at in sorted(looks))
    rate = rates.pop()
    recorded = _recorded(codec, size, rate, kbps)
    return _moving(Clip(path, size, ordered, rate, seconds, recorded, earlier=0.0))


def _recorded(
    codec: str, resolution: Resolution, fps: Fraction, kbps: float
) -> footage.Recorded | None:
    """How a clip was recorded, by a codec the quality model knows."""
    known = next((name for name in CODECS if name == codec), None)
    if known is None:
        return None
    return footage.Recorded(known, float(resolution.pixels), float(fps), kbps)


def _length(opened: InputContainer, path: Path) -> float:
    """Seconds by its header; a file without them is read."""
    said = float(opened.duration / av.time_base) if opened.duration else 0.0
    seconds = said or read_recording(path).seconds
    if seconds < footage.SETTLING_SECONDS + LEAST_SECONDS:
        least = footage.SETTLING_SECONDS + LEAST_SECONDS
        raise FormatError(
            f"{seconds:.1f} s are too short: {least:g} s are needed", RECORD, str(path)
        )
    return seconds


def _rate(opened: InputContainer, path: Path, begin: float) -> Fraction:
    """Frames a second from some moment on."""
    stream = opened.streams.video[0]
    base, tally = float(stream.time_base or 0), VideoTally()
    _seek(opened, stream, begin)
    rows = [
        (p.pts * base, p.dts * base, p.size, p.is_keyframe)
        for p in islice(opened.demux(stream), COUNTED)
        if p.pts is not None and p.dts is not None
    ]
    shown, sent, sizes, keys = np.array(rows, dtype=np.float64).reshape(-1, 4).T
    tally.add(shown, sent, sizes, keys > 0)
    tally.finish()
    rate = tally.frame_rate()
    if not rate or 1 - tally.regular_share() > UNEVEN_SHARE:
        raise FormatError("its frame rate varies", RECORD, str(path))
    return rate


def _looked(
    path: Path, progress: Callable[[float], None]
) -> tuple[Resolution, tuple[footage.FrameComplexity, ...]]:
    """Size, and SI and TI of two frames that follow each other, every half second."""
    looks: list[footage.FrameComplexity] = []
    resolution: Resolution | None = None
    before: Floats | None = None
    due = 0.0
    for frame, at in frames_of(path):
        resolution = Resolution(frame.width, frame.height)
        if before is not None:
            looks.append(_complexity(at, _luma(frame), before))
            before, due = None, at + LOOK_EVERY
            progress(at)
        elif at >= due:
            before = _luma(frame)
    if resolution is None or not looks:
        raise FormatError("no frame of it can be decoded", RECORD, str(path))
    return resolution, tuple(looks)


def _complexity(seconds: float, luma: Floats, before: Floats) -> footage.FrameComplexity:
    return footage.FrameComplexity(
        seconds=seconds, si=footage.spatial(luma), ti=footage.temporal(luma, before)
    )


def _luma(frame: av.VideoFrame) -> Floats:
    height = max(16, round(frame.height * ACROSS / frame.width / 2) * 2)
    small = frame.reformat(width=ACROSS, height=height, format="gray")
    return small.to_ndarray().astype(np.float64)


def frames_of(
    path: Path, begin: float = 0.0, earlier: float = EARLIER
) -> Iterator[tuple[av.VideoFrame, float]]:
    """Decoded frames with the seconds since the first, from near a moment on.

    Raises:
        FormatError: it breaks off, or is of a kind that cannot be tried.
    """
    with opened_recording(path) as opened:
        yield from _decoded(opened, path, begin, earlier)


def _decoded(
    opened: InputContainer, path: Path, begin: float, earlier: float
) -> Iterator[tuple[av.VideoFrame, float]]:
    """The same of an open file, from the keyframe that lies so many seconds before."""
    stream = opened.streams.video[0]
    if not stream.codec_context.is_open:
        stream.thread_type = "AUTO"
    base, start = float(stream.time_base or 0), _start(stream)
    _seek(opened, stream, begin - earlier)
    try:
        for frame in opened.decode(stream):
            if frame.pts is None:
                continue
            _refuse(frame, int(stream.codec_context.color_trc), path)
            yield frame, frame.pts * base - start
    except (av.error.FFmpegError, *DAMAGED):
        raise FormatError("it ends too early", "record it again", str(path)) from None


def _start(stream: VideoStream) -> float:
    """Seconds on its own clock at its first frame."""
    return (stream.start_time or 0) * float(stream.time_base or 0)


def _seek(opened: InputContainer, stream: VideoStream, seconds: float) -> None:
    """Go on from the last keyframe before a moment."""
    if seconds > 0 and stream.time_base:
        opened.seek(int((seconds + _start(stream)) / float(stream.time_base)), stream=stream)


def _refuse(frame: av.VideoFrame, transfer: int, path: Path) -> None:
    """Refuse what a live encoder would not be given."""
    if frame.interlaced_frame:
        raise FormatError("it is interlaced", RECORD, str(path))
    if transfer in HDR:
        raise FormatError(f"it is HDR ({HDR[transfer]})", RECORD, str(path))
    if any(component.bits > 8 for component in frame.format.components):
        bits = max(component.bits for component in frame.format.components)
        raise FormatError(f"it has {bits} bits a sample", RECORD, str(path))


def cut(
    clip: Clip, stretches: Sequence[footage.Stretch], out: Path, codec: str = "utvideo"
) -> None:
    """Write stretches, one behind the other, without loss, as 8-bit 4:2:0; whole or not at all.

    Args:
        codec: that is quick to decode; ``rawvideo`` costs least and takes most room.

    Raises:
        FormatError: the clip breaks off.
        StorageError: the disk would not take it.
    """
    part = out.with_name(f".{out.name}")
    try:
        with av.open(str(part), "w", format="nut") as written:
            stream: Any = written.add_stream(codec, rate=clip.frame_rate)
            stream.width, stream.height = (
                clip.resolution.width // 2 * 2,
                clip.resolution.height // 2 * 2,
            )
            stream.pix_fmt = "yuv420p"
            stream.time_base = 1 / clip.frame_rate
            number = -1
            for number, frame in enumerate(_frames(clip, stretches)):
                ready = frame.reformat(stream.width, stream.height, "yuv420p")
                ready.pts, ready.time_base, ready.pict_type = number, 1 / clip.frame_rate, 0
                written.mux(stream.encode(ready))
            written.mux(stream.encode(None))
        due = sum(stretch.seconds for stretch in stretches) * float(clip.frame_rate)
        if number + 1 < MOST_OF * due:
            raise FormatError("it ends too early", "record it again", str(clip.path))
        part.replace(out)
    except (av.error.OSError, OSError) as error:
        what = getattr(error, "strerror", None) or str(error)
        raise StorageError(
            f"a stretch cannot be written ({what})", "free some space", str(out)
        ) from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def _frames(clip: Clip, stretches: Sequence[footage.Stretch]) -> Iterator[av.VideoFrame]:
    """The frames of each stretch."""
    for stretch in stretches:
        begin, slack = stretch.begin_seconds, 0.25 / float(clip.frame_rate * clip.every)
        near = frames_of(clip.path, begin, clip.earlier)
        due = (frame for frame, at in near if at >= begin - slack)
        wanted = round(stretch.seconds * float(clip.frame_rate))
        yield from islice(due, 0, wanted * clip.every, clip.every)


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
