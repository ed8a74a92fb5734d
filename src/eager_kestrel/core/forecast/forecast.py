"""The forecast of a plan: how likely it stutters, how badly, when, and what would do better."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from eager_kestrel.core.arrays import Floats
from eager_kestrel.core.document import Frozen, format_name
from eager_kestrel.core.forecast.hours import hours
from eager_kestrel.core.forecast.lines import Lines
from eager_kestrel.core.forecast.odds import SURE, Odds, odds_of, runs_to_halve, spread_of
from eager_kestrel.core.forecast.queue import Replayed, replay
from eager_kestrel.core.forecast.sending import Sending
from eager_kestrel.core.forecast.watched import Watched
from eager_kestrel.core.words import forecasts as words

GOAL = 0.05
"""The chance a step is looked for under when nobody says: 1 in 20."""
SIMULATED_HOURS = 400.0
LEAST_STRETCHES = 40
FAN = (0.5, 0.75, 0.9, 0.95, 0.99)
FAN_PARTS = 360
CURVE_POINTS = 41


class Between(Frozen):
    """A mean, and what nine of ten lines that agree with the runs lie between."""

    mean: float
    low: float
    high: float


class Usually(Frozen):
    """What is met usually, and at worst, in seconds."""

    typical: float
    """The median."""
    at_worst: float
    """All but one in twenty are below."""


class StepOdds(Frozen):
    """One of a plan's settings."""

    settings: str
    """``1280x720 at 60, 4,500 kbit/s``."""
    total_kbps: float
    """Everything sent."""
    odds: Odds
    meets: bool
    """Whether its chance is under the goal."""


class HourOdds(Frozen):
    """The same settings at another hour of the day."""

    hour: int
    """0..23; runs within an hour and a half of it count."""
    odds: Odds


class Fan(Frozen):
    """How much of the stream waits as time goes by, over all simulated stretches."""

    seconds: tuple[float, ...]
    shares: tuple[float, ...] = FAN
    """Of the stretches that are at or below."""
    waiting_seconds: tuple[tuple[float, ...], ...]
    """For each share, the most that waits about each moment."""


class Curve(Frozen):
    """The chance against what is sent."""

    kbps: tuple[float, ...]
    chance: tuple[float, ...]
    low: tuple[float, ...]
    high: tuple[float, ...]


class Forecast(Frozen):
    """What to expect of a plan on the line as it was measured."""

    format: str = format_name("forecast")
    version: str
    """Of the program that made it."""
    said: str
    """What is sent, in words."""
    total_kbps: float
    """Everything sent."""
    reserved_kbps: float
    """Kept back, and taken to be in use."""
    needs_kbps: float
    """What an even line has to carry for it: more than is sent where that swings."""
    odds: Odds
    verdict: str
    late_frames_an_hour: Between
    worst_wait_seconds: Usually
    """The most of the stream that waits in a stretch."""
    dip_seconds: Usually | None
    """How long frame after frame is late; None when none was."""
    viewers: str
    """What they see of it."""
    goal: float
    """0..1, the chance a step is looked for under."""
    steps: tuple[StepOdds, ...]
    """The plan's own settings, then its steps down."""
    by_hour: tuple[HourOdds, ...]
    """Hours of the day with two runs or more about them."""
    simulated_hours: float
    halved_by_runs: int | None
    """How many runs more, showing the same, would halve the interval; None when no number did."""
    unknown: tuple[str, ...]
    """What the forecast does not know."""
    fan: Fan
    curve: Curve


@dataclass(frozen=True, slots=True)
class Evidence:
    """Runs as they are taken at a given piling up of frames; see :mod:`watched`."""

    of: Callable[[float], Watched | None]
    """All runs that count, at so many seconds of stream that pile up."""
    by_hour: Callable[[float], Mapping[int, Watched]]
    """The same near each hour of the day."""
    unknown: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Asked:
    """What is to be forecast."""

    version: str
    said: str
    sending: Sending
    reserved_kbps: float
    steps: Sequence[tuple[str, Sending]]
    """Settings in words, the plan's own first."""
    seconds: float
    goal: float = GOAL
    seed: int = 0


