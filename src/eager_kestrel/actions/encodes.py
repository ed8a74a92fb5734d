"""Encode settings on stretches of a clip over all cores, within a time; what is kept of them."""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import asdict, dataclass
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.errors import StoppedError
from eager_kestrel.core.footage import Stretch
from eager_kestrel.core.resolution import Resolution, resolution_at
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.footage import quality_table
from eager_kestrel.net.addresses import WAKE_SECONDS

if TYPE_CHECKING:
    from eager_kestrel.media.clip import Clip
    from eager_kestrel.media.trial_encode import EncodeSetting, Measures, Scores

QUICK = 3
"""Encodes of a quick look, which a trial has in any case."""
LATE = 1.1
"""A trial begins no encode that would end later than this share of its time."""
Tell = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Scored:
    """What came of a setting, over all stretches."""

    kbps: float
    xpsnr_db: float | None
    ssim: float | None
    vmaf: float | None
    look: float
    """0..1, smoothness aside."""


ALIKE = 0.5
"""Of the time an encode takes, what it takes to compare it, whatever its resolution."""


@dataclass
class Encodes:
    """Encodes of settings on reels, what is kept of them, and how long the rest takes."""

    clip: Clip
    settings: Sequence[EncodeSetting]
    """What says most first."""
    reels: Sequence[tuple[Stretch, ...]]
    """Stretches that are encoded in one piece, the reel that says most first."""
    folder: Path
    tell: Tell
    measures: Measures = "all"
    complete: int = 0
    """On so many reels every setting was tried that was tried on the first."""

    def __post_init__(self) -> None:
        """Nothing is scored yet."""
        from eager_kestrel.media.encoders import cores

        self._cores = cores()
        self._workers = max(self._cores, QUICK)  # a quick look's share the cores to the end
        self._scores: dict[tuple[EncodeSetting, int], Scores] = {}
        self._stopped = Event()
        self._began = time.perf_counter()
        self._spent, self._worked, self._told = 0.0, 0.0, False
        """Seconds that encodes took, and the work they were."""

    def tried(self) -> list[EncodeSetting]:
        """The settings that were tried, by resolution, frame rate and bitrate."""
        found = (s for s in self.settings if (s, 0) in self._scores)
        return sorted(found, key=lambda s: (-s.resolution.pixels, -s.frame_rate, s.kbps))

    def source(self, reel: int) -> Path:
        """Where a reel is."""
        parts = "+".join(f"{s.begin_seconds:g}-{s.seconds:g}" for s in self.reels[reel])
        kind = "reel" if self.measures == "vmaf" else "stretch"
        return self.folder / f"{kind}-{parts}-{self.clip.every}.nut"

    def path(self, setting: EncodeSetting, reel: int) -> Path:
        """Where an encode is."""
        asked = [str(setting.resolution), str(setting.frame_rate), setting.kbps]
        said = json.dumps([*asked, setting.codec, setting.preset, self.source(reel).stem])
        return self.folder / f"{hashlib.sha256(said.encode()).hexdigest()[:20]}.mkv"

    def run(self, seconds: float) -> None:
        """Try the settings on the first reel, and on others, while there is time.

        On the first the settings of a quick look are tried in any case.
        """
        try:
            with ThreadPoolExecutor(self._workers) as pool:
                for reel in range(len(self.reels)):
                    if reel and self._seconds() + self._needs(reel) > seconds:
                        break
                    self._cut(reel)
                    if not self._all_of(reel, pool, seconds):
                        break
                    self.complete = reel + 1
        except KeyboardInterrupt:
            self._stopped.set()
            if not self.complete:
                raise StoppedError(
                    "stopped; what was encoded is kept", "run it again to go on"
                ) from None
            self.tell(words.stopped_after(self.complete))

    def _seconds(self) -> float:
        """Since it began."""
        return time.perf_counter() - self._began

    def _needs(self, reel: int) -> float:
        """Seconds that a reel takes, by what the encodes so far took."""
        left = sum(self._work(s) for s in self.tried() if not self._kept(s, reel).exists())
        return left * self._pace() / self._cores

    def _pace(self) -> float:
        """Seconds of one core for a unit of work."""
        return self._spent / self._worked if self._worked else 0.0

    def _work(self, setting: EncodeSetting) -> float:
        """What a setting takes beside the largest."""
        sizes = [s.resolution.pixels * float(s.frame_rate) for s in self.settings]
        own = setting.resolution.pixels * float(setting.frame_rate)
        return ALIKE + (1 - ALIKE) * own / max(sizes)

    def _cut(self, reel: int) -> None:
        from eager_kestrel.media.clip import cut

        wanted = self.tried() if reel else self.settings
        if not self.source(reel).exists() and not all(self._kept(s, reel).exists() for s in wanted):
            self.tell(words.cutting(reel + 1))
            kind = "rawvideo" if self.measures == "vmaf" else "utvideo"
            cut(self.clip, self.reels[reel], self.source(reel), kind)

    def _all_of(self, reel: int, pool: ThreadPoolExecutor, seconds: float) -> bool:
        """Settings on one reel, over all cores, telling of each; whether all that count were."""
        wanted = list(self.settings if not reel else self.tried())
        kept = [s for s in wanted if self._kept(s, reel).exists()]
        self._scores |= {(s, reel): self._one(s, reel) for s in kept}
        waiting = [s for s in wanted if s not in kept]
        jobs: dict[Future[tuple[Scores, float]], EncodeSetting] = {}
        try:
            while waiting or jobs:
                while waiting and len(jobs) < self._workers:
                    least = not reel and wanted.index(waiting[0]) < QUICK
                    ends = self._seconds() + self._work(waiting[0]) * self._pace()
                    unknown = jobs and not self._worked
                    if not least and (unknown or ends > LATE * seconds):
                        break
                    setting = waiting.pop(0)
                    jobs[pool.submit(self._timed, setting, reel)] = setting
                if not jobs:
                    break
                for job in wait(jobs, WAKE_SECONDS, return_when=FIRST_COMPLETED).done:
                    setting = jobs.pop(job)
                    self._scores[setting, reel], took = job.result()
                    self._spent, self._worked = (
                        self._spent + took,
                        self._worked + self._work(setting),
                    )
                    self._tell(setting, reel, wanted, seconds)
        except BaseException:
            self._stopped.set()
            pool.shutdown(wait=True, cancel_futures=True)
            raise
        return not reel or not waiting

    def _tell(
        self, setting: EncodeSetting, reel: int, wanted: Sequence[EncodeSetting], seconds: float
    ) -> None:
        """What an encode says; behind the first, how long all will take."""
        left = [s for s in wanted if (s, reel) not in self._scores]
        rest = sum(map(self._work, left)) * self._pace() / self._cores
        rest = min(rest, max(0.0, seconds - self._seconds()))
        if not self._told:
            self._told = True
            each = sum(map(self._work, self.settings)) * self._pace() / self._cores
            every = self._seconds() + each * len(self.reels)
            if len(self.reels) > 1:
                self.tell(words.trial_takes(min(seconds, every), every))
            else:
                self.tell(words.look_takes(rest))
        done, tried = len(wanted) - len(left), _words(setting)
        quality = look(self._scores[setting, reel])
        self.tell(words.going(done, len(wanted), tried, reel + 1, quality, rest))

    def _kept(self, setting: EncodeSetting, reel: int) -> Path:
        from eager_kestrel.media.trial_encode import vmaf_program

        kind = "vmaf" if vmaf_program() else "plain"
        return self.path(setting, reel).with_suffix(f".{kind}.json")

    def _timed(self, setting: EncodeSetting, reel: int) -> tuple[Scores, float]:
        """The same with the seconds it took."""
        began = time.perf_counter()
        return self._one(setting, reel), time.perf_counter() - began

    def _one(self, setting: EncodeSetting, reel: int) -> Scores:
        """One setting on one reel, from what is kept where it is."""
        from eager_kestrel.files.documents import write_text
        from eager_kestrel.media.trial_encode import Scores, Seen, compare, encode

        source = self.source(reel)
        every = round(self.clip.frame_rate / setting.frame_rate)
        out, kept = self.path(setting, reel), self._kept(setting, reel)
        if not out.exists():
            encode(source, setting, every, out, self._stopped)
            kept.unlink(missing_ok=True)
        if not kept.exists():
            seen = Seen(every, screen_of(self.clip.resolution), self.measures)
            found = compare(source, out, setting, seen, self._stopped)
            write_text(kept, json.dumps(asdict(found)))
        return Scores(**json.loads(kept.read_text()))

    def score(self, setting: EncodeSetting) -> Scored:
        """What came of a setting over the reels that are complete."""
        scores = [self._scores[setting, reel] for reel in range(self.complete)]

        def mean(key: str) -> float | None:
            values = [getattr(s, key) for s in scores]
            return None if None in values else float(np.mean(values))

        xpsnr, ssim, vmaf = (mean(key) for key in ("xpsnr_db", "ssim", "vmaf"))
        return Scored(mean("kbps") or 0.0, xpsnr, ssim, vmaf, look_of(xpsnr, ssim, vmaf))


