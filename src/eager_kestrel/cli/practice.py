"""``practice``: simulated connections and platforms."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions.practice import (
    SimulatedTrouble,
    simulated_connection,
    simulated_platform,
    simulated_uplink,
    trouble_of,
)
from eager_kestrel.cli import options
from eager_kestrel.cli.terminal import console, print_json, serve, until_ctrl_c
from eager_kestrel.core.checks.findings import ReceivedStream
from eager_kestrel.core.errors import InputError
from eager_kestrel.core.results import PracticeAddress
from eager_kestrel.core.units import Bitrate, DataSize, parse_seconds, parse_share
from eager_kestrel.core.words.numbers import counted

app = options.group()


@app.callback()
def practice() -> None:
    """Simulated connections and platforms on this machine."""


@app.command("uplink")
def uplink(
    connection: Annotated[
        str,
        typer.Argument(
            autocompletion=options.complete_practice,
            help='A constant rate, such as "8 Mbit/s", or day, wet-evening or bad-night.',
        ),
    ],
    round_trip: Annotated[
        str, typer.Option(metavar="TIME", help="Round-trip time that it adds.")
    ] = "30 ms",
    queue: Annotated[
        str, typer.Option(metavar="SIZE", help="What may wait in front of the connection.")
    ] = "64 KiB",
    per_connection: Annotated[
        str | None, typer.Option(metavar="RATE", help="A cap on each connection.")
    ] = None,
    stall: Annotated[
        list[str] | None,
        typer.Option(metavar='"TIME@TIME"', help='Nothing gets through: "3 s@10 s", 3 s long.'),
    ] = None,
    others: Annotated[
        list[str] | None,
        typer.Option(metavar='"RATE@TIME"', help='Other traffic from then on: "2 Mbit/s@8 s".'),
    ] = None,
    spread: Annotated[
        str | None, typer.Option(metavar="PERCENT", help="Let a constant rate wander this much.")
    ] = None,
    seed: Annotated[int, typer.Option(help="Of the wandering.")] = 0,
    port: Annotated[int, typer.Option(min=0, max=65535, help="0 takes a free one.")] = 0,
    json: options.Json = False,
) -> None:
    """Serve an upload endpoint behind a simulated uplink until Ctrl-C."""
    serve()
    simulated = simulated_connection(
        connection,
        parse_seconds(round_trip) * 1000,
        DataSize.parse(queue).bytes,
        SimulatedTrouble(
            stalls=tuple((at, parse_seconds(what)) for what, at in map(_at, stall or [])),
            others=tuple((at, Bitrate.parse(what).kbps) for what, at in map(_at, others or [])),
            spread=parse_share(spread) if spread else 0.0,
            seed=seed,
            per_connection_kbps=Bitrate.parse(per_connection).kbps if per_connection else None,
        ),
    )
    with simulated_uplink(simulated, port) as destination:
        if json:
            address = PracticeAddress(url=destination.url, direct_url=destination.direct_url)
            print_json(address.model_dump(mode="json"))
        else:
            sys.stdout.write(f"eager-kestrel measure {destination.url}\n")
            sys.stderr.write("A simulated uplink runs until Ctrl-C.\n")
        sys.stdout.flush()
        until_ctrl_c("the simulated uplink is gone")


def _at(written: str) -> tuple[str, float]:
    """``WHAT@TIME`` taken apart."""
    what, sign, when = written.partition("@")
    if not sign:
        raise InputError(f'"{written}" does not say when', f'write "{what.strip()}@10 s"')
    return what, parse_seconds(when)


@app.command("ingest")
def ingest(
    platform: Annotated[
        str, typer.Argument(autocompletion=options.complete_platform, help="Whose guide it obeys.")
    ],
    stall: Annotated[
        str | None,
        typer.Option(metavar='"TIME@TIME"', help='It stops reading: "3 s@10 s" of the stream.'),
    ] = None,
    hang_up: Annotated[
        str | None, typer.Option(metavar="TIME", help="It hangs up once, so far into the stream.")
    ] = None,
    delay: Annotated[
        str | None, typer.Option(metavar="TIME", help="Before it takes each message.")
    ] = None,
    record: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Keep what arrives in an FLV file.")
    ] = None,
    port: Annotated[int, typer.Option(min=0, max=65535, help="0 takes a free one.")] = 0,
    _guides: options.GuideFolder = None,
    json: options.Json = False,
) -> None:
    """Be a simulated platform that obeys its guide, until Ctrl-C."""
    serve()
    how_long, at = _at(stall) if stall is not None else ("3 s", None)
    trouble = trouble_of(
        stall_at=at,
        stall_seconds=parse_seconds(how_long),
        hang_up_at=parse_seconds(hang_up) if hang_up is not None else None,
        delay_seconds=parse_seconds(delay) if delay is not None else 0.0,
    )
    with simulated_platform(platform, trouble, port, record) as destination:
        if json:
            key = None if destination.key.own else destination.key.value
            print_json(PracticeAddress(url=destination.url, key=key).model_dump(mode="json"))
        else:
            sys.stdout.write(f"{destination.url} with the stream key: {destination.key.shown}\n")
            sys.stderr.write(f"A simulated {destination.title} runs until Ctrl-C.\n")
        sys.stdout.flush()
        told = 0
        with console(stderr=True).status("waiting for a stream", spinner="dots") as status:

            def tick() -> None:
                nonlocal told
                told = _tell(destination.taking.received, told)
                if destination.taking.live() is not None:
                    status.update(destination.health())

            until_ctrl_c("the simulated platform is gone", tick)
    _tell(destination.taking.received, told)


def _tell(received: list[ReceivedStream], told: int) -> int:
    """A line for each stream that has ended since; how many were told by now."""
    for one in received[told:]:
        seen = one.findings.recording if one.findings is not None else None
        frames = f", {counted(seen.video.frames, 'frame')} in {seen.seconds:.1f} s" if seen else ""
        late = f", {one.late_frames:,} late, the latest by {one.worst_delay_seconds:.2f} s"
        late = late if seen else ""
        sys.stderr.write(f"stream {one.number}: {one.ended}{frames}{late}\n")
    sys.stderr.flush()
    return len(received)
