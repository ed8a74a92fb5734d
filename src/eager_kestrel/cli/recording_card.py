"""A recording, or a stream that arrived, in a terminal: what it turned out to be."""

from __future__ import annotations

from typing import TYPE_CHECKING

from eager_kestrel.cli.terminal import grid
from eager_kestrel.core.checks.recording import AudioSeen, Recording, VideoSeen
from eager_kestrel.core.plan.card_text import CHANNELS, CODECS
from eager_kestrel.core.resolution import frame_rate_text

if TYPE_CHECKING:
    from rich.console import Console


def _video_rows(video: VideoSeen) -> list[tuple[str, str]]:
    keys = video.keyframes
    spacing = "only one" if keys.typical_seconds is None else f"every {keys.typical_seconds:.4g} s"
    if keys.longest_seconds is not None and not keys.regular:
        spacing += f", {keys.shortest_seconds:.4g} to {keys.longest_seconds:.4g} s apart"
    codec = CODECS.get(video.codec, video.codec)
    colour = [part for part in (video.pixel_format, video.colour, video.colour_range) if part]
    return [
        ("resolution", f"{video.resolution}, {video.shape}"),
        (
            "frame rate",
            f"{frame_rate_text(video.frame_rate)} a second, "
            f"{video.regular_share:.1%} of frames when due",
        ),
        ("video bitrate", f"{video.average_kbps:,.0f} kbit/s on average, {video.rate_control}"),
        (
            "peaks",
            f"{video.peak_1s_kbps:,.0f} over 1 s, {video.peak_2s_kbps:,.0f} over 2 s; the "
            f"lowest 2 s {video.lowest_2s_kbps:,.0f} kbit/s",
        ),
        ("keyframes", f"{spacing} ({keys.count})"),
        ("buffer", f"{video.buffer_needed_kbit:,.0f} kbit are needed"),
        (
            "codec",
            f"{codec} {video.profile or '?'}, level {video.level or '?'}, "
            f"{video.b_frames} B-frames",
        ),
        ("colour", ", ".join(colour) or "not said"),
    ]


def _audio_words(audio: AudioSeen | None) -> str:
    if audio is None:
        return "none"
    channels = CHANNELS.get(audio.channels, f"{audio.channels} channels")
    return (
        f"{CODECS.get(audio.codec, audio.codec)} {audio.average_kbps:,.0f} kbit/s, "
        f"{audio.sample_rate_hz / 1000:g} kHz, {channels}, {audio.offset_ms:+.0f} ms to video"
    )


def show_recording(screen: Console, seen: Recording) -> None:
    """The card of a recording."""
    from rich.panel import Panel
    from rich.text import Text

    card = grid(0, 1)
    for name, value in [*_video_rows(seen.video), ("audio", _audio_words(seen.audio))]:
        card.add_row(Text(name, style="dim"), Text(value, style="bold"))
    if seen.decoded is not None:
        found = seen.decoded
        types = f"{found.i_frames} I, {found.p_frames} P, {found.b_frames} B"
        said = f"{found.frames} frames ({types}), {found.damaged} damaged"
        card.add_row(Text("decoded", style="dim"), Text(said, style="bold"))
    title = f"{seen.name}, {seen.container}, {seen.seconds:,.1f} s"
    screen.print(
        Panel(card, title=Text(title), title_align="left", border_style="cyan", padding=(0, 1))
    )
