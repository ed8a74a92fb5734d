"""Encode stretches of a clip on all cores, and learn from the encodes."""

from __future__ import annotations

import hashlib
import json
import math
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.quality import QualityTable, quality, smoothness
from eager_kestrel.core.codecs import Codec
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
from eager_kestrel.core.show.show import Motion
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.footage import (
    bound_trials,
    quality_table,
    require_footage_name,
    trial_folder,
    write_footage,
)
from eager_kestrel.net.addresses import WAKE_SECONDS
from eager_kestrel.version import __version__

if TYPE_CHECKING:
    from eager_kestrel.media.clip import Clip
    from eager_kestrel.media.trial_encode import EncodeSetting, Scores


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
    minutes: float = 3.0
    """It may take, except for one stretch, which is tried in any case."""


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
        StorageError: the disk would not take it.
        StoppedError: the user stopped it before all settings were tried on one stretch.
    """
    from eager_kestrel.media.clip import hardest
    from eager_kestrel.media.trial_encode import vmaf_program

    if wanted.keep is not None:
        require_footage_name(wanted.keep)
    stretches = pick(clip.looks, clip.seconds)
    encodes = _Encodes(clip, _settings(clip, wanted), stretches, trial_folder(clip.path), tell)
    encodes.run(wanted.minutes * 60)
    bound_trials(keep=encodes.folder)
    settings, stretches = encodes.settings, stretches[: encodes.complete]
    scored = [encodes.score(number) for number in range(len(settings))]
    trial = _trial(clip, wanted, stretches, settings, scored, vmaf=vmaf_program() is not None)
    if wanted.keep is not None:
        write_footage(trial.footage)
    numbers = range(len(stretches))
    paths = tuple(tuple(encodes.path(setting, n) for n in numbers) for setting in settings)
    sources = tuple(encodes.source(n) for n in numbers)
    return TrialEncodes(trial, sources, paths, hardest(stretches))


def _settings(clip: Clip, wanted: TrialOptions) -> list[EncodeSetting]:
    """A dozen: three resolutions around the middle one, one or two frame rates, some bitrates."""
    from eager_kestrel.media.trial_encode import EncodeSetting

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
        EncodeSetting(
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


ALIKE = 0.5
"""Of the time an encode takes, what it takes to compare it, whatever its resolution."""


@dataclass
class _Encodes:
    """Encodes of settings on stretches, what is kept of them, and how long the rest takes."""

    clip: Clip
    settings: Sequence[EncodeSetting]
    stretches: Sequence[Stretch]
    folder: Path
    tell: Tell
    complete: int = 0
    """On so many stretches every setting was tried."""

    def __post_init__(self) -> None:
        """Nothing is scored yet."""
        from eager_kestrel.media.encoders import cores

        self._cores = cores()
        self._scores: dict[tuple[int, int], Scores] = {}
        self._stopped = Event()
        self._ends_at: float | None = None
        self._began = time.perf_counter()

    def _seconds(self) -> float:
        """Since it began."""
        return time.perf_counter() - self._began

    def source(self, stretch: int) -> Path:
        """Where a stretch is."""
        cut_out = self.stretches[stretch]
        return self.folder / f"stretch-{cut_out.begin_seconds:g}-{cut_out.seconds:g}.nut"

    def path(self, setting: EncodeSetting, stretch: int) -> Path:
        """Where an encode is."""
        asked = [str(setting.resolution), str(setting.frame_rate), setting.kbps]
        said = json.dumps([*asked, setting.codec, setting.preset, stretch])
        return self.folder / f"{hashlib.sha256(said.encode()).hexdigest()[:20]}.mkv"

    def run(self, seconds: float) -> None:
        """Try every setting on the hardest stretch, and on others while there is time."""
        try:
            many = self._planned(seconds)
            with ThreadPoolExecutor(self._cores) as pool:
                for stretch in range(many):
                    self._cut(stretch)
                    self._all_of(stretch, many, pool)
                    self.complete = stretch + 1
        except KeyboardInterrupt:
            self._stopped.set()
            if not self.complete:
                raise StoppedError(
                    "stopped; what was encoded is kept", "run it again to go on"
                ) from None
            self.tell(words.stopped_after(self.complete))

    def _planned(self, seconds: float) -> int:
        """On how many stretches there is time to try all; one encode is timed to know."""
        every = range(len(self.stretches))
        missing = [(n, stretch) for stretch in every for n in self._missing(stretch)]
        if not missing:
            return len(every)
        stretch = missing[0][1]
        here = [n for n, at in missing if at == stretch]
        middle = here[len(here) // 2]
        self._cut(stretch)
        began = time.perf_counter()
        self._scores[middle, stretch] = self._one(middle, stretch)
        took = (time.perf_counter() - began) / self._work(middle)
        left = [took * sum(map(self._work, self._missing(n))) / self._cores for n in every]
        many = max(1, sum(1 for total in np.cumsum(left) if self._seconds() + total <= seconds))
        total = float(sum(left[:many]))
        self._ends_at = time.perf_counter() + total
        minutes = math.ceil((self._seconds() + float(sum(left))) / 60)
        self.tell(words.trial_takes(total, many, len(self.settings), len(every), minutes))
        return many

    def _missing(self, stretch: int) -> list[int]:
        """The settings that were not tried on a stretch, by number."""
        every = enumerate(self.settings)
        return [n for n, setting in every if not self._kept(setting, stretch).exists()]

    def _work(self, number: int) -> float:
        """What a setting takes beside the largest."""
        sizes = [s.resolution.pixels * float(s.frame_rate) for s in self.settings]
        return ALIKE + (1 - ALIKE) * sizes[number] / max(sizes)

    def _cut(self, stretch: int) -> None:
        from eager_kestrel.media.clip import cut

        if not self.source(stretch).exists():
            self.tell(words.cutting(stretch + 1))
            cut(self.clip, self.stretches[stretch], self.source(stretch))

    def _all_of(self, stretch: int, many: int, pool: ThreadPoolExecutor) -> None:
        """Every setting on one stretch, over all cores; tells of each as it ends."""
        missing = self._missing(stretch)
        for number in set(range(len(self.settings))).difference(missing):
            self._scores[number, stretch] = self._one(number, stretch)
        jobs = {pool.submit(self._one, number, stretch): number for number in missing}
        left: set[Future[Scores]] = set(jobs)
        try:
            while left:
                done, left = wait(left, WAKE_SECONDS, return_when=FIRST_COMPLETED)
                for job in done:
                    self._scores[jobs[job], stretch] = job.result()
                    self._told(jobs[job], stretch, many)
        except BaseException:
            self._stopped.set()
            pool.shutdown(wait=True, cancel_futures=True)
            raise

    def _told(self, number: int, stretch: int, many: int) -> None:
        rest = None if self._ends_at is None else max(0.0, self._ends_at - time.perf_counter())
        total, quality = many * len(self.settings), look(self._scores[number, stretch])
        done, tried = sum(at < many for _, at in self._scores), _words(self.settings[number])
        self.tell(words.going(done, total, tried, stretch + 1, quality, rest))

    def _kept(self, setting: EncodeSetting, stretch: int) -> Path:
        from eager_kestrel.media.trial_encode import vmaf_program

        kind = "vmaf" if vmaf_program() else "plain"
        return self.path(setting, stretch).with_suffix(f".{kind}.json")

    def _one(self, number: int, stretch: int) -> Scores:
        """One setting on one stretch, from what is kept where it is."""
        from eager_kestrel.files.documents import write_text
        from eager_kestrel.media.trial_encode import Scores, compare, encode

        setting, source = self.settings[number], self.source(stretch)
        every = round(self.clip.frame_rate / setting.frame_rate)
        out, kept = self.path(setting, stretch), self._kept(setting, stretch)
        if not out.exists():
            encode(source, setting, every, out, self._stopped)
            kept.unlink(missing_ok=True)
        if not kept.exists():
            screen = screen_of(self.clip.resolution)
            found = compare(source, out, setting, every, screen, self._stopped)
            write_text(kept, json.dumps(asdict(found)))
        return Scores(**json.loads(kept.read_text()))

    def score(self, number: int) -> _Scored:
        """What came of a setting over the stretches that are complete."""
        scores = [self._scores[number, stretch] for stretch in range(self.complete)]
        vmafs = [s.vmaf for s in scores if s.vmaf is not None]
        kbps, xpsnr, ssim = (
            float(np.mean([getattr(s, key) for s in scores]))
            for key in ("kbps", "xpsnr_db", "ssim")
        )
        vmaf = float(np.mean(vmafs)) if len(vmafs) == len(scores) else None
        return _Scored(kbps, xpsnr, ssim, vmaf, look_of(xpsnr, ssim, vmaf))


def look(scores: Scores) -> float:
    """How one encode looks, smoothness aside."""
    return look_of(scores.xpsnr_db, scores.ssim, scores.vmaf)


def _words(setting: EncodeSetting) -> str:
    return f"{resolution_at(setting.resolution, setting.frame_rate)}, {setting.kbps:,.0f} kbit/s"


LOOK_AT_START, LOOK_PER_XPSNR, LOOK_PER_SSIM = -6.47, 0.126, 0.251
"""A look from XPSNR in dB and SSIM in dB, logistic: fitted to VMAF of 96 encodes; docs/trial.md."""


def look_of(xpsnr_db: float, ssim: float, vmaf: float | None = None) -> float:
    """0..1 by VMAF; where no program has it, as it would say, from the two that need none."""
    if vmaf is not None:
        return min(1.0, vmaf / 100)
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
    settings: Sequence[EncodeSetting],
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
    points = _points(
        settings,
        scored,
        [float(smoothness(table, behaves, np.array([float(s.frame_rate)]))[0]) for s in settings],
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
    gain, remarks = _lessons(fitted, wanted, behaves, points, takes, best)
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
        asked_motion=wanted.motion,
        behaves_like=behaves,
        footage=footage,
        one_more_mbit=round(gain, 4),
        remarks=(*remarks, words.missed(footage.off_by)),
    )


def _points(
    settings: Sequence[EncodeSetting], scored: Sequence[_Scored], smooth: Sequence[float]
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
            xpsnr_db=round(f.xpsnr_db, 2),
            ssim=round(f.ssim, 5),
            vmaf=None if f.vmaf is None else round(f.vmaf, 2),
            smoothness=round(smoother, 4),
            look=round(f.look * smoother, 4),
            on_hull=kept,
        )
        for s, f, smoother, kept in zip(settings, scored, smooth, on, strict=True)
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
        words.best([(b.text, b.from_kbps, b.to_kbps) for b in best]),
        words.one_more(most, gain),
        words.kind(wanted.motion, behaves),
    )
