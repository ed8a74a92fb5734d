"""The quality model's parameters from measured points, by least squares.

What an encode took away is measured as XPSNR at its own size. Between ``WORTHLESS`` and ``CLEAN``
decibels it counts as a share of 0 to 1, the model's compression factor; then

1. rate of no visible loss and its exponents for picture and frame rate, for each motion, and the
   curve's one steepness, are fitted to the H.264 points (``scipy.optimize.least_squares``, with a
   soft loss, since rate control lands some points beside the curve);
2. one factor each for HEVC and AV1 is fitted to theirs, all else held;
3. how much detail counts, for each motion, is set so that the model changes pictures where the
   measured points do: for each bitrate, the picture whose decoded frames, scaled back to the
   source, are nearest to it.

How much smoothness counts cannot be measured from single frames; those values are kept.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from eager_kestrel.core.choice.quality import QualityTable, clean_kbps, quality
from eager_kestrel.core.show.show import MOTIONS, Motion
from measure import PICTURES, RATES, Point

CLEAN = 40.0
"""Decibels of XPSNR above which hardly anybody sees a difference."""
WORTHLESS = 20.0
"""Decibels below which nothing is worth looking at."""
WORTH_WATCHING = 30.0
"""Decibels, at the source's size, from which on it matters which picture is best."""
RATES_TRIED = 60
WATCHED_FILM = 25.0
"""The same for the film, which was compressed before."""


@dataclass(frozen=True, slots=True)
class Residual:
    """A point, what it measured and what the fitted model says, both 0..1."""

    point: Point
    measured: float
    model: float


def share(decibels: float) -> float:
    """Decibels as the model's compression factor, not yet capped at 1."""
    return (decibels - WORTHLESS) / (CLEAN - WORTHLESS)


def curve(steep: float, x: np.ndarray) -> np.ndarray:
    """The model's compression factor at a share ``x`` of the rate of no visible loss."""
    return np.expm1(-steep * np.minimum(x, 1.0)) / np.expm1(-steep)


