"""Measure this machine's encoders; plans use the result."""

from __future__ import annotations

import platform
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODECS, Codec
from eager_kestrel.core.errors import FormatError, InputError, nearest_name
from eager_kestrel.core.resolution import (
    Resolution,
    parse_frame_rate,
    resolution_at,
    with_frame_rate,
)
from eager_kestrel.core.show.machine import EncoderPoint, Endurance, Machine, MeasuredMachine
from eager_kestrel.core.words import broadcasts as words
from eager_kestrel.files.documents import read_machine, write_machine
from eager_kestrel.files.plans import latest_plan
from eager_kestrel.version import __version__

if TYPE_CHECKING:
    from eager_kestrel.media.encoders import Encoder, EncoderSetting, Frames

USUAL = (Resolution(1280, 720), Resolution(1920, 1080))
USUAL_RATE = Fraction(60)
POINT_SECONDS = 3.0
MOST_MINUTES = 60.0
LOOK_SECONDS = 1.0
ENDS_SHARE = 6
"""The first and the last sixth of a long look are held against each other."""
Tell = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class EncoderOptions:
    """What to measure, as written."""

    resolutions: tuple[str, ...] = ()
    """None: those of the latest plan, else 1280x720 and 1920x1080."""
    fps: str | None = None
    """None: that of the latest plan, else 60."""
    codecs: tuple[str, ...] = ()
    preset: str | None = None
    """Only this one, to answer a question; the figures are not kept."""
    minutes: float = 0.0
    """To go on with the slowest preset that holds, to see whether it slows down."""


def measure_encoders(
    wish: EncoderOptions = EncoderOptions(), tell: Tell = lambda _: None
) -> MeasuredMachine:
    """Measure every encoder that opens here and keep the figures.

    Stopped half way, what was measured before is kept as it was.

    Raises:
        InputError: something written cannot be read, or no encoder opens.
    """
    from eager_kestrel.media.encoders import cores, encoders

    codecs = _codecs(wish.codecs)
    if not 0 <= wish.minutes <= MOST_MINUTES:
        raise InputError(
            f"{wish.minutes:g} minutes is an invalid duration", f"give up to {MOST_MINUTES:g}"
        )
    resolutions, fps = _resolutions(wish)
    others = _others_share()
    found, missing = encoders(codecs)
    if not found:
        raise InputError(
            "no encoder for these codecs works on this machine", "name another with --codec"
        )
    if wish.preset is not None:
        found = [
            replace(encoder, presets=(wish.preset,))
            for encoder in found
            if wish.preset in encoder.presets
        ]
        if not found:
            raise InputError(
                f'no encoder of this machine has a preset "{wish.preset}"',
                "name one that eager-kestrel encoders lists",
            )
    points, kept = _points(found, resolutions, fps, tell)
    endurance = _endurance(kept, wish.minutes, tell) if wish.minutes else None
    measured = MeasuredMachine(
        version=__version__,
        taken_at=datetime.now().astimezone().isoformat(timespec="seconds"),
        name=platform.node() or "this machine",
        processor=platform.processor() or platform.machine(),
        cores=cores(),
        others_share=round(others, 3),
        points=tuple(points),
        not_here=len(missing),
        unusable=missing,
        endurance=endurance,
    )
    if wish.preset is None:
        write_machine(measured)
    return measured


def _codecs(written: Sequence[str]) -> tuple[Codec, ...]:
    for name in written:
        if name not in CODECS:
            raise InputError(f'no codec "{name}"', nearest_name(name, [*CODECS], ""))
    return tuple(codec for codec in CODECS if codec in written) or tuple(CODECS)


def _resolutions(wish: EncoderOptions) -> tuple[list[Resolution], Fraction]:
    """What to encode: named, planned, or usual; the smallest first."""
    plan = None
    try:
        plan = latest_plan()
    except FormatError:  # a damaged plan is no reason not to measure
        plan = None
    videos = [d.video for d in plan.destinations if d.video is not None] if plan else []
    written = [with_frame_rate(p) for p in wish.resolutions]
    resolutions = {Resolution.parse(size) for size, _ in written} or {v.resolution for v in videos}
    asked = [wish.fps] if wish.fps else [fps for _, fps in written if fps is not None]
    rates = [parse_frame_rate(fps) for fps in asked] or [v.frame_rate for v in videos]
    chosen = resolutions or set(USUAL)
    if any(p.width % 2 or p.height % 2 for p in chosen):
        raise InputError("a side is odd", "give even sides, such as 1280x720")
    return sorted(chosen, key=lambda p: p.pixels), max(rates, default=USUAL_RATE)