def look(scores: Scores) -> float:
    """How one encode looks, smoothness aside."""
    return look_of(scores.xpsnr_db, scores.ssim, scores.vmaf)


def _words(setting: EncodeSetting) -> str:
    return f"{resolution_at(setting.resolution, setting.frame_rate)}, {setting.kbps:,.0f} kbit/s"


LOOK_AT_START, LOOK_PER_XPSNR, LOOK_PER_SSIM = -6.47, 0.126, 0.251
"""A look from XPSNR in dB and SSIM in dB, logistic: fitted to VMAF of 96 encodes; docs/trial.md."""


def look_of(xpsnr_db: float | None, ssim: float | None, vmaf: float | None = None) -> float:
    """0..1 by VMAF; where no program has it, as it would say, from the two that need none."""
    if vmaf is not None:
        return min(1.0, vmaf / 100)
    assert xpsnr_db is not None
    assert ssim is not None
    ssim_db = -10 * np.log10(max(1e-4, 1 - ssim))
    return float(
        1 / (1 + np.exp(-(LOOK_AT_START + LOOK_PER_XPSNR * xpsnr_db + LOOK_PER_SSIM * ssim_db)))
    )


def screen_of(resolution: Resolution) -> Resolution:
    """A resolution as it is seen on the screen most viewers have."""
    viewed = quality_table().viewed_on
    by = min(viewed.width / resolution.width, viewed.height / resolution.height)
    return Resolution(round(resolution.width * by / 2) * 2, round(resolution.height * by / 2) * 2)
