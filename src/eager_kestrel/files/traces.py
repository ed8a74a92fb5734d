"""Traces on disk: CSV of seconds,kbps, where each rate holds until the next row."""

from __future__ import annotations

import csv
import io

from eager_kestrel.core.connection.trace import Trace
from eager_kestrel.core.errors import FormatError, NotFoundError, nearest_name
from eager_kestrel.files.bundled import DATA, bundled_names


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
        FormatError: a row is not two numbers; names the connection.
    """
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