def _others_share() -> float:
    """What other programs take of all cores now, 0..1."""
    import psutil

    return float(psutil.cpu_percent(LOOK_SECONDS)) / 100


@dataclass(frozen=True, slots=True)
class _SlowestHeld:
    """The slowest that held on the largest resolution, to go on with."""

    setting: EncoderSetting
    frames: Frames
    load: float

    @property
    def rank(self) -> tuple[int, float]:
        """What it is compared by."""
        return (self.setting.resolution.pixels, self.load)


def _points(
    found: Sequence[Encoder], resolutions: Sequence[Resolution], fps: Fraction, tell: Tell
) -> tuple[list[EncoderPoint], _SlowestHeld | None]:
    """Every encoder at each preset, until it no longer holds."""
    from eager_kestrel.media.encoders import EncoderSetting, made_frames

    points, kept = [], None
    for resolution in resolutions:
        formats = {encoder.pixel_format for encoder in found}
        made = {layout: made_frames(resolution, layout) for layout in formats}
        for encoder in found:
            frames = made[encoder.pixel_format]
            for point in _speeds_of(encoder, resolution, fps, frames, tell):
                points.append(point)
                rank = (resolution.pixels, point.cores_share)
                if point.holds and (kept is None or rank > kept.rank):
                    setting = EncoderSetting(encoder, point.preset, resolution, fps)
                    kept = _SlowestHeld(setting, frames, point.cores_share)
    return points, kept


def _speeds_of(
    encoder: Encoder, resolution: Resolution, fps: Fraction, frames: Frames, tell: Tell
) -> Iterator[EncoderPoint]:
    """One encoder from its fastest preset to the first that does not hold."""
    from eager_kestrel.media.encoders import EncoderSetting, cores, pace

    for preset in encoder.presets:
        setting = EncoderSetting(encoder, preset, resolution, fps)
        tell(f"{setting.name}, {resolution_at(resolution, fps)}")
        try:
            seen = pace(setting, frames, POINT_SECONDS)
        except ValueError:  # it does not take such resolutions, or knows no such preset
            return
        point = EncoderPoint(
            encoder=encoder.name,
            codec=encoder.codec,
            preset=preset,
            resolution=resolution,
            wanted=fps,
            fps=round(seen.fps, 1),
            seconds=round(seen.seconds, 2),
            cores_share=round(seen.cpu_seconds_a_frame * float(fps) / cores(), 4),
        )
        yield point
        if not point.holds:
            return


def _endurance(kept: _SlowestHeld | None, minutes: float, tell: Tell) -> Endurance | None:
    """Go on for minutes with what just holds, to see whether the machine slows down."""
    from eager_kestrel.media.encoders import pace

    if kept is None:
        return None
    name = kept.setting.name

    def told(seconds: float, rate: float) -> None:
        tell(f"{name}, {seconds:.0f} of {60 * minutes:.0f} s, {rate:.0f} frames a second")

    seen = pace(kept.setting, kept.frames, 60 * minutes, told)
    part = max(1, len(seen.by_second) // ENDS_SHARE)
    ends = (seen.by_second[:part] or (seen.fps,), seen.by_second[-part:] or (seen.fps,))
    first, last = (sum(end) / len(end) for end in ends)
    return Endurance(name=name, minutes=minutes, first_fps=round(first, 1), last_fps=round(last, 1))


def this_machine() -> tuple[Machine | None, str | None]:
    """The machine a plan takes by itself, and what has to be said; None where none was measured.

    Raises:
        FormatError: the file of figures is damaged.
    """
    measured = read_machine()
    if measured is None:
        return None, None
    if measured.name != (platform.node() or "this machine"):
        return None, words.elsewhere(measured.name)
    return measured.machine(datetime.now().astimezone()), None
