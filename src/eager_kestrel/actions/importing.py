"""Read a guideline page into proposals, and write the guide that answers lead to."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.actions.guides import write_guide
from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError, InputError, nearest_name
from eager_kestrel.core.guide.amounts import Page, Proposal
from eager_kestrel.core.guide.drafting import customary, drafted
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.proposals import proposals
from eager_kestrel.core.guide.questions import (
    BY_KEY,
    QUESTIONS,
    SKIP,
    Offered,
    OpenQuestion,
    Questions,
    fastest_of,
    highest_of,
    largest_of,
    read_answer,
)
from eager_kestrel.core.guide.tables import PageTable, tables_in
from eager_kestrel.core.resolution import AspectRatio, frame_rate_text
from eager_kestrel.core.units import Bitrate
from eager_kestrel.files.documents import read_bounded
from eager_kestrel.files.pages import read_page

MOST_ANSWERS = 1_000_000
FROM_ROWS = ("video.max_resolution", "video.frame_rates", "video.max_bitrate")
MOST_PROPOSALS = 6
"""Of one key; more would be read by nobody."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A page, read."""

    page: str
    """The file's name, or empty for a guide that is made without a page."""
    shape: AspectRatio
    tables: tuple[PageTable, ...]
    proposals: tuple[Proposal, ...]

    @property
    def keys(self) -> tuple[str, ...]:
        """Of every question, in the order to ask."""
        return (*(f"table.{n}" for n in range(1, len(self.tables) + 1)), *BY_KEY)

    def table(self, key: str) -> PageTable | None:
        """Return the table that a key asks about, or None if it asks about a value."""
        number = key.removeprefix("table.")
        return self.tables[int(number) - 1] if key.startswith("table.") else None

    def offered(self, key: str, answers: Mapping[str, str]) -> tuple[Proposal, ...]:
        """Proposals for a key, given what was answered before; the first is the likeliest."""
        answers = answered(answers)
        table = self.table(key)
        if table is not None:
            words = table.title or " | ".join(table.headings)
            return (Proposal(key, table.reading, words, "; ".join(table.notes)),)
        found = [one for one in self.proposals if one.key == key]
        if key == "bitrates" and (rows := self._rows(answers)):
            found.insert(0, Proposal(key, "; ".join(rows), self._source(answers), quoted=False))
        if key in ("transports", "servers", "video.codecs"):
            found = _together(key, found)
        if key in FROM_ROWS and "bitrates" in answers:
            found += _from_rows(key, answers["bitrates"])
        return tuple(found[:MOST_PROPOSALS])

    def _read(self, answers: Mapping[str, str]) -> list[PageTable]:
        """The tables whose reading was answered, read so."""
        pairs = ((t, answers.get(f"table.{n}")) for n, t in enumerate(self.tables, 1))
        return [table.read_as(reading) for table, reading in pairs if reading is not None]

    def _rows(self, answers: Mapping[str, str]) -> list[str]:
        every = (row for table in self._read(answers) for row in table.rows_read(self.shape))
        return list(dict.fromkeys(every))

    def _source(self, answers: Mapping[str, str]) -> str:
        """Where rows come from, and which rows of the tables could not be read."""
        unread = [row for table in self._read(answers) for row in table.unread(self.shape)]
        return "the tables" + (f"; not read: {'; '.join(unread)}" if unread else "")

    def check(self, key: str, answer: str) -> None:
        """Refuse an answer that cannot be read.

        Raises:
            InputError: says what to write.
        """
        if key not in self.keys:
            raise InputError(f'nothing asks for "{key}"', nearest_name(key, list(self.keys), ""))
        table = self.table(key)
        if table is not None:
            table.read_as(answer)
        else:
            read_answer(key, answer)

    def accepted(self, given: Mapping[str, str] | None = None) -> dict[str, str]:
        """What was answered, and else the likeliest proposal of every key, if without a doubt."""
        said = dict(given or {})
        answers = answered(said)
        for key in (key for key in self.keys if key not in said):
            found = [one for one in self.offered(key, answers) if not one.doubt]
            if found:
                answers[key] = found[0].value
        return answers

    def left_out(self, taken: Mapping[str, str]) -> list[Proposal]:
        """The likeliest proposal of every key that was left out because of a doubt."""
        open_keys = (key for key in self.keys if key not in taken)
        found = (next(iter(self.offered(key, taken)), None) for key in open_keys)
        return [one for one in found if one is not None]

    def questions(self, answers: Mapping[str, str]) -> Questions:
        """The questions that are open, as a document."""
        taken = self.accepted(answers)
        shown = {k: v for k, v in taken.items() if k in answers or k.startswith("table.")}
        return Questions(
            page=self.page,
            questions=tuple(
                OpenQuestion(
                    key=key,
                    asks=self.asks(key),
                    like=self.like(key),
                    proposals=tuple(
                        Offered(value=p.value, text=p.text, doubt=p.doubt)
                        for p in self.offered(key, shown)
                    ),
                )
                for key in self.keys
                if key not in answers
            ),
        )

    def asks(self, key: str) -> str:
        """A question in words."""
        table = self.table(key)
        if table is None:
            return BY_KEY[key].asks
        return f"How the columns of the table are to be read ({' | '.join(table.headings)})"

    def like(self, key: str) -> str:
        """An answer, as an example."""
        table = self.table(key)
        return BY_KEY[key].like if table is None else table.reading


