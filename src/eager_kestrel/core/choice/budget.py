"""The budget: from what the connection carries to what may be sent, step by step.

Every step is a record of before, after and why, so that each kbit/s can be traced. The stream may
take the safe share of what is typical, or the seen-safe rate where that is lower: the highest whose
avoidable stutter in everything observed keeps the limit, with headroom
(:mod:`eager_kestrel.core.forecast.replay`). Named reserves come
off that; they were part of what was replayed. What is left is the safe rate for everything sent.
"""

from __future__ import annotations

from math import floor
from typing import TYPE_CHECKING, Literal

from eager_kestrel.core.codecs import CODEC_NAMES
from eager_kestrel.core.document import Frozen
from eager_kestrel.core.words import plans as words

if TYPE_CHECKING:
    from eager_kestrel.core.connection.uplink import Uplink
    from eager_kestrel.core.overhead import Overhead
    from eager_kestrel.core.show.show import Reserve, Show

LimitedBy = Literal["safe share", "seen safe", "lowest useful"]


class BudgetStep(Frozen):
    """One step of the waterfall."""

    name: str
    before_kbps: float
    after_kbps: float
    text: str


class Budget(Frozen):
    """The waterfall down to the safe rate."""

    steps: tuple[BudgetStep, ...]
    safe_kbps: float
    """What may be sent in all; never below zero."""
    reserved_kbps: float
    """All named reserves, even where the connection does not hold them."""
    before_reserves_kbps: float
    """What may be sent where nothing is reserved."""
    limited_by: LimitedBy
    """What set it, before reserves."""
    capped: bool = False
    """Whether a month's data leaves less than the connection."""

    @property
    def text(self) -> str:
        """What stands between typical and safe, in one line."""
        return words.budget_line(
            self.steps[0].after_kbps,
            [(step.name, step.after_kbps) for step in self.steps[1:]],
            self.reserved_kbps,
        )

    def upload_for(self, safe_kbps: float) -> float:
        """The typical upload whose safe rate is this, on a line of the same evenness; inverse."""
        typical = self.steps[0].after_kbps
        return (safe_kbps + self.reserved_kbps) * typical / self.before_reserves_kbps

    def safe_of(self, upload_kbps: float) -> float:
        """The safe rate of a typical upload, on a line of the same evenness; never below zero."""
        typical = self.steps[0].after_kbps
        shared = round(upload_kbps * self.before_reserves_kbps / typical, 3)
        return max(0.0, round(shared - self.reserved_kbps, 3))


def budget_of(uplink: Uplink, show: Show) -> Budget:
    """The waterfall of a show: its share, its reserves, its cap."""
    made = budget(uplink, show.safe_share, show.reserves)
    cap = show.cap_kbps
    if cap is None or show.cap is None or cap >= made.safe_kbps:
        return made
    left = round(cap, 3)
    why = words.cap_step(str(show.cap), show.hours_a_month)
    step = BudgetStep(name="data cap", before_kbps=made.safe_kbps, after_kbps=left, text=why)
    return made.model_copy(update={"steps": (*made.steps, step), "safe_kbps": left, "capped": True})


def budget(uplink: Uplink, safe_share: float, reserves: tuple[Reserve, ...]) -> Budget:
    """The waterfall from the uplink to the safe rate, in kbit/s to a bit a second.

    Args:
        safe_share: of typical, at the most.
    """
    typical = uplink.typical_kbps
    first = BudgetStep(
        name="typical upload", before_kbps=typical, after_kbps=typical, text=uplink.text
    )
    limits, name = _before_reserves(uplink, safe_share)
    steps = [first, *limits]
    before_reserves = rate = steps[-1].after_kbps
    for reserve in reserves:
        left = max(0.0, round(rate - reserve.rate.kbps, 3))
        why = words.reserve_step(reserve.rate.kbps, reserve.name)
        steps.append(
            BudgetStep(name=f"reserve: {reserve.name}", before_kbps=rate, after_kbps=left, text=why)
        )
        rate = left
    return Budget(
        steps=tuple(steps),
        safe_kbps=rate,
        reserved_kbps=sum(reserve.rate.kbps for reserve in reserves),
        before_reserves_kbps=before_reserves,
        limited_by=name,
    )


