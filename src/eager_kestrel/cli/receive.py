"""``receive``: a private ingest server on this machine."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions import receiving
from eager_kestrel.actions.checking import guides_of
from eager_kestrel.cli import options
from eager_kestrel.cli.delivery import deliver
from eager_kestrel.cli.terminal import serve, telling, warn
from eager_kestrel.core.checks.findings import Findings, ReceivedList
from eager_kestrel.core.checks.stream import LiveView
from eager_kestrel.core.errors import interruptible
from eager_kestrel.core.units import parse_seconds
from eager_kestrel.core.words.numbers import counted


@options.grouped
def receive(
    platforms: options.Platforms = None,
    port: Annotated[int, typer.Option(min=0, max=65535, help="0 takes a free one.")] = 1935,
    streams: Annotated[int, typer.Option(min=1, help="Stop after this many streams.")] = 1,
    max_time: Annotated[
        str, typer.Option(metavar="TIME", help="Stop after this long in any case.")
    ] = "12 h",
    record: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Keep what arrives in an FLV file.")
    ] = None,
    _guides: options.GuideFolder = None,
    everything: options.Everything = False,
    output: options.OutputFlags = options.OutputFlags(),
) -> None:
    """Be a private ingest server: take a stream from any program and report on it.

    Senders need a key: the one of EAGER_KESTREL_STREAM_KEY, else one made for this time and shown.
    """
    serve()
    output.require()
    key = receiving.key_for("receive")
    held = guides_of(platforms or [])
    seconds = parse_seconds(max_time)
    with receiving.receive(key.value, port, held, record) as (taking, address):
        sys.stderr.write(f"Send to {address} with the stream key: {key.shown}\n")
        sys.stderr.flush()
        with interruptible() as ctrl_c, _live(quiet=output.json) as tell:
            receiving.wait_for(taking, streams, seconds, tell)
        if ctrl_c.stopped:
            warn("stopped; this is what came so far", always=True)
    if taking.refused:
        warn(f"{counted(taking.refused, 'connection')} with a wrong key or app refused")
    found = ReceivedList(streams=tuple(taking.received), refused=taking.refused)
    deliver(found, output, everything=everything)
    breaches = sum(one.findings.breaches for one in found.streams if one.findings)
    unkept = any(one.file_error for one in found.streams)
    raise typer.Exit(1 if breaches or unkept or not found.streams else 0)


def live_words(view: LiveView | None) -> str:
    """How a stream goes, in a line."""
    if view is None:
        return "waiting for a stream"
    key = f"{view.keyframe_seconds:.3g} s" if view.keyframe_seconds is not None else "?"
    return (
        f"{view.seconds:6.1f} s  {view.video_kbps:,.0f} kbit/s  {view.fps:.4g} fps  "
        f"keyframes {key}  audio {view.audio_kbps:,.0f}  {view.delay_seconds:.2f} s late"
    )


@contextmanager
def _live(*, quiet: bool) -> Iterator[Callable[[LiveView | None, Findings | None], None]]:
    with telling("waiting for a stream", quiet=quiet) as tell:
        yield lambda view, found: tell(live_words(view) + _breaches(found))


def _breaches(found: Findings | None) -> str:
    """What is wrong so far, the first of it in words."""
    wrong = [f for f in found.findings if f.severity == "breach"] if found is not None else []
    if not wrong:
        return "" if found is None else "  no breach so far"
    many = counted(len(wrong), "breach", "breaches")
    return f"  {many}, first: {wrong[0].rule} is {wrong[0].found}, {wrong[0].what_to_do}"


app = options.single("receive", receive)
