"""Reading a recording packet by packet, without decoding unless asked to.

Only files of this machine are opened. FFmpeg itself lets a local file lead to no other protocol
than ``file``, ``crypto`` and ``data``, so a playlist that points to a server is refused.
"""

from __future__ import annotations

import contextlib
import io
import re
import stat
import tempfile
from collections.abc import Callable, Iterator
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import av
import av.error
import av.logging
import numpy as np
from av.audio.stream import AudioStream
from av.container import InputContainer
from av.packet import Packet
from av.video.codeccontext import VideoCodecContext
from av.video.stream import VideoStream

from eager_kestrel.core.checks.stream import (
    AudioFacts,
    SteadyClock,
    VideoFacts,
    VideoTally,
    by_second,
    video_seen,
)
from eager_kestrel.core.codecs import codec_named
from eager_kestrel.core.errors import FormatError
from eager_kestrel.core.resolution import Resolution
from eager_kestrel.core.settings.recording import RECORDING_KINDS, AudioSeen, Decoded, Recording
from eager_kestrel.wire import mp4
from eager_kestrel.wire.parameter_sets import profile_and_level, sequence_sets

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats

BATCH = 8192
"""Packets counted at a time."""
CUT_OFF_SECONDS = 1.5
MOST_PLAYLIST_BYTES = 20_000_000
"""How much earlier than its header says a recording may end."""
ENCRYPTED = (b"encv", b"enca", b"drmi", b"drms")
"""Sample entries of protected tracks (ISO/IEC 14496-12, section 8.12)."""
METADATA: dict[str, Any] = (
    {} if int(av.__version__.split(".")[0]) >= 19 else {"metadata_errors": "replace"}
)
"""Text in a file that is not UTF-8 is no fault; PyAV 19 replaces it without being asked."""
DAMAGED = (IndexError, UnicodeDecodeError, MemoryError, OverflowError)
"""What the media library raises, besides its own errors, on damaged files."""
END_TAG = "#EXT-X-ENDLIST"
PICTURE_TYPES = {1: "I", 2: "P", 3: "B"}
COLOURS = {1: "bt709", 5: "bt470bg", 6: "smpte170m", 9: "bt2020nc"}
RANGES = {1: "limited", 2: "full"}
Progress = Callable[[float], None]


def read_recording(
    path: Path,
    *,
    deep: bool = False,
    buffer_seconds: float = 1.0,
    progress: Progress = lambda _: None,
) -> Recording:
    """Describe a recording.

    Args:
        buffer_seconds: the window one of the peaks is taken over.
        progress: told the seconds read so far.

    Raises:
        FormatError: it is empty, cut off, encrypted, of another kind than its name says, has no
            video, or cannot be read at all.
    """
    with opened_recording(path) as opened:
        return _read(opened, path, deep, buffer_seconds, progress)


def sent_frames(path: Path) -> tuple[Floats, Floats]:
    """When each frame of a recording was sent, and how much with it.

    Audio is counted with the frame it follows.

    Returns:
        Seconds of shape (frames,), rising, and bytes of the same shape.

    Raises:
        FormatError: as :func:`read_recording`, or it has fewer than two frames.
    """
    with opened_recording(path) as opened:
        if not opened.streams.video:
            raise FormatError("there is no video in it", "give a recording of a show", str(path))
        video = opened.streams.video[0]
        audio = next((s for s in opened.streams.audio if s.codec_context is not None), None)
        resolutions = video.index  # of an open file only
        units = {s.index: float(s.time_base or 0) for s in (video, audio) if s is not None}
        rows = np.concatenate([np.empty((0, 5)), *_batches(opened, video, audio)])
    streams, pts, dts, sizes, _ = rows.T
    at = np.where(np.isnan(dts), pts, dts) * np.array([units[int(s)] for s in streams])
    real = (sizes > 0) & ~np.isnan(at)
    order = np.argsort(at[real], kind="stable")
    at, sizes, frame = at[real][order], sizes[real][order], (streams[real] == resolutions)[order]
    begun = at[frame]
    if begun.size < 2 or begun[-1] <= begun[0]:
        raise FormatError("it has fewer than two frames", "record again", str(path))
    which = np.clip(np.searchsorted(begun, at, side="right") - 1, 0, None)
    sent = np.bincount(which, weights=sizes, minlength=begun.size)
    return begun, np.asarray(sent, dtype=np.float64)


