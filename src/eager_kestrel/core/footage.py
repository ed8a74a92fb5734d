"""How well footage compresses: stretches to try, fitted parameters, and results."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import TYPE_CHECKING, ClassVar

import numpy as np
from pydantic import Field

from eager_kestrel.core.choice.quality import (
    PARAMETERS,
    QualityTable,
    SceneParameters,
    quality,
    sharpness,
)
from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.document import Frozen, Moment, Spread, format_name
from eager_kestrel.core.quantities import FrameRate
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.show.show import MOTIONS, Motion
from eager_kestrel.core.words.numbers import settings

if TYPE_CHECKING:
    from eager_kestrel.core.arrays import Floats


LEAST_WIDTH = 0.2
"""Of what is known beforehand of a parameter, as a natural logarithm."""
MEASURED_WIDTH = 0.02
"""How far a measured encode lies from the model's curve, by VMAF."""
UNSURE_WIDTH = 0.08
"""The same by measures that only stand in for VMAF; docs/trial.md."""
ROUNDS = 60
STEP = 1e-4


@dataclass(frozen=True, slots=True)
class Sample:
    """A measured encode, as the fit takes it."""

    pixels: float
    fps: float
    kbps: float
    """At the usual preset: what it took, less what its preset costs."""
    look: float
    """0..1, smoothness aside."""


@dataclass(frozen=True, slots=True)
class Recorded:
    """How a clip was recorded: it shows no more than that left of what was before the camera."""

    codec: Codec
    pixels: float
    fps: float
    kbps: float


def modelled(
    table: QualityTable,
    motion: Motion,
    codec: str,
    samples: Sequence[Sample],
    recorded: Recorded | None = None,
) -> Floats:
    """What each scene of a kind says of samples, smoothness aside; shape (scenes, samples).

    Beside a clip that was recorded with loss, a sample has what is left of what that left.
    """
    pixels = np.array([s.pixels for s in samples])
    fps = np.array([s.fps for s in samples])
    kbps = np.array([s.kbps for s in samples])
    said = sharpness(table, motion, codec, pixels, fps, kbps)
    if recorded is None:
        return said
    whole = (np.array([value]) for value in (recorded.pixels, recorded.fps, recorded.kbps))
    return np.minimum(1.0, said / sharpness(table, motion, recorded.codec, *whole))


DRAWS = 12
"""So many scenes stand for what is known of a footage."""


def learn(
    table: QualityTable,
    motion: Motion,
    codec: str,
    samples: Sequence[Sample],
    recorded: Recorded | None = None,
    width: float = MEASURED_WIDTH,
) -> tuple[SceneParameters, ...]:
    """Scenes that a footage could be, by what was measured of it and what its kind is like.

    Bayes' rule with the logarithms of a kind's parameters as a normal distribution beforehand;
    afterwards it is taken as normal around the most likely one (Laplace's approximation), and the
    scenes are fixed draws from that, so that their mean and spread are its own.

    Args:
        width: how far a measured encode lies from the model's curve, 0..1.
    """
    start = table.motion[motion].typical
    names = list(PARAMETERS)
    first = np.log([getattr(start, name) for name in names])
    widths = _widths(table, names)
    seen = np.array([s.look for s in samples])

    def parameters(x: Floats) -> SceneParameters:
        return SceneParameters(**dict(zip(names, (float(v) for v in np.exp(x)), strict=True)))

    def off(x: Floats) -> Floats:
        own = table.with_own(motion, parameters(x))
        said = modelled(own, motion, codec, samples, recorded)[0]
        return np.concatenate([(said - seen) / width, (x - first) / widths])

    x = _least(off, np.asarray(first, dtype=np.float64))
    slope = _slope(off, x, off(x))
    spread = np.linalg.cholesky(np.linalg.inv(slope.T @ slope))
    drawn = np.exp(x + _draws(len(names)) @ spread.T)
    return tuple(
        SceneParameters(**{name: float(f"{v:.4g}") for name, v in zip(names, row, strict=True)})
        for row in drawn
    )


def _draws(size: int) -> Floats:
    """Fixed normal draws of shape (draws, size) with mean 0 and the identity as covariance."""
    free = np.random.default_rng(0).standard_normal((DRAWS, size))
    free -= free.mean(axis=0)
    own = np.linalg.cholesky(free.T @ free / (DRAWS - 1))
    return np.asarray(np.linalg.solve(own, free.T).T, dtype=np.float64)


