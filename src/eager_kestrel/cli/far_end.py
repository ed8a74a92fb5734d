"""``far-end``: an endpoint to measure towards, on a machine of your own."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from eager_kestrel.actions.far_end import (
    Listening,
    bounds_of,
    certificate_of,
    far_end as stand,
    token_of,
)
from eager_kestrel.cli.options import Json, single
from eager_kestrel.cli.terminal import print_json, serve, until_ctrl_c, warn
from eager_kestrel.core.results import FarEndAddress


def far_end(
    port: Annotated[int, typer.Option(min=0, max=65535, help="For HTTP; 0 takes a free one.")] = (
        8077
    ),
    rtmp_port: Annotated[
        int, typer.Option(min=0, max=65535, help="For RTMP, where streams are taken like uploads.")
    ] = 1935,
    rtmp: Annotated[bool, typer.Option(help="Take RTMP as well.")] = True,
    bind: Annotated[
        str | None, typer.Option(metavar="ADDRESS", help="One address of this machine; else all.")
    ] = None,
    certificate: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Serve TLS with this PEM file ...")
    ] = None,
    private_key: Annotated[
        Path | None, typer.Option(metavar="FILE", help="... and its key.")
    ] = None,
    behind: Annotated[
        str | None,
        typer.Option(
            metavar="ADDRESS",
            help="Of a proxy in front that names its clients (X-Forwarded-For).",
        ),
    ] = None,
    max_run: Annotated[
        str, typer.Option(metavar="SIZE", help="The most that one run may send.")
    ] = "4 GB",
    max_time: Annotated[
        str, typer.Option(metavar="TIME", help="The longest that one run may take.")
    ] = "2 min",
    max_hour: Annotated[
        str, typer.Option(metavar="SIZE", help="The most that all may send in an hour.")
    ] = "40 GB",
    json: Json = False,
) -> None:
    """Be an endpoint to measure towards, on a machine of your own.

    Takes uploads by HTTP and RTMP from those who hold its token, counts them and keeps nothing.
    """
    serve()
    bounds = bounds_of(max_run, max_time, max_hour)
    context = certificate_of(certificate, private_key)
    token = token_of()
    where = Listening(bind, port, rtmp_port if rtmp else None, context, behind)
    with stand(token, bounds, where, warn) as destination:
        scheme = "https" if destination.secure else "http"
        if json:
            found = FarEndAddress(
                port=destination.port,
                rtmp_port=destination.rtmp_port,
                secure=destination.secure,
                token=None if token.own else token.value,
            )
            print_json(found.model_dump(mode="json"))
        else:
            sys.stdout.write(f"token: {token.value if not token.own else 'the one you keep'}\n")
            streams = f"; streams to rtmp on port {destination.rtmp_port}" if rtmp else ""
            warn(f"uploads to {scheme}://THIS-MACHINE:{destination.port}/up{streams}")
            warn(f"from elsewhere: measure {scheme}://THIS-MACHINE:{destination.port} --token")
            if not destination.secure:
                warn("without a certificate the token can be read on the way; give --certificate")
        sys.stdout.flush()
        until_ctrl_c("gone")


app = single("far-end", far_end)
