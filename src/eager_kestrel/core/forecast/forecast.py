"""The forecast of a plan: how much it would have stuttered, when, and which settings hold."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.forecast.evidence import Evidence
from eager_kestrel.core.forecast.replay import Replay, Sending
from eager_kestrel.core.stutter import StutterSeen
from eager_kestrel.core.words import runs as words

CURVE_POINTS = 31


class StepSeen(Frozen):
    """One of a plan's settings."""

    settings: str
    """``1280x720 at 60, 4,500 kbit/s``."""
    total_kbps: float
    """Everything sent, reserves not included."""
    stutter: StutterSeen | None
    """None if the evidence does not reach this rate."""
    within: bool
    """Whether it keeps the limit."""


class HourSeen(Frozen):
    """The same settings at an hour of the day."""

    hour: int
    """0..23; what was observed within an hour and a half of it counts."""
    observed_seconds: float
    stutter: StutterSeen | None
    """None if the evidence does not reach this rate."""
    max_kbps: float | None
    """The highest total rate within the limit, reserves included; None if no rate is."""
    imported_kbps: float | None = None
    """The median of readings from elsewhere, where there is nothing else."""


class Curve(Frozen):
    """Stutter against everything sent, reserves included."""

    kbps: tuple[float, ...]
    seconds_per_hour: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


class Forecast(Frozen):
    """What to expect of a plan on the connection as it was observed."""

    format: str = format_name("forecast")
    version: str
    """Of the program that made it."""
    text: str
    """What is sent, in words."""
    total_kbps: float
    """Everything sent, reserves not included."""
    reserved_kbps: float
    """Kept back, and taken to be in use."""
    budget: str
    """What stands between the typical upload and the plan's rate, in words."""
    limit_seconds_per_hour: float
    """Of stutter that is accepted."""
    lasts_seconds: float
    """How long the show is."""
    evidence: str
    """What was observed, in words."""
    practice: bool
    """Whether it was a simulated connection."""
    stutter: StutterSeen | None
    """None if the evidence does not reach this rate."""
    verdict: str
    max_kbps: float | None
    """The highest total rate within the limit, reserves included; None if no rate is."""
    steps: tuple[StepSeen, ...]
    """The plan's own settings, then its fallbacks."""
    by_hour: tuple[HourSeen, ...]
    """Hours of the day that anything is known of."""
    standstills: str | None
    """What no bitrate avoids, in words; None if the connection never stood still."""
    unknown: tuple[str, ...]
    """What the forecast does not know."""
    curve: Curve | None


@dataclass(frozen=True, slots=True)
class ForecastRequest:
    """What is to be forecast."""

    version: str
    text: str
    sending: Sending
    lowest_kbps: float
    """The lowest total worth sending; what makes even that late is a standstill."""
    reserved_kbps: float
    steps: Sequence[tuple[str, Sending]]
    """Settings in words, the plan's own first."""
    budget: str
    """What stands between the typical upload and the plan's rate, in words."""
    lasts_seconds: float
    limit: float
    """Seconds of stutter an hour that are accepted."""
    at: str | None
    """The time of day of the show, where it is known."""
    run_mb: float
    """What a run of ``measure`` sends."""


@dataclass(frozen=True, slots=True)
class Observed:
    """The evidence, and what has to be said of it."""

    evidence: Evidence
    text: str
    practice: bool
    by_hour: Mapping[int, Evidence]
    readings_kbps: Mapping[int, float]
    """By hour of the day, where there are only readings."""
    unknown: tuple[str, ...] = ()


def forecast(asked: ForecastRequest, observed: Observed) -> Forecast:
    """Forecast a stream."""
    replay = Replay(observed.evidence, asked.sending, asked.lowest_kbps)
    total = asked.sending.kbps + asked.reserved_kbps
    seen = replay.seen(total)
    steps = tuple(_step(observed.evidence, asked, *step) for step in asked.steps)
    better = next((step for step in steps if step.within), None)
    most = replay.max_kbps(asked.limit)
    return Forecast(
        version=asked.version,
        text=asked.text,
        total_kbps=round(asked.sending.kbps, 3),
        reserved_kbps=asked.reserved_kbps,
        budget=asked.budget,
        limit_seconds_per_hour=asked.limit,
        lasts_seconds=asked.lasts_seconds,
        evidence=observed.text,
        practice=observed.practice,
        stutter=seen,
        verdict=words.forecast_verdict(
            seen,
            asked.limit,
            None if better is None else better.settings,
            own=bool(steps) and steps[0].within,
            known=bool(observed.evidence.seconds.size),
        ),
        max_kbps=None if most is None else round(most, 1),
        steps=steps,
        by_hour=tuple(_hours(asked, observed)),
        standstills=words.stood_still(seen),
        unknown=(*words.not_seen(seen, asked.at, asked.run_mb), *observed.unknown),
        curve=_curve(replay, total, most),
    )


def _step(evidence: Evidence, asked: ForecastRequest, said: str, sending: Sending) -> StepSeen:
    seen = Replay(evidence, sending, asked.lowest_kbps).seen(sending.kbps + asked.reserved_kbps)
    return StepSeen(
        settings=said,
        total_kbps=round(sending.kbps, 3),
        stutter=seen,
        within=seen is not None and seen.within(asked.limit),
    )


def _hours(asked: ForecastRequest, observed: Observed) -> list[HourSeen]:
    """Each hour of the day by what was observed near it."""
    found = []
    for hour in sorted({*observed.by_hour, *observed.readings_kbps}):
        evidence = observed.by_hour.get(hour)
        if evidence is None or not evidence.seconds.size:
            reading = observed.readings_kbps.get(hour)
            if reading is not None:
                found.append(
                    HourSeen(
                        hour=hour,
                        observed_seconds=0.0,
                        stutter=None,
                        max_kbps=None,
                        imported_kbps=round(reading, 1),
                    )
                )
            continue
        replay = Replay(evidence, asked.sending, asked.lowest_kbps)
        most = replay.max_kbps(asked.limit)
        found.append(
            HourSeen(
                hour=hour,
                observed_seconds=round(evidence.observed_seconds, 1),
                stutter=replay.seen(asked.sending.kbps + asked.reserved_kbps),
                max_kbps=None if most is None else round(most, 1),
            )
        )
    return found


def _curve(replay: Replay, total_kbps: float, most: float | None) -> Curve | None:
    """From little to somewhat more than the connection was seen to carry."""
    top = max(replay.evidence.highest_kbps * 1.1, total_kbps * 1.1)
    edge = [] if most is None else [most, most * 1.02]
    points = [
        (kbps, seen)
        for kbps in sorted([*np.linspace(top / CURVE_POINTS, top, CURVE_POINTS), *edge])
        if (seen := replay.seen(float(kbps))) is not None
    ]
    if not points:
        return None
    return Curve(
        kbps=tuple(round(float(kbps), 1) for kbps, _ in points),
        seconds_per_hour=tuple(seen.seconds_per_hour for _, seen in points),
        low=tuple(seen.low_seconds_per_hour for _, seen in points),
        high=tuple(seen.high_seconds_per_hour for _, seen in points),
    )
