"""The limits of every candidate's bitrate: budget, guide, level, viewers, no visible gain.

All arrays have one entry a candidate. What is sent to several platforms at once keeps within the
strictest of their limits.
"""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from math import inf
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.candidates import Candidate, steadiness
from eager_kestrel.core.codecs import CODECS, Codec, Level, level_rank
from eager_kestrel.core.overhead import overhead

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats
    from eager_kestrel.core.choice.quality import QualityTable
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.guide.rules import RateControl
    from eager_kestrel.core.show.show import Show

LEAST_VIDEO_KBPS = 100.0
"""Below this no resolution of any size is worth sending."""
VARIABLE_TARGET = 0.80
"""Of the peak. Variable bitrate uses what is left above it; the upload has room for the peak."""

AUDIO_STEPS_KBPS = (32.0, 48.0, 64.0, 96.0, 128.0, 160.0, 192.0, 256.0, 320.0)
AUDIO_SHARE = 0.05
"""Of everything that may be sent, once there is plenty."""


def rounded_down(kbps: Floats) -> Floats:
    """To 50 below 2,000 kbit/s and to 100 above, never up; exact to a bit a second."""
    bits = np.round(np.maximum(kbps, 0) * 1000)
    step = np.round(1000 * step_kbps(bits / 1000))
    return np.asarray(bits // step * step / 1000, dtype=np.float64)


def rounded_up(kbps: Floats) -> Floats:
    """The least bitrate of :func:`rounded_down` that is not lower."""
    down = rounded_down(kbps)
    return np.where(down < kbps, down + step_kbps(kbps), down)


def step_kbps(kbps: Floats) -> Floats:
    """How far apart bitrates stand that plans are made of."""
    return np.where(kbps < 2000, 50.0, 100.0)


def row_limits(
    members: Sequence[Guide], found: list[Candidate], codec: Codec
) -> tuple[Floats, Floats, Floats]:
    """The highest minimum, lowest maximum and highest recommended value of each, in kbit/s.

    Returns:
        0 where there is no minimum, or nothing is recommended; endless where there is no maximum.
    """
    lows, highs = np.zeros(len(found)), np.full(len(found), inf)
    advised = np.zeros(len(found))
    for member in members:
        rows = member.bitrate_table(codec, member.transports[0])
        said = [member.within_rules(rows.limits(c.resolution, c.frame_rate)) for c in found]
        lows = np.maximum(lows, [s.min.kbps if s.min else 0.0 for s in said])
        highs = np.minimum(highs, [s.max.kbps if s.max else inf for s in said])
        advised = np.maximum(advised, [s.recommended.kbps if s.recommended else 0.0 for s in said])
    return np.maximum(lows, LEAST_VIDEO_KBPS), highs, advised


def overheads(
    members: Sequence[Guide], found: list[Candidate], sample_rate_hz: int
) -> tuple[Floats, Floats]:
    """What each copy adds per byte and per second; both of shape (members, candidates)."""
    per_byte, fixed = np.empty((len(members), len(found))), np.empty((len(members), len(found)))
    for row, member in enumerate(members):
        rates = {c.frame_rate for c in found}
        extra = {rate: overhead(member.transports[0], rate, sample_rate_hz) for rate in rates}
        per_byte[row] = [extra[c.frame_rate].per_byte for c in found]
        fixed[row] = [extra[c.frame_rate].fixed_kbps for c in found]
    return per_byte, fixed


def rate_control(guide: Guide) -> RateControl:
    """Constant bitrate where it is taken, unless the platform would rather have variable."""
    taken, recommended = guide.video.rate_control, guide.video.recommended.rate_control
    if recommended is not None and recommended in taken:
        return recommended
    return "constant" if "constant" in taken else "variable"


def delivered_shares(
    members: Sequence[Guide], table: QualityTable, found: list[Candidate], source_rate: Fraction
) -> Floats:
    """Where large resolutions are delivered with a better codec, the others lose a little.

    So do frames in uneven steps.

    The mean over those that share an encode; by weight, raising one could lower its own quality.
    """
    shares = np.ones((len(members), len(found)))
    for row, member in enumerate(members):
        lines = member.delivery.better_from_lines
        if lines is not None:
            small = np.array([c.resolution.lines < lines for c in found], dtype=bool)
            shares[row, small] = table.ordinary_delivery
    steady = np.array([steadiness(source_rate, c.even) for c in found], dtype=np.float64)
    return np.asarray(shares.mean(axis=0) * steady, dtype=np.float64)


def preset_takes(
    show: Show, table: QualityTable, codec: str, pixels_per_second: Floats, room: float = 1.0
) -> Floats:
    """How much of the usual bitrate each candidate takes at the slowest preset the machine holds.

    Args:
        pixels_per_second: of each.

    Returns:
        Factors of one shape with the pixels; 1 where nothing is known.
    """
    factors = table.preset.get(codec, {})
    takes = np.ones_like(pixels_per_second)
    speeds = [e for e in show.machine.encoders if e.codec == codec]
    for speed in sorted(speeds, key=lambda e: -e.holds.pixels_per_second):  # the slowest last
        held = speed.holds.pixels_per_second * show.machine.share * room >= pixels_per_second
        takes = np.where(held, factors.get(speed.preset, 1.0), takes)
    return takes


def audio_steps(guide: Guide) -> Floats:
    """Customary audio bitrates in the guide's range, and its ends; none above what it advises."""
    rules = guide.audio
    least, most = rules.min_bitrate.kbps, (rules.recommended.bitrate or rules.max_bitrate).kbps
    steps = {least, most, *(step for step in AUDIO_STEPS_KBPS if least <= step <= most)}
    return np.array(sorted(steps), dtype=np.float64)


def viewers_kbps(guide: Guide, show: Show) -> float:
    """What the slowest viewers can take of video and audio; endless where smaller copies are sure.

    Without transcodes everyone receives the full rate, and nothing of headers and repeats.
    """
    if guide.delivery.transcodes == "always":
        return inf
    slowest = (guide.delivery.slowest_viewer, show.viewers)
    return min((rate.kbps for rate in slowest if rate is not None), default=inf)


def _allowed_levels(guide: Guide, codec: Codec) -> list[Level]:
    """Levels of a codec up to the highest the guide takes."""
    highest = guide.video.max_level.get(codec)
    rank = None if highest is None else level_rank(codec, highest)
    return list(CODECS[codec].levels if rank is None else CODECS[codec].levels[: rank + 1])


def level_limits(guide: Guide, codec: Codec, found: list[Candidate], fps: Floats) -> Floats:
    """The most bitrate any allowed level gives each candidate; 0 where none holds it."""
    levels, profile = _allowed_levels(guide, codec), guide.video.profiles_of(codec)[0]
    blocks = levels[0].codec == "h264"
    unit = 16 if blocks else 1
    across = np.array([-(-c.resolution.width // unit) for c in found], dtype=np.float64)
    down = np.array([-(-c.resolution.height // unit) for c in found], dtype=np.float64)
    most = np.zeros(len(found))
    for level in levels:
        holds = (
            (across * down <= level.area)
            & (across * down * fps <= level.area_per_second * (1 + 1e-12))
            & (across <= level.longest_across)
            & (down <= level.longest_down)
        )
        most = np.where(holds, np.maximum(most, level.bitrate_kbps(profile)), most)
    return np.asarray(most, dtype=np.float64)
