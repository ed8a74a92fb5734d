"""What ships with the program: guides, traces, the quality table."""

from __future__ import annotations

import csv
import io
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eager_kestrel.core.errors import FormatError, NotFoundError, nearest_name

if TYPE_CHECKING:
    from eager_kestrel.core.connection.trace import Trace

DATA = Path(__file__).parent.parent / "data"


def bundled_guide_text(name: str) -> str:
    """The text of a bundled guide."""
    return (DATA / "guides" / f"{name}.toml").read_text(encoding="utf-8")


def bundled_toml(*path: str) -> dict[str, Any]:
    """A bundled TOML file."""
    return tomllib.loads(DATA.joinpath(*path).read_text(encoding="utf-8"))


def bundled_names(folder: str, suffix: str) -> list[str]:
    """Names of the bundled files of one kind, sorted."""
    return sorted(
        entry.name.removesuffix(suffix)
        for entry in (DATA / folder).iterdir()
        if entry.name.endswith(suffix)
    )


def trace_names() -> list[str]:
    """Bundled traces."""
    return bundled_names("traces", ".csv")


def load_trace(name: str) -> Trace:
    """A bundled trace by name.

    Raises:
        NotFoundError: there is none of that name; suggests one.
    """
    if name not in trace_names():
        raise NotFoundError(
            f'no practice connection "{name}"',
            nearest_name(name, trace_names(), "none are bundled"),
        )
    text = (DATA / "traces" / f"{name}.csv").read_text(encoding="utf-8")
    return read_trace(text, name)


def read_trace(text: str, where: str) -> Trace:
    """A trace from CSV text.

    Raises:
        FormatError: a row is not two numbers; names the line.
    """
    from eager_kestrel.core.connection.trace import Trace

    lines = [line for line in text.splitlines() if not line.startswith("#")]
    rows = list(csv.DictReader(io.StringIO("\n".join(lines))))
    seconds: list[float] = []
    kbps: list[float] = []
    for number, row in enumerate(rows, 2):
        try:
            seconds.append(float(row["seconds"]))
            kbps.append(float(row["kbps"]))
        except (KeyError, TypeError, ValueError):
            raise FormatError(
                "a trace row is two numbers", "write seconds,kbps", f"{where}:{number}"
            ) from None
    if len(seconds) < 2:
        raise FormatError("a trace needs two rows at least", "give it an end", where)
    return Trace(tuple(seconds[:-1]), tuple(kbps[:-1]), seconds[-1], where)