def forecast(asked: Asked, evidence: Evidence, watched: Watched) -> Forecast:
    """Forecast a stream.

    Args:
        asked: what is sent, for how long.
        evidence: the runs.
        watched: ``evidence`` at what the stream piles up, of two runs or more.
    """
    needs, piled = asked.sending.needs
    lines = Lines.drawn(watched, seed=asked.seed)
    odds = odds_of(lines, needs + asked.reserved_kbps, asked.seconds)
    simulated = _simulated(asked, lines)
    steps = _steps(asked, evidence)
    dips = simulated.replayed.dip_seconds
    waits = _usually(simulated.replayed.worst_seconds)
    halved = runs_to_halve(watched, needs + asked.reserved_kbps, asked.seconds, asked.seed)
    return Forecast(
        version=asked.version,
        said=asked.said,
        total_kbps=round(asked.sending.kbps, 3),
        reserved_kbps=asked.reserved_kbps,
        needs_kbps=round(needs, 3),
        odds=odds,
        verdict=words.verdict(
            odds.chance, odds.low, odds.high, asked.seconds,
            next(((s.settings, s.odds.chance) for s in steps if s.meets), None),
            own=bool(steps) and steps[0].meets, goal=asked.goal,
        ),
        late_frames_an_hour=simulated.late_an_hour,
        worst_wait_seconds=waits,
        dip_seconds=_usually(dips) if dips.size else None,
        viewers=words.viewers(float(np.quantile(dips, 0.95)) if dips.size else 0.0),
        goal=asked.goal,
        steps=steps,
        by_hour=tuple(
            HourOdds(hour=hour, odds=odds_of(Lines.drawn(near, seed=asked.seed),
                                             needs + asked.reserved_kbps, asked.seconds))
            for hour, near in sorted(evidence.by_hour(piled).items())
        ),
        simulated_hours=round(simulated.stretches * asked.seconds / 3600, 1),
        halved_by_runs=halved,
        unknown=(words.rests_on(odds.runs, odds.watched_seconds, halved, odds.high - odds.low),
                 *evidence.unknown),
        fan=simulated.fan,
        curve=_curve(lines, asked),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Simulated:
    """What the simulated stretches showed."""

    replayed: Replayed
    stretches: int
    late_an_hour: Between
    fan: Fan


def _simulated(asked: Asked, lines: Lines) -> _Simulated:
    """Send the frames through one stretch of each of many lines."""
    sent = asked.sending
    wanted = int(SIMULATED_HOURS * 3600 / asked.seconds)
    some = lines.first(min(max(wanted, LEAST_STRETCHES), lines.doubt.size))
    frames = sent.sent_kbit(asked.seconds)
    frames = frames + asked.reserved_kbps / sent.fps
    parts = min(FAN_PARTS, frames.size)
    whole = frames.size // parts * parts
    most: list[Floats] = []

    def looked(waiting: Floats) -> None:
        most.append(waiting[:whole].reshape(parts, -1).max(axis=1))

    kbps = sent.kbps + asked.reserved_kbps
    made = hours(some, sent.fps, frames.size / sent.fps, 1, asked.seed)
    replayed = replay(frames, kbps, sent.fps, made, looked)
    late = replayed.late_frames * (3600 / asked.seconds)
    fan = np.quantile(np.stack(most) / kbps, FAN, axis=0)
    at = (np.arange(parts) + 0.5) * asked.seconds / parts
    return _Simulated(
        replayed,
        some.doubt.size,
        Between(
            mean=round(float(late.mean()), 1),
            low=round(float(np.quantile(late, SURE[0])), 1),
            high=round(float(np.quantile(late, SURE[1])), 1),
        ),
        Fan(
            seconds=tuple(round(float(t), 1) for t in at),
            waiting_seconds=tuple(tuple(round(float(w), 3) for w in row) for row in fan),
        ),
    )


def _steps(asked: Asked, evidence: Evidence) -> tuple[StepOdds, ...]:
    """Each of the plan's settings."""
    found = []
    for said, sending in asked.steps:
        needs, piled = sending.needs
        watched = evidence.of(piled)
        assert watched is not None  # what piles up changes the ratios, not which runs count
        lines = Lines.drawn(watched, seed=asked.seed)
        odds = odds_of(lines, needs + asked.reserved_kbps, asked.seconds)
        found.append(
            StepOdds(
                settings=said, total_kbps=round(sending.kbps, 3), odds=odds,
                meets=odds.chance < asked.goal,
            )
        )  # fmt: skip
    return tuple(found)


def _curve(lines: Lines, asked: Asked) -> Curve:
    """The chance from nothing to what the line typically carries."""
    top = max(float(np.median(lines.watched.levels_kbps)) * 1.1, asked.sending.kbps * 1.1)
    kbps = np.linspace(top / CURVE_POINTS, top, CURVE_POINTS)
    factor = asked.sending.needs[0] / asked.sending.kbps
    late = lines.late(kbps * factor + asked.reserved_kbps, asked.seconds)
    spread = [spread_of(late[:, column]) for column in range(kbps.size)]
    return Curve(
        kbps=tuple(round(float(x), 1) for x in kbps),
        chance=tuple(round(mean, 5) for mean, _, _ in spread),
        low=tuple(round(low, 5) for _, low, _ in spread),
        high=tuple(round(high, 5) for _, _, high in spread),
    )


def _usually(values: Floats) -> Usually:
    return Usually(
        typical=round(float(np.median(values)), 2),
        at_worst=round(float(np.quantile(values, 0.95)), 2),
    )
