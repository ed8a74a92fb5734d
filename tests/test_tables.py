"""Tables in a terminal of any width lose no sign of any cell."""

from __future__ import annotations

import io
from collections import Counter

from hypothesis import given, strategies as st
from rich.console import Console

from eager_kestrel.cli.rendering import show
from eager_kestrel.report.blocks import Table

WORDS = st.text("abcdefghij.,0123456789", min_size=1, max_size=26)
CELLS = st.lists(WORDS, max_size=12).map(" ".join)
TABLES = st.integers(1, 5).flatmap(
    lambda columns: st.tuples(
        st.lists(WORDS, min_size=columns, max_size=columns),
        st.lists(st.tuples(*[CELLS] * columns), min_size=1, max_size=4),
    )
)


@given(TABLES, st.integers(30, 160))
def test_a_table_of_any_width_shows_every_sign_of_every_cell(
    table: tuple[list[str], list[tuple[str, ...]]], width: int
) -> None:
    headings, rows = table
    out = io.StringIO()
    show([Table(headings=tuple(headings), rows=tuple(rows))], Console(file=out, width=width))
    printed = Counter(out.getvalue())
    said = Counter("".join("".join(row) for row in rows).replace(" ", ""))
    assert not said - printed, out.getvalue()
    assert all(len(line) <= width for line in out.getvalue().splitlines())
