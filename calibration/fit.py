"""The quality model's parameters from measured points, by least squares.

VMAF / 100 of an encode is taken as what its compression leaves times what its resolution can show,
each logistic in a logarithm (:mod:`eager_kestrel.core.choice.quality`). For each kind of motion

1. how the bitrate at half grows with pixels and frame rate is fitted to the H.264 points of all its
   scenes together, and where the halves lie and how steep it is there to each scene;
2. every scene then gets all parameters of its own, held to what was found for all of them;
3. one factor each for HEVC and AV1, and for every preset, is fitted to theirs beside the H.264, or
   the usual preset's, points of the same scene.

How much smoothness counts cannot be measured from single frames; those values are kept.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from eager_kestrel.core.choice.quality import MotionParameters, QualityTable, SceneParameters
from eager_kestrel.core.show.show import MOTIONS, Motion
from measure import SPEEDS, USUAL, Point
from scenes import SCENES

REFERENCE, VIEWED = 1280 * 720, 1920 * 1080
SOFT = 0.03
"""Quality from which on a point counts less, since rate control lands some beside the curve."""
SHARED = ("size_exponent", "rate_exponent")
OWN = ("half_kbps", "steepness", "half_pixels", "detail_steepness")
START = {
    "size_exponent": 0.4,
    "rate_exponent": 0.4,
    "half_kbps": 600.0,
    "steepness": 1.4,
    "half_pixels": 100_000.0,
    "detail_steepness": 1.3,
}
LEAST = 0.02
"""Of a parameter; none may vanish."""
PULL = 0.08
"""How much a parameter that the points say little of is held to its start."""


@dataclass(frozen=True, slots=True)
class Fitted:
    """What was found for some scenes together."""

    scenes: dict[str, dict[str, float]]
    """Of each, its parameters."""

    def of(self, scene: str) -> dict[str, float]:
        """The parameters of one of them."""
        return dict(self.scenes[scene])

    def kind(self, like: MotionParameters, without: str = "") -> MotionParameters:
        """The kind of motion they make up, perhaps without an origin's."""
        known = {n: own for n, own in self.scenes.items() if SCENES[n].origin != without}
        of_origin = Counter(SCENES[name].origin for name in known)
        return like.with_scenes(
            {
                name: SceneParameters(
                    **{key: float(f"{value:.3g}") for key, value in own.items()},
                    weight=round(1 / of_origin[SCENES[name].origin], 3),
                )
                for name, own in known.items()
            }
        )


def _geometric_mean(values: Iterable[float]) -> float:
    return float(np.exp(np.mean(np.log([*values]))))


def usual(points: Sequence[Point]) -> list[Point]:
    """H.264 at the usual preset, and pictures that were not encoded at all."""
    return [p for p in points if p.codec == "h264" and p.preset in ("", USUAL["h264"])]


def seen(points: Sequence[Point]) -> np.ndarray:
    """VMAF as a quality of 0 to 1."""
    return np.clip([p.vmaf / 100 for p in points], 0.0, 1.0)


def modelled(points: Sequence[Point], own: dict[str, np.ndarray]) -> np.ndarray:
    """What the model says of points, smoothness aside; parameters as arrays of their length."""
    pixels = np.array([float(p.width * p.height) for p in points])
    rate = np.array([p.fps / 30 for p in points])
    kbps = np.array([p.kbps for p in points])
    half = own["half_kbps"] * (pixels / REFERENCE) ** own["size_exponent"]
    half = half * rate ** own["rate_exponent"]
    left = 1 / (1 + (half / np.maximum(kbps, 1e-3)) ** own["steepness"])
    detail = 1 / (1 + (own["half_pixels"] / pixels) ** own["detail_steepness"])
    whole = 1 / (1 + (own["half_pixels"] / VIEWED) ** own["detail_steepness"])
    return np.where(kbps > 0, left, 1.0) * detail / whole


def fitted(points: Sequence[Point]) -> Fitted:
    """The parameters of some scenes, all of one kind of motion."""
    scenes = list(dict.fromkeys(p.scene for p in points))
    which = np.array([scenes.index(p.scene) for p in points])
    target = seen(points)
    first = np.array(
        [*(START[name] for name in SHARED), *(np.log(START[name]) for name in OWN for _ in scenes)]
    )

    def own(x: np.ndarray) -> dict[str, np.ndarray]:
        each = np.exp(x[len(SHARED) :]).reshape(len(OWN), len(scenes))
        shared = {name: np.full(len(points), x[at]) for at, name in enumerate(SHARED)}
        return shared | {name: each[at][which] for at, name in enumerate(OWN)}

    def off(x: np.ndarray) -> np.ndarray:
        return np.concatenate([modelled(points, own(x)) - target, PULL * (x - first)])

    x = least_squares(off, first, loss="soft_l1", f_scale=SOFT).x
    each = np.exp(x[len(SHARED) :]).reshape(len(OWN), len(scenes))
    together = {name: float(x[at]) for at, name in enumerate(SHARED)}
    return Fitted(
        {
            scene: _alone(
                [p for p in points if p.scene == scene],
                together | {name: float(each[at][number]) for at, name in enumerate(OWN)},
            )
            for number, scene in enumerate(scenes)
        }
    )


