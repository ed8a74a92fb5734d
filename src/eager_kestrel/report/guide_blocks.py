"""Guides, and the words of the trade, as blocks."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import (
    kbit,
)
from eager_kestrel.report.blocks import (
    Block,
    Cell,
    Heading,
    Note,
    Rows,
    Styled,
    Table,
)

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.plan.glossary import Explained
    from eager_kestrel.core.results import Change, GuideCheck, GuideDiff, GuideList, TermList


def guide_list_blocks(found: GuideList) -> Iterator[Block]:
    """A row for each guide."""
    own = any(row.where != "bundled" for row in found.guides)
    headings = ("guide", "max_resolution", ">at most", "keyframes", "codecs", "checked")
    rows = []
    for row in found.guides:
        checked = Styled(f"{row.checked} stale", "mind") if row.stale else row.checked
        cells: tuple[Cell, ...] = (
            Styled(row.name, "strong"),
            f"{row.resolution}, {row.frame_rates}",
            kbit(row.max_kbps),
            row.keyframes,
            ", ".join(row.codecs),
            checked,
        )
        rows.append((*cells, row.where) if own else cells)
    yield Table((*headings, "from") if own else headings, tuple(rows))


def guide_check_blocks(found: GuideCheck) -> Iterator[Block]:
    """Each file that is good, with remarks, and how many are."""
    for one in found.files:
        if not one.errors:
            yield Note(one.file, mark="✓", keep=True)
            for remark in one.remarks:
                yield Note(remark, mark="!")
    broken = sum(bool(one.errors) for one in found.files)
    yield Note(f"{len(found.files) - broken} good, {broken} with errors")


def guide_diff_blocks(found: GuideDiff) -> Iterator[Block]:
    """Every key that differs, then what that does to a plan."""
    if not found.changes:
        yield Note("Nothing changed.")
        return
    yield _changes(found.changes)
    if found.plan is None:
        yield Note("No run is kept, so there is no plan to compare: give --upload RATE.")
    elif not found.plan:
        yield Note("Your plan stays the same.")
    else:
        yield Heading("Your plan changes")
        yield _changes(found.plan)


def _changes(changes: tuple[Change, ...]) -> Table:
    rows = tuple((Styled(c.key, "name"), c.before or "-", "→", c.after or "-") for c in changes)
    return Table(("key", "before", "", "after"), rows)


def guide_blocks(guide: Guide) -> Iterator[Block]:
    """What a guide says, in a few rows."""
    video, audio = guide.video, guide.audio
    shapes, modes = words.shape_words(video.shapes), " or ".join(video.rate_control)
    codecs = ", ".join(video.codecs)
    yield Rows(
        (
            ("resolution", f"up to {video.max_resolution}, {shapes}, {video.rates_text()} fps"),
            ("video", f"{codecs}, at most {video.max_bitrate.in_kbps()}, {modes}"),
            ("keyframes", video.keyframes.text()),
            (
                "audio",
                f"{', '.join(audio.codecs)}, {audio.min_bitrate.kbps:g} to "
                f"{audio.max_bitrate.kbps:g} kbit/s",
            ),
            ("rows", str(len(guide.bitrates))),
            ("viewers", f"smaller copies: {guide.delivery.transcodes}"),
        ),
        title=guide.title,
    )


def terms_blocks(found: TermList) -> Iterator[Block]:
    """Every word."""
    yield Note(", ".join(found.terms))


def explained_blocks(found: Explained) -> Iterator[Block]:
    """A word, its causes if it is a symptom, and its sum."""
    yield Heading(found.term)
    yield Note(found.text)
    for number, cause in enumerate(found.causes, 1):
        yield Note(cause.because, mark=f"{number}.")
        if cause.sum is not None:
            yield Note(cause.sum, "strong", mark="→")
        yield Note(cause.tell, "dim", keep=True)
    if found.sum is not None:
        yield Note(found.sum, "strong", mark="→")
    if found.source is not None:
        yield Note(f"from {found.source}", "dim")
