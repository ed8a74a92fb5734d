"""Encode stretches of a clip on all cores, and learn from the encodes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from fractions import Fraction
from math import ceil, inf
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.actions.encodes import QUICK, Encodes, Scored, Tell
from eager_kestrel.core.choice.quality import smoothness
from eager_kestrel.core.codecs import Codec
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.footage import (
    MEASURED_WIDTH,
    UNSURE_WIDTH,
    BestBetween,
    Curves,
    Footage,
    Sample,
    Stretch,
    Trial,
    TrialPoint,
    behaves_like,
    best_between,
    hull,
    learn,
    off_by,
    pick,
    pick_busy,
)
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.show.show import Motion
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.footage import (
    bound_trials,
    quality_table,
    require_footage_name,
    trial_folder,
    write_footage,
)
from eager_kestrel.version import __version__

if TYPE_CHECKING:
    from eager_kestrel.media.clip import Clip
    from eager_kestrel.media.trial_encode import EncodeSetting


LADDER = (2160, 1440, 1080, 936, 720, 540, 432, 360, 270)
HALF_FROM_FPS = 45.0
SHARES = {2: (0.5, 1.0), 4: (0.35, 0.5, 0.7, 1.0)}
"""Of the planned bitrate, by how many are tried of each resolution and frame rate."""
BESIDE = 0.8
"""Of two neighbours that are tried, the smaller has at most this share of the larger's lines."""
ENOUGH = 85_000_000
"""Pixels a second, all encodes together, that a quick look takes: it should be quick."""
LOSSLESS = 2.0
"""Times the bitrate that is tried a clip has to be recorded at to show what that loses."""
LEAST_FPS = 20
"""It takes, of a clip that has them."""


@dataclass(frozen=True, slots=True)
class TrialOptions:
    """What to try: around which settings."""

    codec: Codec
    preset: str
    resolution: Resolution
    """In the middle; of another shape than the clip's, its lines count."""
    kbps: float
    """The most that is tried."""
    motion: Motion
    """As the person said."""
    fps: Fraction | None = None
    """In the middle; None: the clip's own."""
    keep: str | None = None
    minutes: float = 3.0
    """It may take, except for a few encodes of one stretch, which are made in any case."""
    source_too: bool = True
    """Whether the clip's own resolution is tried as well."""
    asked: tuple[Resolution, ...] = ()
    """Tried as well."""


@dataclass(frozen=True, slots=True)
class TrialEncodes:
    """A trial and its files."""

    trial: Trial
    sources: tuple[Path, ...]
    """Of each stretch."""
    encodes: tuple[tuple[Path, ...], ...]
    """Of each point, one a stretch."""
    hardest: int
    """Which stretch."""


def try_clip(clip: Clip, wanted: TrialOptions, tell: Tell = lambda _: None) -> TrialEncodes:
    """Encode a few stretches around some settings and learn from them.

    The hardest stretch comes first, and others as far as the time lasts. What was encoded before is
    not encoded again, so that a trial that was stopped goes on.

    Raises:
        FormatError: the clip breaks off.
        InputError: a resolution that was asked for is larger than the clip.
        StorageError: the disk would not take it.
        StoppedError: the user stopped it before a quick look's settings were tried on one stretch.
    """
    from eager_kestrel.media.clip import hardest

    if wanted.keep is not None:
        require_footage_name(wanted.keep)
    stretches = pick(clip.looks, clip.seconds)
    reels = [(stretch,) for stretch in stretches]
    encodes = Encodes(clip, trial_settings(clip, wanted), reels, trial_folder(clip.path), tell)
    encodes.run(wanted.minutes * 60)
    bound_trials(keep=encodes.folder)
    settings, stretches = encodes.tried(), stretches[: encodes.complete]
    trial = _trial(clip, wanted, stretches, settings, [encodes.score(s) for s in settings])
    if wanted.keep is not None:
        write_footage(trial.footage)
    numbers = range(len(stretches))
    paths = tuple(tuple(encodes.path(setting, n) for n in numbers) for setting in settings)
    sources = tuple(encodes.source(n) for n in numbers)
    return TrialEncodes(trial, sources, paths, hardest(stretches))


def look_quickly(clip: Clip, wanted: TrialOptions, tell: Tell = lambda _: None) -> Footage:
    """What a few encodes of busy moments around some settings say of a footage.

    Raises:
        FormatError: the clip breaks off.
        StorageError: the disk would not take it.
        StoppedError: the user stopped it.
    """
    reel = pick_busy(clip.looks, clip.seconds)
    clip, settings = quick_settings(clip, wanted)
    encodes = Encodes(clip, settings, [reel], trial_folder(clip.path), tell, measures="vmaf")
    encodes.run(inf)
    samples = _samples(wanted, settings, [encodes.score(s) for s in settings])
    seen = sum(stretch.seconds for stretch in reel)
    return _learned(clip, wanted, wanted.motion, samples, seen)