@contextlib.contextmanager
def opened_recording(path: Path) -> Iterator[InputContainer]:
    """A recording, open; whatever the media library says of it as one line."""
    _refuse(path)
    av.logging.set_level(None)
    try:
        with (
            _whole(path) as readable,
            av.open(str(readable), **METADATA) as opened,
        ):
            yield opened
    except (av.error.FFmpegError, OSError, *DAMAGED) as error:
        what = getattr(error, "strerror", None) or "its index or headers are damaged"
        raise FormatError(
            f"not a recording that can be read ({str(what).lower()})",
            "check that it is whole: FLV, MP4, MKV, MPEG-TS or an HLS playlist",
            str(path),
        ) from None


@contextlib.contextmanager
def _whole(path: Path) -> Iterator[Path]:
    """A playlist that was cut short, ended: else its reader waits for more pieces, for ever."""
    text = path.read_text(encoding="utf-8", errors="replace") if _is_playlist(path) else END_TAG
    if END_TAG in text:
        yield path
        return
    with tempfile.TemporaryDirectory() as folder:
        ended = Path(folder) / path.name
        lines = [_absolute(line, path.parent) for line in text.splitlines()]
        ended.write_text("\n".join([*lines, END_TAG, ""]), encoding="utf-8")
        yield ended


def _is_playlist(path: Path) -> bool:
    return path.suffix.lower() == ".m3u8"


def _absolute(line: str, folder: Path) -> str:
    """A line of a playlist, its pieces named from the root."""
    if line.startswith("#EXT-X-MAP:"):
        return re.sub(r'URI="([^"]*)"', lambda m: f'URI="{(folder / m[1]).resolve()}"', line)
    if not line.strip() or line.startswith("#") or "://" in line:
        return line
    return str((folder / line.strip()).resolve())


def _refuse(path: Path) -> None:
    """Refuse what can be told from the outside."""
    try:
        found = path.stat()
    except OSError as error:
        raise FormatError(error.strerror or "cannot be read", "check the path", str(path)) from None
    if not stat.S_ISREG(found.st_mode):  # a pipe that nobody writes to would wait for ever
        raise FormatError("not a regular file", "name a file", str(path))
    if _is_playlist(path) and found.st_size > MOST_PLAYLIST_BYTES:
        raise FormatError("too long for a playlist", "check the file", str(path))
    if not found.st_size:
        raise FormatError("empty", "record again", str(path))
    if RECORDING_KINDS.get(path.suffix.lower()) == "mp4" and _protected(path):
        raise FormatError("encrypted", "give one that is not", str(path))
    if RECORDING_KINDS.get(path.suffix.lower()) == "mp4" and not mp4.plausible(path):
        raise FormatError("its index is damaged", "record it again, or repair it", str(path))
    if _is_playlist(path):
        text = path.read_text(encoding="utf-8", errors="replace")
        if any(
            line.startswith("#EXT-X-KEY") and "METHOD=NONE" not in line
            for line in text.splitlines()
        ):
            raise FormatError("encrypted", "give one that is not", str(path))


