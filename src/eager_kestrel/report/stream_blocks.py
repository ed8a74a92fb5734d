"""Findings, recordings, rehearsals, broadcasts, encoders and trials as blocks."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping
from pathlib import PurePath
from typing import TYPE_CHECKING

from eager_kestrel.core.codecs import CODEC_NAMES
from eager_kestrel.core.footage import QUICK_SECONDS
from eager_kestrel.core.resolution import frame_rate_text, resolution_at
from eager_kestrel.core.words import (
    broadcasts as words,
    runs as run_words,
    settings as setting_words,
)
from eager_kestrel.core.words.numbers import counted, looks
from eager_kestrel.report import blocks
from eager_kestrel.report.connection_blocks import moment
from eager_kestrel.report.plan_blocks import CHANNELS, plan_blocks

if TYPE_CHECKING:
    from eager_kestrel.core.checks.findings import (
        Findings,
        ReceivedList,
        ReceivedStream,
        TonightCheck,
    )
    from eager_kestrel.core.checks.rehearsal import Rehearsal, Rehearsals
    from eager_kestrel.core.connection.broadcast import Broadcast
    from eager_kestrel.core.plan.trial_report import TrialReport
    from eager_kestrel.core.settings.recording import AudioSeen, Recording, VideoSeen
    from eager_kestrel.core.show.machine import MeasuredMachine
    from eager_kestrel.core.watching.review import Review

MARKS: dict[str, tuple[str, blocks.State]] = {
    "breach": ("✗", "bad"),
    "caution": ("!", "mind"),
    "fine": ("✓", "good"),
}


def findings_blocks(found: Findings, *, everything: bool = False) -> Iterator[blocks.Block]:
    """The recording, if one was checked; what to set; what is wrong, breaches first."""
    if found.recording is not None:
        yield recording_rows(found.recording)
    for one in found.advice:
        if one.changes:
            rows = [setting_words.on_a_card(key, text) for key, text in one.changes.items()]
            title = setting_words.set_for(" and ".join(one.platforms))
            yield blocks.Rows(blocks.named(rows), title=title, state="good")
    said = {key for one in found.advice for key in one.changes}
    shown = [f for f in found.findings if everything or f.severity != "fine"]
    wrong = tuple(
        (
            blocks.Styled(*MARKS[f.severity]),
            f.label,
            _rule(f.rule),
            f.found,
            f.wanted,
            "" if said & {*f.fields} else f.what_to_do,
        )
        for f in sorted(shown, key=lambda f: [*MARKS].index(f.severity))
    )
    if wrong:
        yield blocks.Table(("", "guide", "rule", "found", "wanted", "what to do"), wrong)
    counts = {s: sum(f.severity == s for f in found.findings) for s in MARKS}
    hold = "1 rule holds" if counts["fine"] == 1 else f"{counts['fine']} rules hold"
    breaches = counted(counts["breach"], "breach", "breaches")
    yield blocks.Note(f"{breaches}, {counted(counts['caution'], 'caution')}, {hold}")
    if found.recording is not None and PurePath(found.recording.name).suffix:
        yield from _offered(found.recording, found.recording.name)


def _offered(recording: Recording, file: str) -> Iterator[blocks.Block]:
    """To plan by what a recording shows, if it is long enough for that."""
    if recording.seconds >= QUICK_SECONDS:
        yield blocks.Note(words.plan_by_it(shlex.quote(file)))


def _rule(rule: str) -> str:
    """A guide's key as words: ``video.rate_control`` is rate control."""
    section, dot, key = rule.partition(".")
    plain = key if dot and section in ("video", "delivery") else rule
    return plain.replace("b_frames", "B-frames").replace("_", " ").replace(".", " ")


def recording_rows(seen: Recording) -> blocks.Rows:
    """What a recording, or a stream that arrived, turned out to be."""
    rows = [*_video_rows(seen.video), ("audio", _audio_words(seen.audio))]
    if seen.decoded is not None:
        found = seen.decoded
        types = f"{found.i_frames:,} I, {found.p_frames:,} P, {found.b_frames:,} B"
        rows.append(("decoded", f"{found.frames:,} frames ({types}), {found.damaged:,} damaged"))
    title = f"{seen.name}, {seen.container}, {seen.seconds:,.1f} s"
    return blocks.Rows(blocks.named(rows), title=title, state="name")