def quick_settings(clip: Clip, wanted: TrialOptions) -> tuple[Clip, list[EncodeSetting]]:
    """The first settings to try, and the clip with fewer frames where there is much to encode.

    They have the bitrate that leaves each of the fewer frames as good; how a footage takes more
    frames is left to its kind. None has more than half of what the clip was recorded at: what was
    lost there would be lost no second time.
    """
    if clip.recorded is not None and is_lossy(clip, wanted):
        wanted = replace(wanted, kbps=clip.recorded.kbps / LOSSLESS)
    fps = _nearest_rate(clip.frame_rate, wanted.fps or clip.frame_rate)
    pixels = sum(setting.resolution.pixels for setting in trial_settings(clip, wanted)[:QUICK])
    fewer = max(1, min(int(fps / LEAST_FPS), ceil(pixels * fps / ENOUGH)))
    every = fewer * round(clip.frame_rate / fps)
    less = fewer ** -quality_table().motion[wanted.motion].typical.rate_exponent
    thin = replace(clip, frame_rate=clip.frame_rate / every, every=every)
    wanted = replace(wanted, fps=thin.frame_rate, kbps=less * wanted.kbps)
    return thin, trial_settings(thin, wanted)[: QUICK + len(wanted.asked)]


def is_lossy(clip: Clip, wanted: TrialOptions) -> bool:
    """Whether a clip was recorded at too little to show what the settings that are tried lose."""
    return clip.recorded is not None and clip.recorded.kbps < LOSSLESS * wanted.kbps


def trial_settings(clip: Clip, wanted: TrialOptions) -> list[EncodeSetting]:
    """Settings to try, what says most first.

    The resolution in the middle at the bitrate that was asked for, and those on both sides of it:
    what a quick look has. Then what was asked for, and the clip's own resolution; then every
    resolution at more bitrates, and at half of the frame rate.
    """
    from eager_kestrel.media.trial_encode import EncodeSetting

    middle = of_clip(clip, wanted.resolution)
    fps = _nearest_rate(clip.frame_rate, wanted.fps or clip.frame_rate)
    around = _around(clip, middle)
    rates = [fps, fps / 2] if float(fps) > HALF_FROM_FPS else [fps]
    shares = SHARES[2 if len(rates) == 2 else 4]
    asked = [_taken(clip, resolution) for resolution in wanted.asked]
    if wanted.source_too and clip.resolution.width % 2 == clip.resolution.height % 2 == 0:
        asked.append(clip.resolution)
    most = [(resolution, fps, 1.0) for resolution in (middle, *around)]
    order = [
        *most,
        *((resolution, fps, 1.0) for resolution in asked),
        (middle, fps, 0.5),
        *((r, rate, share) for rate in rates for share in shares for r in (middle, *around)),
    ]
    return [
        EncodeSetting(wanted.codec, wanted.preset, resolution, rate, round(share * wanted.kbps, -1))
        for resolution, rate, share in dict.fromkeys(order)
    ]


