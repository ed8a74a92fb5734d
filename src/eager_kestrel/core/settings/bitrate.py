"""Video bitrate: how much is sent a second, and how far that may stray.

The choice of resolution, frame rate and bitrate is one (:mod:`eager_kestrel.core.choice`): each
candidate gets the highest bitrate that budget, guide, level and viewers allow, up to the point from
which no loss is visible.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from math import inf
from typing import TYPE_CHECKING

import numpy as np

from eager_kestrel.core.choice.limits import rounded_down, viewers_kbps
from eager_kestrel.core.guide.rules import RowLimits
from eager_kestrel.core.overhead import overhead
from eager_kestrel.core.settings import setting
from eager_kestrel.core.settings.level import level_kbps
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import kbit
from eager_kestrel.core.words.plans import BitrateBound

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording
    from eager_kestrel.core.settings.values import Settings

FAR_FROM_RECOMMENDED = 0.25
MEASURED_SLACK = 0.02
"""An average this far past a limit is the limit, give or take a packet."""
BUFFER_SECONDS = 1.0
"""Of video, that an encoder may send at once."""
PEAK_SECONDS = 2.0
"""Over which peaks are taken."""
LESS = 0.85
"""An average under the plan by more leaves quality unused."""
LEAST_SECONDS = 8.0
"""A shorter recording says nothing of averages."""
A_MOMENT_KBPS = 1e-3


def limits_of(settings: Settings, guide: Guide) -> RowLimits:
    """Minimum and maximum of what is set; of an unknown resolution or rate the widest ones."""
    resolution, rate, rows = settings.video.resolution, settings.video.frame_rate, guide.bitrates
    sizes = [
        guide.video.max_resolution,
        *guide.video.resolutions,
        *(row.resolution for row in rows),
    ]
    rates = [*guide.video.taken_rates, *(row.frame_rate for row in rows)]
    table = guide.bitrate_table(settings.codec_for(guide), settings.transport_for(guide))
    limits = [
        guide.within_rules(table.limits(p, r))
        for p in (sizes if resolution is None else [resolution])
        for r in (rates if rate is None else [rate])
    ]
    if len(limits) == 1:
        return limits[0]
    lows = [each.min for each in limits]
    return RowLimits(
        min=None if None in lows else min(low for low in lows if low),
        max=max((each.max for each in limits if each.max), default=None),
    )


def sent_kbps(settings: Settings, guide: Guide) -> float | None:
    """Video, audio and transport overhead together; None when the bitrate is not known."""
    video, audio = settings.video, settings.audio
    if video.most is None:
        return None
    extra = overhead(
        settings.transport_for(guide),
        video.frame_rate or Fraction(60),
        audio.sample_rate_hz or 48_000,
    )
    return extra.total_kbps(video.most.kbps, audio.bitrate.kbps if audio.bitrate else 0.0)


def most_over(seconds: float, kbps: float, buffer_kbit: float) -> float:
    """The most in kbit/s that an encoder at a bitrate with a buffer sends over some time.

    A full buffer may go out at the beginning of that time, and is filled at the bitrate all along
    (ITU-T H.264, annex C).
    """
    return (kbps + buffer_kbit / max(seconds, BUFFER_SECONDS)) * (1 + MEASURED_SLACK)


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    """Minimum, maximum and recommended value; of a recording its peak; the slowest viewers."""
    settings, recording = found.settings, found.recording
    rate, target = settings.video.most, settings.video.bitrate or settings.video.most
    if rate is None or target is None:
        return
    limits = limits_of(settings, guide)
    highest = (limits.max or guide.video.max_bitrate).kbps
    most = highest
    if recording is not None:
        most = most_over(recording.seconds, highest, highest * BUFFER_SECONDS)
    yield setting.held(
        "video.max_bitrate", rate.kbps <= most, rate.in_kbps(), f"at most {kbit(highest)}"
    )
    if limits.min is not None:
        wanted = f"at least {limits.min.in_kbps()}"
        yield setting.held("video.min_bitrate", target >= limits.min, target.in_kbps(), wanted)
    if limits.recommended is not None:
        near = abs(target.kbps / limits.recommended.kbps - 1) <= FAR_FROM_RECOMMENDED
        wanted = f"about {limits.recommended.in_kbps()}"
        yield setting.held("bitrates.recommended", near, target.in_kbps(), wanted, worse="caution")
    if recording is not None:
        most = most_over(PEAK_SECONDS, highest, highest * BUFFER_SECONDS)
        yield setting.held(
            "peak over two seconds",
            recording.video.peak_2s_kbps <= most,
            kbit(recording.video.peak_2s_kbps),
            f"at most {kbit(most)} (the maximum and a buffer of one second)",
            do="set a buffer of one second and a lower peak",
        )
    yield from _viewers(settings, guide)


def _viewers(settings: Settings, guide: Guide) -> setting.Rules:
    """Video and audio against the slowest viewers."""
    slowest, video = guide.delivery.slowest_viewer, settings.video.most
    if slowest is None or video is None or guide.delivery.transcodes == "always":
        return
    audio = settings.audio.bitrate
    passed_on = video.kbps + (audio.kbps if audio else 0.0)
    yield setting.held(
        "delivery.slowest_viewer",
        passed_on <= slowest.kbps,
        f"video and audio {kbit(passed_on)}",
        f"at most {slowest.in_kbps()}, which viewers can take",
        worse="breach" if guide.delivery.transcodes == "never" else "caution",
    )


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    seen, video = recording.video, planned.video
    if recording.seconds < LEAST_SECONDS:
        return
    average, wanted = seen.average_kbps, video.bitrate_kbps
    state: setting.Severity = "fine"
    if average > most_over(recording.seconds, video.max_kbps, video.buffer_kbit):
        state = "breach"
    elif average < LESS * wanted:
        state = "caution"
    do = f"set {kbit(wanted)}"
    if state == "caution":
        do += ", or leave it: still scenes need less where nothing fills them up"
    yield setting.held("bitrate", state == "fine", kbit(average), kbit(wanted), worse=state, do=do)
    most = most_over(PEAK_SECONDS, video.max_kbps, video.buffer_kbit)
    yield setting.held(
        "peak over two seconds",
        seen.peak_2s_kbps <= most,
        kbit(seen.peak_2s_kbps),
        f"at most {kbit(most)} (the plan and its buffer)",
        do=f"set a buffer of {video.buffer_kbit:,.0f} kbit",
    )


TEXTS: dict[BitrateBound, str] = {
    "budget": "{of} leaves {budget_kbps:kbit} for video (safe rate {safe_kbps:kbit}{copies}, less "
    "headers and audio), rounded down",
    "guide": "{platform:verb|take} at most {max_kbps:kbit}; your upload has room for "
    "{budget_kbps:kbit}",
    "no visible gain": "at this resolution and frame rate {motion} motion shows no loss from "
    "{clean_kbps:kbit} up; more would be wasted",
    "viewers": "{platform} may pass on exactly what you send, and its slowest viewers have "
    "{viewers_kbps:kbit}",
    "level": "the highest level {platform:verb|take} allows {level_kbps:kbit}",
}
"""The bitrate is the lowest of five limits: which of them it is."""
BOUNDED = {limit: setting.Because("bitrate", limit, text) for limit, text in TEXTS.items()}


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    choice, best = why.choice, why.choice.best
    _, highest, level, _, clean = map(float, choice.with_room.limits_kbps[:, best])
    viewers = min(viewers_kbps(member, why.show) for member in choice.choices.members)
    copies = choice.choices.copies
    yield BOUNDED[choice.limit](
        kbit(float(choice.scored.target_kbps[best])),
        platform=why.guide.title,
        motion=why.show.motion,
        of="your data cap" if why.budget.capped else "your connection",
        copies="" if copies == 1 else f" for each of {copies} copies",
        safe_kbps=round(choice.offered_kbps / copies, 3),
        budget_kbps=choice.left_kbps,
        max_kbps=highest,
        clean_kbps=round(clean, 1),
        level_kbps=level,
        viewers_kbps=viewers if viewers < inf else 0.0,
    )


def _instead(settings: Settings, guides: setting.Guides, room_kbps: float) -> Settings:
    """The nearest bitrate between every minimum and every maximum, near what is recommended."""
    video = settings.video
    if video.most is None:
        return settings
    limits = [limits_of(settings, guide) for guide in guides]
    low = max([each.min.kbps for each in limits if each.min] or [0.0])
    high = min(
        *(each.max.kbps for each in limits if each.max),
        level_kbps(settings, guides),
        _room(settings, guides, room_kbps),
    )
    for each in limits:
        if each.recommended is not None:
            near = each.recommended.kbps
            lower, upper = (near * (1 + sign * FAR_FROM_RECOMMENDED) for sign in (-1, 1))
            if max(low, lower) <= min(high, upper):
                low, high = max(low, lower), min(high, upper)
    target = None if video.bitrate is None else _between(video.bitrate.kbps, low, high)
    peak = None if video.peak is None else _between(video.peak.kbps, low, high)
    if video.rate_control == "constant" or (peak is not None and peak == target):
        peak = None
    if target is None:
        target, peak = peak, None
    found = (None if kbps is None else max(kbps, A_MOMENT_KBPS) for kbps in (target, peak))
    rates = [None if kbps is None else Bitrate.from_kbps(kbps) for kbps in found]
    return settings.with_video(bitrate=rates[0], peak=rates[1])


def _between(kbps: float, low: float, high: float) -> float:
    """The nearest in range, in round figures where there is one."""
    if low <= kbps <= high:
        return kbps
    if kbps < low:
        return low
    rounded = float(rounded_down(np.array([high]))[0])
    return rounded if rounded >= max(low, A_MOMENT_KBPS) else high


def _room(settings: Settings, guides: setting.Guides, room_kbps: float) -> float:
    """What is left for video of all that may be sent, and of what viewers take."""
    audio = settings.audio.bitrate.kbps if settings.audio.bitrate else 0.0
    hz, rate = settings.audio.sample_rate_hz or 48_000, settings.video.frame_rate or Fraction(60)
    extra = [overhead(settings.transport_for(guide), rate, hz) for guide in guides]
    fixed, per_byte = sum(e.fixed_kbps for e in extra), sum(e.per_byte for e in extra)
    most = [(room_kbps - fixed) / per_byte - audio]
    for guide in guides:
        slowest = guide.delivery.slowest_viewer
        if slowest is not None and guide.delivery.transcodes != "always":
            most.append(slowest.kbps - audio)
    return min(most) - A_MOMENT_KBPS


BITRATE = setting.Setting(
    name="bitrate",
    keys=("video.max_bitrate", "video.min_bitrate", "bitrates"),
    rules=(setting.Rule(_rule),),
    as_planned=_as_planned,
    reasons=_reasons,
    instead=_instead,
    follows=True,
)
