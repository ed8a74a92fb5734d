"""Holding a recording against guides and the line."""

from __future__ import annotations

from pathlib import Path

from eager_kestrel.actions.check import guides_of
from eager_kestrel.core.checks.recording_rules import check_recording
from eager_kestrel.core.checks.rules import Findings
from eager_kestrel.core.choice.budget import budget
from eager_kestrel.core.line.uplink import Uplink
from eager_kestrel.core.show.show import Show
from eager_kestrel.media.recording import Progress, read_recording


def check_file(
    path: Path,
    platforms: list[str],
    show: Show | None = None,
    guides: Path | None = None,
    uplink: Uplink | None = None,
    *,
    deep: bool = False,
    buffer_seconds: float = 1.0,
    progress: Progress = lambda _: None,
) -> Findings:
    """Describe a recording and hold it against guides.

    Args:
        path: FLV, MP4, MKV, MPEG-TS or an HLS playlist.
        platforms: each ``PLATFORM`` or ``PLATFORM:STANDING``; none just describes it.
        show: whose share and reserves the line is held to.
        guides: a folder whose guides come first.
        uplink: what the line carries.
        deep: whether to decode every frame.
        buffer_seconds: the window one of the peaks is taken over.
        progress: told the seconds read so far.

    Raises:
        NotFoundError: a platform or standing is not known.
        FormatError: it is no recording that can be read.
    """
    ruled = guides_of(platforms, guides)
    safe = None
    if uplink is not None and show is not None:
        safe = budget(uplink, show.safe_share, show.reserves).safe_kbps
    seen = read_recording(path, deep=deep, buffer_seconds=buffer_seconds, progress=progress)
    return check_recording(seen, ruled, safe)


def ceiling_kbps(platforms: list[str], guides: Path | None = None) -> float | None:
    """The lowest ceiling among guides, for a figure; None without any."""
    held = guides_of(platforms, guides)
    return min((g.under(standing).video.ceiling.kbps for g, standing in held), default=None)