def _widths(table: QualityTable, names: Sequence[str]) -> Floats:
    """How far scenes of one kind lie apart, as deviations of the logarithm of each parameter."""
    kinds = [kind.arrays for kind in table.motion.values() if len(kind.scenes) > 1]
    spread = [np.mean([np.log(kind[name]).var(ddof=1) for kind in kinds]) for name in names]
    return np.maximum(np.sqrt(spread), LEAST_WIDTH)


def _least(residuals: Callable[[Floats], Floats], first: Floats) -> Floats:
    """The x at which the squares of what is off are least, from a start."""
    x, damping = first.copy(), 1e-2
    now = residuals(x)
    for _ in range(ROUNDS):
        slope = _slope(residuals, x, now)
        normal = slope.T @ slope
        moved = x - np.linalg.solve(normal + damping * np.diag(np.diag(normal)), slope.T @ now)
        then = residuals(moved)
        if then @ then < now @ now:
            done = now @ now - then @ then < 1e-9 * (now @ now)
            x, now, damping = moved, then, damping / 3
            if done:
                break
        else:
            damping *= 4
            if damping > 1e9:
                break
    return x


def _slope(residuals: Callable[[Floats], Floats], x: Floats, now: Floats) -> Floats:
    """How what is off changes with each x; shape (residuals, x)."""
    return np.stack([(residuals(x + STEP * unit) - now) / STEP for unit in np.eye(x.size)], axis=1)


def off_by(
    table: QualityTable,
    motion: Motion,
    codec: str,
    samples: Sequence[Sample],
    recorded: Recorded | None = None,
) -> float:
    """How far samples lie from the mean over a kind's scenes, root mean square."""
    seen = np.array([s.look for s in samples])
    off = table.motion[motion].mean(modelled(table, motion, codec, samples, recorded)) - seen
    return float(np.sqrt(np.mean(off**2)))


def behaves_like(
    table: QualityTable, codec: str, samples: Sequence[Sample], recorded: Recorded | None = None
) -> Motion:
    """The bundled kind of motion with the scene that comes nearest to what was measured."""
    seen = np.array([s.look for s in samples])

    def nearest(motion: Motion) -> float:
        off = modelled(table, motion, codec, samples, recorded) - seen
        return float(np.mean(off**2, axis=1).min())

    return min(MOTIONS, key=nearest)


SETTLING_SECONDS = 1.0
"""That the rate control takes; nothing is measured before."""
STRETCH_SECONDS = 3.0
"""It settles, then one keyframe interval is measured."""
QUANTILES = (0.95, 0.5, 0.1)
"""Of difficulty, in this order: the hardest is tried in any case."""
QUICK_SECONDS = 2.0
QUICK_QUANTILES = (0.95, 0.8, 0.6)
"""Of difficulty, for a quick look: settings have to hold where it is busy."""
STILL_TI = 0.5
"""Below this nothing moves: what is left is what an encoder changes in a still picture."""


class FrameComplexity(Frozen):
    """What was seen at a moment of a clip."""

    seconds: float
    si: float
    """Spatial information."""
    ti: float
    """Temporal information."""


class Stretch(Frozen):
    """A part of a clip."""

    begin_seconds: float
    seconds: float
    si: float
    """The most in it."""
    ti: float
    """The most in it."""


def spatial(luma: Floats) -> float:
    """SI of one frame, of shape (rows, columns)."""
    smooth_down = luma[:-2] + 2 * luma[1:-1] + luma[2:]
    across = smooth_down[:, 2:] - smooth_down[:, :-2]
    smooth_across = luma[:, :-2] + 2 * luma[:, 1:-1] + luma[:, 2:]
    down = smooth_across[2:] - smooth_across[:-2]
    return float(np.hypot(across, down).std())


def temporal(luma: Floats, before: Floats) -> float:
    """TI between two frames that follow each other, both of shape (rows, columns)."""
    return float((luma - before).std())


def pick(looks: Sequence[FrameComplexity], length_seconds: float) -> tuple[Stretch, ...]:
    """Stretches that do not overlap, from hard to easy; one where the clip holds no more.

    Args:
        looks: at rising moments, one at least.
        length_seconds: of the clip, a stretch at the least.
    """
    last = max(0.0, length_seconds - STRETCH_SECONDS)
    begins = np.arange(0.0, last + 1e-9, 0.5)
    return _apart([_stretch(looks, float(begin)) for begin in begins], QUANTILES)


