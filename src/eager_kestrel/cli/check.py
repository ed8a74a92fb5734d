"""``check``: check settings or a recording against guides and the upload."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, ClassVar

import typer

from eager_kestrel import read_plan
from eager_kestrel.actions import checking
from eager_kestrel.actions.export import settings_text, write_new
from eager_kestrel.actions.planning import uplink_for, uplink_from_history, uplink_from_number
from eager_kestrel.actions.rehearsing import destination_of
from eager_kestrel.actions.reporting import keep_findings
from eager_kestrel.actions.shows import ShowOptions, asked_show, show_here
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.options import (
    Everything,
    Figure,
    GuideFolder,
    OutputFlags,
    Reserves,
    Share,
    complete_platform,
    complete_show,
    grouped,
    single,
)
from eager_kestrel.cli.terminal import reading, warn
from eager_kestrel.core.checks.findings import Findings
from eager_kestrel.core.connection.uplink import Uplink
from eager_kestrel.core.errors import InputError, UnitError
from eager_kestrel.core.settings.recording import RECORDING_KINDS
from eager_kestrel.core.show.show import Show
from eager_kestrel.core.units import Bitrate, parse_seconds

HISTORY = "measured"


@dataclass(frozen=True, slots=True)
class SettingFlags:
    """What is set."""

    HEADING: ClassVar = "Settings"

    codec: Annotated[str | None, typer.Option(metavar="NAME", help="h264, hevc or av1.")] = None
    resolution: Annotated[str | None, typer.Option(metavar="WIDTHxHEIGHT")] = None
    fps: Annotated[str | None, typer.Option(metavar="RATE", help="Frames a second sent.")] = None
    source_fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="Frames a second of the source.")
    ] = None
    bitrate: Annotated[str | None, typer.Option(metavar="RATE", help="Of the video.")] = None
    peak: Annotated[
        str | None, typer.Option(metavar="RATE", help="The most of variable bitrate.")
    ] = None
    rate_control: Annotated[
        str | None, typer.Option(metavar="KIND", help="constant or variable.")
    ] = None
    buffer: Annotated[
        str | None, typer.Option(metavar="SIZE", help='Of the encoder: "6000 kbit".')
    ] = None
    keyframes: Annotated[
        str | None, typer.Option(metavar="INTERVAL", help='"2 s", "120 frames" or "auto".')
    ] = None
    profile: Annotated[str | None, typer.Option(metavar="NAME")] = None
    level: Annotated[str | None, typer.Option(metavar="LEVEL")] = None
    b_frames: Annotated[
        int | None, typer.Option(metavar="N", help="Maximum consecutive B-frames.")
    ] = None
    audio_codec: Annotated[str | None, typer.Option(metavar="NAME")] = None
    audio_bitrate: Annotated[str | None, typer.Option(metavar="RATE")] = None
    audio_rate: Annotated[int | None, typer.Option(metavar="HZ", help="Samples a second.")] = None
    channels: Annotated[int | None, typer.Option(metavar="N")] = None
    transport: Annotated[
        str | None, typer.Option(metavar="NAME", help="rtmp, rtmps, hls or srt.")
    ] = None

    @property
    def given(self) -> bool:
        """Whether any was."""
        return self != SettingFlags()

    def document(self) -> dict[str, Any]:
        """As in a settings file; None where nothing was said."""
        return {
            "transport": self.transport,
            "source_fps": self.source_fps,
            "video": {
                "codec": self.codec,
                "resolution": self.resolution,
                "frame_rate": self.fps,
                "bitrate": self.bitrate,
                "peak": self.peak,
                "rate_control": self.rate_control,
                "buffer_kbit": _kbit(self.buffer),
                "keyframes": self.keyframes,
                "profile": self.profile,
                "level": self.level,
                "b_frames": self.b_frames,
            },
            "audio": {
                "codec": self.audio_codec,
                "bitrate": self.audio_bitrate,
                "sample_rate_hz": self.audio_rate,
                "channels": self.channels,
            },
        }


@dataclass(frozen=True, slots=True)
class BudgetFlags:
    """The upload everything has to fit."""

    HEADING: ClassVar = "The upload"

    upload: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Your upload: "12 Mbit/s", or "measured" for your runs.'),
    ] = None
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="A show file: platforms, share, reserves; default: show.toml here.",
        ),
    ] = None
    share: Share = None
    reserve: Reserves = None

    def asked(self, platforms: list[str] | None) -> Show | None:
        """The show that is meant; None if no platform is given, nor by a show of this folder."""
        if not platforms and self.show is None and show_here() is None:
            return None
        options = ShowOptions(
            platforms=tuple(platforms or ()), share=self.share, reserves=tuple(self.reserve or ())
        )
        asked = asked_show(self.show, options)
        if asked.note is not None:
            warn(asked.note)
        return asked.show

    def uplink(self, show: Show | None) -> Uplink | None:
        """The uplink that is meant, at the hour of the show; None if none was named."""
        if self.upload is None:
            return None
        if self.upload != HISTORY:
            return uplink_from_number(self.upload)
        return uplink_from_history() if show is None else uplink_for(show)[0]


@dataclass(frozen=True, slots=True)
class RecordingFlags:
    """How to look at a recording."""

    HEADING: ClassVar = "Of a recording"

    deep: Annotated[bool, typer.Option("--deep", help="Decode every frame of it.")] = False
    window: Annotated[
        str | None,
        typer.Option(metavar="TIME", help="Over which its highest bitrate is taken."),
    ] = None
    plan: Annotated[
        str | None,
        typer.Option(metavar="PLAN", help='Compare it with this plan: a JSON file, or "latest".'),
    ] = None
    settings_out: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write what it was made with, as a settings file."),
    ] = None
    figure: Figure = None


@grouped
def check(
    settings: Annotated[
        Path | None,
        typer.Argument(metavar="FILE", help="TOML or JSON settings, a plan, or a recording."),
    ] = None,
    platforms: Annotated[
        list[str] | None,
        typer.Option(
            "--for",
            metavar="PLATFORM[:TIER]",
            autocompletion=complete_platform,
            help="A guide to check against; repeat for several.",
        ),
    ] = None,
    tonight: Annotated[
        bool,
        typer.Option(
            "--tonight", help="Does the latest plan fit the newest measurements at its hour?"
        ),
    ] = False,
    _guides: GuideFolder = None,
    everything: Everything = False,
    flags: SettingFlags = SettingFlags(),
    upload: BudgetFlags = BudgetFlags(),
    recording: RecordingFlags = RecordingFlags(),
    output: OutputFlags = OutputFlags(),
) -> None:
    """Check settings or a recording against guides and your upload."""
    output.require()
    if tonight:
        if settings is not None or platforms or flags.given or upload != BudgetFlags():
            raise InputError("--tonight takes the latest plan as it is", "leave the rest out")
        held = checking.check_tonight()
        deliver(held, output)
        raise typer.Exit(0 if held.fits else 1)
    if settings is not None and settings.suffix.lower() in RECORDING_KINDS:
        if flags.given:
            raise InputError("a recording says what is in it", "leave the settings out")
        found = _recording(settings, platforms, upload, recording, quiet=output.json)
    else:
        if recording != RecordingFlags():
            raise InputError("those options go with a recording", "give one, or leave them out")
        show = upload.asked(platforms)
        if show is None:
            raise InputError(
                "no guide to check against, and there is no show.toml here",
                "give --for PLATFORM or --show SHOW",
            )
        found = checking.check_show(settings, flags.document(), show, upload.uplink(show))
    keep_findings(found)
    deliver(found, output, everything=everything)
    raise typer.Exit(1 if found.breaches else 0)


def _recording(
    file: Path,
    platforms: list[str] | None,
    upload: BudgetFlags,
    recording: RecordingFlags,
    *,
    quiet: bool,
) -> Findings:
    """Check a recording; draw it and write its settings if asked."""
    if recording.settings_out is not None:
        write_new(recording.settings_out, settings_text(checking.settings_of_recording(file)))
        warn(f"wrote {recording.settings_out}; eager-kestrel check reads it")
    show = upload.asked(platforms)
    names = [destination.name for destination in show.destinations] if show is not None else []
    window = (
        checking.WINDOW_SECONDS if recording.window is None else parse_seconds(recording.window)
    )
    planned = None
    if recording.plan is not None:
        planned = destination_of(read_plan(recording.plan), names[0] if names else None)
    with reading(quiet=quiet) as told:
        found = checking.check_recording(
            file,
            names,
            show,
            upload.uplink(show),
            checking.RecordingOptions(planned, recording.deep, window),
            told,
        )
    assert found.recording is not None
    if recording.figure is not None:
        from eager_kestrel.report.broadcast_figures import save_recording_figure

        most = checking.max_kbps(names, found.recording)
        save_recording_figure(found.recording, recording.figure, most)
    return found


def _kbit(written: str | None) -> float | None:
    """A buffer size in kbit."""
    if written is None:
        return None
    plain = written.strip()
    if not plain.lower().endswith(("bit", "bits")):
        raise UnitError(f'"{written}" is not a buffer size', 'write "6,000 kbit"')
    return Bitrate.parse(f"{plain.removesuffix('s')}/s").kbps


app = single("check", check)