def answered(said: Mapping[str, str]) -> dict[str, str]:
    """The answers without those that skip their question."""
    return {key: value for key, value in said.items() if value != SKIP}


def _from_rows(key: str, rows: str) -> list[Proposal]:
    """What confirmed rows say of what holds for all of them."""
    document = read_answer("bitrates", rows)
    every = document["bitrates"] or [row for own in document.values() for row in own]
    fast = fastest_of(every)
    if key == "video.max_resolution":
        value = largest_of(every)
    elif key == "video.frame_rates":
        value = "" if fast is None else f"up to {frame_rate_text(fast)}"
    else:
        value = Bitrate.from_kbps(highest_of(every)).in_kbps()
    return [Proposal(key, value, "the rows", quoted=False)] if value else []


def _together(key: str, found: list[Proposal]) -> list[Proposal]:
    """Addresses and protocols stand in several lines, and belong together."""
    plain = [one for one in found if not one.doubt]
    if len(plain) < 2:
        return found
    parts = dict.fromkeys(part for one in plain for part in one.value.split(", "))
    whole = Proposal(key, ", ".join(parts), " / ".join(dict.fromkeys(one.text for one in plain)))
    return [whole, *(one for one in found if one.doubt or key != "servers")]


NOTHING = Reading("", AspectRatio(16, 9), (), ())
"""For a guide that is made from answers alone."""


def read_guideline(path: Path, shape: str = "16:9") -> Reading:
    """Read a guideline page.

    Args:
        shape: of resolutions given by their lines only.

    Raises:
        FormatError: nothing to read is in it.
        StorageError: it cannot be read.
    """
    wanted = AspectRatio.parse(shape)
    page = read_page(path)
    tables, lines = tables_in(page, wanted)
    whole = Page(page.grids, (*page.lines, *lines))
    return Reading(path.name, wanted, tuple(tables), tuple(proposals(whole, wanted)))


def answers_given(reading: Reading, path: Path | None, written: Sequence[str]) -> dict[str, str]:
    """Answers from a document of questions, and over them those written as ``key=value``.

    A table whose columns were answered gives the rows, unless they were answered or skipped with
    a dash.

    Args:
        path: of the document; None if there is no document.
        written: each ``key=value``.

    Raises:
        FormatError: the file is no such document.
        InputError: an answer cannot be read.
    """
    said = {} if path is None else _document_answers(path)
    for one in written:
        key, equals, value = one.partition("=")
        if not equals:
            raise InputError(f'"{one}" sets nothing', 'write "video.max_bitrate=6,000 kbit/s"')
        said[key.strip()] = value.strip()
    for key, answer in said.items():
        if answer != SKIP:
            reading.check(key, answer)
    answers = {key: value for key, value in said.items() if value != SKIP}
    if "bitrates" not in said and (rows := reading.offered("bitrates", answers)):
        said["bitrates"] = rows[0].value
    return said


def _document_answers(path: Path) -> dict[str, str]:
    """The answers in a document of questions."""
    raw = read_bounded(path, MOST_ANSWERS)
    try:
        document = json.loads(raw)
        require_format(document.get("format"), "questions", str(path))
        found = Questions.model_validate(document)
    except ValidationError as error:
        raise FormatError(first_error(error), "correct it", str(path)) from None
    except (ValueError, AttributeError):
        raise FormatError("no JSON document", "write it with --json first", str(path)) from None
    return {q.key: said for q in found.questions if (said := (q.answer or "").strip())}


@dataclass(frozen=True, slots=True)
class NewGuide:
    """What a guide that is to be written is called, and where it goes."""

    name: str
    title: str
    source: str
    """Where its figures are from."""
    path: Path


def write_imported_guide(
    reading: Reading, answers: Mapping[str, str], about: NewGuide, *, unverified: bool = False
) -> Guide:
    """Write the guide that answers lead to, with the words each came from.

    Raises:
        InputError: an answer cannot be read.
        FormatError: answers contradict each other.
        StorageError: the disk would not take it.
    """
    given = answered(answers)
    values = {key: given[key] for key in BY_KEY if key in given}
    usual = customary(about.name, about.title, about.source, datetime.now(UTC).date())
    draft = drafted(values, usual, frozenset(values) if unverified else frozenset())
    words = {(one.key, one.value): one.text for one in reading.proposals}
    comments = dict.fromkeys(draft.guide.unverified, "unverified: not on the page")
    for question in QUESTIONS:
        said = words.get((question.key, values.get(question.key, "")))
        if said is not None:
            for key in read_answer(question.key, values[question.key]):
                comments[key] = f"unverified: {said}" if unverified else said
    return write_guide(draft.guide, about.path, comments | draft.comments)
