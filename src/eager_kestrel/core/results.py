"""Results of commands that are lists or several values together, as documents."""

from __future__ import annotations

from pydantic import Field

from eager_kestrel.core.document import Frozen, format_name


class GuideRow(Frozen):
    """A guide in a line."""

    name: str
    title: str
    checked: str
    stale: bool
    """Whether that is long ago."""
    where: str
    """``bundled``, or its file."""
    resolution: str
    frame_rates: str
    max_kbps: float
    keyframes: str
    codecs: tuple[str, ...]


class GuideList(Frozen):
    """Every guide there is (``guides list``)."""

    format: str = format_name("guide-list")
    guides: tuple[GuideRow, ...]


class GuideCheckRow(Frozen):
    """A guide's file: everything wrong with it, and what is allowed but odd."""

    file: str
    errors: tuple[str, ...] = ()
    remarks: tuple[str, ...] = ()


class GuideCheck(Frozen):
    """Guide files that were checked (``guides check``)."""

    format: str = format_name("guide-check")
    files: tuple[GuideCheckRow, ...]


class Change(Frozen):
    """A key that differs; empty where it is not there."""

    key: str
    before: str
    after: str


class GuideDiff(Frozen):
    """What differs between two guides, and in a plan (``guides diff``)."""

    format: str = format_name("guide-diff")
    changes: tuple[Change, ...]
    plan: tuple[Change, ...] | None
    """None if there is no upload to plan from."""
    shows: tuple[str, ...] = ()
    """Files of this folder whose show goes there."""


class TermList(Frozen):
    """Every word that is explained (``explain``)."""

    format: str = format_name("terms")
    terms: tuple[str, ...]


class ImportResult(Frozen):
    """What an import did (``runs import``)."""

    format: str = format_name("import")
    added: int
    known: int
    """Rows that were already there."""
    files: int = 0
    """Guides, plans and footage that came with them."""
    bad: tuple[str, ...] = ()
    """One line for each row or file that could not be taken."""


class PracticeAddress(Frozen):
    """Where a simulated stand-in listens (``practice``)."""

    format: str = format_name("practice")
    url: str
    direct_url: str | None = None
    """Past the simulated connection."""
    key: str | None = None
    """To publish with; None if it is your own."""


class FarEndAddress(Frozen):
    """Where an endpoint of one's own listens (``far-end``)."""

    format: str = format_name("far-end")
    port: int
    rtmp_port: int | None
    secure: bool
    token: str | None = Field(default=None)
    """None if it is your own."""
