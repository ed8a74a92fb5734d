"""``settings``: a settings file from what is already there."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.cli.options import Json, group

app = group()


@app.callback()
def settings() -> None:
    """Settings as a file: read them off a recording of your program."""


@app.command("from")
def from_(
    recording: Annotated[
        Path, typer.Argument(help="FLV, MP4, MKV, MPEG-TS or an HLS playlist your program made.")
    ],
    out: Annotated[
        Path | None, typer.Option("--out", "-o", metavar="FILE", help="Write it to a new file.")
    ] = None,
    json: Json = False,
) -> None:
    """Print what a recording was made with, as a settings file that check reads."""
    from eager_kestrel.actions.checking import settings_of_recording
    from eager_kestrel.actions.export import settings_text, write_new
    from eager_kestrel.cli.terminal import print_json, reading, warn

    with reading(quiet=json) as told:
        found = settings_of_recording(recording, told)
    if out is not None:
        write_new(out, settings_text(found))
        warn(f"wrote {out}; hold it against a guide with: eager-kestrel check {out} --for PLATFORM")
    if json:
        print_json(found.model_dump(mode="json", exclude_none=True))
    elif out is None:
        typer.echo(settings_text(found), nl=False)
