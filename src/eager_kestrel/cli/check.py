"""``check``: do these settings, or does this recording, meet the guides."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from eager_kestrel.cli.options import (
    Everything,
    Figure,
    GuideFolder,
    Json,
    Reserves,
    Share,
    complete_platform,
    complete_show,
    grouped,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.checks.findings import Findings
    from eager_kestrel.core.connection.uplink import Uplink
    from eager_kestrel.core.show.show import Show

HISTORY = "measured"


@dataclass(frozen=True, slots=True)
class SettingFlags:
    """What is set, as said on the command line."""

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
    b_frames: Annotated[int | None, typer.Option(metavar="N", help="In a row.")] = None
    audio_codec: Annotated[str | None, typer.Option(metavar="NAME")] = None
    audio_bitrate: Annotated[str | None, typer.Option(metavar="RATE")] = None
    audio_rate: Annotated[int | None, typer.Option(metavar="HZ", help="Samples a second.")] = None
    channels: Annotated[int | None, typer.Option(metavar="N")] = None
    transport: Annotated[str | None, typer.Option(metavar="NAME", help="rtmp, rtmps, hls.")] = None

    @property
    def given(self) -> bool:
        """Whether any was."""
        return self != SettingFlags()

    def document(self) -> dict[str, Any]:
        """As in a settings file; None where nothing was said."""
        return {
            "transport": self.transport,
            "source_frame_rate": self.source_fps,
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
class ConnectionFlags:
    """The connection it has to fit, as said on the command line."""

    uplink: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Your upload: "12 Mbit/s", or "measured" for your runs.'),
    ] = None
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Take platforms, share and reserves from a show file.",
        ),
    ] = None
    share: Share = None
    reserve: Reserves = None

    def asked(self, platforms: list[str] | None) -> Show | None:
        """The show that is meant; None when nothing says where the stream goes."""
        from eager_kestrel.actions.shows import ShowOptions, asked_show

        if not platforms and self.show is None:
            return None
        wishes = ShowOptions(
            platforms=tuple(platforms or ()), share=self.share, reserves=tuple(self.reserve or ())
        )
        return asked_show(self.show, wishes).show

    def line(self, platforms: list[str] | None) -> Uplink | None:
        """The uplink that is meant, at the hour of the show; None when nothing was said."""
        from eager_kestrel.actions.planning import (
            uplink_for,
            uplink_from_history,
            uplink_from_number,
        )

        if self.uplink is None:
            return None
        if self.uplink != HISTORY:
            return uplink_from_number(self.uplink)
        show = self.asked(platforms)
        return uplink_from_history() if show is None else uplink_for(show)[0]


@dataclass(frozen=True, slots=True)
class RecordingFlags:
    """How to look at a recording, as said on the command line."""

    deep: Annotated[bool, typer.Option("--deep", help="Decode every frame of a recording.")] = False
    window: Annotated[
        str | None,
        typer.Option(metavar="TIME", help="Over which a recording's highest bitrate is taken."),
    ] = None
    figure: Figure = None
    plan: Annotated[
        str | None,
        typer.Option(
            metavar="PLAN", help='Is a recording what this plan has: a JSON file, or "latest".'
        ),
    ] = None


@grouped
def check(
    settings: Annotated[
        Path | None,
        typer.Argument(metavar="[FILE]", help="TOML or JSON settings, a plan, or a recording."),
    ] = None,
    platforms: Annotated[
        list[str] | None,
        typer.Option(
            "--for",
            metavar="PLATFORM[:TIER]",
            autocompletion=complete_platform,
            help="A guide to hold them against; may be given several times.",
        ),
    ] = None,
    flags: SettingFlags = SettingFlags(),
    line: ConnectionFlags = ConnectionFlags(),
    guides: GuideFolder = None,
    everything: Everything = False,
    recording: RecordingFlags = RecordingFlags(),
    json: Json = False,
) -> None:
    """Hold settings or a recording against guides and your connection."""
    from eager_kestrel.cli.terminal import print_json
    from eager_kestrel.core.checks.recording import RECORDING_KINDS

    if settings is not None and settings.suffix.lower() in RECORDING_KINDS:
        found = _recording(settings, platforms, flags, line, guides, recording, quiet=json)
        if json:
            print_json(found.model_dump(mode="json", exclude_none=True))
    else:
        found = _settings(settings, platforms, flags, line, guides, recording)
        if json:
            print_json(found.model_dump(mode="json"))
    from eager_kestrel.actions.reporting import keep_findings

    keep_findings(found)
    if not json:
        show_findings(found, everything=everything)
    raise typer.Exit(1 if found.breaches else 0)


def _settings(
    file: Path | None,
    platforms: list[str] | None,
    flags: SettingFlags,
    line: ConnectionFlags,
    guides: Path | None,
    recording: RecordingFlags,
) -> Findings:
    """Hold settings against guides and the connection."""
    from eager_kestrel.actions.checking import check_show
    from eager_kestrel.core.errors import InputError

    if recording != RecordingFlags():
        raise InputError("only a recording is drawn or decoded", "give one, or leave that out")
    show = line.asked(platforms)
    if show is None:
        raise InputError("no guide to hold them against", "give --for PLATFORM or --show SHOW")
    return check_show(file, flags.document(), show, guides, line.line(platforms))


def _recording(
    file: Path,
    platforms: list[str] | None,
    flags: SettingFlags,
    line: ConnectionFlags,
    guides: Path | None,
    recording: RecordingFlags,
    *,
    quiet: bool,
) -> Findings:
    """Describe a recording, hold it against guides, and draw it where asked."""
    from eager_kestrel.actions.checking import WINDOW_SECONDS, ceiling_kbps, check_recording
    from eager_kestrel.cli.recording_card import show_recording
    from eager_kestrel.cli.terminal import console, reading
    from eager_kestrel.core.errors import InputError
    from eager_kestrel.core.units import parse_seconds

    if flags.given:
        raise InputError("a recording says by itself what is in it", "leave the settings out")
    show = line.asked(platforms)
    names = [place.name for place in show.destinations] if show is not None else []
    window = WINDOW_SECONDS if recording.window is None else parse_seconds(recording.window)
    uplink = line.line(platforms)
    planned = None
    if recording.plan is not None:
        from eager_kestrel.actions import destination_of, read_plan

        planned = destination_of(read_plan(recording.plan), names[0] if names else None)
    with reading(quiet=quiet) as told:
        found = check_recording(
            file,
            names,
            show,
            guides,
            uplink,
            planned,
            deep=recording.deep,
            window_seconds=window,
            progress=told,
        )
    assert found.recording is not None
    if recording.figure is not None:
        from eager_kestrel.report.broadcast_figures import save_recording_figure

        most = ceiling_kbps(names, found.recording, guides)
        save_recording_figure(found.recording, recording.figure, most)
    if not quiet:
        show_recording(console(), found.recording)
    return found


def _kbit(written: str | None) -> float | None:
    """A buffer size in kbit."""
    from eager_kestrel.core.errors import UnitError
    from eager_kestrel.core.units import Bitrate

    if written is None:
        return None
    plain = written.strip()
    if not plain.lower().endswith(("bit", "bits")):
        raise UnitError(f'"{written}" is no buffer size', 'write "6000 kbit"')
    return Bitrate.parse(f"{plain.removesuffix('s')}/s").kbps


def _words(rule: str) -> str:
    """A guide's key as words: ``video.rate_control`` is rate control."""
    section, dot, key = rule.partition(".")
    plain = key if dot and section in ("video", "delivery") else rule.replace(".", " ")
    return plain.replace("_", " ").replace(".", " ")


