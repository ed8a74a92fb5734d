"""Guides, and the words of the trade, as blocks."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from eager_kestrel.core.words import plans as words
from eager_kestrel.core.words.numbers import kbit
from eager_kestrel.report import blocks

if TYPE_CHECKING:
    from eager_kestrel.core.guide.guide import Guide
    from eager_kestrel.core.plan.glossary import Explained
    from eager_kestrel.core.results import Change, GuideCheck, GuideDiff, GuideList, TermList


def guide_list_blocks(found: GuideList) -> Iterator[blocks.Block]:
    """A row for each guide."""
    own = any(row.where != "bundled" for row in found.guides)
    headings = ("guide", "largest", ">at most", "keyframes", "codecs", "checked")
    rows = []
    for row in found.guides:
        checked = blocks.Styled(f"{row.checked} stale", "mind") if row.stale else row.checked
        cells: tuple[blocks.Cell, ...] = (
            blocks.Styled(row.name, "strong"),
            f"{row.resolution}, {row.frame_rates}",
            kbit(row.max_kbps),
            row.keyframes,
            ", ".join(row.codecs),
            checked,
        )
        rows.append((*cells, row.where) if own else cells)
    yield blocks.Table((*headings, "from") if own else headings, tuple(rows))


def guide_check_blocks(found: GuideCheck) -> Iterator[blocks.Block]:
    """Each file that is good, with remarks, and how many are."""
    for one in found.files:
        if not one.errors:
            yield blocks.Note(one.file, mark="✓", keep=True)
            for remark in one.remarks:
                yield blocks.Note(remark, mark="!")
    broken = sum(bool(one.errors) for one in found.files)
    yield blocks.Note(f"{len(found.files) - broken} good, {broken} with errors")


def guide_diff_blocks(found: GuideDiff) -> Iterator[blocks.Block]:
    """Every key that differs, then what that does to a plan."""
    if not found.changes:
        yield blocks.Note("Nothing changed.")
        return
    yield _changes(found.changes)
    if found.plan is None:
        yield blocks.Note("No run is kept, so there is no plan to compare: give --upload RATE.")
    elif not found.plan:
        yield blocks.Note("Your plan stays the same.")
    else:
        yield blocks.Heading("Your plan changes")
        yield _changes(found.plan)
    if found.shows:
        yield blocks.Note(words.shows_touched(found.shows))


def _changes(changes: tuple[Change, ...]) -> blocks.Table:
    rows = tuple(
        (blocks.Styled(c.key, "name"), c.before or "-", "→", c.after or "-") for c in changes
    )
    return blocks.Table(("key", "before", "", "after"), rows)


def guide_blocks(guide: Guide) -> Iterator[blocks.Block]:
    """What a guide says, in a few rows."""
    video, audio = guide.video, guide.audio
    shapes, modes = words.shape_words(video.shapes), " or ".join(video.rate_control)
    codecs = ", ".join(video.codecs)
    yield blocks.Rows(
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


def terms_blocks(found: TermList) -> Iterator[blocks.Block]:
    """Every word."""
    yield blocks.Note(", ".join(found.terms))


def explained_blocks(found: Explained) -> Iterator[blocks.Block]:
    """A word, its causes if it is a symptom, and its sum."""
    yield blocks.Heading(found.term)
    yield blocks.Note(found.text)
    for number, cause in enumerate(found.causes, 1):
        yield blocks.Note(cause.because, mark=f"{number}.")
        if cause.sum is not None:
            yield blocks.Note(cause.sum, "strong", mark="→")
        yield blocks.Note(cause.tell, "dim", keep=True)
    if found.sum is not None:
        yield blocks.Note(found.sum, "strong", mark="→")
    if found.reason is not None:
        yield blocks.Note(found.reason, mark="→")
    if found.source is not None:
        yield blocks.Note(f"from {found.source}", "dim")
