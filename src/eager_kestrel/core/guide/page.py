"""A guideline page as tables and lines, and what of it may belong into a guide."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Grid:
    """A table with every span written out, so that all rows are as wide."""

    rows: tuple[tuple[str, ...], ...]
    headings: int = 1
    """Rows at the top that name the columns."""
    title: str = ""
    """Its caption and the heading it stands under."""


@dataclass(frozen=True, slots=True)
class Page:
    """A guideline page."""

    grids: tuple[Grid, ...] = ()
    lines: tuple[str, ...] = ()
    """Sentences, list items and ``Key: value`` lines outside of tables."""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A value for one key of a guide, and the words of the page it came from."""

    key: str
    value: str
    """As a person would type it; :mod:`eager_kestrel.core.guide.questions` reads it."""
    words: str
    doubt: str = ""
    """Why nobody should take it unseen; empty where the words say it plainly."""
    quoted: bool = True
    """Whether the words stand on the page, and not in answers given before."""
