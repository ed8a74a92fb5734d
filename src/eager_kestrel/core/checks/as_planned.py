"""Is what was recorded, or is being sent, what was planned?"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.checks.findings import Finding, Severity
from eager_kestrel.core.words.numbers import kbit

if TYPE_CHECKING:
    from eager_kestrel.core.checks.recording import Recording
    from eager_kestrel.core.plan.plan import AudioSettings, DestinationPlan, VideoSettings

PLAN = "plan"
"""Stands for the guide in a finding."""
MORE, LESS = 1.05, 0.85
"""An average over the plan by more is not the plan; one under it by more leaves quality unused."""
PEAK = 1.10
"""Of two seconds over the plan's most."""
INTERVAL = 0.05
"""Relative, of a keyframe interval."""
AUDIO = 0.15
"""Relative: encoders of audio vary."""
LEAST_SECONDS = 8.0
"""A shorter recording says nothing of averages."""


def against_plan(recording: Recording, planned: DestinationPlan) -> list[Finding]:
    """Hold a recording against a destination of a plan.

    Args:
        recording: as it was found.
        planned: with settings.
    """
    if planned.video is None or planned.audio is None:
        return []
    found = [*_of_video(recording, planned.video), *_of_audio(recording, planned.audio)]
    return [one.model_copy(update={"standing": planned.name}) for one in found]


def _plan_finding(rule: str, severity: Severity, found: object, wanted: object, do: str) -> Finding:
    fine = severity == "fine"
    return Finding(platform=PLAN, rule=rule, severity=severity, found=str(found),
                   wanted=str(wanted), do="" if fine else do)  # fmt: skip


def _same(
    rule: str, found: object, wanted: object, do: str, *, worse: Severity = "breach"
) -> Finding:
    return _plan_finding(rule, "fine" if found == wanted else worse, found, wanted, do)


def _of_video(recording: Recording, planned: VideoSettings) -> Iterator[Finding]:
    seen = recording.video
    yield _same("picture", str(seen.picture), str(planned.picture),
                f"set {planned.picture}")  # fmt: skip
    yield _same("frame rate", _rate(seen.frame_rate), _rate(planned.frame_rate),
                f"set {_rate(planned.frame_rate)}")  # fmt: skip
    yield _same("codec", seen.codec, planned.codec, f"set {planned.codec}")
    if seen.profile is not None:
        yield _same("profile", seen.profile, planned.profile, f"set {planned.profile}",
                    worse="caution")  # fmt: skip
    most: Severity = "breach" if seen.b_frames > planned.b_frames else "fine"
    yield _plan_finding("b_frames", most, f"{seen.b_frames} in a row", f"{planned.b_frames} at most",
                   f"set {planned.b_frames}")  # fmt: skip
    apart = seen.keyframes.typical_seconds
    if apart is not None:
        off = abs(apart - planned.keyframe_seconds) > INTERVAL * planned.keyframe_seconds
        off = off or not seen.keyframes.regular
        said = f"{apart:g} s" if seen.keyframes.regular else f"{apart:g} s, not regularly"
        yield _plan_finding(
            "keyframes", "breach" if off else "fine", said, f"{planned.keyframe_seconds:g} s",
            f"set {planned.keyframe_seconds:g} s = {planned.keyframe_frames} frames, and keyframes "
            "at scene cuts off",
        )  # fmt: skip
    yield from _of_bitrate(recording, planned)


def _of_bitrate(recording: Recording, planned: VideoSettings) -> Iterator[Finding]:
    seen = recording.video
    if recording.seconds < LEAST_SECONDS:
        return
    average, wanted = seen.average_kbps, planned.bitrate_kbps
    state: Severity = "fine"
    if average > MORE * planned.most_kbps:
        state = "breach"
    elif average < LESS * wanted:
        state = "caution"
    do = f"set {kbit(wanted)}"
    if state == "caution":
        do += ", or leave it: still scenes need less where nothing fills them up"
    yield _plan_finding("bitrate", state, kbit(average), kbit(wanted), do)
    high = seen.peak_2s_kbps > PEAK * planned.most_kbps
    yield _plan_finding(
        "peak over two seconds", "breach" if high else "fine", kbit(seen.peak_2s_kbps),
        f"{kbit(planned.most_kbps)} and a tenth at most",
        f"set a buffer of {planned.buffer_kbit:,.0f} kbit",
    )  # fmt: skip


def _of_audio(recording: Recording, planned: AudioSettings) -> Iterator[Finding]:
    seen = recording.audio
    if seen is None:
        yield _plan_finding("audio", "breach", "none", planned.codec, "send audio")
        return
    yield _same("audio codec", seen.codec, planned.codec, f"set {planned.codec}")
    off = abs(seen.average_kbps / planned.bitrate_kbps - 1) > AUDIO
    if recording.seconds >= LEAST_SECONDS:
        yield _plan_finding("audio bitrate", "caution" if off else "fine", kbit(seen.average_kbps),
                       kbit(planned.bitrate_kbps), f"set {kbit(planned.bitrate_kbps)}")  # fmt: skip
    yield _same("sample rate", f"{seen.sample_rate_hz:,} Hz", f"{planned.sample_rate_hz:,} Hz",
                f"set {planned.sample_rate_hz:,} Hz", worse="caution")  # fmt: skip
    yield _same("channels", seen.channels, planned.channels, f"set {planned.channels}",
                worse="caution")  # fmt: skip


def _rate(rate: Fraction) -> str:
    """``29.97``."""
    return f"{float(rate):.4g}"