def pick_busy(looks: Sequence[FrameComplexity], length_seconds: float) -> tuple[Stretch, ...]:
    """Short stretches that begin where looks are, from busy parts, in the order of time.

    Arguments as of :func:`pick`; a clip shorter than one is taken whole.
    """
    seconds = min(QUICK_SECONDS, length_seconds)
    last = max(0.0, length_seconds - seconds)
    begins = [look for look in looks if look.seconds <= last + 1e-6] or [looks[0]]
    found = [
        Stretch(begin_seconds=look.seconds, seconds=seconds, si=look.si, ti=look.ti)
        for look in begins
    ]
    chosen = _apart(found, QUICK_QUANTILES)
    return tuple(sorted(chosen, key=lambda stretch: stretch.begin_seconds))


def _apart(found: Sequence[Stretch], quantiles: Sequence[float]) -> tuple[Stretch, ...]:
    """Of stretches of one length, those of some difficulties that do not overlap."""
    seconds = found[0].seconds
    difficulty = np.array([s.si * s.ti for s in found])
    ranked = np.argsort(difficulty, kind="stable")
    chosen: list[Stretch] = []
    for quantile in quantiles:
        wanted = round(quantile * (len(found) - 1))
        near = sorted(range(len(found)), key=lambda place: abs(place - wanted))
        free = (found[ranked[place]] for place in near)
        fits = (
            s
            for s in free
            if all(
                (abs(s.begin_seconds - other.begin_seconds) >= seconds - 1e-9) for other in chosen
            )
        )
        stretch = next(fits, None)
        if stretch is not None:
            chosen.append(stretch)
    return tuple(chosen)


def _stretch(looks: Sequence[FrameComplexity], begin: float) -> Stretch:
    inside = [look for look in looks if begin <= look.seconds < begin + STRETCH_SECONDS]
    nearest = inside or [min(looks, key=lambda look: abs(look.seconds - begin))]
    si, ti = max(look.si for look in nearest), max(look.ti for look in nearest)
    return Stretch(
        begin_seconds=round(begin, 3), seconds=STRETCH_SECONDS, si=round(si, 2), ti=round(ti, 2)
    )


RANGE_POINTS = 160
NO_LEAD = 0.002
"""A resolution that looks better by less is no reason to change."""


class TrialPoint(Spread):
    """One encode of the stretches, as it was measured."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    resolution: Resolution
    frame_rate: FrameRate
    target_kbps: float
    kbps: float
    """What it took, after the first second of each stretch."""
    xpsnr_db: float
    """Of luma, mean over frames and stretches, each scaled to the viewer's screen."""
    ssim: float
    """0..1, all planes, as XPSNR."""
    vmaf: float | None
    """0..100, where a program that computes it was found."""
    smoothness: float = 1.0
    """0..1, what its frame rate leaves of a look."""
    look: float
    """0..1 on the scale of plans, smoothness included."""
    on_hull: bool
    """Whether no other encode, nor a mix of two, looks better for what was asked of it."""

    @property
    def text(self) -> str:
        """``1280x720 at 60, 4,500 kbit/s``."""
        return settings(self.resolution, self.frame_rate, self.target_kbps)


class BestBetween(Spread):
    """Between which bitrates a resolution and frame rate look best on this footage."""

    SPREAD: ClassVar = {"resolution": ("width", "height"), "frame_rate": ("fps", "frame_rate")}

    resolution: Resolution
    frame_rate: FrameRate
    from_kbps: float
    to_kbps: float

    @property
    def text(self) -> str:
        """``1280x720 at 60``."""
        return resolution_at(self.resolution, self.frame_rate)


class Footage(Frozen):
    """What was learned of a footage, kept to plan by."""

    format: str = format_name("footage")
    name: str
    clip: str
    """The file's name."""
    taken_at: Moment
    """ISO 8601 with the offset of the place."""
    version: str
    """Of the program."""
    motion: Motion
    """The kind of motion it was taken for, which says what its parameters are likely to be."""
    codec: Codec
    around_kbps: float
    """The bitrate it was tried around."""
    seen_seconds: float
    """Of the clip, so much was encoded."""
    scenes: tuple[SceneParameters, ...] = Field(min_length=1)
    """What it could be, all as likely: their mean is the best guess, their spread the doubt."""
    encodes: int
    """They rest on."""
    off_by: float
    """How far the encodes lie from the model with them, 0..1."""

    lossy: bool = False
    """Whether the clip was recorded at hardly more than was to be tried."""

    @property
    def text(self) -> str:
        """``6 s of clip.mp4``."""
        seen = f"{self.seen_seconds:g} s of {self.clip}"
        return f"{seen}, recorded with loss" if self.lossy else seen


