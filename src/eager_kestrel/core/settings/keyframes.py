"""Keyframes: how far apart, in whole frames, and the segments that makes."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from math import ceil, floor
from typing import TYPE_CHECKING

from eager_kestrel.core.settings import setting
from eager_kestrel.core.settings.values import Interval, Settings

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.settings.recording import Recording

TOLERANCE_FRAMES = 0.5
"""A whole number of frames comes this close to a length of time."""
LATE_SECONDS = 0.5
"""Past what is allowed that a recording may end without another keyframe."""
SHORT_SECONDS = 0.05
"""So much sooner than allowed one may come, give or take the rounding of times."""
PLANNED_APART = 0.05
"""Relative, that an interval may differ from the plan's."""


def keyframe_seconds(guide: Guide) -> float:
    """The keyframe interval to send; for pieces (HLS), one that makes whole pieces."""
    rule = guide.video.keyframes
    chosen, pieces = rule.chosen_seconds, guide.segments
    if guide.transports[0] != "hls" or pieces is None or pieces.recommended is None:
        return chosen
    whole = pieces.recommended / ceil(pieces.recommended / chosen - 1e-9)
    free = rule.exact is None and rule.recommended is None
    return whole if free and whole >= (rule.min or 0.0) else chosen


def keyframe_frames(guide: Guide, rate: Fraction) -> int:
    """The interval in frames: rounded, but never past what the guide allows at most.

    Where it takes only one interval, that counts, even if its pieces are then a moment longer.
    """
    rule, frames = guide.video.keyframes, max(1, round(keyframe_seconds(guide) * rate))
    most = [rule.max] if rule.max is not None else []
    if guide.transports[0] == "hls" and guide.segments is not None and rule.exact is None:
        most.append(guide.segments.max)
    return max(1, min([frames, *(floor(seconds * rate) for seconds in most)]))


def _rule(found: setting.Held, guide: Guide) -> setting.Rules:
    """Of the keyframe interval, and of the pieces it makes; of a recording each interval."""
    interval, rate = found.settings.video.keyframes, found.settings.video.frame_rate
    rule = guide.video.keyframes
    if found.recording is not None:
        yield from _of_recording(found.recording, guide)
    if interval is None:
        return
    if interval.automatic:
        yield setting.held("video.keyframes", False, "automatic", rule.text())
        return
    if rate is None and interval.frames is not None:
        shown = f"{interval}, of any length"
        yield setting.held("video.keyframes", False, shown, rule.text(), worse="caution")
        return
    seconds = float(interval.seconds or Fraction(interval.frames or 0) / (rate or 1))
    slack = TOLERANCE_FRAMES / float(rate or 24) + 1e-9
    shown = f"{interval} = {seconds:.4g} s" if interval.frames is not None else f"{interval}"
    holds = (
        (rule.exact is None or abs(seconds - rule.exact) <= slack)
        and (rule.min is None or seconds >= rule.min - slack)
        and (rule.max is None or seconds <= rule.max + slack)
    )
    yield setting.held("video.keyframes", holds, shown, rule.text())
    if holds and rule.recommended is not None:
        near, wish = abs(seconds - rule.recommended) <= 2 * slack, f"{rule.recommended:g} s"
        yield setting.held("video.keyframes.recommended", near, shown, wish, worse="caution")
    yield from _segments(found.settings, guide, seconds, slack)


def _segments(settings: Settings, guide: Guide, seconds: float, slack: float) -> setting.Rules:
    """A piece begins with a keyframe, so the longest piece must hold a whole interval."""
    segments, shown = guide.segments, f"keyframes {seconds:.4g} s apart"
    if segments is None or settings.transport_for(guide) != "hls":
        return
    inevitable = slack if guide.video.keyframes.exact is not None else 1e-9
    fits = seconds <= segments.max + inevitable
    yield setting.held("segments.max", fits, shown, f"at most {segments.max:g} s")
    if segments.recommended is not None:
        parts = segments.recommended / seconds
        whole = abs(parts - round(parts)) * seconds <= 2 * slack and round(parts) >= 1
        wish = f"a whole part of {segments.recommended:g} s"
        yield setting.held("segments.recommended", whole, shown, wish, worse="caution")


