"""Read a guideline page into quotes and proposals, and write the guide that answers lead to."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from pydantic import ValidationError

from eager_kestrel.actions.guides import write_guide
from eager_kestrel.core.document import first_error, require_format
from eager_kestrel.core.errors import FormatError, InputError, KestrelError, nearest_name
from eager_kestrel.core.guide.drafting import FROM_ROWS, Draft, customary, drafted
from eager_kestrel.core.guide.guide import Guide
from eager_kestrel.core.guide.page import Page
from eager_kestrel.core.guide.questions import BY_KEY, SKIP, OpenQuestion, Questions, read_answer
from eager_kestrel.core.guide.quotes import Quote, proposed, quotes_of
from eager_kestrel.core.guide.tables import PageTable, tables_in
from eager_kestrel.core.resolution import AspectRatio
from eager_kestrel.files.documents import read_bounded
from eager_kestrel.files.pages import read_page

MOST_ANSWERS = 1_000_000
ASKED, ABSENT, SKIPPED = "asked", "not on the page", "customary, not confirmed"
"""Where a value of a guide is from, if it is not quoted."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A page, read."""

    page: str
    """The file's name, or empty for a guide that is made without a page."""
    shape: AspectRatio
    tables: tuple[PageTable, ...]
    sentences: tuple[Quote, ...]

    @property
    def keys(self) -> tuple[str, ...]:
        """Of every question, in the order to ask."""
        return (*(f"table.{n}" for n in range(1, len(self.tables) + 1)), *BY_KEY)

    def table(self, key: str) -> PageTable | None:
        """Return the table that a key asks about, or None if it asks about a value."""
        return self.tables[int(key[6:]) - 1] if key.startswith("table.") else None

    def _rows(self, answers: Mapping[str, str]) -> tuple[list[str], list[str]]:
        """Rows of the tables whose columns are known, and those that could not be read."""
        read: list[str] = []
        unread: list[str] = []
        for number, table in enumerate(self.tables, 1):
            reading = answers.get(f"table.{number}", SKIP)
            if reading != SKIP:
                rows, others = table.read_as(reading).answers(self.shape)
                read, unread = read + rows, unread + others
        return list(dict.fromkeys(read)), unread

    def quotes(self, key: str, answers: Mapping[str, str]) -> tuple[str, ...]:
        """The page's own words on a question; nothing where it says nothing of it."""
        table = self.table(key)
        if table is not None:
            return (table.words,)
        said = [quote.text for quote in self.sentences if quote.key == key]
        if key == "bitrates":
            rows, unread = self._rows(answers)
            said += [f"not read: {row}" for row in unread]
            said = (["the tables"] if rows else []) + said
        return tuple(dict.fromkeys(said))

    def proposal(self, key: str, answers: Mapping[str, str]) -> str:
        """An answer of which nothing has to be guessed, or nothing."""
        table = self.table(key)
        if table is not None:
            return table.reading if table.sure(self.shape) else ""
        found = proposed(key, self.sentences)
        if key == "bitrates" and (rows := self._rows(answers)[0]):
            spoken = any(quote.key == key and not quote.aside for quote in self.sentences)
            found = (
                "; ".join(rows) if not spoken else f"{'; '.join(rows)}; {found}" if found else ""
            )
        return found

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

    def conflict(self, answers: Mapping[str, str], key: str) -> tuple[str, str] | None:
        """What an answer contradicts, if anything: why, and the key of the other answer."""
        why = _contradiction(answers)
        if why is None:
            return None
        others = (other for other in answers if other != key and answers[other] != SKIP)
        first = next((o for o in others if _contradiction({**answers, o: SKIP}) is None), "")
        return why, first

    def accepted(self, given: Mapping[str, str] | None = None) -> dict[str, str]:
        """What was answered, and else every proposal that contradicts nothing before it."""
        answers = dict(given or {})
        for key in (key for key in self.keys if key not in answers):
            value = self.proposal(key, answers)
            if value and _contradiction({**answers, key: value}) is None:
                answers[key] = value
        return answers

    def open_keys(self, answers: Mapping[str, str]) -> list[str]:
        """What has to be asked: of a page, what it speaks of and nothing is proposed for."""
        return [
            key
            for key in self.keys
            if key not in answers and (not self.page or self.quotes(key, answers))
        ]

    def source(self, key: str, answers: Mapping[str, str]) -> str:
        """Where an answer is from: the page's words, or how else."""
        answer = answers.get(key, SKIP)
        if answer == SKIP:
            return SKIPPED if self.quotes(key, answers) else ABSENT
        quotes = self.quotes(key, answers)
        own = answer == self.proposal(key, answers) and quotes
        return " / ".join(quotes[:2]) if own else ASKED

    def questions(self, given: Mapping[str, str]) -> Questions:
        """The questions that were not answered, as a document."""
        answers = self.accepted(given)
        return Questions(
            page=self.page,
            questions=tuple(
                OpenQuestion(
                    key=key,
                    asks=self.asks(key),
                    like=self.like(key),
                    quotes=self.quotes(key, answers),
                    proposal=answers.get(key),
                )
                for key in self.keys
                if key not in given
            ),
        )

    def asks(self, key: str) -> str:
        """A question in words."""
        return BY_KEY[key].asks if key in BY_KEY else "What the columns of this table hold"

    def like(self, key: str) -> str:
        """An answer, as an example."""
        table = self.table(key)
        return BY_KEY[key].like if table is None else table.reading


NOTHING = Reading("", AspectRatio(16, 9), (), ())
"""For a guide that is made from answers alone."""


def _draft_of(answers: Mapping[str, str], about: NewGuide, *, unverified: bool) -> Draft:
    values = {key: answers[key] for key in BY_KEY if answers.get(key, SKIP) != SKIP}
    usual = customary(about.name, about.title, about.source, datetime.now(UTC).date())
    return drafted(values, usual, frozenset(values) if unverified else frozenset())


def _contradiction(answers: Mapping[str, str]) -> str | None:
    """Return what the answers contradict each other in, or None if a guide can be made of them."""
    try:
        _draft_of(answers, NewGuide("a", "A", "a page", Path()), unverified=False)
    except KestrelError as error:
        return error.line()
    return None


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
    quotes = quotes_of(Page((*page.lines, *lines), ()), wanted)
    return Reading(path.name, wanted, tuple(tables), tuple(quotes))


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
    if "bitrates" not in said and any(key.startswith("table.") for key in said):
        rows, _ = reading._rows(said)
        said |= {"bitrates": "; ".join(rows)} if rows else {}
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
    """Write the guide that answers lead to, each value with the words it came from.

    Args:
        unverified: whether nobody confirmed the answers.

    Raises:
        InputError: an answer cannot be read.
        FormatError: answers contradict each other.
        StorageError: the disk would not take it.
    """
    draft = _draft_of(answers, about, unverified=unverified)
    comments = {}
    for question in BY_KEY.values():
        source = reading.source(question.key, answers)
        answer = answers.get(question.key, SKIP)
        keys = question.covers if answer == SKIP else read_answer(question.key, answer)
        for key in keys:
            guess = draft.guide.guesses(key)
            source = FROM_ROWS if key in draft.followed else source
            comments[key] = f"unverified: {source}" if guess else source
    return write_guide(draft.guide, about.path, comments)
