"""Encode stretches of a clip on all cores, and learn from the encodes."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import asdict, dataclass
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel import __version__
from eager_kestrel.core.choice.quality import QualityTable, quality, smoothness
from eager_kestrel.core.errors import StoppedError
from eager_kestrel.core.footage import (
    BestBetween,
    Footage,
    Sample,
    Stretch,
    Trial,
    TrialPoint,
    behaves_like,
    best_between,
    fit,
    hull,
    off_by,
    pick,
)
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.footage import (
    bound_trials,
    quality_table,
    require_footage_name,
    trial_folder,
    write_footage,
)
from eager_kestrel.net.addresses import WAKE_SECONDS

if TYPE_CHECKING:
    from eager_kestrel.core.guide.rules import Codec
    from eager_kestrel.core.show.show import Motion
    from eager_kestrel.media.clip import Clip
    from eager_kestrel.media.trial_encode import Setting


LADDER = (2160, 1440, 1080, 936, 720, 540, 432, 360, 270)
HALF_FROM_FPS = 45.0
SHARES = {2: (0.55, 1.0), 4: (0.4, 0.6, 0.8, 1.0)}
"""Of the planned bitrate, by how many are tried of each resolution and frame rate."""
Tell = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class TrialOptions:
    """What to try: around which settings."""

    codec: Codec
    preset: str
    lines: int
    """Of the resolution in the middle."""
    kbps: float
    """The most that is tried."""
    motion: Motion
    """As the person said."""
    keep: str | None = None


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

    What was encoded before is not encoded again, so that a trial that was stopped goes on.

    Raises:
        FormatError: the clip breaks off.
        StorageError: the disk would not take it.
        StoppedError: the user stopped it.
    """
    from eager_kestrel.media.clip import cut, hardest
    from eager_kestrel.media.trial_encode import vmaf_program

    if wanted.keep is not None:
        require_footage_name(wanted.keep)
    folder = trial_folder(clip.path)
    stretches = pick(clip.looks, clip.seconds)
    sources = []
    for stretch in stretches:
        name = f"stretch-{stretch.begin_seconds:g}-{stretch.seconds:g}.mkv"
        sources.append(folder / name)
        if not sources[-1].exists():
            cut(clip, stretch, sources[-1])
    settings = _settings(clip, wanted)
    scored = _encoded(clip, settings, sources, wanted, tell)
    bound_trials(keep=folder)
    trial = _trial(clip, wanted, stretches, settings, scored, vmaf=vmaf_program() is not None)
    if wanted.keep is not None:
        write_footage(trial.footage)
    paths = tuple(
        tuple(_path(folder, setting, n) for n in range(len(sources))) for setting in settings
    )
    return TrialEncodes(trial, tuple(sources), paths, hardest(stretches))