def show_findings(found: Findings, *, everything: bool) -> None:
    """Breaches first, and how many rules hold."""
    from rich.table import Table
    from rich.text import Text

    from eager_kestrel.cli.terminal import console

    screen = console()
    marks = {"breach": "[red]✗[/]", "caution": "[yellow]![/]", "fine": "[green]✓[/]"}
    from eager_kestrel.core.words.numbers import counted

    order = {"breach": 0, "caution": 1, "fine": 2}
    shown = [f for f in found.findings if everything or f.severity != "fine"]
    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("", "guide", "rule", "found", "wanted", "what to do"):
        table.add_column(heading, overflow="fold")
    for finding in sorted(shown, key=lambda f: order[f.severity]):
        table.add_row(
            marks[finding.severity],
            finding.label,
            _words(finding.rule),
            Text(finding.found),
            Text(finding.wanted),
            Text(finding.do),
        )
    if shown:
        screen.print(table)
    counts = {s: sum(f.severity == s for f in found.findings) for s in order}
    breaches = counted(counts["breach"], "breach", "breaches")
    hold = "1 rule holds" if counts["fine"] == 1 else f"{counts['fine']} rules hold"
    screen.print(f"{breaches}, {counted(counts['caution'], 'caution')}, {hold}")


app = single("check", check)