def _read(
    opened: InputContainer, path: Path, deep: bool, buffer_seconds: float, progress: Progress
) -> Recording:
    names = opened.format.name.split(",")
    wanted = RECORDING_KINDS.get(path.suffix.lower())
    if wanted is not None and wanted not in names:
        raise FormatError(f"its name says {wanted}, but it is {names[0]}", "rename it", str(path))
    streams = opened.streams
    if not streams.video:
        raise FormatError("there is no video in it", "give a recording of a show", str(path))
    video = streams.video[0]
    if video.codec_context is None:
        raise FormatError("a video codec that is not known", "give H.264, H.265 or AV1", str(path))
    audio = next((stream for stream in streams.audio if stream.codec_context is not None), None)
    tally, heard, decoded = VideoTally(), _Heard(), _Decoding() if deep else None
    sizes = _Sizes(video)
    for batch in _batches(opened, video, audio, decoded, sizes):
        _count(batch, video, audio, tally, heard)
        progress(tally.last)
    if tally.first is None or tally.frames < 2:
        raise FormatError("it has fewer than two frames", "record again", str(path))
    seconds = tally.last - tally.first
    ended = max(tally.last + tally.usual_seconds(), heard.last) - min(tally.first, heard.first)
    said = float(opened.duration / av.time_base) if opened.duration else None
    if said is not None and ended < min(said - CUT_OFF_SECONDS, 0.97 * said):
        raise FormatError(
            f"cut off: its header says {said:.1f} s, it ends after {ended:.1f} s",
            "copy or record it again",
            str(path),
        )
    seen = video_seen(_facts(video), tally, buffer_seconds)
    changes = tuple((round(max(0.0, at - tally.first), 3), to) for at, to in sizes.changes)
    seen = seen.model_copy(update={"resolution_changes": changes})
    listened = None if audio is None else heard.seen(audio, tally.first)
    rates, length = by_second(tally)
    return Recording(
        name=path.name,
        container=wanted or names[0],
        seconds=round(seconds, 3),
        total_kbps=round(seen.average_kbps + (listened.average_kbps if listened else 0.0), 1),
        video=seen,
        audio=listened,
        decoded=decoded.seen() if decoded is not None else None,
        second_kbps=rates,
        second_length=length,
    )


def _batches(
    opened: InputContainer,
    video: VideoStream,
    audio: AudioStream | None,
    decoded: _Decoding | None = None,
    sizes: _Sizes | None = None,
) -> Iterator[Floats]:
    """So many packets at a time, each let go as soon as it is read.

    Rows of stream, presentation and decoding time, size, keyframe; a time that is not there is nan.
    """
    packets = iter(opened.demux([video] if audio is None else [video, audio]))
    if decoded is not None:
        packets = decoded.passing(packets, video.index)
    if sizes is not None:
        packets = sizes.passing(packets, video.index)
    while True:
        flat: list[Any] = []
        add = flat.extend
        for p in islice(packets, BATCH):
            add((p.stream_index, p.pts, p.dts, p.size, p.is_keyframe))
        if not flat:
            return
        yield np.array(flat, dtype=np.float64).reshape(-1, 5)


def _count(
    rows: Floats,
    video: VideoStream,
    audio: AudioStream | None,
    tally: VideoTally,
    heard: _Heard,
) -> None:
    streams, pts, dts, sizes, keys = rows.T
    pts, dts = np.where(np.isnan(pts), dts, pts), np.where(np.isnan(dts), pts, dts)
    for stream in (video, audio):
        if stream is None:
            continue
        here = (streams == stream.index) & (sizes > 0) & ~np.isnan(pts)
        unit = float(stream.time_base or 0)
        if stream is video:
            tally.add(pts[here] * unit, dts[here] * unit, sizes[here], keys[here] > 0)
        else:
            heard.add(pts[here] * unit, sizes[here])


class _Heard:
    """Counts of audio packets."""

    def __init__(self) -> None:
        self.bytes, self.packets = 0.0, 0
        self.first, self.last = np.inf, -np.inf
        self._clock = SteadyClock()

    def add(self, shown: Any, sizes: Any) -> None:
        if shown.size:
            shown = shown - self._clock.correction(shown)
            self.bytes += float(sizes.sum())
            self.packets += int(shown.size)
            self.first = min(self.first, float(shown.min()))
            self.last = max(self.last, float(shown.max()))

    def seen(self, stream: AudioStream, video_first: float) -> AudioSeen | None:
        if self.packets < 2:
            return None
        seconds = (self.last - self.first) * self.packets / (self.packets - 1)
        if seconds <= 0:
            return None
        return AudioSeen(
            codec=_audio_codec(stream),
            sample_rate_hz=stream.codec_context.sample_rate,
            channels=stream.codec_context.layout.nb_channels,
            average_kbps=round(self.bytes * 8e-3 / seconds, 1),
            offset_ms=round((self.first - video_first) * 1000, 1),
        )


def _audio_codec(stream: AudioStream) -> str:
    """The codec's name, whatever its decoder is called: ``mp3`` for ``mp3float``."""
    return str(stream.codec_context.codec.canonical_name).removesuffix("_latm")


