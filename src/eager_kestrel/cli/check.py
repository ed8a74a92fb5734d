"""``check``: do these settings meet the guides."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from eager_kestrel.cli.options import (
    Figure,
    GuideFolder,
    Json,
    Reserves,
    Share,
    complete_platform,
    complete_show,
    single,
)

if TYPE_CHECKING:
    from eager_kestrel.core.checks.rules import Findings
    from eager_kestrel.core.line.uplink import Uplink

HISTORY = "measured"


def check(
    settings: Annotated[
        Path | None,
        typer.Argument(metavar="[FILE]", help="TOML or JSON settings, a plan, or a recording."),
    ] = None,
    platforms: Annotated[
        list[str] | None,
        typer.Option(
            "--for",
            metavar="PLATFORM[:STANDING]",
            autocompletion=complete_platform,
            help="A guide to hold them against; may be given several times.",
        ),
    ] = None,
    codec: Annotated[str | None, typer.Option(metavar="NAME", help="h264, hevc or av1.")] = None,
    picture: Annotated[str | None, typer.Option(metavar="WIDTHxHEIGHT")] = None,
    fps: Annotated[str | None, typer.Option(metavar="RATE", help="Frames a second sent.")] = None,
    source_fps: Annotated[
        str | None, typer.Option(metavar="RATE", help="Frames a second of the source.")
    ] = None,
    bitrate: Annotated[str | None, typer.Option(metavar="RATE", help="Of the video.")] = None,
    peak: Annotated[
        str | None, typer.Option(metavar="RATE", help="The most of variable bitrate.")
    ] = None,
    rate_control: Annotated[
        str | None, typer.Option(metavar="KIND", help="constant or variable.")
    ] = None,
    buffer: Annotated[
        str | None,
        typer.Option(
            metavar="KBIT", help='Of the encoder: "6000 kbit"; of a recording, a window: "2 s".'
        ),
    ] = None,
    keyframes: Annotated[
        str | None, typer.Option(metavar="INTERVAL", help='"2 s", "120 frames" or "auto".')
    ] = None,
    profile: Annotated[str | None, typer.Option(metavar="NAME")] = None,
    level: Annotated[str | None, typer.Option(metavar="LEVEL")] = None,
    b_frames: Annotated[int | None, typer.Option(metavar="N", help="In a row.")] = None,
    audio_codec: Annotated[str | None, typer.Option(metavar="NAME")] = None,
    audio_bitrate: Annotated[str | None, typer.Option(metavar="RATE")] = None,
    audio_rate: Annotated[int | None, typer.Option(metavar="HZ", help="Samples a second.")] = None,
    channels: Annotated[int | None, typer.Option(metavar="N")] = None,
    transport: Annotated[str | None, typer.Option(metavar="NAME", help="rtmp, rtmps, hls.")] = None,
    uplink: Annotated[
        str | None,
        typer.Option(metavar="RATE", help='Your upload: "12 Mbit/s", or "measured" for your runs.'),
    ] = None,
    show: Annotated[
        str | None,
        typer.Option(
            metavar="SHOW",
            autocompletion=complete_show,
            help="Take platforms, share and reserves from a show file.",
        ),
    ] = None,
    share: Share = None,
    reserve: Reserves = None,
    guides: GuideFolder = None,
    everything: Annotated[
        bool, typer.Option("--all", help="Show the rules that hold, too.")
    ] = False,
    deep: Annotated[
        bool, typer.Option("--deep", help="Decode every frame of a recording.")
    ] = False,
    figure: Figure = None,
    json: Json = False,
) -> None:
    """Hold settings or a recording against guides and your line."""
    from eager_kestrel.actions.check import check as hold
    from eager_kestrel.actions.check import settings_from
    from eager_kestrel.actions.shows import Wishes, asked_show
    from eager_kestrel.cli.screen import print_json
    from eager_kestrel.core.checks.recording import RECORDING_KINDS
    from eager_kestrel.core.errors import InputError

    flags: dict[str, Any] = {
        "transport": transport,
        "source_frame_rate": source_fps,
        "video": {
            "codec": codec,
            "picture": picture,
            "frame_rate": fps,
            "bitrate": bitrate,
            "peak": peak,
            "rate_control": rate_control,
            "keyframes": keyframes,
            "profile": profile,
            "level": level,
            "b_frames": b_frames,
        },
        "audio": {
            "codec": audio_codec,
            "bitrate": audio_bitrate,
            "sample_rate_hz": audio_rate,
            "channels": channels,
        },
    }
    if settings is not None and settings.suffix.lower() in RECORDING_KINDS:
        if _said(flags):
            raise InputError("a recording says by itself what is in it", "leave the settings out")
        found = _recording(settings, platforms, show, share, reserve, guides, uplink, buffer,
                           figure, deep=deep, json=json, everything=everything)  # fmt: skip
        raise typer.Exit(1 if found.breaches else 0)
    if figure is not None or deep:
        raise InputError("only a recording is drawn or decoded", "give one, or leave that out")
    if not platforms and show is None:
        raise InputError("no guide to hold them against", "give --for PLATFORM or --show SHOW")
    wishes = Wishes(platforms=tuple(platforms or ()), share=share, reserves=tuple(reserve or ()))
    asked = asked_show(show, wishes).show
    names = [place.name for place in asked.destinations]
    flags["video"]["buffer_kbit"] = _kbit(buffer)
    wanted = settings_from(settings, flags, asked.destinations[0].platform)
    line = _line(uplink)
    found = hold(wanted, names, guides, line, asked.safe_share, asked.reserves)
    if json:
        print_json(found.model_dump(mode="json"))
    else:
        show_findings(found, everything=everything)
    raise typer.Exit(1 if found.breaches else 0)


def _said(flags: dict[str, Any]) -> bool:
    """Whether any flag was given."""
    parts = (*flags.values(), *flags["video"].values(), *flags["audio"].values())
    return any(value is not None and not isinstance(value, dict) for value in parts)


def _line(uplink: str | None) -> Uplink | None:
    """The uplink that is meant; None when nothing was said."""
    from eager_kestrel.actions.plan import uplink_from_history, uplink_from_number

    if uplink is None:
        return None
    return uplink_from_history() if uplink == HISTORY else uplink_from_number(uplink)


def _recording(
    path: Path,
    platforms: list[str] | None,
    show: str | None,
    share: str | None,
    reserve: list[str] | None,
    guides: Path | None,
    uplink: str | None,
    buffer: str | None,
    figure: Path | None,
    *,
    deep: bool,
    json: bool,
    everything: bool,
) -> Findings:
    """Describe a recording, hold it against guides, show both."""
    from eager_kestrel.actions.recordings import ceiling_kbps, check_file
    from eager_kestrel.actions.shows import Wishes, asked_show
    from eager_kestrel.cli.recording_card import show_recording
    from eager_kestrel.cli.screen import console, print_json, reading
    from eager_kestrel.core.units import parse_seconds

    names, asked = list(platforms or ()), None
    if platforms or show is not None:
        wishes = Wishes(platforms=tuple(names), share=share, reserves=tuple(reserve or ()))
        asked = asked_show(show, wishes).show
        names = [place.name for place in asked.destinations]
    window = parse_seconds(buffer) if buffer is not None else 1.0
    line = _line(uplink)
    with reading(quiet=json) as told:
        found = check_file(path, names, asked, guides, line, deep=deep, buffer_seconds=window,
                           progress=told)  # fmt: skip
    assert found.recording is not None
    if figure is not None:
        from eager_kestrel.report.recording_figure import save_recording_figure

        save_recording_figure(found.recording, figure, ceiling_kbps(names, guides))
    if json:
        print_json(found.model_dump(mode="json", exclude_none=True))
    else:
        show_recording(console(), found.recording)
        show_findings(found, everything=everything)
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

    from eager_kestrel.cli.screen import console

    screen = console()
    marks = {"breach": "[red]✗[/]", "caution": "[yellow]![/]", "fine": "[green]✓[/]"}
    order = {"breach": 0, "caution": 1, "fine": 2}
    shown = [f for f in found.findings if everything or f.severity != "fine"]
    table = Table(box=None, padding=(0, 1), header_style="dim")
    for heading in ("", "guide", "rule", "found", "wanted", "what to do"):
        table.add_column(heading, overflow="fold")
    for finding in sorted(shown, key=lambda f: order[f.severity]):
        table.add_row(
            marks[finding.severity], finding.platform, _words(finding.rule), Text(finding.found),
            Text(finding.wanted), Text(finding.do),
        )  # fmt: skip
    if shown:
        screen.print(table)
    counts = {s: sum(f.severity == s for f in found.findings) for s in order}
    screen.print(
        f"{counts['breach']} breaches, {counts['caution']} cautions, {counts['fine']} rules hold"
    )


app = single("check", check)
