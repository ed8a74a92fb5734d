"""Check a recording against guides: the rules of settings, and those only a stream can break."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from fractions import Fraction
from typing import TYPE_CHECKING

from eager_kestrel.core.checks.findings import Findings
from eager_kestrel.core.checks.recording import AUDIO_CODECS, VIDEO_CODECS, settings_seen
from eager_kestrel.core.checks.stream import REGULAR
from eager_kestrel.core.plan.encoder_settings import BUFFER_SECONDS
from eager_kestrel.core.rules.advice import Advice, advise, with_advice
from eager_kestrel.core.rules.bitrate_rules import LONG_BUFFER_SECONDS
from eager_kestrel.core.rules.finding import Finding, Severity
from eager_kestrel.core.rules.guide_rules import against_guide, against_upload
from eager_kestrel.core.units import Bitrate
from eager_kestrel.core.words.numbers import counted, duration, kbit

if TYPE_CHECKING:
    from eager_kestrel.core.checks.recording import Recording, VideoSeen
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.plan.plan import AudioSettings, DestinationPlan, VideoSettings
    from eager_kestrel.core.rules.settings import Settings


MEASURED_SLACK = 0.02
"""An average this far past a limit is the limit, give or take a packet."""
PEAK_SECONDS = 2.0
"""Over which peaks are taken."""
LATE_KEYFRAME_SECONDS = 0.5
"""Past what is allowed that a recording may end without another keyframe."""
OFFSET_MS = 150.0
"""Ahead or behind by more than this is seen by everybody (ITU-R BT.1359 has 125 to 185 ms)."""


def check_recording(
    recording: Recording, guides: Sequence[Guide], safe_kbps: float | None = None
) -> Findings:
    """Hold a recording against guides, each with its tier applied, and against the connection."""
    settings = settings_seen(recording)
    found: list[Finding] = []
    for guide in guides:
        held = against_guide(settings, guide)
        found += [_measured(finding, recording, settings, guide) for finding in held]
    pairs = [(settings, guide) for guide in guides]
    found += against_upload(pairs, safe_kbps)
    advice: tuple[Advice, ...] = ()
    if any(finding.severity != "fine" for finding in found):
        advice = advise(pairs, safe_kbps)
        found = [*with_advice(found, advice)]
    for guide in guides:
        found += _of_stream(recording, settings, guide)
    found += _of_any(recording)
    return Findings(findings=tuple(found), advice=advice, recording=recording)


def _measured(finding: Finding, recording: Recording, settings: Settings, guide: Guide) -> Finding:
    """A limit missed by no more than a measurement's slack is met."""
    if finding.severity != "breach" or finding.rule not in ("video.ceiling", "audio.bitrate"):
        return finding
    least = guide.audio.least.kbps * (1 - MEASURED_SLACK)
    most = guide.audio.most.kbps * (1 + MEASURED_SLACK)
    kbps = recording.audio.average_kbps if recording.audio else 0.0
    if finding.rule == "video.ceiling":
        ceiling = _ceiling(settings, guide).kbps
        least, kbps = 0.0, recording.video.average_kbps
        most = most_over(recording.seconds, ceiling, ceiling * BUFFER_SECONDS)
    if least <= kbps <= most:
        return finding.model_copy(update={"severity": "fine", "do": ""})
    return finding


def most_over(seconds: float, kbps: float, buffer_kbit: float) -> float:
    """The most in kbit/s that an encoder at a bitrate with a buffer sends over some time.

    A full buffer may go out at the beginning of that time, and is filled at the bitrate all along
    (ITU-T H.264, annex C).
    """
    return (kbps + buffer_kbit / max(seconds, BUFFER_SECONDS)) * (1 + MEASURED_SLACK)


def _ceiling(settings: Settings, guide: Guide) -> Bitrate:
    seen = settings.video
    assert seen.resolution is not None
    codec = seen.codec or guide.codec()
    limits = guide.limits(
        seen.resolution, seen.frame_rate or Fraction(30), codec, guide.transports[0]
    )
    return limits.ceiling or guide.video.ceiling


def _finding(
    guide: Guide | None, rule: str, severity: Severity, found: str, wanted: str, do: str
) -> Finding:
    """Of a guide or, without one, of any platform."""
    return Finding(
        platform="any" if guide is None else guide.name,
        tier=None if guide is None else guide.tier,
        rule=rule,
        severity=severity,
        found=found,
        wanted=wanted,
        do="" if severity == "fine" else do,
    )