class _Sizes:
    """Where the resolution changes: at keyframes that bring other parameter sets."""

    def __init__(self, stream: VideoStream) -> None:
        context = stream.codec_context
        self.changes: list[tuple[float, Resolution]] = []
        self._codec, self._unit = context.name, float(stream.time_base or 0)
        self._sets, self._last = b"", Resolution(context.width, context.height)

    def passing(self, packets: Iterator[Packet[Any]], index: int) -> Iterator[Packet[Any]]:
        """The same packets."""
        for packet in packets:
            if packet.is_keyframe and packet.stream_index == index:
                self._look(packet)
            yield packet

    def _look(self, packet: Packet[Any]) -> None:
        new = hasattr(packet, "has_sidedata") and packet.has_sidedata("new_extradata")
        header = bytes(packet.get_sidedata("new_extradata")) if new else b""
        sets = header or sequence_sets(self._codec, bytes(packet))
        if not sets or sets == self._sets or packet.pts is None:
            return
        context = VideoCodecContext.create(self._codec, "r")
        assert isinstance(context, VideoCodecContext)
        context.extradata = header or packet.stream.codec_context.extradata
        with contextlib.suppress(av.error.FFmpegError):
            frames = [*context.decode(av.Packet(bytes(packet))), *context.decode(None)]
            for frame in frames[:1]:
                now = Resolution(frame.width, frame.height)
                if now != self._last:
                    self.changes.append((packet.pts * self._unit, now))
                self._sets, self._last = sets, now


class _Decoding:
    """Counts of decoded frames by type."""

    def __init__(self) -> None:
        self.types = {"I": 0, "P": 0, "B": 0}
        self.frames = self.damaged = 0

    def passing(self, packets: Iterator[Packet[Any]], index: int) -> Iterator[Packet[Any]]:
        """The same packets; those of one stream are decoded on the way."""
        for packet in packets:
            if packet.stream_index == index:
                self.decode(packet)
            yield packet

    def decode(self, packet: Packet[Any]) -> None:
        try:
            frames = packet.decode()
        except av.error.FFmpegError:
            self.damaged += 1
            return
        for frame in frames:
            self.frames += 1
            self.damaged += bool(frame.is_corrupt)
            name = PICTURE_TYPES.get(int(frame.pict_type)) if hasattr(frame, "pict_type") else None
            if name is not None:
                self.types[name] += 1

    def seen(self) -> Decoded:
        return Decoded(
            frames=self.frames,
            damaged=self.damaged,
            i_frames=self.types["I"],
            p_frames=self.types["P"],
            b_frames=self.types["B"],
        )


def _protected(path: Path) -> bool:
    """Whether the index of an MP4 file names a protected track."""
    found = mp4.index(path) or b""
    return any(name in found for name in ENCRYPTED)


def _facts(stream: VideoStream) -> VideoFacts:
    context = stream.codec_context
    codec = codec_named(context.name)
    read = profile_and_level(codec, bytes(context.extradata or b""))
    if context.width < 1 or context.height < 1:
        raise IndexError("no resolution")
    resolution = Resolution(context.width, context.height)
    named = (context.profile or "").lower().replace("constrained ", "") or None
    return VideoFacts(
        codec=codec,
        profile=read.profile if read else named,
        level=read.level if read else None,
        resolution=resolution,
        pixel_format=context.pix_fmt,
        colour=COLOURS.get(int(context.colorspace)),
        colour_range=RANGES.get(int(context.color_range)),
    )


def stream_facts(beginning: bytes) -> tuple[VideoFacts | None, AudioFacts | None]:
    """What the first tags of a stream, as an FLV file, say of its video and audio."""
    av.logging.set_level(None)
    try:
        with av.open(io.BytesIO(beginning), format="flv") as opened:
            video, audio = opened.streams.video, opened.streams.audio
            heard = None
            if audio:
                context = audio[0].codec_context
                codec = _audio_codec(audio[0])
                heard = AudioFacts(codec, context.sample_rate, context.layout.nb_channels)
            return (_facts(video[0]) if video and video[0].codec_context.width else None, heard)
    except (av.error.FFmpegError, OSError, *DAMAGED):
        return None, None