def _columns(points: Sequence[Point]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    size = np.array([p.width * p.height / 921_600 for p in points])
    rate = np.array([p.fps / 30 for p in points])
    kbps = np.array([p.kbps for p in points])
    return size, rate, kbps, np.clip([share(p.xpsnr) for p in points], 0.0, 1.0)


def fitted(points: Sequence[Point], start: QualityTable) -> QualityTable:
    """A table whose compression and detail factors follow the points."""
    h264 = [p for p in points if p.codec == "h264"]
    which = np.array([MOTIONS.index(p.motion) for p in h264])  # type: ignore[arg-type]
    size, rate, kbps, seen = _columns(h264)

    def off(parameters: np.ndarray) -> np.ndarray:
        steep, rest = parameters[0], parameters[1:].reshape(len(MOTIONS), 3)[which]
        clean = np.exp(rest[:, 0]) * size ** rest[:, 1] * rate ** rest[:, 2]
        return curve(steep, kbps / clean) - seen

    first = [start.amplitude]
    for motion in MOTIONS:
        m = start.motion[motion]
        first += [np.log(m.clean_kbps), m.size_exponent, m.rate_exponent]
    found = least_squares(off, first, loss="soft_l1", f_scale=0.03)
    per_motion = found.x[1:].reshape(len(MOTIONS), 3)
    motions = {
        motion: start.motion[motion].model_copy(
            update={
                "clean_kbps": round(float(np.exp(k)), -1),
                "size_exponent": round(float(c), 3),
                "rate_exponent": round(float(b), 3),
            }
        )
        for motion, (k, c, b) in zip(MOTIONS, per_motion, strict=True)
    }
    table = start.model_copy(update={"motion": motions, "amplitude": round(float(found.x[0]), 2)})
    table = table.model_copy(update={"codec": _codecs(points, table)})
    spatial = {m: _spatial([p for p in h264 if p.motion == m], table, m) for m in MOTIONS}
    motions = {m: motions[m].model_copy(update={"spatial": spatial[m]}) for m in MOTIONS}
    return table.model_copy(update={"motion": motions})


def _codecs(points: Sequence[Point], table: QualityTable) -> dict[str, float]:
    """How much of H.264's bitrate the other codecs take for the same loss."""
    factors = {"h264": 1.0}
    for codec in ("hevc", "av1"):
        own = [p for p in points if p.codec == codec]
        if not own:
            factors[codec] = table.codec[codec]
            continue
        _, _, kbps, seen = _columns(own)
        clean = np.array([_clean(table, p, "h264") for p in own])

        def off(
            factor: np.ndarray, x: np.ndarray = kbps / clean, y: np.ndarray = seen
        ) -> np.ndarray:
            return curve(table.amplitude, x / factor[0]) - y

        factors[codec] = round(
            float(least_squares(off, [0.7], loss="soft_l1", f_scale=0.03).x[0]), 3
        )
    return factors


def _clean(table: QualityTable, point: Point, codec: str | None = None) -> float:
    pixels = np.array([float(point.width * point.height)])
    rate = np.array([float(point.fps)])
    motion: Motion = point.motion  # type: ignore[assignment]
    return float(clean_kbps(table, motion, codec or point.codec, pixels, rate)[0])


def measured_best(
    points: Sequence[Point], fps: int, rates: np.ndarray, watched: float = WORTH_WATCHING
) -> np.ndarray:
    """Index into ``PICTURES`` of the picture nearest to the source at each bitrate.

    -1 where none is worth watching. Between the bitrates measured, decibels go straight with the
    logarithm of bitrate.
    """
    rows = []
    for width, height in PICTURES:
        own = sorted((p for p in points if (p.width, p.fps) == (width, fps)), key=lambda p: p.kbps)
        if not own:
            rows.append(np.full(rates.shape, -np.inf))
            continue
        at = np.log([p.kbps for p in own])
        decibels = [p.xpsnr_at_source for p in own]
        rows.append(np.interp(np.log(rates), at, decibels, left=-np.inf, right=decibels[-1]))
        del height
    table = np.array(rows)
    return np.where(table.max(axis=0) >= watched, table.argmax(axis=0), -1)


def modelled_best(
    table: QualityTable, motion: Motion, fps: int, rates: np.ndarray, codec: str = "h264"
) -> np.ndarray:
    """The same by the model."""
    pixels = np.array([float(w * h) for w, h in PICTURES])[:, None]
    rate = np.full_like(pixels, fps)
    return np.asarray(quality(table, motion, codec, pixels, rate, rates[None, :]).argmax(axis=0))


def rates_of(points: Sequence[Point], fps: int) -> np.ndarray:
    """Bitrates between the least and the most at which several pictures were measured."""
    own = [p.kbps for p in points if p.fps == fps]
    return np.geomspace(min(own) * 1.5, max(own) / 2, RATES_TRIED)


def _spatial(points: Sequence[Point], table: QualityTable, motion: Motion) -> float:
    """How much detail counts, so that pictures change where the measured ones do.

    Where several values do that equally well, the one nearest to the start.
    """
    sizes = np.log([w * h for w, h in PICTURES])
    start = table.motion[motion].spatial

    def off(spatial: float) -> tuple[float, float]:
        there = table.motion[motion].model_copy(update={"spatial": spatial})
        tried = table.model_copy(update={"motion": {**table.motion, motion: there}})
        total = 0.0
        for fps in RATES:
            rates = rates_of(points, fps)
            best = measured_best(points, fps, rates)
            known = best >= 0
            wrong = sizes[best] - sizes[modelled_best(tried, motion, fps, rates)]
            total += float((wrong[known] ** 2).sum())
        return round(total, 6), abs(spatial - start)

    return round(float(min(np.arange(0.2, 8.0, 0.05), key=off)), 2)


def residuals(points: Sequence[Point], table: QualityTable) -> list[Residual]:
    """Every point beside what the model says of it."""
    found = []
    for point in points:
        x = np.array([point.kbps / _clean(table, point)])
        model = float(curve(table.amplitude, x)[0])
        found.append(Residual(point, float(np.clip(share(point.xpsnr), 0.0, 1.0)), model))
    return found
