"""A stand-in stream: a test card with a moving clock, exactly as planned, cheap to encode.

The media library encodes and wraps it as FLV; here its tags are taken apart again and each frame is
filled up to its share of the bitrate, so that the stream is constant whatever the encoder does.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import av
import av.logging
import numpy as np
from numpy.typing import NDArray

from eager_kestrel.core.codecs import CODECS
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.plan.exports import AV1_LIVE
from eager_kestrel.wire import flv
from eager_kestrel.wire.flv import filler

if TYPE_CHECKING:
    from eager_kestrel.core.resolution import Resolution
    from eager_kestrel.core.settings.values import AudioSettings, VideoSettings

OWN_SHARE = 0.7
"""Of the bitrate the encoder itself may use; the rest is filler."""
BT709 = 1
RANGES = {"limited": 1, "full": 2}
"""As the media library numbers them (ITU-T H.273)."""
BARS = (235, 210, 170, 145, 106, 81, 41, 16)
AUDIO_LEVEL = 0.02
LETTERS = {
    "T": ("#####", "  #  ", "  #  ", "  #  ", "  #  ", "  #  ", "  #  "),
    "E": ("#####", "#    ", "#    ", "#### ", "#    ", "#    ", "#####"),
    "S": (" ####", "#    ", "#    ", " ### ", "    #", "    #", "#### "),
}
"""Five dots by seven, for the one word the resolution says."""
TAG_BYTES = 11


@dataclass(frozen=True, slots=True)
class Tag:
    """A piece to send."""

    kind: int
    """As FLV has it: 8 audio, 9 video, 18 data."""
    milliseconds: int
    payload: bytes
    frame: bool
    """Whether it is a frame of video."""


@dataclass(frozen=True, slots=True)
class EncodedFrame:
    """What one frame's worth of encoding gave."""

    number: int
    encode_ms: float
    tags: tuple[Tag, ...]


class _Catcher:
    """Takes what the FLV writer writes."""

    def __init__(self) -> None:
        self.data = bytearray()

    def write(self, data: bytes) -> int:
        self.data += data
        return len(data)


