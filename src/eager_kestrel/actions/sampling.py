"""Samples of one load phase as they come in, and what they say so far."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

from eager_kestrel.core.errors import InputError
from eager_kestrel.core.line.progress import Learned, Tell
from eager_kestrel.core.line.run import PhaseName, Series
from eager_kestrel.core.line.stopping import Limits
from eager_kestrel.core.line.throughput import throughput
from eager_kestrel.core.units import Bitrate, DataSize
from eager_kestrel.net.roundtrips import RoundTrips

SAMPLE_SECONDS = 0.05
QUIET_SECONDS = 0.3
"""After the last byte that was allowed: what was written has arrived."""
LEAST_LOAD_SECONDS = 3.0
"""Of load, for a ramp and a little that is steady."""


@dataclass
class Samples:
    """Samples of one phase as they come in."""

    seconds: list[float] = field(default_factory=lambda: [0.0])
    delivered: list[int] = field(default_factory=lambda: [0])

    def add(self, seconds: float, delivered: int) -> int:
        """One more; the count is kept from falling. Returns it."""
        self.seconds.append(round(seconds, 4))
        self.delivered.append(max(self.delivered[-1], delivered))
        return self.delivered[-1]

    def series(self) -> Series:
        """All of them."""
        return Series(seconds=tuple(self.seconds), delivered_bytes=tuple(self.delivered))

    def still_for(self, seconds: float) -> bool:
        """Whether nothing more was delivered for so long."""
        since = next(
            at for at, count in zip(self.seconds, self.delivered, strict=True)
            if count == self.delivered[-1]
        )  # fmt: skip
        return self.seconds[-1] - since >= seconds

    def last_second_kbps(self) -> float:
        """Over the last second."""
        now = self.seconds[-1]
        index = next(i for i, at in enumerate(self.seconds) if at >= now - 1)
        span = now - self.seconds[index]
        return (self.delivered[-1] - self.delivered[index]) / span / 125 if span > 0 else 0.0


def too_little(samples: Samples, limits: Limits) -> InputError:
    """The data limit was used up before anything steady was seen: what would do."""
    fastest = max(
        (b - a) / max(later - sooner, SAMPLE_SECONDS)
        for (sooner, later), (a, b) in zip(
            pairwise(samples.seconds), pairwise(samples.delivered), strict=True
        )
    )
    seconds = max(samples.seconds[-1] - QUIET_SECONDS, SAMPLE_SECONDS)
    rate = Bitrate.from_kbps(fastest / 125)
    wanted = DataSize(int(fastest * LEAST_LOAD_SECONDS))
    return InputError(
        f"the data limit of {DataSize(limits.data_bytes or 0)} was used up after {seconds:.1f} s, "
        f"at up to {rate}; that is too short to tell",
        f"give --data-limit {wanted} at the least",
    )


def tell_learned(
    series: Series, samples: Samples, name: PhaseName, trips: RoundTrips, tell: Tell
) -> None:
    """Tell how the phase goes."""
    found = throughput(series)
    answered = [t.round_trip_ms for t in trips.taken[-3:] if t.round_trip_ms is not None]
    tell(
        Learned(
            name,
            samples.seconds[-1],
            samples.last_second_kbps(),
            typical_kbps=found.typical_kbps if found else None,
            floor_kbps=found.floor_kbps if found else None,
            round_trip_ms=answered[-1] if answered else None,
        )
    )
