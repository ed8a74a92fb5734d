"""What a transport adds to video and audio, from its header sizes.

What a run measures is payload delivered over TCP, so TCP and IP headers are already outside. What
remains, per message and per byte:

- RTMP (the published 1.0 specification, section 5.3): a chunk header with a type-1 message header
  is 1 + 7 bytes, each further chunk of a message 1 byte; at the 4,096-byte chunks senders set, one
  byte in 4,096. The FLV tag body begins with 5 bytes for H.264 and 2 for AAC (FLV 10.1, annex E).
- RTMPS: each TLS 1.3 record adds 5 bytes of header, 1 of type and 16 of tag (RFC 8446 section
  5.2); at least one record a message and one every 16,384 bytes.

- HLS push (MPEG-TS, ISO/IEC 13818-1, by HTTP PUT): 4 bytes of each 188-byte packet; per video frame
  19 bytes of PES header, 6 of access unit delimiter, 8 of adaptation field and on average half a
  packet of stuffing; per AAC frame 7 bytes of ADTS, and a PES header of 14 with half a packet of
  stuffing for every four; PAT and PMT every 100 ms; a request of 500 bytes each two seconds; TLS.

- SRT (draft-sharabayko-srt-01): the same MPEG-TS without requests and TLS, 7 packets of it behind
  a header of 16 bytes. What UDP and IP add (28 bytes) is less than what TCP and IP add, which is
  outside. A quarter more is kept free for packets that are sent again.

An AAC frame is 1,024 samples (ISO/IEC 14496-3).
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from math import ceil

RTMP_CHUNK_BYTES = 4096
RTMP_MESSAGE_BYTES = 8
FLV_VIDEO_BYTES = 5
FLV_AUDIO_BYTES = 2
TLS_RECORD_BYTES = 22
TLS_PLAINTEXT_BYTES = 16384
AAC_SAMPLES = 1024
TS_PACKET_BYTES = 188
TS_PAYLOAD_BYTES = 184
TS_VIDEO_BYTES = 19 + 6 + 8 + TS_PAYLOAD_BYTES / 2
TS_AUDIO_BYTES = 7 + (14 + TS_PAYLOAD_BYTES / 2) / 4
TS_TABLES_BYTES_PER_SECOND = 2 * TS_PACKET_BYTES * 10
REQUEST_BYTES_PER_SECOND = 250
SRT_HEADER_BYTES = 16
SRT_PAYLOAD_BYTES = 7 * TS_PACKET_BYTES
SRT_REPEATS = 0.25
SRT_ROUND_TRIPS, SRT_LEAST_LATENCY_MS = 4, 120


@dataclass(frozen=True, slots=True)
class Overhead:
    """Total sent = (video + audio) x ``per_byte`` + ``fixed_kbps``; an upper bound."""

    per_byte: float
    fixed_kbps: float
    repeats: float = 0.0
    """Of it, what is kept free for packets that are sent again, as a share of all others."""

    def total_kbps(self, video_kbps: float, audio_kbps: float) -> float:
        """What goes out on the wire, above TCP."""
        return (video_kbps + audio_kbps) * self.per_byte + self.fixed_kbps

    def video_kbps(self, total_kbps: float, audio_kbps: float) -> float:
        """What is left for video of a total; the inverse, possibly below zero."""
        return (total_kbps - self.fixed_kbps) / self.per_byte - audio_kbps


def overhead(transport: str, frame_rate: Fraction, sample_rate_hz: int) -> Overhead:
    """The overhead of a transport at a frame rate and audio sample rate."""
    audio_frames = sample_rate_hz / AAC_SAMPLES
    if transport in ("hls", "srt"):
        return _of_ts(float(frame_rate), audio_frames, srt=transport == "srt")
    messages = float(frame_rate) + audio_frames
    headers = messages * RTMP_MESSAGE_BYTES
    headers += float(frame_rate) * FLV_VIDEO_BYTES + audio_frames * FLV_AUDIO_BYTES
    per_byte = 1 + 1 / RTMP_CHUNK_BYTES
    if transport == "rtmps":
        headers += messages * TLS_RECORD_BYTES
        per_byte *= 1 + TLS_RECORD_BYTES / TLS_PLAINTEXT_BYTES
    return Overhead(per_byte=per_byte, fixed_kbps=headers * 8e-3)


def _of_ts(fps: float, audio_frames: float, *, srt: bool) -> Overhead:
    headers = fps * TS_VIDEO_BYTES + audio_frames * TS_AUDIO_BYTES
    headers = headers * TS_PACKET_BYTES / TS_PAYLOAD_BYTES + TS_TABLES_BYTES_PER_SECOND
    if srt:
        around, repeats = 1 + SRT_HEADER_BYTES / SRT_PAYLOAD_BYTES, SRT_REPEATS
    else:
        headers += REQUEST_BYTES_PER_SECOND
        around, repeats = 1 + TLS_RECORD_BYTES / TLS_PLAINTEXT_BYTES, 0.0
    around *= 1 + repeats
    per_byte = TS_PACKET_BYTES / TS_PAYLOAD_BYTES * around
    return Overhead(per_byte, headers * around * 8e-3, repeats)


def srt_latency_ms(round_trip_ms: float | None) -> int:
    """The delay to set: at least four round trips and 120 ms, in steps of 10."""
    trips = SRT_ROUND_TRIPS * (round_trip_ms or 0.0)
    return max(SRT_LEAST_LATENCY_MS, 10 * ceil(trips / 10))
