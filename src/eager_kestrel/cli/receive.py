"""``receive``: a private ingest on this machine."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from eager_kestrel.cli.options import Everything, GuideFolder, Json, Platforms, Quiet, single

if TYPE_CHECKING:
    from eager_kestrel.actions.receiving import Received
    from eager_kestrel.core.checks.findings import Findings
    from eager_kestrel.core.checks.stream import LiveView


def receive(
    platforms: Platforms = None,
    port: Annotated[int, typer.Option(min=0, max=65535, help="0 takes a free one.")] = 1935,
    streams: Annotated[int, typer.Option(min=1, help="Stop after so many streams.")] = 1,
    within: Annotated[
        str, typer.Option(metavar="TIME", help="Stop after so long in any case.")
    ] = "12 h",
    record: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Keep what arrives in an FLV file.")
    ] = None,
    guides: GuideFolder = None,
    everything: Everything = False,
    json: Json = False,
    _: Quiet = False,
) -> None:
    """Be a private ingest: take a stream from any program and report on it.

    Senders need a key: the one of EAGER_KESTREL_STREAM_KEY, else one made for this time and shown.
    """
    import sys

    from eager_kestrel.actions.checking import guides_of
    from eager_kestrel.actions.receiving import key_for, reception, wait_for
    from eager_kestrel.cli.terminal import print_json, warn
    from eager_kestrel.core.document import format_name
    from eager_kestrel.core.units import parse_seconds

    key = key_for("receive")
    held = guides_of(platforms or [], guides)
    seconds = parse_seconds(within)
    with reception(key.value, port, held, record) as (taking, address):
        sys.stderr.write(f"Send to {address} with the stream key: {key.shown}\n")
        sys.stderr.flush()
        try:
            with _live(quiet=json) as tell:
                wait_for(taking, streams, seconds, tell)
        except KeyboardInterrupt:
            warn("stopped; this is what came so far")
    if taking.refused:
        warn(f"{taking.refused} came with a wrong key or app and were refused")
    if json:
        print_json(
            {
                "format": format_name("received"),
                "streams": [_document(one) for one in taking.received],
                "refused": taking.refused,
            }
        )
    else:
        for one in taking.received:
            _show(one, everything=everything)
    breaches = sum(one.findings.breaches for one in taking.received if one.findings)
    unkept = any(one.file_error for one in taking.received)
    raise typer.Exit(1 if breaches or unkept or not taking.received else 0)


def live_words(view: LiveView | None) -> str:
    """How a stream goes, in a line."""
    if view is None:
        return "waiting for a stream"
    key = f"{view.keyframe_seconds:.3g} s" if view.keyframe_seconds is not None else "?"
    return (
        f"{view.seconds:6.1f} s  {view.video_kbps:,.0f} kbit/s  {view.fps:.4g} frames/s  "
        f"keyframes {key}  audio {view.audio_kbps:,.0f}  {view.delay_seconds:.2f} s late"
    )


@contextmanager
def _live(*, quiet: bool) -> Iterator[Callable[[LiveView | None, Findings | None], None]]:
    from eager_kestrel.cli.terminal import console

    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield lambda *_: None
        return
    with screen.status("waiting for a stream", spinner="dots") as status:
        yield lambda view, found: status.update(live_words(view) + _breaches(found))


def _breaches(found: Findings | None) -> str:
    """What is wrong so far, the first of it in words."""
    from eager_kestrel.core.words.numbers import counted

    wrong = [f for f in found.findings if f.severity == "breach"] if found is not None else []
    if not wrong:
        return "" if found is None else "  no breach so far"
    many = counted(len(wrong), "breach", "breaches")
    return f"  {many}, first: {wrong[0].rule} is {wrong[0].found}, {wrong[0].do}"


def _document(one: Received) -> dict[str, object]:
    return {
        "number": one.number,
        "ended": one.why_ended,
        "worst_delay_seconds": round(one.worst_delay_seconds, 3),
        "late_frames": one.late_frames,
        "file_error": one.file_error,
        "file": str(one.file) if one.file is not None else None,
        "findings": one.findings.model_dump(mode="json", exclude_none=True)
        if one.findings
        else None,
    }


def _show(one: Received, *, everything: bool) -> None:
    from rich.text import Text

    from eager_kestrel.cli.check import show_findings
    from eager_kestrel.cli.recording_card import show_recording
    from eager_kestrel.cli.terminal import console

    screen = console()
    if one.findings is None or one.findings.recording is None:
        screen.print(Text(f"stream {one.number}: {one.why_ended}; no two frames came"))
        return
    show_recording(screen, one.findings.recording)
    show_findings(one.findings, everything=everything)
    where = f"; kept in {one.file}" if one.file is not None else ""
    if one.file_error is not None:
        where = f"; not all of it was kept: {one.file_error}"
    delay = (
        f"{one.late_frames:,} frames came late, the latest by {one.worst_delay_seconds:.2f} s"
        if one.late_frames
        else f"the latest frame came {one.worst_delay_seconds:.2f} s late"
    )
    ended = "It ended" if one.why_ended == "ended" else f"It ended: {one.why_ended}"
    screen.print(Text(f"{ended}; {delay}{where}", style="dim"))


app = single("receive", receive)
