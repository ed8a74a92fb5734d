"""A stream while it arrives: counts for the report at the end, and figures for a live view."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

import numpy as np

from eager_kestrel.core.checks.clock import SteadyClock
from eager_kestrel.core.checks.describing import VideoFacts, by_second, video_seen
from eager_kestrel.core.checks.recording import (
    AudioSeen,
    Recording,
)
from eager_kestrel.core.checks.tally import VideoTally
from eager_kestrel.core.stutter import LATE_SECONDS

BATCH = 64
LIVE_SECONDS = 2.0


@dataclass(frozen=True, slots=True)
class LiveView:
    """How it goes just now."""

    seconds: float
    """Of media so far."""
    video_kbps: float
    """Over the last two seconds."""
    fps: float
    keyframe_seconds: float | None
    """Between the last two."""
    audio_kbps: float
    delay_seconds: float
    """How much later than the quickest frame the latest one came, against its time."""


@dataclass(frozen=True, slots=True)
class AudioFacts:
    """What the stream says of its audio."""

    codec: str
    sample_rate_hz: int
    channels: int


@dataclass(slots=True)
class StreamWatch:
    """Counts what arrives; times in seconds."""

    tally: VideoTally = field(default_factory=VideoTally)
    audio_bytes: int = 0
    audio_packets: int = 0
    audio_first: float | None = None
    audio_last: float = 0.0
    worst_delay: float = 0.0
    late_frames: int = 0
    """That came later than may be, against the quickest."""
    _recent: deque[tuple[float, int, bool]] = field(default_factory=deque)
    _recent_audio: deque[tuple[float, int]] = field(default_factory=deque)
    _rows: list[tuple[float, float, int, bool]] = field(default_factory=list)
    _quickest: float | None = None
    _clock: SteadyClock = field(default_factory=SteadyClock)
    """For the live view; the tally has its own."""
    _audio_clock: SteadyClock = field(default_factory=SteadyClock)
    _delay: float = 0.0
    _keys: deque[float] = field(default_factory=lambda: deque(maxlen=2))

    def video(self, sent: float, shown: float, size: int, keyframe: bool, at: float) -> None:
        """A frame came at a moment."""
        self._rows.append((shown, sent, size, keyframe))
        sent = self._clock.steady(sent)
        self._recent.append((sent, size, keyframe))
        while self._recent and self._recent[0][0] < sent - LIVE_SECONDS:
            self._recent.popleft()
        if keyframe:
            self._keys.append(sent)
        behind = at - sent
        self._quickest = behind if self._quickest is None else min(self._quickest, behind)
        self._delay = behind - self._quickest
        self.worst_delay = max(self.worst_delay, self._delay)
        self.late_frames += self._delay > LATE_SECONDS
        if len(self._rows) >= BATCH:
            self._flush()

    def start_pace_anew(self) -> None:
        """What comes next is on time: what was late before was held up, and stays so much later."""
        self._quickest, self._delay = None, 0.0

    @property
    def delay_seconds(self) -> float:
        """How much later than the quickest frame the latest one came, against its time."""
        return self._delay

    def audio(self, sent: float, size: int) -> None:
        """An audio frame came."""
        sent = self._audio_clock.steady(sent)
        self.audio_bytes += size
        self.audio_packets += 1
        self.audio_first = sent if self.audio_first is None else self.audio_first
        self.audio_last = sent
        self._recent_audio.append((sent, size))
        while self._recent_audio and self._recent_audio[0][0] < sent - LIVE_SECONDS:
            self._recent_audio.popleft()

    def _flush(self) -> None:
        if self._rows:
            shown, sent, size, key = (np.array(column) for column in zip(*self._rows, strict=True))
            self.tally.add(shown, sent, size.astype(np.float64), key)
            self._rows.clear()

    def live(self) -> LiveView:
        """How it goes just now."""
        span = self._recent[-1][0] - self._recent[0][0] if len(self._recent) > 1 else 0.0
        heard = (
            self._recent_audio[-1][0] - self._recent_audio[0][0]
            if len(self._recent_audio) > 1
            else 0.0
        )
        keys = list(self._keys)
        return LiveView(
            seconds=self._recent[-1][0] if self._recent else 0.0,
            video_kbps=sum(s for _, s, _ in list(self._recent)[1:]) * 8e-3 / span if span else 0.0,
            fps=(len(self._recent) - 1) / span if span else 0.0,
            keyframe_seconds=keys[1] - keys[0] if len(keys) == 2 else None,
            audio_kbps=sum(s for _, s in list(self._recent_audio)[1:]) * 8e-3 / heard
            if heard
            else 0.0,
            delay_seconds=self._delay,
        )

    def report(
        self, name: str, video: VideoFacts, audio: AudioFacts | None, buffer_seconds: float = 1.0
    ) -> Recording | None:
        """All that was found; None when there were not two frames."""
        self._flush()
        tally = self.tally
        if tally.frames < 2 or tally.first is None:
            return None
        seen = video_seen(video, tally, buffer_seconds)
        heard = self._heard(audio, tally.first)
        rates, length = by_second(tally)
        return Recording(
            name=name,
            container="rtmp",
            seconds=round(max(0.0, tally.last - tally.first), 3),
            total_kbps=round(seen.average_kbps + (heard.average_kbps if heard else 0.0), 1),
            video=seen,
            audio=heard,
            second_kbps=rates,
            second_length=length,
        )

    def _heard(self, audio: AudioFacts | None, video_first: float) -> AudioSeen | None:
        if audio is None or self.audio_packets < 2 or self.audio_first is None:
            return None
        seconds = (self.audio_last - self.audio_first) * self.audio_packets
        seconds /= self.audio_packets - 1
        return AudioSeen(
            codec=audio.codec,
            sample_rate_hz=audio.sample_rate_hz,
            channels=audio.channels,
            average_kbps=round(self.audio_bytes * 8e-3 / seconds, 1) if seconds else 0.0,
            offset_ms=round((self.audio_first - video_first) * 1000, 1),
        )