class Trial(Frozen):
    """The whole answer of a trial."""

    format: str = format_name("trial")
    version: str
    clip: str
    """The file's name."""
    seconds: float
    codec: Codec
    preset: str
    metric: str
    """What a look was taken from: VMAF, or XPSNR and SSIM."""
    stretches: tuple[Stretch, ...]
    points: tuple[TrialPoint, ...]
    """By resolution, frame rate, bitrate."""
    best: tuple[BestBetween, ...]
    """Which resolution looks best at which bitrate, by the parameters of this footage."""
    asked_motion: Motion
    behaves_like: Motion
    footage: Footage
    one_more_mbit: float
    """How much better it looks with one Mbit/s more than the largest bitrate tried, 0..1."""
    remarks: tuple[str, ...]
    """The same in words."""


def hull(points: Sequence[tuple[float, float]]) -> list[bool]:
    """Which points of (cost, worth) lie on the upper convex hull that rises.

    Andrew's monotone chain (Information Processing Letters 9, 1979).
    """
    order = sorted(range(len(points)), key=lambda n: (points[n][0], -points[n][1]))
    kept: list[int] = []
    for number in order:
        cost, worth = points[number]
        if kept and worth <= points[kept[-1]][1]:
            continue
        while len(kept) > 1 and _below(points[kept[-2]], points[kept[-1]], (cost, worth)):
            kept.pop()
        kept.append(number)
    return [number in kept for number in range(len(points))]


def _below(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> bool:
    """Whether b lies on or under the connection from a to c."""
    return (b[1] - a[1]) * (c[0] - a[0]) <= (c[1] - a[1]) * (b[0] - a[0])


@dataclass(frozen=True, slots=True)
class Curves:
    """Quality by bitrate of what was encoded: the model's, moved to go through what was measured.

    So that what is said of a bitrate that was tried is what was measured there.
    """

    table: QualityTable
    motion: Motion
    codec: Codec
    takes: float
    """Of the usual preset's bitrate, what this one needs."""
    points: Sequence[TrialPoint]

    @property
    def shapes(self) -> list[tuple[Resolution, Fraction]]:
        """Resolutions with their frame rates, each once."""
        return list(dict.fromkeys((p.resolution, p.frame_rate) for p in self.points))

    def quality(self, kbps: Floats) -> Floats:
        """0..1, smoothness included; shape (shapes, bitrates) for bitrates in kbit/s."""
        return np.stack([self._of(*shape, kbps) for shape in self.shapes])

    def _of(self, resolution: Resolution, fps: Fraction, kbps: Floats) -> Floats:
        here = [p for p in self.points if (p.resolution, p.frame_rate) == (resolution, fps)]
        here.sort(key=lambda p: p.target_kbps)
        tried = np.array([p.target_kbps for p in here])
        off = np.array([p.look for p in here]) - self._modelled(resolution, fps, tried)
        moved = np.interp(np.log(kbps), np.log(tried), off)
        return np.clip(self._modelled(resolution, fps, kbps) + moved, 0.0, 1.0)

    def _modelled(self, resolution: Resolution, fps: Fraction, kbps: Floats) -> Floats:
        pixels, rates = (np.full_like(kbps, float(v)) for v in (resolution.pixels, fps))
        return quality(self.table, self.motion, self.codec, pixels, rates, kbps / self.takes)


def best_between(curves: Curves, kbps: tuple[float, float]) -> tuple[BestBetween, ...]:
    """Which resolution and frame rate look best from one bitrate to another, in kbit/s."""
    shapes, rates = curves.shapes, np.geomspace(kbps[0], kbps[1], RANGE_POINTS)
    looks = curves.quality(rates)
    winner = looks.argmax(axis=0)
    for number in range(1, rates.size):  # a lead nobody sees changes nothing
        before = winner[number - 1]
        if looks[winner[number], number] - looks[before, number] < NO_LEAD:
            winner[number] = before
    changes = [0, *(np.flatnonzero(np.diff(winner)) + 1), rates.size]
    return tuple(
        BestBetween(
            resolution=shapes[winner[first]][0],
            frame_rate=shapes[winner[first]][1],
            from_kbps=round(float(rates[first]), -1),
            to_kbps=round(float(rates[last - 1]), -1),
        )
        for first, last in pairwise(changes)
    )