def _of_stream(recording: Recording, settings: Settings, guide: Guide) -> Iterator[Finding]:
    """What only shows over time, and depends on the guide."""
    video = recording.video
    ceiling = _ceiling(settings, guide)
    most = most_over(PEAK_SECONDS, ceiling.kbps, ceiling.kbps * BUFFER_SECONDS)
    yield _finding(
        guide,
        "peak over two seconds",
        "breach" if video.peak_2s_kbps > most else "fine",
        kbit(video.peak_2s_kbps),
        f"at most {kbit(most)} (the ceiling and a buffer of one second)",
        "set a buffer of one second and a lower peak",
    )
    rule = guide.video.keyframes
    keys = video.keyframes
    if keys.shortest_seconds is not None and rule.at_least is not None:
        short = keys.shortest_seconds < rule.at_least - 0.05
        yield _finding(
            guide,
            "video.keyframes shortest",
            "breach" if short else "fine",
            f"{keys.shortest_seconds:g} s",
            f"at least {rule.at_least:g} s",
            "switch keyframes at scene cuts off",
        )
    longest = rule.exactly or rule.at_most
    waited = recording.seconds - (keys.at_seconds[-1] if keys.at_seconds else 0.0)
    if longest is not None and waited > longest + LATE_KEYFRAME_SECONDS:
        said = "one keyframe" if keys.count == 1 else "no keyframe"
        since = "" if keys.count == 1 else " at the end"
        seen = f"{said} in {waited:.3g} s{since}"
        do = f"set {guide.keyframe_seconds:g} s"
        yield _finding(guide, "video.keyframes longest", "breach", seen, rule.words(), do)
    if video.codec not in VIDEO_CODECS:
        taken = guide.video.codecs
        yield _finding(
            guide, "video.codecs", "breach", video.codec, " or ".join(taken), f"set {taken[0]}"
        )
    sound, heard = guide.audio.codecs, recording.audio
    if heard is None:
        yield _finding(guide, "audio", "breach", "none", sound[0], "send audio")
    elif heard.codec not in AUDIO_CODECS:
        wanted = " or ".join(sound)
        yield _finding(guide, "audio.codecs", "breach", heard.codec, wanted, f"set {sound[0]}")


def _of_any(recording: Recording) -> Iterator[Finding]:
    """What is unwise on any platform."""
    yield from _regular(recording.video)
    yield from _steady(recording.video)
    if recording.audio is not None:
        offset = recording.audio.offset_ms
        yield _finding(
            None,
            "audio offset",
            "fine" if abs(offset) <= OFFSET_MS else "caution",
            f"{offset:+.0f} ms",
            f"within {OFFSET_MS:g} ms",
            "delay the one that is early",
        )
    if recording.decoded is not None:
        damaged = recording.decoded.damaged
        yield _finding(
            None,
            "frames decoded",
            "breach" if damaged else "fine",
            f"{recording.decoded.frames} decoded, {damaged} damaged",
            "none damaged",
            "look for errors on the way",
        )


def _regular(video: VideoSeen) -> Iterator[Finding]:
    """Keyframes and frames when they are due."""
    keys = video.keyframes
    if keys.count > 2:
        span = f"{keys.shortest_seconds:g} to {keys.longest_seconds:g} s"
        yield _finding(
            None,
            "keyframes regular",
            "fine" if keys.regular else "caution",
            span,
            "the same all along",
            "set a fixed interval, and none at scene cuts",
        )
    due = video.regular_share
    yield _finding(
        None,
        "frames when due",
        "fine" if due >= REGULAR else "caution",
        f"{due:.1%}",
        f"at least {REGULAR:.0%}",
        "set a constant frame rate, and look for frames that are left out",
    )
    if video.resolution_changes:
        (at, to), *more = video.resolution_changes
        others = f", and {counted(len(more), 'time')} more" if more else ""
        yield _finding(
            None,
            "resolution",
            "breach",
            f"changes from {video.resolution} to {to} at {at:.1f} s{others}",
            "the same all along",
            "set one resolution, and start a new stream for another",
        )


def _steady(video: VideoSeen) -> Iterator[Finding]:
    """Gaps, and the buffer that bursts call for."""
    if video.gaps:
        at, long = max(video.gaps, key=lambda gap: gap[1])
        said = f"{len(video.gaps)}, the longest {long:.2f} s at {at:.1f} s"
        yield _finding(
            None, "gaps", "caution", said, "none", "look at the connection or the encoder then"
        )
    if video.jumps:
        at, far = video.jumps[0]
        others = f", and {len(video.jumps) - 1} times more" if video.jumps[1:] else ""
        yield _finding(
            None,
            "timestamps",
            "breach",
            f"jump by {duration(far)} at {at:.1f} s{others}",
            "steady",
            "look at the program that sends: its clock jumps",
        )
    seconds = video.buffer_needed_kbit / max(video.average_kbps, 1)
    yield _finding(
        None,
        "buffer needed",
        "fine" if seconds <= LONG_BUFFER_SECONDS else "caution",
        f"{video.buffer_needed_kbit:,.0f} kbit = {seconds:.2g} s",
        f"at most {LONG_BUFFER_SECONDS:g} s",
        "set a smaller buffer, or constant bitrate",
    )


