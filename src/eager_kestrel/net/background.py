"""What this machine sends besides the measurement: bytes out of every interface but loopback."""

from __future__ import annotations

import time

import psutil

from eager_kestrel.core.line.run import Background


def sent_bytes() -> int:
    """By every interface but loopback, since it is up."""
    counters = psutil.net_io_counters(pernic=True)
    stats = psutil.net_if_stats()
    loopback = {n for n, s in stats.items() if "loopback" in s.flags.split(",")} | {"lo", "lo0"}
    return sum(count.bytes_sent for name, count in counters.items() if name not in loopback)


class BackgroundWatch:
    """Begins watching when made."""

    def __init__(self) -> None:
        self._sent = sent_bytes()
        self._began = time.perf_counter()

    def so_far(self) -> Background:
        """Mean upload since it was made."""
        seconds = max(time.perf_counter() - self._began, 1e-3)
        gained = max(0, sent_bytes() - self._sent)
        return Background(
            upload_kbps=round(gained / seconds / 125, 1), watched_seconds=round(seconds, 2)
        )
