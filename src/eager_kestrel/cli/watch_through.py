"""``watch --through``: between program and platform."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

from eager_kestrel.cli.options import asker

if TYPE_CHECKING:
    from eager_kestrel.actions.airing import KeptBroadcast
    from eager_kestrel.actions.passing import RelayReport
    from eager_kestrel.cli.watch_options import RelayFlags, StreamFlags
    from eager_kestrel.cli.watch_view import View


def watch_through(
    plan: str, which: StreamFlags, between: RelayFlags, within: str, guides: Path | None, view: View
) -> tuple[KeptBroadcast, ...]:
    """Stand in between until the stream ends."""
    from eager_kestrel.actions.passing import watch_through as stand_between
    from eager_kestrel.actions.passing_places import RelayOptions
    from eager_kestrel.core.errors import InputError

    if which.pid is not None or which.program is not None:
        raise InputError("with --through the program sends to us", "leave --pid and --program out")
    wish = RelayOptions(
        plan=plan, settings=which.settings, platform=which.platform, to=tuple(which.to or ()),
        port=between.port, practice=between.practice, within=within, guides=guides,
    )  # fmt: skip

    def ready(told: RelayReport) -> None:
        sys.stderr.write(
            f"Send to {told.address} with the stream key: {told.shown_key}\n"
            f"It is passed on to {', '.join(told.places)}\n"
        )
        sys.stderr.flush()
        view.titled(f"through us to {', '.join(told.places)}")

    return stand_between(wish, view.tell, asker(), ready)