def _settings(clip: Clip, wanted: TrialOptions) -> list[Setting]:
    """A dozen: three resolutions around the middle one, one or two frame rates, some bitrates."""
    from eager_kestrel.media.trial_encode import Setting

    shape = clip.resolution.width / clip.resolution.height
    down = min(clip.resolution.height, clip.resolution.width)
    lines = [n for n in LADDER if n <= down] or [down // 2 * 2]
    if down not in lines and down <= LADDER[0]:
        lines = sorted({down // 2 * 2, *lines}, reverse=True)
    middle = min(range(len(lines)), key=lambda n: abs(lines[n] - wanted.lines))
    first = max(0, min(middle - 1, len(lines) - 3))
    rates = [clip.frame_rate]
    if float(clip.frame_rate) > HALF_FROM_FPS:
        rates.append(clip.frame_rate / 2)
    shares = SHARES[2 if len(rates) == 2 else 4]
    return [
        Setting(
            wanted.codec, wanted.preset, _resolution(n, shape), rate, round(share * wanted.kbps, -1)
        )
        for n in lines[first : first + 3]
        for rate in rates
        for share in shares
    ]


def _resolution(lines: int, shape: float) -> Resolution:
    """Of so many lines on the shorter side, both sides even."""
    long, short = round(lines * max(shape, 1 / shape) / 2) * 2, lines // 2 * 2
    return Resolution(long, short) if shape >= 1 else Resolution(short, long)


@dataclass(frozen=True, slots=True)
class _Scored:
    """What came of a setting, over all stretches."""

    kbps: float
    xpsnr_db: float
    ssim: float
    vmaf: float | None
    look: float
    """0..1, smoothness aside."""


def _encoded(
    clip: Clip,
    settings: Sequence[Setting],
    sources: Sequence[Path],
    wanted: TrialOptions,
    tell: Tell,
) -> list[_Scored]:
    """Encode and compare all, over all cores; tells the hull so far."""
    from eager_kestrel.media.encoders import cores

    table = quality_table()
    found: dict[int, _Scored] = {}
    stopped = Event()
    with ThreadPoolExecutor(cores()) as pool:
        jobs = {
            pool.submit(_one, clip, setting, sources, stopped): number
            for number, setting in enumerate(settings)
        }
        try:
            left: set[Future[_Scored]] = set(jobs)
            while left:
                done, left = wait(left, WAKE_SECONDS, return_when=FIRST_COMPLETED)
                for job in done:
                    found[jobs[job]] = job.result()
                    tell(_so_far(found, settings, jobs[job], table, wanted.motion))
        except KeyboardInterrupt:
            stopped.set()
            pool.shutdown(wait=True, cancel_futures=True)
            raise StoppedError(
                "stopped; what was encoded is kept", "run it again to go on"
            ) from None
        except BaseException:
            stopped.set()
            pool.shutdown(wait=True, cancel_futures=True)
            raise
    return [found[number] for number in range(len(settings))]


def _so_far(
    found: dict[int, _Scored],
    settings: Sequence[Setting],
    last: int,
    table: QualityTable,
    motion: Motion,
) -> str:
    whole = {n: s.look * _smooth(table, motion, settings[n].frame_rate) for n, s in found.items()}
    numbers = sorted(found)
    on = hull([(found[n].kbps, whole[n]) for n in numbers])
    best = [_words(settings[n]) for n, kept in zip(numbers, on, strict=True) if kept]
    return words.going(
        len(found), len(settings), _words(settings[last]), whole[last], ", ".join(best[-3:])
    )


def _words(setting: Setting) -> str:
    return f"{resolution_at(setting.resolution, setting.frame_rate)}, {setting.kbps:,.0f} kbit/s"


def _smooth(table: QualityTable, motion: Motion, fps: Fraction) -> float:
    return float(smoothness(table, motion, np.array([float(fps)]))[0])


def _path(folder: Path, setting: Setting, stretch: int) -> Path:
    said = json.dumps(
        [
            str(setting.resolution),
            str(setting.frame_rate),
            setting.kbps,
            setting.codec,
            setting.preset,
            stretch,
        ]
    )
    return folder / f"{hashlib.sha256(said.encode()).hexdigest()[:20]}.mkv"


def _one(clip: Clip, setting: Setting, sources: Sequence[Path], stopped: Event) -> _Scored:
    """One setting on every stretch, from what is kept where it is."""
    from eager_kestrel.files.documents import write_text
    from eager_kestrel.media.trial_encode import Scores, compare, encode, vmaf_program

    every = round(clip.frame_rate / setting.frame_rate)
    scores = []
    for number, source in enumerate(sources):
        out = _path(source.parent, setting, number)
        kept = out.with_suffix(f".{'vmaf' if vmaf_program() else 'plain'}.json")
        if not out.exists():
            encode(source, setting, every, out, stopped)
            kept.unlink(missing_ok=True)
        if not kept.exists():
            screen = screen_of(clip.resolution)
            found = compare(source, out, setting, every, screen, stopped)
            write_text(kept, json.dumps(asdict(found)))
        scores.append(Scores(**json.loads(kept.read_text())))
    vmafs = [s.vmaf for s in scores if s.vmaf is not None]
    vmaf = float(np.mean(vmafs)) if len(vmafs) == len(scores) else None
    xpsnr, ssim = (float(np.mean([getattr(s, k) for s in scores])) for k in ("xpsnr_db", "ssim"))
    return _Scored(
        kbps=float(np.mean([s.kbps for s in scores])),
        xpsnr_db=xpsnr,
        ssim=ssim,
        vmaf=vmaf,
        look=min(1.0, vmaf / 100) if vmaf is not None else look_of(xpsnr, ssim),
    )


LOOK_AT_START, LOOK_PER_XPSNR, LOOK_PER_SSIM = -6.47, 0.126, 0.251
"""A look from XPSNR in dB and SSIM in dB, logistic: fitted to VMAF of 96 encodes; docs/trial.md."""


def look_of(xpsnr_db: float, ssim: float) -> float:
    """0..1 as VMAF would say, from the two that need no other program."""
    ssim_db = -10 * np.log10(max(1e-4, 1 - ssim))
    return float(
        1 / (1 + np.exp(-(LOOK_AT_START + LOOK_PER_XPSNR * xpsnr_db + LOOK_PER_SSIM * ssim_db)))
    )


def screen_of(resolution: Resolution) -> Resolution:
    """A resolution as it is seen on the screen most viewers have."""
    viewed = quality_table().viewed_on
    by = min(viewed.width / resolution.width, viewed.height / resolution.height)
    return Resolution(round(resolution.width * by / 2) * 2, round(resolution.height * by / 2) * 2)


def _trial(
    clip: Clip,
    wanted: TrialOptions,
    stretches: tuple[Stretch, ...],
    settings: Sequence[Setting],
    scored: Sequence[_Scored],
    *,
    vmaf: bool,
) -> Trial:
    """Everything that follows from the scores."""
    table = quality_table()
    takes = table.preset.get(wanted.codec, {}).get(wanted.preset, 1.0)
    samples = [
        Sample(float(s.resolution.pixels), float(s.frame_rate), found.kbps / takes, found.look)
        for s, found in zip(settings, scored, strict=True)
    ]
    behaves = behaves_like(table, wanted.codec, samples)
    own = fit(table, behaves, wanted.codec, samples)
    fitted = table.with_own(behaves, own)
    smooth = [_smooth(table, behaves, s.frame_rate) for s in settings]
    on = hull([(f.kbps, f.look * s) for f, s in zip(scored, smooth, strict=True)])
    points = tuple(
        TrialPoint(
            resolution=s.resolution,
            frame_rate=s.frame_rate,
            target_kbps=s.kbps,
            kbps=round(f.kbps, 1),
            xpsnr_db=round(f.xpsnr_db, 2),
            ssim=round(f.ssim, 5),
            vmaf=None if f.vmaf is None else round(f.vmaf, 2),
            look=round(f.look * smoother, 4),
            on_hull=kept,
        )
        for s, f, smoother, kept in zip(settings, scored, smooth, on, strict=True)
    )
    shapes = list(dict.fromkeys((s.resolution, s.frame_rate) for s in settings))
    rates = min(s.kbps for s in settings) / 2, max(s.kbps for s in settings) * 1.2
    best = best_between(fitted, behaves, wanted.codec, shapes, rates, takes)
    footage = Footage(
        name=wanted.keep or "unnamed",
        clip=clip.path.name,
        version=__version__,
        motion=behaves,
        taken_at=datetime.now().astimezone().isoformat(timespec="seconds"),
        parameters=own,
        encodes=len(settings),
        off_by=round(off_by(fitted, behaves, wanted.codec, samples), 4),
    )
    gain, lessons = _lessons(fitted, wanted, behaves, points, takes, best)
    return Trial(
        version=__version__,
        clip=clip.path.name,
        seconds=round(clip.seconds, 1),
        codec=wanted.codec,
        preset=wanted.preset,
        metric=words.metric(vmaf=vmaf),
        stretches=stretches,
        points=points,
        best=best,
        said_motion=wanted.motion,
        behaves_like=behaves,
        footage=footage,
        one_more_mbit=round(gain, 4),
        lessons=(*lessons, words.missed(footage.off_by)),
    )


def _lessons(
    fitted: QualityTable,
    wanted: TrialOptions,
    behaves: Motion,
    points: Sequence[TrialPoint],
    takes: float,
    best: Sequence[BestBetween],
) -> tuple[float, tuple[str, ...]]:
    """What one more Mbit/s buys, and all that was learned in words."""
    most = max(point.target_kbps for point in points)
    top = sorted((p for p in points if p.target_kbps == most), key=lambda p: -p.look)
    named = [(resolution_at(p.resolution, p.frame_rate), p.look) for p in top]

    def at(kbps: float) -> float:
        pixels = np.array([float(p.resolution.pixels) for p in top])
        fps = np.array([float(p.frame_rate) for p in top])
        rates = np.full(len(top), kbps / takes)
        return float(quality(fitted, behaves, wanted.codec, pixels, fps, rates).max())

    gain = at(most + 1000) - at(most)
    return gain, (
        words.chosen(most, *named[0], named[1:4]),
        words.best([(b.words, b.from_kbps, b.to_kbps) for b in best]),
        words.one_more(most, gain),
        words.kind(wanted.motion, behaves),
    )