def of_clip(clip: Clip, wanted: Resolution) -> Resolution:
    """A resolution, or one of its lines in a clip's shape; no larger than the clip."""
    even = wanted.width % 2 == wanted.height % 2 == 0
    if even and wanted.within(clip.resolution) and clip.resolution.shape.fits(wanted):
        return wanted
    return clip.resolution.shape.with_lines(min(wanted.lines, clip.resolution.lines) // 2 * 2)


def _around(clip: Clip, middle: Resolution) -> list[Resolution]:
    """A resolution below it and one above; two below where the clip has none above."""
    below = [n for n in LADDER if n <= BESIDE * middle.lines]
    above = [n for n in LADDER if BESIDE * n >= middle.lines and n <= clip.resolution.lines]
    if not above and clip.resolution.lines * BESIDE >= middle.lines:
        above = [clip.resolution.lines // 2 * 2]
    lines = [*below[:1], *(above[-1:] or below[1:2])]
    return [clip.resolution.shape.with_lines(n) for n in lines]


def _nearest_rate(own: Fraction, wanted: Fraction) -> Fraction:
    """What is left of a clip's frames where each so many-th is taken, near what is wanted."""
    return own / max(1, round(own / wanted))


def _taken(clip: Clip, asked: Resolution) -> Resolution:
    if not asked.within(clip.resolution):
        raise InputError(
            f"{asked} is larger than the clip's {clip.resolution}", "ask for no more than it has"
        )
    return asked


def _samples(
    wanted: TrialOptions, settings: Sequence[EncodeSetting], scored: Sequence[Scored]
) -> list[Sample]:
    """Encodes as the fit takes them."""
    takes = _takes(wanted)
    return [
        Sample(float(s.resolution.pixels), float(s.frame_rate), found.kbps / takes, found.look)
        for s, found in zip(settings, scored, strict=True)
    ]


def _takes(wanted: TrialOptions) -> float:
    """Of the usual preset's bitrate, what the one that is tried needs for the same look."""
    return quality_table().preset.get(wanted.codec, {}).get(wanted.preset, 1.0)


def _learned(
    clip: Clip,
    wanted: TrialOptions,
    motion: Motion,
    samples: Sequence[Sample],
    seen_seconds: float,
) -> Footage:
    """What the encodes say of the footage, with a kind of motion as what was known before."""
    from eager_kestrel.media.trial_encode import vmaf_program

    table = quality_table()
    width = MEASURED_WIDTH if vmaf_program() else UNSURE_WIDTH
    scenes = learn(table, motion, wanted.codec, samples, clip.recorded, width)
    own = table.with_own(motion, *scenes)
    off = off_by(own, motion, wanted.codec, samples, clip.recorded)
    return Footage(
        name=wanted.keep or "unnamed",
        clip=clip.path.name,
        version=__version__,
        motion=motion,
        codec=wanted.codec,
        around_kbps=wanted.kbps,
        seen_seconds=seen_seconds,
        taken_at=datetime.now().astimezone().isoformat(timespec="seconds"),
        scenes=scenes,
        encodes=len(samples),
        lossy=is_lossy(clip, wanted),
        off_by=round(off, 4),
    )


def _trial(
    clip: Clip,
    wanted: TrialOptions,
    stretches: tuple[Stretch, ...],
    settings: Sequence[EncodeSetting],
    scored: Sequence[Scored],
) -> Trial:
    """Everything that follows from the scores."""
    table, takes = quality_table(), _takes(wanted)
    samples = _samples(wanted, settings, scored)
    behaves = behaves_like(table, wanted.codec, samples, clip.recorded)
    seen = sum(stretch.seconds for stretch in stretches)
    footage = _learned(clip, wanted, behaves, samples, seen)
    points = _points(
        settings,
        scored,
        [float(smoothness(table, behaves, np.array([float(s.frame_rate)]))[0]) for s in settings],
    )
    fitted = table.with_own(behaves, *footage.scenes)
    curves = Curves(fitted, behaves, wanted.codec, takes, points)
    rates = min(s.kbps for s in settings) / 2, max(s.kbps for s in settings) * 1.2
    best = best_between(curves, rates)
    gain, remarks = _lessons(wanted, behaves, curves, best)
    return Trial(
        version=__version__,
        clip=clip.path.name,
        seconds=round(clip.seconds, 1),
        codec=wanted.codec,
        preset=wanted.preset,
        metric=words.metric(vmaf=all(s.vmaf is not None for s in scored)),
        stretches=stretches,
        points=points,
        best=best,
        asked_motion=wanted.motion,
        behaves_like=behaves,
        footage=footage,
        one_more_mbit=round(gain, 4),
        remarks=(*remarks, words.missed(footage.off_by)),
    )


def _points(
    settings: Sequence[EncodeSetting], scored: Sequence[Scored], smooth: Sequence[float]
) -> tuple[TrialPoint, ...]:
    """Every encode, and whether it is the best for what was asked of it."""
    whole = [f.look * s for f, s in zip(scored, smooth, strict=True)]
    on = hull([(s.kbps, looks) for s, looks in zip(settings, whole, strict=True)])
    return tuple(
        TrialPoint(
            resolution=s.resolution,
            frame_rate=s.frame_rate,
            target_kbps=s.kbps,
            kbps=round(f.kbps, 1),
            xpsnr_db=round(f.xpsnr_db or 0.0, 2),
            ssim=round(f.ssim or 0.0, 5),
            vmaf=None if f.vmaf is None else round(f.vmaf, 2),
            smoothness=round(smoother, 4),
            look=round(f.look * smoother, 4),
            on_hull=kept,
        )
        for s, f, smoother, kept in zip(settings, scored, smooth, on, strict=True)
    )


def _lessons(
    wanted: TrialOptions, behaves: Motion, curves: Curves, best: Sequence[BestBetween]
) -> tuple[float, tuple[str, ...]]:
    """What one more Mbit/s buys, and all that was learned in words."""
    most = max(point.target_kbps for point in curves.points)
    shapes, now_and_more = curves.shapes, curves.quality(np.array([most, most + 1000]))
    first = next((b.resolution, b.frame_rate) for b in best if b.from_kbps <= most <= b.to_kbps)
    order = sorted(
        range(len(shapes)), key=lambda n: (shapes[n] != first, -float(now_and_more[n, 0]))
    )
    named = [(resolution_at(*shapes[n]), float(now_and_more[n, 0])) for n in order]
    there, more = (float(each) for each in now_and_more.max(axis=0))
    return more - there, (
        words.chosen(most, *named[0], named[1:4]),
        words.best([(b.text, b.from_kbps, b.to_kbps) for b in best]),
        words.one_more(most, more - there),
        words.kind(wanted.motion, behaves),
    )