def _before_reserves(uplink: Uplink, safe_share: float) -> tuple[list[BudgetStep], LimitedBy]:
    """The steps from typical to what may be sent where nothing is reserved, and which it is.

    Either the share; or what kept the limit in everything observed, and the headroom for what so
    short a time does not show; or the lowest rate worth sending, where nothing else is left.
    """
    typical, seen = uplink.typical_kbps, uplink.seen_safe
    shared = round(typical * safe_share, 3)
    if seen is None or seen.kbps >= shared:
        why = words.share_step(safe_share)
        share = BudgetStep(name="safe share", before_kbps=typical, after_kbps=shared, text=why)
        return [share], "safe share"
    observed, limit = seen.observed_seconds, seen.limit_seconds_per_hour
    if seen.lifted:
        why = words.lowest_step(limit, observed)
        return [
            BudgetStep(name="lowest useful", before_kbps=typical, after_kbps=seen.kbps, text=why)
        ], "lowest useful"
    held = max(seen.held_kbps, seen.kbps)
    return [
        BudgetStep(
            name="seen safe",
            before_kbps=typical,
            after_kbps=held,
            text=words.all_step(observed) if seen.held_is_all else words.held_step(limit, observed),
        ),
        BudgetStep(
            name="headroom",
            before_kbps=held,
            after_kbps=seen.kbps,
            text=words.headroom_step(seen.headroom, observed),
        ),
    ], "seen safe"


def beside(waterfall: Budget, others_kbps: float) -> Budget:
    """The waterfall of one destination when others take their part of the same connection."""
    if others_kbps <= 0:
        return waterfall
    before = waterfall.safe_kbps
    after = max(0.0, round(before - others_kbps, 3))
    why = words.others_step(others_kbps)
    step = BudgetStep(name="other destinations", before_kbps=before, after_kbps=after, text=why)
    return waterfall.model_copy(
        update={
            "steps": (*waterfall.steps, step),
            "safe_kbps": after,
            "reserved_kbps": waterfall.reserved_kbps + others_kbps,
        }
    )


def destination_steps(
    safe_kbps: float,
    transport: str,
    extra: Overhead,
    audio: tuple[str, float],
    left_kbps: float | None = None,
) -> tuple[BudgetStep, ...]:
    """The rest of the waterfall for one destination: transport overhead, audio, video.

    Args:
        audio: its codec and bitrate.
        left_kbps: for video, where more audio will need some of it before long.
    """
    codec, audio_kbps = audio
    steps = []
    if extra.repeats:
        left = round(safe_kbps / (1 + extra.repeats), 3)
        why = words.repeats_step(extra.repeats)
        steps = [BudgetStep(name="repeats", before_kbps=safe_kbps, after_kbps=left, text=why)]
    before = steps[0].after_kbps if steps else safe_kbps
    video = float(floor(max(0.0, extra.video_kbps(safe_kbps, audio_kbps)) + 1e-6))
    carried = round(min(before, video + audio_kbps), 3)
    headers = words.headers_step(transport.upper())
    of_audio = words.audio_step(audio_kbps, CODEC_NAMES[codec])
    steps += [
        BudgetStep(name="transport overhead", before_kbps=before, after_kbps=carried, text=headers),
        BudgetStep(name="audio", before_kbps=carried, after_kbps=video, text=of_audio),
    ]
    if left_kbps is not None and left_kbps < video:
        more = words.MORE_AUDIO
        steps.append(
            BudgetStep(name="more audio", before_kbps=video, after_kbps=left_kbps, text=more)
        )
    return tuple(steps)