def _video_rows(video: VideoSeen) -> Iterator[tuple[str, str]]:
    keys = video.keyframes
    spacing = "only one" if keys.typical_seconds is None else f"every {keys.typical_seconds:.4g} s"
    if keys.longest_seconds is not None and not keys.regular:
        spacing += f", {keys.shortest_seconds:.4g} to {keys.longest_seconds:.4g} s apart"
    colour = [part for part in (video.pixel_format, video.colour, video.colour_range) if part]
    fps = f"{frame_rate_text(video.frame_rate)} fps"
    form = f"{video.profile or '?'}, level {video.level or '?'}, {video.b_frames} B-frames"
    yield "resolution", f"{video.resolution}, {video.shape}"
    yield "frame rate", f"{fps}, {video.regular_share:.1%} of frames on time"
    yield "video bitrate", f"{video.average_kbps:,.0f} kbit/s on average, {video.rate_control}"
    yield (
        "peaks",
        f"{video.peak_1s_kbps:,.0f} over 1 s, {video.peak_2s_kbps:,.0f} over 2 s; the "
        f"lowest 2 s {video.lowest_2s_kbps:,.0f} kbit/s",
    )
    yield "keyframes", f"{spacing} ({keys.count})"
    yield "buffer", f"needs {video.buffer_needed_kbit:,.0f} kbit"
    yield "codec", f"{CODEC_NAMES.get(video.codec, video.codec)} {form}"
    yield "colour", ", ".join(colour) or "not stated"


def _audio_words(audio: AudioSeen | None) -> str:
    if audio is None:
        return "none"
    channels = CHANNELS.get(audio.channels, f"{audio.channels} channels")
    codec = f"{CODEC_NAMES.get(audio.codec, audio.codec)} {audio.average_kbps:,.0f} kbit/s"
    hertz = f"{audio.sample_rate_hz / 1000:g} kHz"
    where = "ahead of" if audio.offset_ms < 0 else "behind"
    return f"{codec}, {hertz}, {channels}, {abs(audio.offset_ms):.0f} ms {where} video"


def received_blocks(found: ReceivedList, *, everything: bool = False) -> Iterator[blocks.Block]:
    """Every stream that came."""
    for one in found.streams:
        yield from _received(one, everything=everything)


def _received(one: ReceivedStream, *, everything: bool) -> Iterator[blocks.Block]:
    if one.findings is None or one.findings.recording is None:
        yield blocks.Note(f"stream {one.number}: {one.ended}; fewer than two frames arrived")
        return
    yield from findings_blocks(one.findings, everything=everything)
    where = f"; kept in {one.file}" if one.file is not None else ""
    if one.file is not None:
        yield from _offered(one.findings.recording, one.file)
    if one.file_error is not None:
        where = f"; not all of it was kept: {one.file_error}"
    latest = f"{one.worst_delay_seconds:.2f} s"
    late = f"the latest frame came {latest} late"
    if one.late_frames:
        late = f"{counted(one.late_frames, 'frame')} came late, the latest by {latest}"
    if one.skipped:
        late += f"; {counted(one.skipped, 'message')} of audio or video not understood"
    ended = "It ended" if one.ended == "ended" else f"It ended: {one.ended}"
    yield blocks.Note(f"{ended}; {late}{where}", "dim")


def rehearsals_blocks(found: Rehearsals) -> Iterator[blocks.Block]:
    """Every rehearsal, then the verdict on all of them."""
    for one in found.rehearsals:
        yield rehearsal_rows(one)
    if found.together:
        names = [one.platform for one in found.rehearsals]
        failed = [one.platform for one in found.rehearsals if not one.verdict.held]
        yield blocks.Note(run_words.all_together(names, failed), "strong")
    elif found.settled is not None and len(found.rehearsals) > 1:
        destination = next(
            d for d in found.settled.destinations if d.platform == found.best.platform
        )
        assert destination.video is not None
        yield blocks.Note(run_words.settled(destination.video.text, destination.total_kbps))


def rehearsal_rows(one: Rehearsal) -> blocks.Rows:
    """The verdict on top, what was noted under it."""
    good, trips = one.verdict.held, "-"
    if one.round_trip_ms is not None and one.round_trip_ms_worst is not None:
        trips = f"{one.round_trip_ms:.0f} ms, at worst {one.round_trip_ms_worst:.0f} ms"
    lost = f", {one.lost_frames:,} lost" if one.lost_frames else ""
    queued = f"at most {one.worst_queue_seconds:.2f} s queued"
    slow = f"{one.encode_ms_slowest:.1f} ms for the slowest in a hundred"
    rows = [
        (
            "verdict",
            run_words.verdict(one.verdict.text, one.verdict.limited_by, held=good),
        ),
        ("sent", one.planned),
        ("frames", f"{one.frames:,}, {one.late_frames:,} late{lost}; {queued}"),
        ("stutter", run_words.stutters_said([s.lasted_seconds for s in one.stutters])),
        ("delivered", f"{one.delivered_kbps:,.0f} of {one.total_kbps:,.0f} kbit/s"),
        ("encoder", f"{one.encode_ms_typical:.1f} ms a frame, {slow}"),
        ("round trips", trips),
    ]
    if one.reconnects:
        rows.append(("reconnected", counted(one.reconnects, "time")))
    rows += [("went over", run_words.went_over(url, at)) for at, url in one.went_over]
    if one.verdict.fallback is not None:
        fallback = run_words.fallback_said(one.verdict.fallback + 1, one.fallback)
        rows.append(("would hold", fallback))
    state: blocks.State = "good" if good else "bad"
    title = f"Rehearsal of {one.platform}, {one.seconds:.0f} s, to {one.server}"
    return blocks.Rows(blocks.named(rows, state), title=title, state=state)