class StandIn:
    """Encodes frame after frame; use :meth:`steps` once."""

    def __init__(self, video: VideoSettings, audio: AudioSettings, slowed_ms: float = 0.0) -> None:
        """Open the encoders.

        Raises:
            InputError: this machine has no encoder for it.
        """
        av.logging.set_level(None)
        self._video, self._audio = video, audio
        self._rate = video.frame_rate
        self._slowed = slowed_ms / 1000
        self._card = _card(video.resolution)
        self._out = _Catcher()
        self._credit = 0.0
        self.frame_bytes: Callable[[], int] | None = None
        """How long the next frame is to be, where that is not its share of the bitrate."""
        try:
            self._open()
        except (av.error.FFmpegError, ValueError) as error:
            raise InputError(
                f"this machine cannot encode {video.codec} so ({error})", "plan another codec"
            ) from None

    def _open(self) -> None:
        video, audio = self._video, self._audio
        self._container = av.open(
            self._out,
            "w",
            format="flv",
            options={"flvflags": "no_duration_filesize", "fflags": "flush_packets"},
        )
        stream: Any = self._container.add_stream(CODECS[video.codec].encoder, rate=self._rate)
        stream.width, stream.height = video.resolution.width, video.resolution.height
        stream.pix_fmt = "yuv420p"
        stream.time_base = 1 / self._rate
        stream.options = self._options()
        stream.codec_context.gop_size = video.keyframe_frames
        stream.codec_context.max_b_frames = video.b_frames
        stream.codec_context.bit_rate = int(video.bitrate_kbps * 1000 * OWN_SHARE)
        stream.codec_context.color_range = RANGES.get(video.colour_range, 1)
        if video.colour == "bt709":
            for name in ("color_primaries", "color_trc", "colorspace"):
                setattr(stream.codec_context, name, BT709)
        sound: Any = self._container.add_stream("aac", rate=audio.sample_rate_hz)
        sound.layout = "mono" if audio.channels == 1 else "stereo"
        sound.codec_context.bit_rate = int(audio.bitrate_kbps * 1000)
        self._stream, self._sound = stream, sound
        self._noise = np.random.default_rng(7)
        self._samples = 0

    def _options(self) -> dict[str, str]:
        video = self._video
        most = f"{int(video.bitrate_kbps * OWN_SHARE)}k"
        if video.codec == "av1":
            return {"preset": "12", "svtav1-params": AV1_LIVE}
        common = {"preset": "ultrafast", "maxrate": most, "bufsize": most}
        keys = f"keyint={video.keyframe_frames}:min-keyint={video.keyframe_frames}"
        if video.codec == "hevc":
            return common | {"x265-params": f"scenecut=0:open-gop=0:{keys}:log-level=none"}
        tools = {"high": "cabac=1:8x8dct=1", "main": "cabac=1"}.get(video.profile, "cabac=0")
        return common | {
            "x264-params": f"scenecut=0:open-gop=0:{keys}:{tools}:rc-lookahead=0:sync-lookahead=0",
            "profile": video.profile,
            "level": video.level,
        }

    def steps(self) -> Iterator[EncodedFrame]:
        """Frame after frame without end; the caller keeps time."""
        number = 0
        while True:
            began = time.perf_counter()
            frame = av.VideoFrame.from_ndarray(_drawn(self._card, number), format="yuv420p")
            frame.pts = number
            for packet in self._stream.encode(frame):
                self._container.mux(packet)
            self._hear(number)
            if self._slowed:
                time.sleep(self._slowed)
            tags = tuple(self._tags())
            yield EncodedFrame(number, (time.perf_counter() - began) * 1000, tags)
            number += 1

    def _hear(self, number: int) -> None:
        """Encode sound up to the end of this frame."""
        until = int((number + 1) / self._rate * self._audio.sample_rate_hz)
        while self._samples + 1024 <= until:
            noise = self._noise.standard_normal((self._audio.channels, 1024)) * AUDIO_LEVEL
            frame = av.AudioFrame.from_ndarray(
                noise.astype(np.float32),
                format="fltp",
                layout="mono" if self._audio.channels == 1 else "stereo",
            )
            frame.sample_rate, frame.pts = self._audio.sample_rate_hz, self._samples
            self._samples += 1024
            for packet in self._sound.encode(frame):
                self._container.mux(packet)

    def _tags(self) -> Iterator[Tag]:
        """Take whole tags out of what was written."""
        while (taken := flv.take_tag(self._out.data)) is not None:
            kind, stamp, payload = taken
            frame = kind == flv.VIDEO and flv.part_of(kind, payload) == "frame"
            yield Tag(kind, stamp, self._filled(payload) if frame else payload, frame)

    def _filled(self, payload: bytes) -> bytes:
        """A frame made as long as its share of the bitrate, counting what earlier ones took."""
        body = len(flv.read_video(payload).body)
        if self.frame_bytes is not None:
            return payload + filler(self._video.codec, self.frame_bytes() - body)
        self._credit += self._video.bitrate_kbps * 125 / float(self._rate) - body
        added = filler(self._video.codec, int(self._credit))
        self._credit -= len(added)
        return payload + added

    def close(self) -> None:
        """Let go of the encoders."""
        self._container.close()


def _card(resolution: Resolution) -> NDArray[np.uint8]:
    """Grey bars with a little colour, as one 4:2:0 array of 1.5 x height rows."""
    width, height = resolution.width, resolution.height
    card = np.full((height * 3 // 2, width), 128, np.uint8)
    for number, level in enumerate(BARS):
        card[:height, number * width // len(BARS) : (number + 1) * width // len(BARS)] = level
    _write(card[:height], "TEST")
    return card


def _write(area: NDArray[np.uint8], word: str) -> None:
    """A word in dots on a white band across the upper half."""
    height, width = area.shape
    dot = max(1, min(width // (6 * len(word) + 2), height // 16))
    left = (width - dot * (6 * len(word) - 1)) // 2
    area[height // 5 - dot : height // 5 + 8 * dot] = BARS[0]
    for place, letter in enumerate(word):
        for row, dots in enumerate(LETTERS[letter]):
            for column, mark in enumerate(dots):
                x, y = left + (6 * place + column) * dot, height // 5 + row * dot
                if mark == "#":
                    area[y : y + dot, x : x + dot] = 16


def _drawn(card: NDArray[np.uint8], number: int) -> NDArray[np.uint8]:
    """The card with a hand that moves every frame and a row of bits that counts them."""
    drawn = card.copy()
    height, width = card.shape[0] * 2 // 3, card.shape[1]
    side = max(8, height // 12)
    x = number * max(2, width // 240) % max(1, width - side)
    drawn[height // 2 : height // 2 + side, x : x + side] = 235 if number % 2 else 16
    for bit in range(16):
        left = side + bit * side
        if left + side <= width:
            drawn[side : 2 * side, left : left + side - 2] = 235 if number >> bit & 1 else 16
    return drawn
