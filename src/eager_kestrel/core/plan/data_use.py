"""What the stream sends in an hour and a month, and what a copy on the own disk takes."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, clean_kbps
from eager_kestrel.core.plan.plan import DataUse, LocalCopy
from eager_kestrel.core.show.show import ON_THE_WIRE, Show

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import Codec
    from eager_kestrel.core.units import DataSize

GB_PER_KBPS_HOUR = 3600 * 1000 / 8 / 1e9
"""Gigabytes (10^9 bytes) in an hour of one kbit/s."""
COPY_CODEC: Codec = "h264"
COPY_AUDIO_KBPS = 192.0
COPY_KEYFRAME_SECONDS = 1.0
"""Short, so that the file can be cut and searched."""


def gb_per_hour(kbps: float) -> float:
    """Gigabytes in an hour at a rate."""
    return round(kbps * GB_PER_KBPS_HOUR, 3)


def data_use(total_kbps: float, hours_a_month: float, cap: DataSize | None = None) -> DataUse:
    """What a rate comes to, and how long a month's data lasts."""
    lasts = None
    if cap is not None and total_kbps > 0:
        lasts = round(cap.bytes / 1e9 / (total_kbps * GB_PER_KBPS_HOUR * ON_THE_WIRE), 1)
    return DataUse(
        cap_gb=None if cap is None else round(cap.bytes / 1e9, 3),
        cap_lasts_hours=lasts,
        gb_per_hour=gb_per_hour(total_kbps),
        hours_a_month=hours_a_month,
        gb_per_month=round(total_kbps * GB_PER_KBPS_HOUR * hours_a_month, 2),
    )


def local_copy(
    show: Show, table: QualityTable, sent_kbps: float, free_bytes: int | None
) -> LocalCopy:
    """Settings for a copy of the source at its own picture and frame rate."""
    pixels = np.array([float(show.source.pixels)])
    fps = np.array([float(show.frame_rate)])
    clean = float(clean_kbps(table, show.motion, COPY_CODEC, pixels, fps)[0])
    video = -(-clean // 500) * 500
    per_hour = gb_per_hour(video + COPY_AUDIO_KBPS)
    free_gb = None if free_bytes is None else round(free_bytes / 1e9, 2)
    return LocalCopy(
        picture=show.source,
        frame_rate=show.frame_rate,
        codec=COPY_CODEC,
        bitrate_kbps=video,
        keyframe_frames=max(1, round(COPY_KEYFRAME_SECONDS * show.frame_rate)),
        audio_kbps=COPY_AUDIO_KBPS,
        gb_per_hour=per_hour,
        sent_gb_per_hour=gb_per_hour(sent_kbps),
        free_gb=free_gb,
        free_hours=None if free_gb is None else round(free_gb / per_hour, 1),
    )