def _of_recording(recording: Recording, guide: Guide) -> setting.Rules:
    rule, keys = guide.video.keyframes, recording.video.keyframes
    if keys.shortest_seconds is not None and rule.min is not None:
        yield setting.held(
            "video.keyframes shortest",
            keys.shortest_seconds >= rule.min - SHORT_SECONDS,
            f"{keys.shortest_seconds:g} s",
            f"at least {rule.min:g} s",
            do="switch keyframes at scene cuts off",
        )
    longest = rule.exact or rule.max
    waited = recording.seconds - (keys.at_seconds[-1] if keys.at_seconds else 0.0)
    if longest is not None and waited > longest + LATE_SECONDS:
        shown = f"no keyframe in {waited:.3g} s at the end"
        if keys.count == 1:
            shown = f"one keyframe in {waited:.3g} s"
        do = f"set {keyframe_seconds(guide):g} s"
        yield setting.held("video.keyframes longest", False, shown, rule.text(), do=do)


def _always(recording: Recording) -> setting.Rules:
    keys = recording.video.keyframes
    if keys.count > 2:
        yield setting.held(
            "keyframes regular",
            keys.regular,
            f"{keys.shortest_seconds:g} to {keys.longest_seconds:g} s",
            "the same all along",
            worse="caution",
            do="set a fixed interval, and none at scene cuts",
        )


def _as_planned(recording: Recording, planned: setting.PlanSettings) -> setting.Rules:
    keys, seconds = recording.video.keyframes, planned.video.keyframe_seconds
    apart = keys.typical_seconds
    if apart is not None:
        yield setting.held(
            "keyframes",
            keys.regular and abs(apart - seconds) <= PLANNED_APART * seconds,
            f"{apart:g} s" if keys.regular else f"{apart:g} s, not regularly",
            f"{seconds:g} s",
            do=f"set {seconds:g} s = {planned.video.keyframe_frames} frames, and keyframes at "
            "scene cuts off",
        )


RULED = setting.Because(
    "keyframes",
    "guide",
    "{platform:verb|want} them {rule}; {seconds:g} s x {fps:fps} fps = {frames:count|frame}",
)


SHORTER = setting.Because(
    "keyframes",
    "guide",
    "{platform:verb|want} them {rule}; at {fps:fps} fps {frames:count|frame}, since one more would "
    "last {longer:.4g} s",
)


def _reasons(why: setting.Why) -> Iterator[setting.Reason]:
    video = why.video
    shorter = video.keyframe_frames < round(video.keyframe_seconds * video.frame_rate)
    yield (SHORTER if shorter else RULED)(
        f"{video.keyframe_seconds:g} s",
        platform=why.guide.title,
        seconds=video.keyframe_seconds,
        fps=video.frame_rate,
        frames=video.keyframe_frames,
        rule=why.guide.video.keyframes.text(),
        longer=float((video.keyframe_frames + 1) / video.frame_rate),
    )


def _instead(settings: Settings, guides: setting.Guides, _: float) -> Settings:
    """The interval as it is where it is right, else the first of the guides' own that is."""
    own, rate = settings.video.keyframes, settings.video.frame_rate
    if own is None:
        return settings
    rules = [guide.video.keyframes for guide in guides]
    bounds = [s for r in rules for s in (r.exact, r.max, r.min) if s is not None]
    tried = [own, *(Interval(seconds=s) for s in (*map(keyframe_seconds, guides), *bounds))]
    if own.frames is not None and rate is not None:
        frames = [*(keyframe_frames(guide, rate) for guide in guides)]
        frames += [max(1, int(s * rate)) for s in bounds]
        tried = [own, *(Interval(frames=count) for count in frames)]

    def trouble(proposal: Settings) -> tuple[int, int]:
        results = [
            each.severity for guide in guides for each in _rule(setting.Held(proposal), guide)
        ]
        return results.count("breach"), results.count("caution")

    return min((settings.with_video(keyframes=each) for each in tried), key=trouble)


KEYFRAMES = setting.Setting(
    name="keyframes",
    term="keyframe interval",
    keys=("video.keyframes",),
    rules=(setting.Rule(_rule, ("video.keyframes", "video.frame_rate")),),
    always=_always,
    as_planned=_as_planned,
    reasons=_reasons,
    instead=_instead,
    follows=True,
)
