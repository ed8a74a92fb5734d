"""A recording held against guides: the rules of any settings, and those only a stream can break."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from fractions import Fraction

from eager_kestrel.core.checks.recording import Recording, settings_seen
from eager_kestrel.core.checks.rules import Finding, Findings, Severity, check
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.units import Bitrate

MEASURED_SLACK = 0.02
"""An average this far past a limit is the limit, give or take a packet."""
PEAK_SLACK = 0.10
"""What platforms let pass for a second or two, in the general."""
REGULAR = 0.98
OFFSET_MS = 150.0
"""Ahead or behind by more than this is seen by everybody (ITU-R BT.1359 has 125 to 185 ms)."""
BUFFER_SECONDS = 2.0


def check_recording(
    recording: Recording,
    guides: Iterable[tuple[Guide, str | None]],
    safe_kbps: float | None = None,
) -> Findings:
    """Hold a recording against guides, and against the line when it is known.

    Raises:
        NotFoundError: a guide knows no such standing.
    """
    held = list(guides)
    found = [_measured(f, recording, held) for f in
             check(settings_seen(recording), held, safe_kbps).findings]  # fmt: skip
    for guide, standing in held:
        found += _of_stream(recording, guide.under(standing))
    found += _of_any(recording)
    return Findings(findings=tuple(found), recording=recording)


def _measured(
    finding: Finding, recording: Recording, guides: list[tuple[Guide, str | None]]
) -> Finding:
    """A limit missed by no more than a measurement's slack is met."""
    if finding.severity != "breach" or finding.rule not in ("video.ceiling", "audio.bitrate"):
        return finding
    guide = next(g.under(standing) for g, standing in guides if g.name == finding.platform)
    least, most = guide.audio.least.kbps, guide.audio.most.kbps
    kbps = recording.audio.average_kbps if recording.audio else 0.0
    if finding.rule == "video.ceiling":
        least, most, kbps = 0.0, _ceiling(recording, guide).kbps, recording.video.average_kbps
    if least * (1 - MEASURED_SLACK) <= kbps <= most * (1 + MEASURED_SLACK):
        return finding.model_copy(update={"severity": "fine", "do": ""})
    return finding


def _ceiling(recording: Recording, guide: Guide) -> Bitrate:
    seen = settings_seen(recording).video
    assert seen.picture is not None
    codec = seen.codec or guide.codec()
    limits = guide.limits(seen.picture, seen.frame_rate or Fraction(30), codec, guide.transports[0])
    return limits.ceiling or guide.video.ceiling


def _finding(
    platform: str, rule: str, severity: Severity, found: str, wanted: str, do: str
) -> Finding:
    return Finding(platform=platform, rule=rule, severity=severity, found=found, wanted=wanted,
                   do="" if severity == "fine" else do)  # fmt: skip


def _of_stream(recording: Recording, guide: Guide) -> Iterator[Finding]:
    """What only shows over time, and depends on the guide."""
    video = recording.video
    ceiling = _ceiling(recording, guide)
    peak = Bitrate.from_kbps(video.peak_2s_kbps)
    high = peak.kbps > ceiling.kbps * (1 + PEAK_SLACK)
    yield _finding(
        guide.name, "peak over two seconds", "breach" if high else "fine", peak.in_kbps(),
        f"at most {ceiling.in_kbps()} and a tenth", "set a buffer of one second and a lower peak",
    )  # fmt: skip
    rule = guide.video.keyframes
    keys = video.keyframes
    if keys.shortest_seconds is not None and rule.at_least is not None:
        short = keys.shortest_seconds < rule.at_least - 0.05
        yield _finding(
            guide.name, "video.keyframes shortest", "breach" if short else "fine",
            f"{keys.shortest_seconds:g} s", f"at least {rule.at_least:g} s",
            "switch keyframes at scene cuts off",
        )  # fmt: skip
    if recording.audio is None:
        yield _finding(guide.name, "audio", "breach", "none", guide.audio.codecs[0], "send audio")


def _of_any(recording: Recording) -> Iterator[Finding]:
    """What is unwise on any platform."""
    video = recording.video
    keys = video.keyframes
    if keys.count > 2:
        span = f"{keys.shortest_seconds:g} to {keys.longest_seconds:g} s"
        yield _finding(
            "any", "keyframes regular", "fine" if keys.regular else "caution", span,
            "the same all along", "set a fixed interval, and none at scene cuts",
        )  # fmt: skip
    due = video.regular_share
    yield _finding(
        "any", "frames when due", "fine" if due >= REGULAR else "caution", f"{due:.1%}",
        f"at least {REGULAR:.0%}", "look for frames the encoder drops",
    )  # fmt: skip
    if video.gaps:
        at, long = max(video.gaps, key=lambda gap: gap[1])
        said = f"{len(video.gaps)}, the longest {long:.2f} s at {at:.1f} s"
        yield _finding(
            "any", "gaps", "caution", said, "none", "look at the line or the encoder then"
        )
    seconds = video.buffer_needed_kbit / max(video.average_kbps, 1)
    yield _finding(
        "any", "buffer needed", "fine" if seconds <= BUFFER_SECONDS else "caution",
        f"{video.buffer_needed_kbit:,.0f} kbit = {seconds:.2g} s", f"at most {BUFFER_SECONDS:g} s",
        "set a smaller buffer, or constant bitrate",
    )  # fmt: skip
    if recording.audio is not None:
        offset = recording.audio.offset_ms
        yield _finding(
            "any", "audio offset", "fine" if abs(offset) <= OFFSET_MS else "caution",
            f"{offset:+.0f} ms", f"within {OFFSET_MS:g} ms", "delay the one that is early",
        )  # fmt: skip
    if recording.decoded is not None:
        damaged = recording.decoded.damaged
        yield _finding("any", "frames decoded", "breach" if damaged else "fine",
                       f"{recording.decoded.frames} decoded, {damaged} damaged", "none damaged",
                       "look for errors on the way")  # fmt: skip