def _alone(points: Sequence[Point], start: dict[str, float]) -> dict[str, float]:
    """All parameters of one scene, held to a start."""
    names = list(start)
    first = np.log([max(start[name], LEAST) for name in names])
    target = seen(points)

    def off(x: np.ndarray) -> np.ndarray:
        own = {name: np.full(len(points), v) for name, v in zip(names, np.exp(x), strict=True)}
        return np.concatenate([modelled(points, own) - target, PULL * (x - first)])

    x = least_squares(off, first, loss="soft_l1", f_scale=SOFT).x
    return {name: float(v) for name, v in zip(names, np.exp(x), strict=True)}


def of_kinds(points: Sequence[Point]) -> dict[Motion, Fitted]:
    """What was found for each kind of motion."""
    return {m: fitted([p for p in usual(points) if p.motion == m]) for m in MOTIONS}


def table_of(points: Sequence[Point], start: QualityTable) -> QualityTable:
    """The start's table with everything that can be measured."""
    found = of_kinds(points)
    motions = {m: found[m].kind(start.motion[m]) for m in MOTIONS}
    table = start.model_copy(update={"motion": motions})
    codec = dict(start.codec)
    for name in {p.codec for p in points if p.preset == USUAL[p.codec]} - {"h264"}:
        codec[name] = factor(points, found, name, USUAL[name], "h264", USUAL["h264"])
    preset: dict[str, dict[str, float]] = {}
    for name in ("h264", "av1"):
        tried = {p.preset for p in points if p.codec == name and p.preset}
        by_speed = {p: factor(points, found, name, p, name, USUAL[name]) for p in tried}
        flat = never_rising({p: by_speed[p] for p in SPEEDS[name] if p in tried})
        own = flat.get(USUAL[name], 1.0)
        preset[name] = {p: round(value / own, 3) for p, value in flat.items()}
    return table.model_copy(update={"codec": codec, "preset": preset})


def never_rising(factors: dict[str, float]) -> dict[str, float]:
    """Factors from fast to slow, neighbours that rise pooled into their geometric mean.

    A slower preset that takes more bitrate is the noise of a few scenes (pool adjacent violators:
    Barlow et al., "Statistical Inference under Order Restrictions", 1972).
    """
    pools: list[list[float]] = []
    for value in factors.values():
        pools.append([value])
        while len(pools) > 1 and _geometric_mean(pools[-2]) < _geometric_mean(pools[-1]):
            last = pools.pop()
            pools[-1].extend(last)
    flat = [round(_geometric_mean(pool), 3) for pool in pools for _ in pool]
    return dict(zip(factors, flat, strict=True))


def factor(
    points: Sequence[Point],
    found: dict[Motion, Fitted],
    codec: str,
    preset: str,
    beside: str,
    usual_preset: str,
) -> float:
    """How much of the bitrate one way to encode takes for the look of another.

    Each scene is first moved to the other's own points at the same pictures, so that only what
    differs between the two is measured.
    """
    tried = [p for p in points if (p.codec, p.preset) == (codec, preset)]
    if not tried or (codec, preset) == (beside, usual_preset):
        return 1.0
    places = {(p.scene, p.width, p.fps) for p in tried}
    base = [
        p
        for p in points
        if (p.codec, p.preset) == (beside, usual_preset) and (p.scene, p.width, p.fps) in places
    ]
    moved = {
        key: _moved([p for p in base if (p.scene, p.width, p.fps) == key], found) for key in places
    }

    def off(x: np.ndarray) -> np.ndarray:
        each = [_shifted([p], found, float(x[0]) + moved[p.scene, p.width, p.fps]) for p in tried]
        return np.concatenate(each)

    x = least_squares(off, [0.0], loss="soft_l1", f_scale=SOFT).x
    return round(float(np.exp(x[0])), 3)


def _moved(base: Sequence[Point], found: dict[Motion, Fitted]) -> float:
    """By how much, in the logarithm of bitrate, a scene's own points lie beside its fit."""
    if not base:
        return 0.0
    x = least_squares(
        lambda x: _shifted(base, found, float(x[0])), [0.0], loss="soft_l1", f_scale=SOFT
    ).x
    return float(x[0])


def _shifted(points: Sequence[Point], found: dict[Motion, Fitted], by: float) -> np.ndarray:
    """Measured less modelled, the half bitrate of each scene moved."""
    rows = []
    for p in points:
        motion: Motion = p.motion  # type: ignore[assignment]
        own = found[motion].of(p.scene)
        own["half_kbps"] *= float(np.exp(by))
        rows.append({name: np.array([value]) for name, value in own.items()})
    own_arrays = {name: np.concatenate([row[name] for row in rows]) for name in rows[0]}
    return modelled(points, own_arrays) - seen(points)


def residuals(points: Sequence[Point], fitted_: Fitted) -> np.ndarray:
    """Measured less modelled, each scene with its own halves."""
    own = [fitted_.of(p.scene) for p in points]
    arrays = {name: np.array([row[name] for row in own]) for name in own[0]}
    return seen(points) - modelled(points, arrays)