def broadcast_blocks(
    broadcast: Broadcast, at: Mapping[float, str] | None = None
) -> Iterator[blocks.Block]:
    """What was carried, and each trouble with its time and cause.

    Args:
        at: the time of day for each trouble's seconds; else the seconds are shown.
    """
    one, clocks = broadcast, at or {}
    rows: list[tuple[blocks.Cell, ...]] = [
        ("carried", words.for_how_long(one.lasted_seconds, one.typical_kbps, one.planned_kbps))
    ]
    if one.frames is not None:
        late = words.late_of(one.late_frames, one.frames, one.lost_frames)
        rows.append(("late frames", late))
    rows += [("planned", one.planned or "-"), ("ended", one.ended)]
    bad = any(trouble.late for trouble in one.troubles)
    title = f"Broadcast of {moment(one.taken_at)}, {words.seen_as(one.program, one.server)}"
    yield blocks.Rows(tuple(rows), title=title, state="bad" if bad else "good")
    troubles = tuple(
        tuple(
            blocks.Styled(text, "bad" if trouble.late else "")
            for text in (
                clocks.get(trouble.at_seconds, words.clock(trouble.at_seconds)),
                f"{trouble.lasted_seconds:.0f} s",
                words.CAUSES[trouble.cause],
                f"{trouble.worst_queue_seconds:.1f} s",
                trouble.text,
            )
        )
        for trouble in one.troubles
    )
    if troubles:
        yield blocks.Table(("at", ">lasted", "cause", ">queued", "what"), troubles)
    else:
        yield blocks.Note("Nothing went wrong.")
    for line in one.breaches:
        yield blocks.Note(line, mark="!")


def tonight_blocks(found: TonightCheck) -> Iterator[blocks.Block]:
    """One line."""
    yield blocks.Note(found.text, "good" if found.fits else "bad", mark="✓" if found.fits else "✗")


def review_blocks(found: Review) -> Iterator[blocks.Block]:
    """What to do next on top, then the broadcast and each trouble."""
    for number, line in enumerate(found.next_time):
        yield blocks.Note(line, "strong" if number == 0 else "")
    clocks = {one.trouble.at_seconds: one.at for one in found.incidents}
    yield from broadcast_blocks(found.broadcast, clocks)
    said = words.carried_share(found.carried_share, found.worst_queue_seconds)
    seen = run_words.stutters_said([s.lasted_seconds for s in found.stutters])
    yield blocks.Note(f"{seen[0].upper()}{seen[1:]}. {said}", "dim")
    for do in dict.fromkeys(one.what_to_do for one in found.incidents):
        causes = {
            words.CAUSES[one.trouble.cause] for one in found.incidents if one.what_to_do == do
        }
        yield blocks.Note(f"{', '.join(sorted(causes))}: {do}", "dim")


def machine_blocks(found: MeasuredMachine) -> Iterator[blocks.Block]:
    """A row for each preset, then what it means."""
    yield blocks.Heading(f"{found.name}, {found.cores} cores, {found.processor}")
    rows = tuple(
        (
            point.name,
            resolution_at(point.resolution, point.wanted),
            f"{int(point.fps):,}",
            f"{point.load:.0%}",
            blocks.Styled(use, "good" if use == words.USED else "" if point.holds else "bad"),
        )
        for point, use in zip(found.points, found.uses(), strict=True)
    )
    yield blocks.Table(("encoder", "resolution", ">fps", ">of its speed", "in a plan"), rows)
    for line in found.meanings():
        yield blocks.Note(line)


def trial_blocks(found: TrialReport) -> Iterator[blocks.Block]:
    """Every encode, what it teaches, and the plan that follows."""
    trial = found.trial
    said = ", ".join(
        f"{s.begin_seconds:g} s (SI {s.si:.0f}, TI {s.ti:.0f})" for s in trial.stretches
    )
    yield blocks.Heading(f"{trial.clip}, {trial.codec} {trial.preset}")
    yield blocks.Note(f"stretches at {said}; quality by {trial.metric}")
    rows = tuple(
        tuple(
            blocks.Styled(text, "strong" if point.on_hull else "")
            for text in (
                point.text,
                f"{point.kbps:,.0f}",
                f"{point.xpsnr_db:.1f}",
                f"{point.ssim:.4f}",
                "-" if point.vmaf is None else f"{point.vmaf:.1f}",
                f"{point.smoothness:.0%}",
                looks(point.look),
                "best" if point.on_hull else "",
            )
        )
        for point in trial.points
    )
    yield blocks.Table(
        ("encode", ">kbit/s", ">XPSNR", ">SSIM", ">VMAF", ">smooth", "quality", ""), rows
    )
    yield blocks.Note(words.SMOOTH, "dim")
    for line in trial.remarks:
        yield blocks.Note(line)
    if trial.footage.name != "unnamed":
        yield blocks.Note(f"kept: plan --footage {trial.footage.name}")
    for name in found.interpolated:
        yield blocks.Note(words.interpolated(name))
    if found.plan is not None:
        yield from plan_blocks(found.plan)