PLAN = "plan"
"""Stands for the guide in a finding."""
LESS = 0.85
"""An average under the plan by more leaves quality unused."""
INTERVAL = 0.05
"""Relative, of a keyframe interval."""
AUDIO = 0.15
"""Relative: encoders of audio vary."""
LEAST_SECONDS = 8.0
"""A shorter recording says nothing of averages."""


def against_plan(recording: Recording, planned: DestinationPlan) -> list[Finding]:
    """Hold a recording against a destination of a plan."""
    if planned.video is None or planned.audio is None:
        return []
    found = [*_of_video(recording, planned.video), *_of_audio(recording, planned.audio)]
    return [one.model_copy(update={"tier": planned.name}) for one in found]


def _plan_finding(rule: str, severity: Severity, found: object, wanted: object, do: str) -> Finding:
    fine = severity == "fine"
    return Finding(
        platform=PLAN,
        rule=rule,
        severity=severity,
        found=str(found),
        wanted=str(wanted),
        do="" if fine else do,
    )


def _same(
    rule: str, found: object, wanted: object, do: str, *, worse: Severity = "breach"
) -> Finding:
    return _plan_finding(rule, "fine" if found == wanted else worse, found, wanted, do)


def _of_video(recording: Recording, planned: VideoSettings) -> Iterator[Finding]:
    seen = recording.video
    yield _same(
        "resolution", str(seen.resolution), str(planned.resolution), f"set {planned.resolution}"
    )
    yield _same(
        "frame rate",
        _rate(seen.frame_rate),
        _rate(planned.frame_rate),
        f"set {_rate(planned.frame_rate)}",
    )
    yield _same("codec", seen.codec, planned.codec, f"set {planned.codec}")
    if seen.profile is not None:
        yield _same(
            "profile", seen.profile, planned.profile, f"set {planned.profile}", worse="caution"
        )
    most: Severity = "breach" if seen.b_frames > planned.b_frames else "fine"
    yield _plan_finding(
        "b_frames",
        most,
        f"{seen.b_frames} in a row",
        f"{planned.b_frames} at most",
        f"set {planned.b_frames}",
    )
    apart = seen.keyframes.typical_seconds
    if apart is not None:
        off = abs(apart - planned.keyframe_seconds) > INTERVAL * planned.keyframe_seconds
        off = off or not seen.keyframes.regular
        said = f"{apart:g} s" if seen.keyframes.regular else f"{apart:g} s, not regularly"
        yield _plan_finding(
            "keyframes",
            "breach" if off else "fine",
            said,
            f"{planned.keyframe_seconds:g} s",
            f"set {planned.keyframe_seconds:g} s = {planned.keyframe_frames} frames, and keyframes "
            "at scene cuts off",
        )
    yield from _of_bitrate(recording, planned)


def _of_bitrate(recording: Recording, planned: VideoSettings) -> Iterator[Finding]:
    seen = recording.video
    if recording.seconds < LEAST_SECONDS:
        return
    average, wanted = seen.average_kbps, planned.bitrate_kbps
    state: Severity = "fine"
    if average > most_over(recording.seconds, planned.most_kbps, planned.buffer_kbit):
        state = "breach"
    elif average < LESS * wanted:
        state = "caution"
    do = f"set {kbit(wanted)}"
    if state == "caution":
        do += ", or leave it: still scenes need less where nothing fills them up"
    yield _plan_finding("bitrate", state, kbit(average), kbit(wanted), do)
    most = most_over(PEAK_SECONDS, planned.most_kbps, planned.buffer_kbit)
    yield _plan_finding(
        "peak over two seconds",
        "breach" if seen.peak_2s_kbps > most else "fine",
        kbit(seen.peak_2s_kbps),
        f"at most {kbit(most)} (the plan and its buffer)",
        f"set a buffer of {planned.buffer_kbit:,.0f} kbit",
    )


def _of_audio(recording: Recording, planned: AudioSettings) -> Iterator[Finding]:
    seen = recording.audio
    if seen is None:
        yield _plan_finding("audio", "breach", "none", planned.codec, "send audio")
        return
    yield _same("audio codec", seen.codec, planned.codec, f"set {planned.codec}")
    off = abs(seen.average_kbps / planned.bitrate_kbps - 1) > AUDIO
    if recording.seconds >= LEAST_SECONDS:
        yield _plan_finding(
            "audio bitrate",
            "caution" if off else "fine",
            kbit(seen.average_kbps),
            kbit(planned.bitrate_kbps),
            f"set {kbit(planned.bitrate_kbps)}",
        )
    yield _same(
        "sample rate",
        f"{seen.sample_rate_hz:,} Hz",
        f"{planned.sample_rate_hz:,} Hz",
        f"set {planned.sample_rate_hz:,} Hz",
        worse="caution",
    )
    yield _same(
        "channels", seen.channels, planned.channels, f"set {planned.channels}", worse="caution"
    )


def _rate(rate: Fraction) -> str:
    """``29.97``."""
    return f"{float(rate):.4g}"
