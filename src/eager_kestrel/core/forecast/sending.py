"""What is sent, frame by frame: as a plan's constant bitrate sends it, or as a recording did."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.show.show import Motion

KEYFRAME_TO_P: dict[Motion, float] = {"still": 12.0, "calm": 8.0, "lively": 5.0, "hectic": 3.0}
"""How much longer a keyframe is than a P-frame; the less moves, the more."""
B_TO_P = 0.5
MOST_ROUNDS = 20
"""Repetitions of a pattern at the most, until it ends with a step."""


@dataclass(frozen=True, slots=True)
class Sending:
    """A stream as the line meets it, in seconds of stream: a frame of ``1 / fps`` is average."""

    kbps: float
    """Everything sent, on average."""
    fps: float
    pattern: Floats
    """Shape (frames,), seconds of stream in each frame, in the order sent; then from the start."""

    def by_step(self, step_seconds: float) -> Floats:
        """Seconds of stream sent in each step, of about as long as the pattern lasts.

        A frame is sent when it is due, as a whole.

        Args:
            step_seconds: how long a step is.

        Returns:
            Shape (steps,), the length of a step on average.
        """
        lasts = self.pattern.size / self.fps
        rounds = 1
        while abs(rounds * lasts / step_seconds - round(rounds * lasts / step_seconds)) > 0.01:
            rounds += 1
            if rounds == MOST_ROUNDS:
                break
        count = max(1, round(rounds * lasts / step_seconds))
        frames = np.tile(self.pattern, rounds)
        at = np.floor(np.arange(frames.size) / self.fps / step_seconds + 1e-9).astype(np.intp)
        sent = np.bincount(np.minimum(at, count - 1), frames, count)
        return np.asarray(sent * (count * step_seconds / sent.sum()), dtype=np.float64)


def planned(
    kbps: float,
    video_kbps: float,
    fps: float,
    keyframe_frames: int,
    b_frames: int,
    buffer_kbit: float,
    motion: Motion,
) -> Sending:
    """The frames of a plan: constant bitrate, a keyframe every interval, the rest spread evenly.

    Args:
        kbps: everything sent.
        video_kbps: of it video.
        fps: frames a second.
        keyframe_frames: frames from one keyframe to the next.
        b_frames: between two others.
        buffer_kbit: the encoder's; no frame is longer.
        motion: how much moves.
    """
    order = [1.0] + [B_TO_P] * b_frames  # a P-frame is sent before the B-frames that need it
    video = np.resize(np.array(order), max(1, keyframe_frames))
    video = np.roll(video, 1) if keyframe_frames > 1 else video
    video[0] = KEYFRAME_TO_P[motion]
    video /= video.mean()
    longest = buffer_kbit * fps / max(video_kbps, 1e-9)
    if video[0] > longest > 1 and video.size > 1:
        video[1:] *= (video.size - longest) / video[1:].sum()
        video[0] = longest
    share = min(1.0, video_kbps / kbps)
    return Sending(kbps, fps, np.asarray((share * video + 1 - share) / fps, dtype=np.float64))


def recorded(seconds: Floats, sizes_bytes: Floats) -> Sending:
    """The frames of a recording, sent again and again.

    Args:
        seconds: shape (frames,), when each was sent, rising.
        sizes_bytes: shape (frames,), audio and headers with the frame they follow.
    """
    fps = (seconds.size - 1) / float(seconds[-1] - seconds[0])
    edges = seconds[0] + np.arange(seconds.size + 1) / fps
    sent = np.concatenate([[0.0], np.cumsum(sizes_bytes)])
    begun = np.append(seconds, edges[-1])  # a late frame leaves a gap, and what follows is a burst
    kbit = np.diff(np.interp(edges, begun, sent)) * 8e-3
    kbps = float(kbit.mean()) * fps
    return Sending(kbps, fps, np.asarray(kbit / kbps, dtype=np.float64))


def together(streams: tuple[Sending, ...]) -> Sending:
    """Several streams over one line, at the first one's frame rate, keyframes at the same time."""
    if len(streams) == 1:
        return streams[0]
    kbps = sum(stream.kbps for stream in streams)
    first = max(streams, key=lambda stream: stream.kbps)
    count = max(round(stream.pattern.size / stream.fps * first.fps) for stream in streams)
    edges = np.arange(count + 1) / first.fps
    total = np.zeros(count + 1)
    for stream in streams:
        sent = np.concatenate([[0.0], np.cumsum(np.resize(stream.pattern, 2 * count + 2))])
        at = np.arange(sent.size) / stream.fps
        total += np.interp(edges, at, sent) * stream.kbps / kbps
    pattern = np.diff(total)
    return Sending(kbps, first.fps, np.asarray(pattern / (pattern.mean() * first.fps)))
